//! Which servers this service calls: those on a list, and nothing that a name could lead to besides.

use crate::problem::{Kind, Problem, Result};
use reqwest::Url;
use std::net::IpAddr;

/// Bytes of an address.
const MOST: usize = 500;
/// Bytes of a model's name.
const MOST_MODEL: usize = 200;

/// The hosts that encoders may be on: names, addresses, or `name:port`; `*` for all. Without any, this machine alone.
#[derive(Clone, Debug, Default)]
pub struct Hosts(Vec<String>);

impl Hosts {
    pub fn new(allowed: Vec<String>) -> Hosts {
        Hosts(allowed)
    }

    fn allows(&self, url: &Url) -> bool {
        let Some(host) = url.host_str() else { return false };
        let bare = host.trim_start_matches('[').trim_end_matches(']');
        if bare == "localhost" || bare.parse().is_ok_and(|ip: IpAddr| ip.is_loopback()) {
            return true;
        }
        let with_port = url.port_or_known_default().map(|port| format!("{host}:{port}"));
        self.0.iter().any(|a| a == "*" || a == host || a == bare || Some(a) == with_port.as_ref())
    }

    /// The address of a model on a server, or of something about it.
    pub fn address(&self, encoder: &str, server: &str, model: &str, what: Option<&str>) -> Result<Url> {
        let wrong = |why: String, pointer: &str| {
            Err(Problem::new(Kind::WrongShape, format!("encoder \"{encoder}\": {why}")).at(pointer))
        };
        let url = Url::parse(server).ok().filter(|url| {
            matches!(url.scheme(), "http" | "https")
                && url.username().is_empty()
                && url.password().is_none()
                && url.query().is_none()
                && url.fragment().is_none()
                && server.len() <= MOST
        });
        let Some(mut url) = url else {
            return wrong("its address is not a plain http:// or https:// address".into(), "/url");
        };
        if !self.allows(&url) {
            let host = url.host_str().unwrap_or_default();
            let why = format!(
                "this service calls no server on \"{host}\"; whoever runs it can allow that with --encoder-hosts {host}"
            );
            return wrong(why, "/url");
        }
        // The URL type writes a step as one step, but these two mean others.
        if model.is_empty() || model.len() > MOST_MODEL || matches!(model, "." | "..") {
            return wrong(format!("a model's name is 1 to {MOST_MODEL} bytes, and not . or .."), "/model");
        }
        let Ok(mut steps) = url.path_segments_mut() else {
            return wrong("its address takes no path".into(), "/url");
        };
        steps.pop_if_empty().extend(["v2", "models", model]).extend(what);
        drop(steps);
        Ok(url)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_listed_servers_are_called_and_names_stay_in_their_step() {
        let hosts = Hosts::new(vec!["models.test".into(), "gpu:9000".into()]);
        let at =
            |server: &str, model: &str| hosts.address("e", server, model, Some("infer")).map(String::from);
        assert_eq!(at("http://127.0.0.1:8000/", "m").unwrap(), "http://127.0.0.1:8000/v2/models/m/infer");
        assert_eq!(at("http://[::1]:8000/base", "m").unwrap(), "http://[::1]:8000/base/v2/models/m/infer");
        assert_eq!(
            at("https://models.test", "a/../b?c#d").unwrap(),
            "https://models.test/v2/models/a%2F..%2Fb%3Fc%23d/infer"
        );
        at("http://gpu:9000", "m").unwrap();
        for server in [
            "http://gpu:9001",
            "http://169.254.169.254/",
            "http://models.test.evil/",
            "http://evil/models.test",
            "file:///etc/passwd",
            "http://a:b@models.test",
            "http://models.test?x=1",
            "models.test",
            "",
            "http://models.test@evil/",
            "gopher://models.test",
        ] {
            assert!(at(server, "m").is_err(), "{server}");
        }
        for model in ["", ".", ".."] {
            assert!(at("http://127.0.0.1", model).is_err(), "{model}");
        }
        assert!(Hosts::new(vec!["*".into()]).address("e", "http://any.test", "m", None).is_ok());
    }
}
