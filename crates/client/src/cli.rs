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
    /// Look into a file before anything is created: fields, types, examples, vectors
    ///
    /// Nothing is sent: the first thousand rows are read here. A column with values of several types says what is odd;
    /// --type takes it as another type, and the whole file is read to count what that would reject. With --write the
    /// description of a collection that the file fits goes to a file, to be given to `zesty collection create --file`.
    #[command(after_help = "Examples:\n  zesty inspect notes.parquet\n  \
        zesty inspect things.csv --type added=date\n  \
        zesty inspect things.csv --encoder lampwright-small --template '{title}' --write things.json\n  \
        zesty inspect notes.csv --vectors notes.npy --write notes.json && zesty collection create --file notes.json")]
    Inspect {
        file: PathBuf,
        /// Vectors that stand in a file of their own
        #[arg(long, value_name = "FILE")]
        vectors: Option<PathBuf>,
        #[command(flatten)]
        becoming: Becoming,
        /// The encoder of the vector column, and so of the vectors that are made from text
        #[arg(long)]
        encoder: Option<String>,
        /// Write the description of a fitting collection here
        #[arg(long, value_name = "FILE")]
        write: Option<PathBuf>,
    },
    /// Load a file into a collection: JSON Lines, CSV, Parquet, Arrow IPC, NPY, fvecs, bvecs
    ///
    /// The end of the name says the format; .gz and .zst text is unpacked. A line of JSON holds "key" and the fields
    /// beside it, or nested as the API takes them; a CSV file names its columns in the first line. A column named like
    /// a vector column holds its vectors; vectors may also stand in a file of their own (--vectors), matched
    /// row by row or by key. Vectors that are missing are made by the column's encoder.
    ///
    /// The file is sent whole, then a job of the service reads it and commits it in batches. Of one key twice the
    /// later row wins. What a crash or a wrong row stopped goes on with --resume, after the last committed batch.
    ///
    /// With --create the file is looked into first and shown; then a collection that fits it is created and loaded. A file
    /// without vectors needs --encoder and --template, which make them from text.
    #[command(after_help = "Examples:\n  zesty load logbook demo/logbook.jsonl.gz\n  \
        zesty load shop things.csv --create --encoder lampwright-small --template '{title}'\n  \
        zesty load notes notes.parquet --vectors notes.npy --key-column doc_id --rename texte=note\n  \
        zesty load notes notes.csv --set-aside bad.jsonl\n  zesty load notes --resume")]
    Load(LoadArgs),
    /// Export records to JSON Lines, CSV, Parquet, Arrow IPC, NPY or safetensors, by the end of the file's name
    #[command(after_help = "Examples:\n  zesty export logbook book.jsonl --vectors\n  \
        zesty export logbook book.parquet --filter \"kind = 'rescue'\" --vectors\n  \
        zesty export logbook book.npy --keys book.keys.txt\n  \
        zesty export logbook - --filter \"kind = 'rescue'\"")]
    Export(ExportArgs),
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
        zesty search logbook --example GUL-1931-10-04-1 -k 5\n  \
        zesty search logbook --example GUL-1931-10-04-1 --counterexample NES-1919-02-11-2 --at-most station=1\n  \
        zesty search logbook 'fog bell' --filter \"year < 1900\" --explain\n  \
        zesty search logbook 'fog bell' -k 100 --csv > hits.csv\n  \
        zesty search logbook 'fog bell' --compare\n  \
        zesty search logbook --batch questions.txt -k 3 --csv")]
    Search(Box<SearchArgs>),
    /// Recipes: explained before anything is built
    #[command(subcommand)]
    Recipe(RecipeCommand),
    /// Sweeps: measure recall and latency of an index on the collection's own records
    #[command(subcommand)]
    Sweep(SweepCommand),
    /// Choose what answers searches that name no index
    #[command(
        after_help = "Examples:\n  zesty serving logbook --index graph-1 --beam 40\n  zesty serving logbook --exact"
    )]
    Serving(ServingArgs),
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

