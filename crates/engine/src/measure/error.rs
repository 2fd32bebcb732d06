//! Why a measurement has no result.

/// Why a measurement has no result.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum MeasureError {
    #[error("it was cancelled")]
    Cancelled,
    #[error("{0} records have a vector; recall needs at least 2")]
    TooFewRows(usize),
    #[error("there are too few records to hold some out; take a blended or jittered query set")]
    NoneHeldOut,
    #[error("the rows have just been read again; start the measurement once more")]
    RowsChanged,
    #[error("{0}")]
    Build(#[from] crate::index::BuildError),
}
