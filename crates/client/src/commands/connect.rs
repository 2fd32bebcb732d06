//! `zesty connect`: saves where the service is.

use crate::runner::{Done, Failure, print};
use std::path::PathBuf;
use zesty_client::connection::{Connection, DEFAULT_URL};

pub async fn connect(url: Option<String>, key: Option<String>, ca: Option<PathBuf>) -> Done {
    let key = key.ok_or_else(|| Failure::from("give the key with --key or ZESTY_KEY".to_owned()))?;
    let url = url.unwrap_or_else(|| DEFAULT_URL.into());
    // The file is read from wherever the next command is typed.
    let ca = ca.map(std::path::absolute).transpose().map_err(|e| e.to_string())?;
    let connection = Connection { url: url.clone(), key, ca };
    let service = connection.client()?.service().await?;
    let path = connection.save().map_err(|e| e.to_string())?;
    print(format_args!("{url} answers (version {}); saved in {}", service.version, path.display()));
    Ok(0)
}