#[derive(Args)]
pub struct ExportArgs {
    pub collection: String,
    /// File to write; - is standard output
    pub file: PathBuf,
    /// Only what this CQL2 text allows
    #[arg(long, value_name = "CQL2")]
    pub filter: Option<String>,
    /// With vectors, as they were given
    #[arg(long)]
    pub vectors: bool,
    /// jsonlines, csv, parquet, arrow, npy, safetensors or keys, when the file's name does not say
    #[arg(long)]
    pub format: Option<String>,
    /// Only this vector column
    #[arg(long)]
    pub column: Option<String>,
    /// Write the keys of the rows of an NPY file here, one a line
    #[arg(long, value_name = "FILE")]
    pub keys: Option<PathBuf>,
}

#[derive(Args)]
pub struct ServingArgs {
    pub collection: String,
    #[arg(long, required_unless_present = "exact", conflicts_with = "exact")]
    pub index: Option<String>,
    /// Graphs: candidates kept open by a search, 1 to 10000
    #[arg(long)]
    pub beam: Option<usize>,
    /// Cells: how many are visited, 1 to 100000
    #[arg(long)]
    pub visit: Option<usize>,
    /// How many times k candidates are ranked anew, 1 to 100
    #[arg(long)]
    pub rescore: Option<usize>,
    /// Answer by the exact scan
    #[arg(long)]
    pub exact: bool,
    /// Vector column [default: the collection's default column]
    #[arg(long)]
    pub column: Option<String>,
}

#[derive(Args)]
pub struct ChangeArgs {
    pub collection: String,
    #[arg(long)]
    pub description: Option<String>,
    /// JSON Schema file with all fields
    #[arg(long, value_name = "FILE")]
    pub fields: Option<PathBuf>,
    /// FIELD=TYPE: string, integer, number, boolean, date, timestamp, strings, integers
    #[arg(long, value_name = "FIELD=TYPE")]
    pub add: Vec<String>,
    /// FIELD=TYPE: integer to number, date or timestamp to string
    #[arg(long, value_name = "FIELD=TYPE")]
    pub widen: Vec<String>,
    /// FIELD=TEXT
    #[arg(long, value_name = "FIELD=TEXT")]
    pub describe: Vec<String>,
}

#[derive(Subcommand)]
pub enum CollectionCommand {
    /// List collections
    #[command(after_help = "Example:\n  zesty collection list")]
    List,
    /// Show fields, vector columns and indexes
    #[command(after_help = "Example:\n  zesty collection show logbook")]
    Show { collection: String },
    /// Create a collection with a vector column, with none yet, or with whatever a file describes
    #[command(after_help = "Examples:\n  zesty collection create logbook --fields demo/logbook.schema.json \
        --encoder lampwright-large --template '{note}'\n  \
        zesty collection create plain --dimensions 384 --metric cosine\n  \
        zesty collection create later\n  \
        zesty collection create --file collection.json\n  \
        zesty collection create other-name --file collection.json")]
    Create(CreateArgs),
    /// Change a collection's description or fields; records stay as they are
    #[command(
        after_help = "Examples:\n  zesty collection change logbook --add tide=number --describe tide='metres above datum'\n  \
        zesty collection change logbook --widen severity=number\n  \
        zesty collection change logbook --fields logbook.schema.json"
    )]
    Change(ChangeArgs),
    /// Show what a collection costs: bytes in MariaDB, on disk and in memory, part by part
    #[command(after_help = "Example:\n  zesty collection cost logbook")]
    Cost { collection: String },
    /// List loads of a collection, newest first
    #[command(after_help = "Example:\n  zesty collection loads logbook")]
    Loads { collection: String },
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
    /// Its name; with --file instead of the name in the file
    #[arg(required_unless_present = "file")]
    pub collection: Option<String>,
    /// A JSON file with the whole description, as the API takes it and `zesty inspect --write` writes it
    #[arg(long, conflicts_with_all = ["fields", "column", "dimensions", "encoder", "template"])]
    pub file: Option<PathBuf>,
    #[arg(long, default_value = "")]
    pub description: String,
    /// JSON Schema file of the fields
    #[arg(long)]
    pub fields: Option<PathBuf>,
    /// Name of the vector column [default: meaning]
    #[arg(long)]
    pub column: Option<String>,
    /// Dimensions of the vectors, 1 to 16384; an encoder knows its own. Without either there is no vector column yet
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

