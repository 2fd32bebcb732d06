//! Options of `zesty collection` and `zesty column`.

use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Args)]
pub struct ChangeArgs {
    pub collection: String,
    #[arg(long)]
    pub description: Option<String>,
    /// A JSON Schema file with all fields
    #[arg(long, value_name = "FILE")]
    pub fields: Option<PathBuf>,
    /// Add a field: string, integer, number, boolean, date, timestamp, strings, integers
    #[arg(long, value_name = "FIELD=TYPE")]
    pub add: Vec<String>,
    /// Widen a field: integer to number, date or timestamp to string
    #[arg(long, value_name = "FIELD=TYPE")]
    pub widen: Vec<String>,
    /// Describe a field
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
    /// Create a collection, with a vector column, without one, or as a file describes it
    #[command(after_help = "Examples:\n  zesty collection create logbook --fields demo/logbook.schema.json \
        --encoder lampwright-large --template '{note}'\n  \
        zesty collection create plain --dimensions 384 --metric cosine\n  \
        zesty collection create later\n  \
        zesty collection create --file collection.json\n  \
        zesty collection create other-name --file collection.json")]
    Create(CreateArgs),
    /// Change a collection's description or fields. Records stay as they are
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
    /// Drop a collection with everything in it; it can be restored for some days
    #[command(
        after_help = "Examples:\n  zesty collection drop plain\n  zesty collection drop plain --confirm plain"
    )]
    Drop {
        collection: String,
        /// Its name once more, in place of typing it
        #[arg(long, value_name = "NAME")]
        confirm: Option<String>,
    },
    /// List the collections that can be restored
    #[command(after_help = "Example:\n  zesty collection dropped")]
    Dropped,
    /// Bring a dropped collection back; its indexes are built again
    #[command(
        after_help = "Examples:\n  zesty collection restore plain\n  zesty collection restore 7 --name plain-before"
    )]
    Restore {
        /// Its id, or the name that it had
        dropped: String,
        /// Another name, where its own is taken
        #[arg(long)]
        name: Option<String>,
    },
    /// Delete a dropped collection for good
    #[command(after_help = "Example:\n  zesty collection purge 7")]
    Purge {
        id: i64,
        /// Its id once more, in place of typing it
        #[arg(long, value_name = "ID")]
        confirm: Option<String>,
    },
    /// Give a collection another name; fields that refer to it, keys, jobs and loads go with it
    #[command(after_help = "Example:\n  zesty collection rename logbook logbook-1967")]
    Rename { collection: String, name: String },
    /// Let two collections change names at once, between two requests; keys and references keep to the names
    #[command(after_help = "Example:\n  zesty collection clone logbook logbook-next\n  \
        zesty load logbook-next more.jsonl\n  zesty collection swap logbook logbook-next")]
    Swap {
        collection: String,
        with: String,
        /// Even if the other one lacks live saved searches that this one answers
        #[arg(long)]
        anyway: bool,
    },
    /// Copy a collection under a new name while it is written to: records, saved searches and indexes
    #[command(after_help = "Example:\n  zesty collection clone logbook logbook-next")]
    Clone {
        collection: String,
        name: String,
        /// Copy records and saved searches alone; searches of the copy are then exact
        #[arg(long)]
        without_indexes: bool,
    },
}

#[derive(Args)]
pub struct CreateArgs {
    /// Its name. With --file it replaces the name in the file
    #[arg(required_unless_present = "file")]
    pub collection: Option<String>,
    /// A JSON file with the whole description. `zesty inspect --write` writes one
    #[arg(long, conflicts_with_all = ["fields", "column", "dimensions", "encoder", "template"])]
    pub file: Option<PathBuf>,
    #[arg(long, default_value = "")]
    pub description: String,
    /// A JSON Schema file of the fields
    #[arg(long)]
    pub fields: Option<PathBuf>,
    /// Name of the vector column [default: meaning]
    #[arg(long)]
    pub column: Option<String>,
    /// Dimensions of the vectors, 1 to 16384. Not needed with --encoder. Without both there is no vector column yet
    #[arg(long)]
    pub dimensions: Option<u32>,
    /// cosine, euclidean or dot
    #[arg(long, default_value = "cosine")]
    pub metric: String,
    /// The encoder that makes the vectors from text
    #[arg(long)]
    pub encoder: Option<String>,
    /// What the encoder reads: field names in braces, such as {note}
    #[arg(long, requires = "encoder")]
    pub template: Option<String>,
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
        /// Dimensions of the vectors, 1 to 16384. Not needed with --encoder
        #[arg(long)]
        dimensions: Option<u32>,
        /// cosine, euclidean or dot
        #[arg(long, default_value = "cosine")]
        metric: String,
        /// The encoder that makes the vectors from text
        #[arg(long)]
        encoder: Option<String>,
        /// What the encoder reads: field names in braces, such as {note}
        #[arg(long, requires = "encoder")]
        template: Option<String>,
        /// Then encode the texts of all records
        #[arg(long, requires = "template")]
        backfill: bool,
    },
    /// Encode every record that has a text and no vector in this column
    #[command(after_help = "Example:\n  zesty column backfill logbook small")]
    Backfill { collection: String, column: String },
    /// Choose the column that searches use when they name none
    #[command(after_help = "Example:\n  zesty column choose logbook small")]
    Choose { collection: String, column: String },
    /// List records whose text the encoder refused
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
