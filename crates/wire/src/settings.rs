//! Settings: the search-time numbers that trade recall for speed.

use serde::{Deserialize, Serialize};
use std::fmt;

/// Search-time numbers that trade recall for speed
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Settings {
    /// Graphs: how many candidates a walk keeps open, 1 to 10,000; 64 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub beam: Option<usize>,
    /// Cells: how many a search visits, 1 to 100,000; 16 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub visit: Option<usize>,
    /// With `rescore` in the recipe: re-ranks this many times k candidates, 1 to 100; 3 when absent
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rescore: Option<usize>,
}

impl Settings {
    /// Every setting with its name.
    pub fn named(self) -> [(&'static str, Option<usize>); 3] {
        [("beam", self.beam), ("visit", self.visit), ("rescore", self.rescore)]
    }
}

impl fmt::Display for Settings {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let words: Vec<String> =
            self.named().iter().filter_map(|(w, n)| Some(format!("{w} {}", (*n)?))).collect();
        f.write_str(&words.join(", "))
    }
}

/// Which index answers searches that name none, and with which settings
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ServingChoice {
    pub index: String,
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(required))]
    pub settings: Settings,
    /// In place of settings: those that the newest target of the index measured for this recall; above 0, at most 1
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recall: Option<f64>,
}