/// What a file is to become.
#[derive(Args, Clone, Default)]
pub struct Becoming {
    /// What the encoder reads: field names in braces
    #[arg(long, requires = "encoder")]
    pub template: Option<String>,
    /// Name of the vector column that is made from text [default: meaning]
    #[arg(long = "new-column", value_name = "NAME", requires = "template")]
    pub column: Option<String>,
    /// Take a field as another type: string, integer, number, boolean, date, timestamp, strings, integers
    #[arg(long = "type", value_name = "FIELD=TYPE")]
    pub types: Vec<String>,
}

#[derive(Args)]
pub struct LoadArgs {
    pub collection: String,
    /// File of records, or of vectors alone; - is standard input
    #[arg(required_unless_present_any = ["resume", "vectors"])]
    pub file: Option<PathBuf>,
    /// Vectors in a file of their own
    #[arg(long, value_name = "[COLUMN=]FILE")]
    pub vectors: Vec<String>,
    /// Keys of the rows of a file of vectors, one a line
    #[arg(long, value_name = "FILE")]
    pub vector_keys: Option<PathBuf>,
    /// How rows of --vectors find their records: row or key
    #[arg(long = "match", value_name = "HOW", value_parser = ["row", "key"])]
    pub matching: Option<String>,
    /// Column that holds the keys [default: key]
    #[arg(long, value_name = "COLUMN")]
    pub key_column: Option<String>,
    /// Take a column under another name
    #[arg(long, value_name = "FROM=TO")]
    pub rename: Vec<String>,
    /// Take these columns only, separated by commas
    #[arg(long, value_delimiter = ',', value_name = "COLUMNS")]
    pub only: Option<Vec<String>>,
    /// Records that are there already keep what a row does not bring; always so for vectors alone
    #[arg(long)]
    pub merge: bool,
    /// The encoder that made the vectors; a column of another encoder refuses them. With --create also that of the new
    /// column
    #[arg(long)]
    pub encoder: Option<String>,
    /// Look into the file, show what it becomes, create the collection, and load
    #[arg(long, requires = "file", conflicts_with_all = ["resume", "merge"])]
    pub create: bool,
    #[command(flatten)]
    pub becoming: Becoming,
    /// Create without asking
    #[arg(long, requires = "create")]
    pub yes: bool,
    /// Records committed together, 1 to 10000
    #[arg(long, value_parser = clap::value_parser!(u64).range(1..=10_000))]
    pub batch: Option<u64>,
    /// Write wrong rows with their reasons to this file and go on
    #[arg(long, value_name = "FILE")]
    pub set_aside: Option<PathBuf>,
    /// What standard input is called: the end of the name says its format
    #[arg(long, value_name = "NAME")]
    pub stdin_name: Option<String>,
    /// Go on with what was stopped: the upload of FILE, or the collection's last load
    #[arg(long)]
    pub resume: bool,
    /// Return when the file is sent; the job goes on
    #[arg(long)]
    pub background: bool,
}

#[derive(Subcommand)]
pub enum ColumnCommand {
    /// Add a vector column to a collection that has records
    #[command(
        after_help = "Example:\n  zesty column add logbook small --encoder lampwright-small --template '{note}' --backfill"
    )]
    Add {
        collection: String,
        column: String,
        /// Dimensions of the vectors, 1 to 16384; an encoder knows its own
        #[arg(long)]
        dimensions: Option<u32>,
        /// cosine, euclidean or dot
        #[arg(long, default_value = "cosine")]
        metric: String,
        /// Encoder that makes the vectors from text
        #[arg(long)]
        encoder: Option<String>,
        /// What the encoder reads: field names in braces
        #[arg(long, requires = "encoder")]
        template: Option<String>,
        /// Backfill it at once
        #[arg(long, requires = "template")]
        backfill: bool,
    },
    /// Give every record that has a text and no vector a vector
    #[command(after_help = "Example:\n  zesty column backfill logbook small")]
    Backfill { collection: String, column: String },
    /// Make a column the one that searches use when they name none
    #[command(after_help = "Example:\n  zesty column choose logbook small")]
    Choose { collection: String, column: String },
    /// List records whose text the encoder would not take
    #[command(after_help = "Example:\n  zesty column unencoded logbook --column small")]
    Unencoded {
        collection: String,
        #[arg(long)]
        column: Option<String>,
        #[arg(long, default_value_t = 20)]
        limit: u64,
    },
    /// Drop a column with its vectors and indexes
    #[command(after_help = "Example:\n  zesty column drop logbook small --yes")]
    Drop {
        collection: String,
        column: String,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
}

