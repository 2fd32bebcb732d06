//! Options of `zesty saved`.

use clap::{Args, Subcommand};
use std::path::PathBuf;

/// A saved search, and the values that it is given.
#[derive(Args)]
pub struct ValuesArgs {
    pub collection: String,
    pub name: String,
    /// Values of its parameters, such as q='fog bell' n=5; a list is given as several, or as numbers with commas between
    #[arg(value_name = "PARAMETER=VALUE")]
    pub values: Vec<String>,
    /// Fields to show, separated by commas
    #[arg(long, value_delimiter = ',')]
    pub fields: Option<Vec<String>>,
}

#[derive(Subcommand)]
pub enum SavedCommand {
    /// List the saved searches of a collection
    #[command(after_help = "Example:\n  zesty saved list logbook")]
    List { collection: String },
    /// Show a saved search: its parameters, versions, traffic, latency and observed recall
    #[command(after_help = "Example:\n  zesty saved show logbook notes-near")]
    Show { collection: String, name: String },
    /// Print the definition of a version as JSON, to change it and save it again
    #[command(after_help = "Example:\n  zesty saved print logbook notes-near > notes-near.json")]
    Print {
        collection: String,
        name: String,
        /// [default: the newest]
        #[arg(long, value_name = "N")]
        version: Option<i32>,
    },
    /// Save a search from a file: a new version, which answers once it is live
    ///
    /// The file holds {"search": ..., "parameters": ...}. In the search, {"parameter": "q"} stands for a value; in its
    /// filter, :q does. Parameters are described with JSON Schema: type, format, items, enum, minimum, maximum,
    /// maxLength, maxItems, default, description; and "optional": true leaves the condition out when no value comes.
    #[command(after_help = "Examples:\n  zesty saved save logbook notes-near demo/notes-near.json\n  \
        zesty saved save logbook notes-near notes-near.json --live")]
    Save {
        collection: String,
        name: String,
        /// The definition; - reads it from standard input
        file: PathBuf,
        /// Make the new version live at once
        #[arg(long)]
        live: bool,
    },
    /// Ask the version that answers
    #[command(after_help = "Example:\n  zesty saved ask logbook notes-near q='fog bell' since=1930")]
    Ask(ValuesArgs),
    /// Try a version before it is live
    #[command(after_help = "Example:\n  zesty saved try logbook notes-near q='fog bell' --version 2")]
    Try {
        #[command(flatten)]
        args: ValuesArgs,
        /// [default: the newest]
        #[arg(long, value_name = "N")]
        version: Option<i32>,
    },
    /// Make a version the one that answers; an older one goes back
    #[command(after_help = "Example:\n  zesty saved live logbook notes-near 2")]
    Live { collection: String, name: String, version: i32 },
    /// Let no version answer
    #[command(after_help = "Example:\n  zesty saved withdraw logbook notes-near")]
    Withdraw { collection: String, name: String },
    /// Remove a saved search with all of its versions
    #[command(after_help = "Example:\n  zesty saved remove logbook notes-near")]
    Remove { collection: String, name: String },
}
