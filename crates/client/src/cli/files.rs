//! Options of `zesty load`, `zesty inspect` and `zesty export`.

use clap::Args;
use std::path::PathBuf;

#[derive(Args)]
pub struct ExportArgs {
    pub collection: String,
    /// The file to write; - is standard output
    pub file: PathBuf,
    /// Only records that this CQL2 filter allows
    #[arg(long, value_name = "CQL2")]
    pub filter: Option<String>,
    /// Include the vectors, as they were given
    #[arg(long)]
    pub vectors: bool,
    /// jsonlines, csv, parquet, arrow, npy, safetensors or keys. Needed if the name of the file does not say
    #[arg(long)]
    pub format: Option<String>,
    /// Only this vector column
    #[arg(long)]
    pub column: Option<String>,
    /// Write the keys of an NPY file's rows here, one a line
    #[arg(long, value_name = "FILE")]
    pub keys: Option<PathBuf>,
}

/// What a file is to become.
#[derive(Args, Clone, Default)]
pub struct Becoming {
    /// What the encoder reads: field names in braces, such as {title}
    #[arg(long, requires = "encoder")]
    pub template: Option<String>,
    /// Name of the vector column that the encoder fills [default: meaning]
    #[arg(long = "new-column", value_name = "NAME", requires = "template")]
    pub column: Option<String>,
    /// Take a field as another type: string, integer, number, boolean, date, timestamp, strings, integers
    #[arg(long = "type", value_name = "FIELD=TYPE")]
    pub types: Vec<String>,
}

#[derive(Args)]
pub struct LoadArgs {
    pub collection: String,
    /// A file of records, or of vectors alone; - is standard input
    #[arg(required_unless_present_any = ["resume", "vectors"])]
    pub file: Option<PathBuf>,
    /// Vectors in a file of their own
    #[arg(long, value_name = "[COLUMN=]FILE")]
    pub vectors: Vec<String>,
    /// A file with the keys of the vectors, one a line
    #[arg(long, value_name = "FILE")]
    pub vector_keys: Option<PathBuf>,
    /// How rows of --vectors find their records: row or key
    #[arg(long = "match", value_name = "HOW", value_parser = ["row", "key"])]
    pub matching: Option<String>,
    /// The column that holds the keys [default: key]
    #[arg(long, value_name = "COLUMN")]
    pub key_column: Option<String>,
    /// Take a column under another name
    #[arg(long, value_name = "FROM=TO")]
    pub rename: Vec<String>,
    /// Take these columns only, separated by commas
    #[arg(long, value_delimiter = ',', value_name = "COLUMNS")]
    pub only: Option<Vec<String>>,
    /// Existing records keep the fields and vectors that a row does not have. Always so for vectors alone
    #[arg(long)]
    pub merge: bool,
    /// The encoder that made the vectors. A column of another encoder refuses them. With --create: the encoder of the new
    /// column
    #[arg(long)]
    pub encoder: Option<String>,
    /// Inspect the file, show what it becomes, create the collection, and load
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
    /// Write wrong rows with their reasons to this file, and continue
    #[arg(long, value_name = "FILE")]
    pub set_aside: Option<PathBuf>,
    /// A name for standard input. Its ending says the format
    #[arg(long, value_name = "NAME")]
    pub stdin_name: Option<String>,
    /// Continue what was stopped: the upload of FILE, or the collection's last load
    #[arg(long)]
    pub resume: bool,
    /// Return when the file is sent. The job continues
    #[arg(long)]
    pub background: bool,
}
