//! The service at a glance.

use crate::access::grant::{Grant, Scope};
use crate::collections::registry::Registry;
use crate::problem::Result;
use std::time::{Duration, Instant};
use zesty_engine::kernels::Kernels;
use zesty_wire as wire;

/// How long the database may take to say that it is there.
const PING: Duration = Duration::from_secs(2);

pub async fn status(grant: &Grant, registry: &Registry, started: Instant) -> Result<wire::Service> {
    let reaches = registry.granted(grant, Scope::Search)?;
    let n_records = reaches.iter().map(|reach| reach.n_records(&reach.live.table.load()).unwrap_or(0));
    Ok(wire::Service {
        service: "zesty-lantern".into(),
        version: env!("CARGO_PKG_VERSION").into(),
        node: registry.node.clone(),
        up_s: started.elapsed().as_secs_f64(),
        n_collections: reaches.len(),
        n_records: n_records.sum(),
        kernels: format!("{:?}", Kernels::best().level()).to_lowercase(),
        database: registry.catalog.ping(PING).await.is_ok(),
    })
}
