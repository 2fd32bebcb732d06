//! One search over a snapshot: asked, planned, run.

mod attached;
mod pace;
mod passed;
mod plan;
mod request;
mod run;

pub use attached::{Attached, Foreign, source_of};
pub use passed::{Passed, allowed};
pub use request::{Answer, Considered, Cost, CostOf, Request, SearchPlan, Strategy};
pub use run::run;
