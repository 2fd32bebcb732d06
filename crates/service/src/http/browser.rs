//! What keeps a browser safe: headers on every answer, and changes by cookie only from the console's own pages.

use crate::http::kinds::is_plain_read;
use crate::problem::{Kind, Problem, Result};
use axum::http::{HeaderMap, HeaderName, HeaderValue, Method, header};

/// Scripts come from the service alone. The component library writes its styles into the page.
const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; \
                      font-src 'self' data:; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

/// Set where an answer does not say otherwise.
const ALWAYS: [(HeaderName, &str); 6] = [
    (header::CONTENT_SECURITY_POLICY, POLICY),
    (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
    (header::X_FRAME_OPTIONS, "DENY"),
    (header::REFERRER_POLICY, "no-referrer"),
    (HeaderName::from_static("cross-origin-resource-policy"), "same-origin"),
    // What a key sees is not kept for another one.
    (header::CACHE_CONTROL, "no-store"),
];

const FETCH_SITE: HeaderName = HeaderName::from_static("sec-fetch-site");

/// The headers that every answer has, whatever layer it comes from.
pub fn set_headers(headers: &mut HeaderMap) {
    headers.reserve(ALWAYS.len() + 4);
    for (name, value) in ALWAYS {
        headers.entry(name).or_insert(HeaderValue::from_static(value));
    }
    if headers.contains_key(header::SET_COOKIE) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    headers.append(header::VARY, HeaderValue::from_static("authorization, cookie, accept-encoding"));
}

/// Refuses a change that comes with a cookie from anywhere but the console's own pages.
pub fn check_origin(method: &Method, headers: &HeaderMap) -> Result<()> {
    if is_plain_read(method) {
        return Ok(());
    }
    let text = |name: HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
    let own = match (text(FETCH_SITE), text(header::ORIGIN)) {
        (Some(site), _) => site == "same-origin",
        (None, Some(origin)) => {
            let host = origin.split_once("://").map(|(_, host)| host);
            host.is_some() && host == text(header::HOST)
        }
        (None, None) => false,
    };
    if own {
        return Ok(());
    }
    let detail = "a browser's session changes things only from the console's own pages; programs send a key as \
                  \"Authorization: Bearer zk_...\"";
    Err(Problem::new(Kind::NotPermitted, detail))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn changes_by_cookie_come_from_the_own_origin() {
        let check = |method: Method, given: &[(HeaderName, &str)]| {
            let headers = given.iter().map(|(n, v)| (n.clone(), HeaderValue::from_str(v).unwrap())).collect();
            check_origin(&method, &headers).is_ok()
        };
        let host = (header::HOST, "lantern.test:7411");
        let origin = |o| (header::ORIGIN, o);
        assert!(check(Method::POST, &[host.clone(), origin("https://lantern.test:7411")]));
        assert!(check(Method::POST, &[(FETCH_SITE, "same-origin")]));
        for wrong in ["https://evil.test", "https://lantern.test", "null", "lantern.test:7411"] {
            assert!(!check(Method::DELETE, &[host.clone(), origin(wrong)]), "{wrong}");
        }
        for site in ["cross-site", "same-site", "none"] {
            let given = [(FETCH_SITE, site), host.clone(), origin("https://lantern.test:7411")];
            assert!(!check(Method::PUT, &given), "{site}");
        }
        assert!(!check(Method::POST, std::slice::from_ref(&host)));
        assert!(check(Method::GET, &[(FETCH_SITE, "cross-site")]));
    }
}