#[derive(Subcommand)]
pub enum RecordCommand {
    /// List records in order of their keys, or of a field
    #[command(
        after_help = "Examples:\n  zesty record list logbook --limit 20 --after GUL-1931\n  zesty record list logbook --sort -severity --filter \"year < 1920\""
    )]
    List {
        collection: String,
        #[arg(long, default_value_t = 20)]
        limit: u64,
        /// In order of this field; -FIELD for the largest first
        #[arg(long, value_name = "FIELD", allow_hyphen_values = true)]
        sort: Option<String>,
        /// Only keys after this one, or the place that the page before ended with
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
    /// Set fields of one record, or of all that a filter allows
    #[command(
        after_help = "Examples:\n  zesty record set logbook GUL-1931-10-04-1 severity=3 note='Fog.' keeper=null\n  \
        zesty record set logbook --filter \"station = 'Gull Rock'\" region='Outer Isles'"
    )]
    Set {
        collection: String,
        /// RECORD, unless --filter is given, then FIELD=VALUE...; VALUE is JSON, or text where it is none; null takes
        /// the value away; FIELD may be a path, such as place.lat
        #[arg(required = true, value_name = "RECORD | FIELD=VALUE")]
        words: Vec<String>,
        /// Counts first, and asks
        #[arg(long, value_name = "CQL2")]
        filter: Option<String>,
        /// Do not ask
        #[arg(long, requires = "filter")]
        yes: bool,
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
    #[command(
        after_help = "Examples:\n  zesty index build logbook 'graph(links=16, build=200)'\n  zesty index build logbook 'graph | int8 | rescore(f32)'\n  zesty index build logbook 'auto(recall=0.99, memory=200)'"
    )]
    Build {
        collection: String,
        /// Stages between |, such as 'graph | int8 | rescore(f32)'; auto lets the service choose; a JSON object works too
        #[arg(default_value = "auto")]
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
    /// Take into an index what was written since it was made; the service also does so by itself
    #[command(after_help = "Example:\n  zesty index absorb logbook graph-1")]
    Absorb { collection: String, index: String },
    /// Drop an index
    #[command(after_help = "Example:\n  zesty index drop logbook graph-1")]
    Drop { collection: String, index: String },
}

#[derive(Subcommand)]
pub enum RecipeCommand {
    /// Explain a recipe stage by stage, with its expected memory and build time
    #[command(
        after_help = "Examples:\n  zesty recipe explain 'graph | int8 | rescore(f32)' --collection logbook\n  zesty recipe explain 'cells(1024) | pq(48)' --rows 1000000 --dimensions 384"
    )]
    Explain {
        recipe: String,
        /// Take rows, dimensions and metric from a collection
        #[arg(long, required_unless_present_all = ["rows", "dimensions"])]
        collection: Option<String>,
        #[arg(long, requires = "collection")]
        column: Option<String>,
        #[arg(long)]
        rows: Option<usize>,
        #[arg(long)]
        dimensions: Option<usize>,
        /// cosine, euclidean or dot
        #[arg(long)]
        metric: Option<String>,
    },
}

