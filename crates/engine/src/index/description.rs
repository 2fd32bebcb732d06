//! What an index is described by, and the numbers of a search: settings, limits, work.

use crate::Metric;
use crate::until::Until;
use serde::{Deserialize, Serialize};

/// What an index was made of; stored with it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Description {
    pub recipe: String,
    pub metric: Metric,
    pub dimensions: usize,
    /// The revision of the collection that the index covers.
    pub revision: u64,
    pub seed: u64,
    /// Whose index it is, in the words of whoever owns the rows; a file of another owner is not theirs to use.
    #[serde(default)]
    pub owner: String,
    /// Rows there were when means, centres and links were last made from nothing.
    #[serde(default)]
    pub rows_at_build: usize,
}

/// Search-time numbers that trade recall for speed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Settings {
    /// How many candidates a walk of the graph keeps open. 1 to [`Settings::MAX_BEAM`].
    pub beam: usize,
    /// How many cells are visited. 1 to [`Settings::MAX_VISIT`].
    pub visit: usize,
    /// With `rescore` in the recipe: re-ranks this many times k candidates. 1 to [`Settings::MAX_RESCORE`].
    pub rescore: usize,
}

impl Settings {
    pub const MAX_BEAM: usize = 10_000;
    pub const MAX_VISIT: usize = 100_000;
    pub const MAX_RESCORE: usize = 100;

    /// A beam, with the usual other settings.
    pub fn beam(beam: usize) -> Settings {
        Settings { beam, ..Settings::default() }
    }
}

impl Default for Settings {
    fn default() -> Self {
        Settings { beam: 64, visit: 16, rescore: 3 }
    }
}

/// Work done by one search.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Work {
    /// Distances evaluated.
    pub distances: usize,
    /// Nodes whose neighbours were read, or cells that were visited.
    pub hops: usize,
    /// Blocks of 32 codes that were compared under a filter.
    #[serde(default)]
    pub blocks: usize,
    /// Times that a search was repeated with wider settings, because its hits were far.
    #[serde(default)]
    pub again: usize,
}

impl Work {
    pub(crate) fn with(self, other: Work) -> Work {
        Work {
            distances: self.distances + other.distances,
            hops: self.hops + other.hops,
            blocks: self.blocks + other.blocks,
            again: self.again + other.again,
        }
    }
}

/// What a search may take.
#[derive(Clone, Copy, Debug)]
pub struct Limit {
    /// When it ends with what it has.
    pub until: Until,
}

impl Limit {
    pub const NONE: Limit = Limit { until: Until::NONE };
}
