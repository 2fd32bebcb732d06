//! What can be typed.

mod advising;
mod collections;
mod comparing;
mod files;
mod indexes;
mod keys;
mod measuring;
mod records;
mod saved;
mod search;
mod service;
mod top;

pub use advising::{AdviseArgs, AdviseCommand};
pub use collections::{ChangeArgs, CollectionCommand, ColumnCommand, CreateArgs};
pub use comparing::{CompareArgs, CompareCommand};
pub use files::{Becoming, ExportArgs, LoadArgs};
pub use indexes::{IndexCommand, RecipeCommand, ServingArgs};
pub use keys::{KeyCommand, MakeKey, Permission};
pub use measuring::{
    AskArgs, Drawn, LensArgs, MakeArgs, MapArgs, QueriesCommand, SweepArgs, SweepCommand, TargetArgs,
    TargetCommand, WatchCommand,
};
pub use records::RecordCommand;
pub use saved::{SavedCommand, ValuesArgs};
pub use search::SearchArgs;
pub use service::{EncoderCommand, JobCommand};
pub use top::{Cli, Command};
