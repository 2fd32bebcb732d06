//! What can be typed.

use clap::{Args, Parser, Subcommand};
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
    /// Save an address and a key for this user
    #[command(after_help = "Example:\n  zesty connect --url http://127.0.0.1:7411 --key zk_...")]
    Connect,
    /// Print a link that signs one browser in to the console, once
    #[command(after_help = "Example:\n  zesty console")]
    Console,
    /// Collections: what a set of records is made of
    #[command(subcommand)]
    Collection(CollectionCommand),
    /// Load a JSON Lines or CSV file (.gz is unpacked, - is standard input) into a collection
    ///
    /// A line of JSON holds "key" and the fields beside it; an array of numbers named like a vector column is
    /// its vector. A CSV file names its columns in the first line, key among them; an empty cell is a missing
    /// value, and arrays and vectors are written as JSON arrays. Vectors that are missing are made by the column's encoder. Of one key twice the later line
    /// wins. The first wrong line stops the load, and what stands before it is committed; with --set-aside
    /// wrong lines go to a file with their reasons, which can be mended and loaded.
    #[command(
        after_help = "Examples:\n  zesty load logbook demo/logbook.jsonl.gz\n  zesty load notes notes.csv --set-aside bad.jsonl"
    )]
    Load {
        collection: String,
        file: PathBuf,
        /// Records committed together, 1 to 10000
        #[arg(long, default_value_t = 500, value_parser = clap::value_parser!(u64).range(1..=10_000))]
        batch: u64,
        /// Write wrong lines with their reasons to this file and go on
        #[arg(long, value_name = "FILE")]
        set_aside: Option<PathBuf>,
    },
    /// Export records as JSON Lines that can be loaded again
    #[command(after_help = "Examples:\n  zesty export logbook book.jsonl --vectors\n  \
        zesty export logbook - --filter \"kind = 'rescue'\"")]
    Export {
        collection: String,
        /// File to write; - is standard output
        file: PathBuf,
        /// Only what this CQL2 text allows
        #[arg(long, value_name = "CQL2")]
        filter: Option<String>,
        /// With vectors, as they were given
        #[arg(long)]
        vectors: bool,
    },
    /// Show what values the fields hold: counts, frequent values, spread
    #[command(
        after_help = "Examples:\n  zesty fields logbook\n  zesty fields logbook --filter \"severity = 5\" --values 5"
    )]
    Fields {
        collection: String,
        /// Count only what this CQL2 text allows
        #[arg(long, value_name = "CQL2")]
        filter: Option<String>,
        /// Values listed per field
        #[arg(long, default_value_t = 4)]
        values: u64,
    },
    /// Records: list, show, set, delete
    #[command(subcommand)]
    Record(RecordCommand),
    /// Indexes: build, list, drop
    #[command(subcommand)]
    Index(IndexCommand),
    /// Search by text, by vector, or by another record
    #[command(after_help = "Examples:\n  zesty search logbook 'gale tearing at the shutters'\n  \
        zesty search logbook 'ship on the rocks' --filter \"severity >= 4 AND year < 1930\" --fields station,year,note\n  \
        zesty search logbook --like GUL-1931-10-04-1 -k 5\n  \
        zesty search logbook 'fog bell' --compare")]
    Search(SearchArgs),
    /// Sweeps: measure recall and latency of an index on the collection's own records
    #[command(subcommand)]
    Sweep(SweepCommand),
    /// Choose what answers searches that name no index
    #[command(
        after_help = "Examples:\n  zesty serving logbook --index graph-1 --beam 40\n  zesty serving logbook --exact"
    )]
    Serving {
        collection: String,
        #[arg(long, required_unless_present = "exact", conflicts_with = "exact")]
        index: Option<String>,
        /// Candidates kept open by a search, 1 to 10000
        #[arg(long, default_value_t = 64)]
        beam: u64,
        /// Answer by the exact scan
        #[arg(long)]
        exact: bool,
        /// Vector column, when the collection has several
        #[arg(long)]
        column: Option<String>,
    },
    /// Jobs: list, show, watch, cancel
    #[command(subcommand)]
    Job(JobCommand),
    /// Encoders: model servers that turn text into vectors
    #[command(subcommand)]
    Encoder(EncoderCommand),
    /// Keys that let callers in
    #[command(subcommand)]
    Key(KeyCommand),
    /// Print a completion script for a shell
    #[command(after_help = "Example:\n  zesty completions bash > /etc/bash_completion.d/zesty")]
    Completions { shell: clap_complete::Shell },
}

