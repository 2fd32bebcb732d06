//! Options of `zesty queries`, `zesty sweep` and `zesty target`.

use clap::{Args, Subcommand, ValueEnum};
use std::path::PathBuf;

/// How queries are drawn.
#[derive(Clone, Copy, ValueEnum)]
pub enum Drawn {
    /// Stored records that indexes hold out of their links: no index has seen them
    Sampled,
    /// Each component from one of a few random records: far from every cluster, where searches fare worst
    Blended,
    /// Stored records plus noise
    Jittered,
    /// The newest live searches that `zesty watch` captured
    Captured,
}

#[derive(Args)]
pub struct MakeArgs {
    pub collection: String,
    /// The name of the set
    pub name: String,
    #[arg(long, value_enum, required_unless_present = "file", conflicts_with = "file")]
    pub kind: Option<Drawn>,
    /// Queries from a file: JSON Lines, CSV, Parquet, Arrow, NPY or fvecs. A record has a vector or a text, and may
    /// have filter and relevant (grades by key)
    #[arg(long)]
    pub file: Option<PathBuf>,
    /// How many to draw, 1 to 10000 [default: 4000]
    #[arg(long)]
    pub queries: Option<usize>,
    /// The same seed and records give the same queries [default: 1]
    #[arg(long)]
    pub seed: Option<u64>,
    /// Blended: random records that components come from, 2 to 100 [default: 3]
    #[arg(long)]
    pub of: Option<usize>,
    /// Jittered: the length of the noise, as a share of the distance to the record's 10th neighbour [default: 0.5]
    #[arg(long)]
    pub noise: Option<f64>,
    /// Sampled: exact copies of a record do not count as its neighbours
    #[arg(long)]
    pub no_copies: bool,
    /// A CQL2 filter of every query that has none of its own
    #[arg(long, value_name = "CQL2")]
    pub filter: Option<String>,
    /// Vector column [default: the collection's default column]
    #[arg(long)]
    pub column: Option<String>,
}

#[derive(Subcommand)]
pub enum QueriesCommand {
    /// Make a query set: drawn from the collection, or from a file
    #[command(
        after_help = "Examples:\n  zesty queries make logbook sampled --kind sampled\n  zesty queries make logbook far --kind blended --of 3\n  zesty queries make logbook asked --file questions.jsonl"
    )]
    Make(MakeArgs),
    /// List query sets, and how hard each is
    #[command(after_help = "Example:\n  zesty queries list logbook")]
    List { collection: String },
    /// Show a query set
    #[command(after_help = "Example:\n  zesty queries show logbook sampled")]
    Show { collection: String, name: String },
    /// Write the queries of a set as JSON Lines
    #[command(after_help = "Example:\n  zesty queries export logbook sampled queries.jsonl")]
    Export {
        collection: String,
        name: String,
        /// - is standard output
        file: PathBuf,
    },
    /// Compute the exact answers of a set now; sweeps do so by themselves
    #[command(after_help = "Example:\n  zesty queries answer logbook sampled -k 100")]
    Answer {
        collection: String,
        name: String,
        /// Neighbours of each query, 1 to 1000
        #[arg(short, default_value_t = 100)]
        k: usize,
    },
    /// Delete a query set
    #[command(after_help = "Example:\n  zesty queries delete logbook far")]
    Delete { collection: String, name: String },
}

/// One query, and the index that answers it.
#[derive(Args)]
pub struct AskArgs {
    /// Text to search for
    #[arg(conflicts_with_all = ["example", "query"])]
    pub text: Option<String>,
    /// The record that asks
    #[arg(long, value_name = "RECORD", conflicts_with = "query")]
    pub example: Option<String>,
    /// A query of a set, such as sampled:17
    #[arg(long, value_name = "SET:POSITION")]
    pub query: Option<String>,
    /// Neighbours, 1 to 1000
    #[arg(short, default_value_t = 10)]
    pub k: usize,
    /// Only records that this CQL2 filter allows
    #[arg(long, value_name = "CQL2")]
    pub filter: Option<String>,
    /// The index to look through, instead of the serving choice
    #[arg(long)]
    pub index: Option<String>,
    /// Graphs: candidates that a walk keeps
    #[arg(long)]
    pub beam: Option<usize>,
    /// Cells: how many to visit
    #[arg(long)]
    pub visit: Option<usize>,
    /// With rescore in the recipe: re-rank this many times k candidates
    #[arg(long)]
    pub rescore: Option<usize>,
    /// Vector column [default: the collection's default column]
    #[arg(long)]
    pub column: Option<String>,
}

