//! Options of `zesty advise`.

use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Args)]
pub struct AdviseArgs {
    pub collection: String,
    /// What searches must reach
    #[arg(long, default_value_t = 0.95)]
    pub recall: f64,
    /// The 5th percentile of queries must reach it, not the mean
    #[arg(long)]
    pub p5: bool,
    #[arg(short, default_value_t = 10)]
    pub k: usize,
    /// Megabytes that searches may keep in memory [default: no limit]
    #[arg(long, value_name = "MB")]
    pub memory: Option<f64>,
    /// The query set to measure with [default: sampled, which is made if it is not there]
    #[arg(long, value_name = "SET")]
    pub queries: Option<String>,
    /// Also try this recipe
    #[arg(long)]
    pub recipe: Vec<String>,
    /// Recipes to try on all records, 1 to 8 [default: 3]
    #[arg(long)]
    pub finalists: Option<usize>,
    /// Drop the index of the winner, too
    #[arg(long, conflicts_with = "serve")]
    pub drop_all: bool,
    /// Make the winner with its settings the serving choice
    #[arg(long)]
    pub serve: bool,
    /// Vector column [default: the collection's default column]
    #[arg(long)]
    pub column: Option<String>,
}

#[derive(Subcommand)]
pub enum AdviseCommand {
    /// Try recipes on some of the records, the best few on all, and say which wins
    ///
    /// The winner is kept as an index, and `auto` takes its recipe from then on. Exit code 3 says that none reaches the
    /// target within the memory.
    #[command(
        after_help = "Examples:\n  zesty advise run logbook --recall 0.95\n  zesty advise run logbook --recall 0.9 --memory 10 --queries far --serve\n  zesty advise run logbook --recipe 'reduce(128) | graph | int8 | rescore(f32)'"
    )]
    Run(AdviseArgs),
    /// List advice, newest first
    #[command(after_help = "Example:\n  zesty advise list logbook")]
    List { collection: String },
    /// Show advice. Without a number: the newest
    #[command(after_help = "Example:\n  zesty advise show logbook 3")]
    Show { collection: String, advice: Option<i64> },
    /// Save advice: its recipes as .csv or .parquet, all of it as .json, its chart as .png, or one page of .html that needs no service
    #[command(after_help = "Example:\n  zesty advise save logbook advice.html")]
    Save {
        collection: String,
        /// The ending says the format; - is CSV on standard output
        file: PathBuf,
        /// The newest when absent
        #[arg(long)]
        advice: Option<i64>,
    },
    /// Delete advice; `auto` then takes what is older, or usual
    #[command(after_help = "Example:\n  zesty advise delete logbook 3")]
    Delete { collection: String, advice: i64 },
}