#[derive(Subcommand)]
pub enum CollectionCommand {
    /// List collections
    #[command(after_help = "Example:\n  zesty collection list")]
    List,
    /// Show fields, vector columns and indexes
    #[command(after_help = "Example:\n  zesty collection show logbook")]
    Show { collection: String },
    /// Create a collection with one vector column, or with whatever a file describes
    #[command(after_help = "Examples:\n  zesty collection create logbook --fields demo/logbook.schema.json \
        --encoder lampwright-large --template '{note}'\n  \
        zesty collection create plain --dimensions 384 --metric cosine\n  \
        zesty collection create --file collection.json")]
    Create(CreateArgs),
    /// Delete a collection with everything in it
    #[command(after_help = "Example:\n  zesty collection delete plain --yes")]
    Delete {
        collection: String,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
}

#[derive(Args)]
pub struct CreateArgs {
    #[arg(required_unless_present = "file", conflicts_with = "file")]
    pub collection: Option<String>,
    /// A JSON file with the whole description, as the API takes it
    #[arg(long)]
    pub file: Option<PathBuf>,
    #[arg(long, default_value = "")]
    pub description: String,
    /// JSON Schema file of the fields
    #[arg(long)]
    pub fields: Option<PathBuf>,
    /// Name of the vector column
    #[arg(long, default_value = "meaning")]
    pub column: String,
    /// Dimensions of the vectors, 1 to 16384; an encoder knows its own
    #[arg(long)]
    pub dimensions: Option<u32>,
    /// cosine, euclidean or dot
    #[arg(long, default_value = "cosine")]
    pub metric: String,
    /// Encoder that makes the vectors from text
    #[arg(long)]
    pub encoder: Option<String>,
    /// What the encoder reads: field names in braces
    #[arg(long, requires = "encoder")]
    pub template: Option<String>,
}

#[derive(Subcommand)]
pub enum RecordCommand {
    /// List records in order of their keys
    #[command(after_help = "Example:\n  zesty record list logbook --limit 20 --after GUL-1931")]
    List {
        collection: String,
        #[arg(long, default_value_t = 20)]
        limit: u64,
        /// Only keys after this one
        #[arg(long)]
        after: Option<String>,
        /// Only what this CQL2 text allows
        #[arg(long, value_name = "CQL2")]
        filter: Option<String>,
    },
    /// Show one record
    #[command(after_help = "Example:\n  zesty record show logbook GUL-1931-10-04-1 --vectors")]
    Show {
        collection: String,
        record: String,
        /// With its vectors
        #[arg(long)]
        vectors: bool,
    },
    /// Set fields of one record
    #[command(
        after_help = "Example:\n  zesty record set logbook GUL-1931-10-04-1 severity=3 note='Fog.' keeper=null"
    )]
    Set {
        collection: String,
        record: String,
        /// FIELD=VALUE; VALUE is JSON, or text where it is none; null takes the value away
        #[arg(required = true, value_name = "FIELD=VALUE")]
        fields: Vec<String>,
    },
    /// Delete one record, or all that a filter allows
    #[command(after_help = "Examples:\n  zesty record delete logbook GUL-1931-10-04-1\n  \
        zesty record delete logbook --filter \"year < 1912\"")]
    Delete {
        collection: String,
        #[arg(required_unless_present = "filter", conflicts_with = "filter")]
        record: Option<String>,
        /// Counts first, and asks
        #[arg(long, value_name = "CQL2")]
        filter: Option<String>,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
}

#[derive(Subcommand)]
pub enum IndexCommand {
    /// Build an index from a recipe and watch it
    #[command(after_help = "Example:\n  zesty index build logbook 'graph(links=16, build=200)'")]
    Build {
        collection: String,
        /// graph(links=16, build=200, layers=on) or scan
        #[arg(default_value = "graph")]
        recipe: String,
        /// Made from the recipe when absent
        #[arg(long)]
        name: Option<String>,
        #[arg(long)]
        column: Option<String>,
        /// Same recipe, data, seed and one thread: the same index
        #[arg(long)]
        seed: Option<u64>,
        #[arg(long)]
        threads: Option<usize>,
        /// Return at once; the job goes on
        #[arg(long)]
        background: bool,
    },
    /// List indexes with their sizes and coverage
    #[command(after_help = "Example:\n  zesty index list logbook")]
    List { collection: String },
    /// Drop an index
    #[command(after_help = "Example:\n  zesty index drop logbook graph-1")]
    Drop { collection: String, index: String },
}