impl AskArgs {
    /// Whether anything asks.
    pub fn asks(&self) -> bool {
        self.text.is_some() || self.example.is_some() || self.query.is_some()
    }
}

#[derive(Args)]
pub struct LensArgs {
    pub collection: String,
    #[command(flatten)]
    pub ask: AskArgs,
}

#[derive(Args)]
pub struct MapArgs {
    pub collection: String,
    #[command(flatten)]
    pub ask: AskArgs,
    /// The field whose values the letters stand for
    #[arg(long)]
    pub field: Option<String>,
    /// Records to place, 1 to 20000 [default: 3000]
    #[arg(long)]
    pub records: Option<usize>,
    /// Print the places as CSV instead of a drawing
    #[arg(long)]
    pub csv: bool,
}

#[derive(Args)]
pub struct SweepArgs {
    pub collection: String,
    /// Indexes to measure, of one vector column
    #[arg(required_unless_present = "recipe")]
    pub indexes: Vec<String>,
    /// Also build this recipe, measure it, and drop it again
    #[arg(long)]
    pub recipe: Vec<String>,
    /// Keep the indexes of --recipe
    #[arg(long, requires = "recipe")]
    pub keep: bool,
    /// Query sets to measure with [default: sampled, which is made if it is not there]
    #[arg(long, value_delimiter = ',', value_name = "SET")]
    pub queries: Vec<String>,
    /// Hits of a search; several are measured each [default: 10]
    #[arg(short, value_delimiter = ',')]
    pub k: Vec<usize>,
    /// Graphs: beams to measure
    #[arg(long, value_delimiter = ',')]
    pub beams: Option<Vec<usize>>,
    /// Cells: how many to visit
    #[arg(long, value_delimiter = ',')]
    pub visits: Option<Vec<usize>>,
    /// With rescore in the recipe: re-rank this many times k candidates
    #[arg(long, value_delimiter = ',')]
    pub rescores: Option<Vec<usize>>,
    /// Threads that search at the same time [default: 1]
    #[arg(long, value_delimiter = ',')]
    pub clients: Vec<usize>,
    /// Times that every point is measured, in turns [default: 3]
    #[arg(long)]
    pub rounds: Option<usize>,
    /// Of the intervals [default: 1]
    #[arg(long)]
    pub seed: Option<u64>,
}

#[derive(Subcommand)]
pub enum SweepCommand {
    /// Measure indexes over lists of settings, with queries that none of them has seen
    #[command(
        after_help = "Examples:\n  zesty sweep run logbook graph-1 --beams 10,20,40,80,160\n  zesty sweep run logbook graph-1 cells-1 --queries sampled,far -k 10,100\n  zesty sweep run logbook graph-1 --recipe 'graph | int8 | rescore(f32)'"
    )]
    Run(Box<SweepArgs>),
    /// List sweeps, newest first
    #[command(after_help = "Example:\n  zesty sweep list logbook")]
    List { collection: String },
    /// Show a sweep: its table, and its frontier as a drawing. Without a number: the newest
    #[command(after_help = "Example:\n  zesty sweep show logbook 3")]
    Show { collection: String, sweep: Option<i64> },
    /// Save a sweep: its points as .csv or .parquet, all of it as .json, its chart as .png, or one page of .html that needs no service
    #[command(
        after_help = "Examples:\n  zesty sweep save logbook sweep.html\n  zesty sweep save logbook points.parquet --sweep 3"
    )]
    Save {
        collection: String,
        /// The ending says the format; - is CSV on standard output
        file: PathBuf,
        /// The newest when absent
        #[arg(long)]
        sweep: Option<i64>,
    },
    /// Delete a sweep
    #[command(after_help = "Example:\n  zesty sweep delete logbook 3")]
    Delete { collection: String, sweep: i64 },
}

