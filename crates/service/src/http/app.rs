//! What routes call on.

use crate::access::audit::Audit;
use crate::access::keys::Keys;
use crate::access::rates::Rates;
use crate::collections::registry::Registry;
use crate::http::bodies::Bodies;
use crate::http::running::Running;
use crate::loads::run::LoadTools;
use crate::measure::query_sets::SetTools;
use crate::node::encoders::Encoders;
use crate::node::lanes::Lanes;
use crate::node::metrics::Metrics;
use crate::node::uploads::Uploads;
use std::sync::Arc;
use std::time::Instant;
use tokio::sync::watch;

/// The state of the router.
pub struct App {
    pub keys: Arc<Keys>,
    pub audit: Arc<Audit>,
    pub registry: Arc<Registry>,
    pub encoders: Arc<Encoders>,
    pub uploads: Arc<Uploads>,
    pub bodies: Bodies,
    pub lanes: Lanes,
    pub metrics: Arc<Metrics>,
    pub rates: Rates,
    pub running: Running,
    pub started: Instant,
    /// Whether cookies go through TLS alone.
    pub behind_tls: bool,
    /// Turns true when the service stops.
    pub stopping: watch::Receiver<bool>,
}

impl App {
    pub fn stopping(&self) -> bool {
        *self.stopping.borrow()
    }

    pub fn set_tools(&self) -> SetTools {
        SetTools {
            registry: self.registry.clone(),
            encoders: self.encoders.clone(),
            uploads: self.uploads.clone(),
        }
    }

    pub fn load_tools(&self) -> LoadTools {
        LoadTools {
            registry: self.registry.clone(),
            encoders: self.encoders.clone(),
            uploads: self.uploads.clone(),
        }
    }
}