#[derive(Args)]
pub struct SearchArgs {
    pub collection: String,
    /// Text to search for
    #[arg(conflicts_with_all = ["like", "vector"], required_unless_present_any = ["like", "vector"])]
    pub text: Option<String>,
    /// Search by the vector of the record with this key
    #[arg(long, value_name = "RECORD", conflicts_with = "vector")]
    pub like: Option<String>,
    /// Let the record itself be a hit
    #[arg(long, requires = "like")]
    pub include_self: bool,
    /// Search by a vector: a JSON array, or @FILE that holds one
    #[arg(long, value_name = "ARRAY")]
    pub vector: Option<String>,
    /// Hits wanted, 1 to 1000
    #[arg(short, default_value_t = 10)]
    pub k: u64,
    /// CQL2 text, such as "severity >= 4 AND station = 'Gull Rock'"
    #[arg(long, value_name = "CQL2")]
    pub filter: Option<String>,
    /// Fields to show, separated by commas
    #[arg(long, value_delimiter = ',')]
    pub fields: Option<Vec<String>>,
    /// Look at every record instead of using an index
    #[arg(long, conflicts_with_all = ["index", "beam", "compare"])]
    pub exact: bool,
    /// Index to use, instead of the serving choice
    #[arg(long)]
    pub index: Option<String>,
    /// Candidates kept open, 1 to 10000
    #[arg(long)]
    pub beam: Option<u64>,
    /// Vector column, when the collection has several
    #[arg(long)]
    pub column: Option<String>,
    /// Show the exact answer beside it, and what was missed
    #[arg(long)]
    pub compare: bool,
}

#[derive(Subcommand)]
pub enum SweepCommand {
    /// Measure an index over a list of beams
    #[command(
        after_help = "Example:\n  zesty sweep run logbook graph-1 --queries 500 --beams 10,20,40,80,160"
    )]
    Run {
        collection: String,
        index: String,
        /// Records sampled as queries, 1 to 10000
        #[arg(long)]
        queries: Option<u64>,
        #[arg(short)]
        k: Option<u64>,
        /// Beams to measure
        #[arg(long, value_delimiter = ',')]
        beams: Option<Vec<u64>>,
        /// Decides which records are sampled
        #[arg(long)]
        seed: Option<u64>,
    },
    /// List sweeps, newest first
    #[command(after_help = "Example:\n  zesty sweep list logbook")]
    List { collection: String },
    /// Show a sweep, the newest when none is named
    #[command(after_help = "Example:\n  zesty sweep show logbook 3")]
    Show { collection: String, sweep: Option<i64> },
}

#[derive(Subcommand)]
pub enum JobCommand {
    /// List jobs, newest first
    #[command(after_help = "Example:\n  zesty job list")]
    List,
    /// Show a job with its log
    #[command(after_help = "Example:\n  zesty job show 7")]
    Show { job: i64 },
    /// Watch a job until it ends
    #[command(after_help = "Example:\n  zesty job watch 7")]
    Watch { job: i64 },
    /// Cancel a job
    #[command(after_help = "Example:\n  zesty job cancel 7")]
    Cancel { job: i64 },
}

#[derive(Subcommand)]
pub enum EncoderCommand {
    /// List encoders
    #[command(after_help = "Example:\n  zesty encoder list")]
    List,
    /// Name an encoder, or say where it has moved
    #[command(
        after_help = "Example:\n  zesty encoder set lampwright-large --at http://127.0.0.1:7412 --model lampwright-large"
    )]
    Set {
        encoder: String,
        /// Address of a server that speaks the Open Inference Protocol v2
        #[arg(long, value_name = "URL")]
        at: String,
        /// The model's name there
        #[arg(long)]
        model: String,
    },
    /// Forget an encoder that no column uses
    #[command(after_help = "Example:\n  zesty encoder remove lampwright-small")]
    Remove { encoder: String },
}

#[derive(Subcommand)]
pub enum KeyCommand {
    /// List keys by name
    #[command(after_help = "Example:\n  zesty key list")]
    List,
    /// Make a key and print it, this once
    #[command(after_help = "Example:\n  zesty key make nightly-load")]
    Make { name: String },
    /// Remove a key; whoever uses it is refused from then on
    #[command(after_help = "Example:\n  zesty key remove nightly-load")]
    Remove { name: String },
}
