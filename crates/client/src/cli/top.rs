//! The commands.

use crate::cli::advising::AdviseCommand;
use crate::cli::collections::{CollectionCommand, ColumnCommand};
use crate::cli::comparing::CompareCommand;
use crate::cli::files::{Becoming, ExportArgs, LoadArgs};
use crate::cli::indexes::{IndexCommand, RecipeCommand, ServingArgs};
use crate::cli::keys::KeyCommand;
use crate::cli::measuring::{LensArgs, MapArgs, QueriesCommand, SweepCommand, TargetCommand, WatchCommand};
use crate::cli::records::RecordCommand;
use crate::cli::saved::SavedCommand;
use crate::cli::search::SearchArgs;
use crate::cli::service::{EncoderCommand, JobCommand};
use clap::{Parser, Subcommand};
use std::path::PathBuf;

#[derive(Parser)]
#[command(
    name = "zesty",
    version,
    about = "Vector collections, indexes, measured recall and filtered search",
    after_help = "Exit codes: 0 done, 1 refused or failed, 2 wrong command line, 3 nothing found, \
                  4 service not reachable or key refused."
)]
pub struct Cli {
    /// Address of the service [default: of the saved connection, or http://127.0.0.1:7411]
    #[arg(long, global = true, env = "ZESTY_URL", value_name = "URL")]
    pub url: Option<String>,
    /// Key to send [default: of the saved connection]
    #[arg(long, global = true, env = "ZESTY_KEY", hide_env_values = true, value_name = "KEY")]
    pub key: Option<String>,
    /// Certificates in PEM to trust besides those of the system [default: of the saved connection]
    #[arg(long, global = true, env = "ZESTY_CA", value_name = "FILE")]
    pub ca: Option<PathBuf>,
    /// Print the service's answer as JSON
    #[arg(long, global = true)]
    pub json: bool,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Subcommand)]
