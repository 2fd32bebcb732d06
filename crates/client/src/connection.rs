//! Where the service is and which key to send: flags, then ZESTY_URL and ZESTY_KEY, then the file
//! that `zesty connect` (or the service's start command) left for this user.

use crate::client::Client;
use serde::{Deserialize, Serialize};
use std::io::{self, Write};
use std::path::PathBuf;

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Connection {
    pub url: String,
    pub key: String,
    /// A file of certificates in PEM that are trusted besides those of the system.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ca: Option<PathBuf>,
}

pub const DEFAULT_URL: &str = "http://127.0.0.1:7411";

impl Connection {
    /// `$ZESTY_CONFIG`, or `zesty/connection.toml` in the user's configuration folder.
    pub fn path() -> Option<PathBuf> {
        if let Some(path) = std::env::var_os("ZESTY_CONFIG") {
            return Some(path.into());
        }
        let folder = match std::env::var_os("XDG_CONFIG_HOME") {
            Some(folder) => PathBuf::from(folder),
            None => PathBuf::from(std::env::var_os("HOME")?).join(".config"),
        };
        Some(folder.join("zesty").join("connection.toml"))
    }

    /// What the file says; `None` when there is none.
    pub fn read() -> io::Result<Option<Connection>> {
        let Some(path) = Connection::path() else { return Ok(None) };
        match std::fs::read_to_string(&path) {
            Ok(text) => toml::from_str(&text)
                .map(Some)
                .map_err(|e| io::Error::other(format!("{}: {}", path.display(), e.message()))),
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(io::Error::new(e.kind(), format!("{}: {e}", path.display()))),
        }
    }

    /// Writes the file, readable by its owner alone. Returns where it is.
    pub fn save(&self) -> io::Result<PathBuf> {
        use std::os::unix::fs::OpenOptionsExt;
        let path = Connection::path().ok_or_else(|| io::Error::other("HOME is not set; set ZESTY_CONFIG"))?;
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        let text = toml::to_string(self).map_err(io::Error::other)?;
        let partial = path.with_extension("partial");
        let mut file =
            std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&partial)?;
        file.write_all(text.as_bytes())?;
        std::fs::rename(partial, &path)?;
        Ok(path)
    }

    /// The client of this connection.
    pub fn client(&self) -> Result<Client, String> {
        let Some(ca) = &self.ca else { return Ok(Client::new(&self.url, &self.key)) };
        let inside = |e: String| format!("{}: {e}", ca.display());
        let pem = std::fs::read(ca).map_err(|e| inside(e.to_string()))?;
        Client::trusting(&self.url, &self.key, &pem).map_err(inside)
    }

    /// Flags and environment (merged by the caller) over the file.
    pub fn find(url: Option<String>, key: Option<String>, ca: Option<PathBuf>) -> Result<Connection, String> {
        let file = if url.is_some() && key.is_some() {
            None
        } else {
            Connection::read().map_err(|e| e.to_string())?
        };
        let place = Connection::path().map_or("(no HOME)".into(), |p| p.display().to_string());
        match (key, file) {
            (Some(key), file) => {
                let ca = ca.or(file.as_ref().and_then(|f| f.ca.clone()));
                let url = url.or(file.map(|f| f.url)).unwrap_or_else(|| DEFAULT_URL.into());
                Ok(Connection { url, key, ca })
            }
            (None, Some(file)) => match url {
                // A key goes only to the service it was made by.
                Some(url) if url.trim_end_matches('/') != file.url.trim_end_matches('/') => Err(format!(
                    "the key in {place} is for {}, not for {url}; give --key or ZESTY_KEY",
                    file.url
                )),
                _ => Ok(Connection { ca: ca.or(file.ca), ..file }),
            },
            (None, None) => Err(format!(
                "no key in --key, ZESTY_KEY or {place}; bin/demo writes that file, and so does \
                 `zesty connect --url URL --key KEY`"
            )),
        }
    }
}
