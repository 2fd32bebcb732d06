//! `zesty connect`: saves where the service is.

use crate::runner::{Done, Failure, print};
use zesty_client::Client;
use zesty_client::connection::{Connection, DEFAULT_URL};

pub async fn connect(url: Option<String>, key: Option<String>) -> Done {
    let key = key.ok_or_else(|| Failure::from("give the key with --key or ZESTY_KEY".to_owned()))?;
    let url = url.unwrap_or_else(|| DEFAULT_URL.into());
    let service = Client::new(&url, &key).service().await?;
    let path = Connection { url: url.clone(), key }.save().map_err(|e| e.to_string())?;
    print(format_args!("{url} answers (version {}); saved in {}", service.version, path.display()));
    Ok(0)
}