pub enum Command {
    /// Show the service and what it holds
    #[command(after_help = "Example:\n  zesty status")]
    Status,
    /// Look at a setup from end to end, and say what to fix
    ///
    /// It looks at the connection and the key, and, where the key may read everything, at the database, the disk, memory,
    /// encoders, and each collection with its indexes, recall and saved searches. Exit code 1 if something is wrong.
    #[command(after_help = "Example:\n  zesty doctor")]
    Doctor,
    /// Save an address and a key for this user
    #[command(after_help = "Example:\n  zesty connect --url http://127.0.0.1:7411 --key zk_...")]
    Connect,
    /// Print a link that signs one browser in to the console. It works once
    #[command(after_help = "Example:\n  zesty console")]
    Console,
    /// Collections: create, show, change, delete
    #[command(subcommand)]
    Collection(CollectionCommand),
    /// Inspect a file before anything is created: fields, types, examples, vectors
    ///
    /// Nothing is sent: the first thousand rows are read on this machine. A column with values of several types is
    /// reported. --type takes it as another type; then the whole file is read, to count what that type would reject.
    /// --write writes the description of a fitting collection, for `zesty collection create --file`.
    #[command(after_help = "Examples:\n  zesty inspect notes.parquet\n  \
        zesty inspect things.csv --type added=date\n  \
        zesty inspect things.csv --encoder lampwright-small --template '{title}' --write things.json\n  \
        zesty inspect notes.csv --vectors notes.npy --write notes.json && zesty collection create --file notes.json")]
    Inspect {
        file: PathBuf,
        /// Vectors in a file of their own
        #[arg(long, value_name = "FILE")]
        vectors: Option<PathBuf>,
        #[command(flatten)]
        becoming: Becoming,
        /// The encoder that makes vectors from text
        #[arg(long)]
        encoder: Option<String>,
        /// Write the description of a fitting collection here
        #[arg(long, value_name = "FILE")]
        write: Option<PathBuf>,
    },
    /// Load a file into a collection: JSON Lines, CSV, Parquet, Arrow IPC, NPY, fvecs, bvecs
    ///
    /// The ending of the name says the format; .gz and .zst text is unpacked. A line of JSON holds "key" with the fields
    /// next to it, or nested as in the API. A CSV file names its columns in the first line. A column with the name of a
    /// vector column holds its vectors. Vectors may also be in a file of their own (--vectors), matched row by row or by
    /// key. If vectors are missing, the column's encoder makes them.
    ///
    /// The file is sent whole. Then a job of the service commits it in batches. If a key appears twice, the later row
    /// wins. If a crash or a wrong row stopped the load, --resume continues after the last committed batch.
    ///
    /// With --create the file is inspected and shown first; then a fitting collection is created and loaded. A file
    /// without vectors needs --encoder and --template, which make them from text.
    #[command(after_help = "Examples:\n  zesty load logbook demo/logbook.jsonl.gz\n  \
        zesty load shop things.csv --create --encoder lampwright-small --template '{title}'\n  \
        zesty load notes notes.parquet --vectors notes.npy --key-column doc_id --rename texte=note\n  \
        zesty load notes notes.csv --set-aside bad.jsonl\n  zesty load notes --resume")]
    Load(LoadArgs),
    /// Export records to JSON Lines, CSV, Parquet, Arrow IPC, NPY or safetensors; the file's ending says which
    #[command(after_help = "Examples:\n  zesty export logbook book.jsonl --vectors\n  \
        zesty export logbook book.parquet --filter \"kind = 'rescue'\" --vectors\n  \
        zesty export logbook book.npy --keys book.keys.txt\n  \
        zesty export logbook - --filter \"kind = 'rescue'\"")]
    Export(ExportArgs),
    /// Show the values of the fields: counts, frequent values, spread
    #[command(
        after_help = "Examples:\n  zesty fields logbook\n  zesty fields logbook --filter \"severity = 5\" --values 5"
    )]
    Fields {
        collection: String,
        /// Count only records that this CQL2 filter allows
        #[arg(long, value_name = "CQL2")]
        filter: Option<String>,
        /// Values to list for each field
        #[arg(long, default_value_t = 4)]
        values: u64,
    },
    /// Vector columns: add, backfill from an encoder, choose, drop
    #[command(subcommand)]
    Column(ColumnCommand),
    /// Records: list, show, set, delete
    #[command(subcommand)]
    Record(RecordCommand),
    /// Indexes: build, list, drop
    #[command(subcommand)]
    Index(IndexCommand),
    /// Search by text, by vector, or by another record
    #[command(after_help = "Examples:\n  zesty search logbook 'gale tearing at the shutters'\n  \
        zesty search logbook 'ship on the rocks' --filter \"severity >= 4 AND year < 1930\" --fields station,year,note\n  \
        zesty search logbook --example GUL-1931-01-03-1 -k 5\n  \
        zesty search logbook --example GUL-1931-01-03-1 --counterexample NIG-1911-04-13-1 --at-most station=1\n  \
        zesty search logbook 'fog bell' --filter \"year < 1900\" --explain\n  \
        zesty search logbook 'fog bell' -k 100 --csv > hits.csv\n  \
        zesty search logbook 'fog bell' --compare\n  \
        zesty search logbook --batch questions.txt -k 3 --csv")]
    Search(Box<SearchArgs>),
    /// Saved searches: a search with parameters, in versions, served at a path of its own
    #[command(subcommand)]
    Saved(SavedCommand),
    /// Recipes: explain one before you build it
    #[command(subcommand)]
    Recipe(RecipeCommand),
    /// Query sets: what recall is measured with
    #[command(subcommand)]
    Queries(QueriesCommand),
    /// Sweeps: measure recall and latency of indexes at lists of settings
    #[command(subcommand)]
    Sweep(SweepCommand),
    /// Targets: find the settings that reach a recall
    #[command(subcommand)]
    Target(TargetCommand),
    /// Advice: which recipe reaches a recall within a memory budget
    #[command(subcommand)]
    Advise(AdviseCommand),
    /// Comparisons: two indexes, settings or columns side by side, and your verdicts
    #[command(subcommand)]
    Compare(CompareCommand),
    /// Look at one query: what the index missed, by how much, and which setting finds it
    #[command(
        after_help = "Examples:\n  zesty lens logbook 'gale tearing at the shutters'\n  zesty lens logbook --query sampled:17 --index graph-1 --beam 10\n  zesty lens logbook --example GUL-1931-01-03-1 -k 20"
    )]
    Lens(LensArgs),
    /// Draw a column in two dimensions, with a query and its neighbours
    ///
    /// The filter says which records are drawn; with a query it also says which may answer.
    #[command(
        after_help = "Examples:\n  zesty map logbook --field kind\n  zesty map logbook 'gale tearing at the shutters' --field kind --index graph-1 --beam 10\n  zesty map logbook --query far:7 --csv > map.csv"
    )]
    Map(MapArgs),
    /// Watch live searches: capture some as queries, and observe the recall they get
    #[command(subcommand)]
    Watch(WatchCommand),
    /// Choose what answers searches that name no index
    #[command(
        after_help = "Examples:\n  zesty serving logbook --index graph-1 --beam 40\n  zesty serving logbook --index graph-1 --recall 0.95\n  zesty serving logbook --exact"
    )]
    Serving(ServingArgs),
    /// Jobs: list, show, watch, cancel
    #[command(subcommand)]
    Job(JobCommand),
    /// Encoders: model servers that turn text into vectors
    #[command(subcommand)]
    Encoder(EncoderCommand),
    /// Keys: make, list, allow, withdraw, end, rotate, remove, try, audit
    #[command(subcommand)]
    Key(KeyCommand),
    /// Print a completion script for a shell
    #[command(after_help = "Example:\n  zesty completions bash > /etc/bash_completion.d/zesty")]
    Completions { shell: clap_complete::Shell },
}