#[derive(Args)]
pub struct TargetArgs {
    pub collection: String,
    pub index: String,
    /// Such as 0.95
    #[arg(long)]
    pub recall: f64,
    /// The 5th percentile of queries must reach it, not the mean
    #[arg(long)]
    pub p5: bool,
    #[arg(short, default_value_t = 10)]
    pub k: usize,
    /// Query sets to measure with [default: sampled, which is made if it is not there]
    #[arg(long, value_delimiter = ',', value_name = "SET")]
    pub queries: Vec<String>,
    /// With rescore in the recipe: fix that setting
    #[arg(long)]
    pub rescore: Option<usize>,
    /// If the target is reached, make the settings the serving choice
    #[arg(long)]
    pub serve: bool,
}

#[derive(Subcommand)]
pub enum TargetCommand {
    /// Find the fastest settings that reach a recall, and verify them on queries that did not choose them
    ///
    /// Exit code 3 says that the index cannot reach it.
    #[command(
        after_help = "Examples:\n  zesty target solve logbook graph-1 --recall 0.95\n  zesty target solve logbook graph-1 --recall 0.9 --p5 --queries sampled,far --serve"
    )]
    Solve(TargetArgs),
    /// List targets, newest first
    #[command(after_help = "Example:\n  zesty target list logbook")]
    List { collection: String },
    /// Show a target. Without a number: the newest
    #[command(after_help = "Example:\n  zesty target show logbook 3")]
    Show { collection: String, target: Option<i64> },
    /// Save a target: the settings that were tried as .csv or .parquet, all of it as .json, its chart as .png, or one page of .html that needs
    /// no service
    #[command(after_help = "Example:\n  zesty target save logbook target.html")]
    Save {
        collection: String,
        /// The ending says the format; - is CSV on standard output
        file: PathBuf,
        /// The newest when absent
        #[arg(long)]
        target: Option<i64>,
    },
    /// Delete a target
    #[command(after_help = "Example:\n  zesty target delete logbook 3")]
    Delete { collection: String, target: i64 },
}

#[derive(Args)]
pub struct WatchArgs {
    pub collection: String,
    /// Keep this share of the searches as queries to measure with, such as 0.01; 0 keeps none
    #[arg(long, value_name = "SHARE")]
    pub capture: Option<f64>,
    /// Keep at most so many, the newest
    #[arg(long, default_value_t = 1000, requires = "capture")]
    pub keep: usize,
    /// Forget them after so many days
    #[arg(long, default_value_t = 7, requires = "capture")]
    pub days: u32,
    /// Keep their texts, too
    #[arg(long, requires = "capture")]
    pub texts: bool,
    /// Answer some searches exactly as well, within this share of the processor time, such as 0.02; 0 answers none
    #[arg(long, value_name = "BUDGET")]
    pub recall: Option<f64>,
    /// Give a notice if the recall is below this
    #[arg(long, requires = "recall")]
    pub floor: Option<f64>,
}

#[derive(Subcommand)]
pub enum WatchCommand {
    /// Set which live searches are captured, and which are answered exactly as well. What is not said stays as it is
    #[command(
        after_help = "Examples:\n  zesty watch set logbook --recall 0.02 --floor 0.9\n  zesty watch set logbook --capture 0.01 --keep 2000\n  zesty watch set logbook --capture 0 --recall 0"
    )]
    Set(WatchArgs),
    /// Show the recall that was observed
    #[command(after_help = "Example:\n  zesty watch show logbook --hours 24")]
    Show {
        collection: String,
        /// 1 to 2160
        #[arg(long, default_value_t = 24)]
        hours: u64,
    },
    /// Forget the searches that were captured
    #[command(after_help = "Example:\n  zesty watch forget logbook")]
    Forget { collection: String },
}