#[derive(Args)]
pub struct SearchArgs {
    pub collection: String,
    /// Text to search for
    #[arg(conflicts_with_all = ["example", "vector", "batch"], required_unless_present_any = ["example", "vector", "batch"])]
    pub text: Option<String>,
    /// Search by the vector of the record with this key; by the mean of several, when repeated
    #[arg(long, value_name = "RECORD", conflicts_with_all = ["vector", "batch"])]
    pub example: Vec<String>,
    /// Move away from this record; may be repeated
    #[arg(long, value_name = "RECORD")]
    pub counterexample: Vec<String>,
    /// Let the records of --example and --counterexample be hits
    #[arg(long)]
    pub include_self: bool,
    /// Many searches at once: a file, or - for standard input, with a text on each line, or a JSON object such as
    /// {"examples": "A-1", "filter": "year < 1900"}; other options hold for all of them
    #[arg(long, value_name = "FILE", conflicts_with_all = ["vector", "compare", "explain"])]
    pub batch: Option<PathBuf>,
    /// Search by a vector: a JSON array, or @FILE that holds one
    #[arg(long, value_name = "ARRAY")]
    pub vector: Option<String>,
    /// Hits wanted, 1 to 1000
    #[arg(short, default_value_t = 10)]
    pub k: usize,
    /// CQL2, such as "severity >= 4 AND station = 'Gull Rock'"; text or JSON
    #[arg(long, value_name = "CQL2")]
    pub filter: Option<String>,
    /// Hits to pass over first
    #[arg(long)]
    pub skip: Option<usize>,
    /// Leave out this record; may be repeated
    #[arg(long, value_name = "RECORD")]
    pub leave_out: Vec<String>,
    /// Leave out hits with a lower score
    #[arg(long, allow_negative_numbers = true)]
    pub score_at_least: Option<f32>,
    /// Leave out hits with a greater distance
    #[arg(long, allow_negative_numbers = true)]
    pub distance_at_most: Option<f32>,
    /// At most so many hits that share a value of a field
    #[arg(long, value_name = "FIELD=N", value_parser = at_most)]
    pub at_most: Option<(String, usize)>,
    /// Stop filtering and searching after so many milliseconds, and show what was found
    #[arg(long, value_name = "MS")]
    pub time_limit: Option<f64>,
    /// Show the hits in the order of this field instead; descending with a leading minus
    #[arg(long, allow_hyphen_values = true)]
    pub sort: Option<String>,
    /// Show the records that this field refers to; may be repeated
    #[arg(long, value_name = "FIELD")]
    pub follow: Vec<String>,
    /// Return the vectors of this column with each hit (in JSON); may be repeated
    #[arg(long, value_name = "COLUMN")]
    pub vectors: Vec<String>,
    /// Say how the filter was understood, what the plan was and what it took
    #[arg(long)]
    pub explain: bool,
    /// Print the hits as CSV
    #[arg(long, conflicts_with_all = ["json", "compare", "explain"])]
    pub csv: bool,
    /// Fields to show, separated by commas
    #[arg(long, value_delimiter = ',')]
    pub fields: Option<Vec<String>>,
    /// Look at every record instead of using an index
    #[arg(long, conflicts_with_all = ["index", "beam", "visit", "rescore", "compare"])]
    pub exact: bool,
    /// Index to use, instead of the serving choice
    #[arg(long)]
    pub index: Option<String>,
    /// Candidates kept open, 1 to 10000
    #[arg(long)]
    pub beam: Option<usize>,
    /// How many cells are visited, 1 to 100000
    #[arg(long)]
    pub visit: Option<usize>,
    /// How many times k candidates are ranked anew, where the recipe says rescore, 1 to 100
    #[arg(long)]
    pub rescore: Option<usize>,
    /// Vector column [default: the collection's default column]
    #[arg(long)]
    pub column: Option<String>,
    /// The encoder that made --vector; a column of another encoder refuses it
    #[arg(long, requires = "vector")]
    pub encoder: Option<String>,
    /// Show the exact answer beside it, and what was missed
    #[arg(long)]
    pub compare: bool,
}

fn at_most(text: &str) -> Result<(String, usize), String> {
    let (field, hits) = text.split_once('=').ok_or("expected FIELD=N, such as station=1")?;
    let hits = hits.parse().map_err(|_| format!("\"{hits}\" is not a number of hits"))?;
    Ok((field.into(), hits))
}

#[derive(Subcommand)]
pub enum SweepCommand {
    /// Measure an index over a list of beams (graphs) or visits (cells)
    #[command(
        after_help = "Example:\n  zesty sweep run logbook graph-1 --queries 500 --beams 10,20,40,80,160"
    )]
    Run {
        collection: String,
        index: String,
        /// Records sampled as queries, 1 to 10000
        #[arg(long)]
        queries: Option<usize>,
        #[arg(short)]
        k: Option<usize>,
        /// Graphs: beams to measure
        #[arg(long, value_delimiter = ',', conflicts_with = "visits")]
        beams: Option<Vec<usize>>,
        /// Cells: how many to visit
        #[arg(long, value_delimiter = ',')]
        visits: Option<Vec<usize>>,
        /// How many times k candidates are ranked anew, where the recipe says rescore
        #[arg(long)]
        rescore: Option<usize>,
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
