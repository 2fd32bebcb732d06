//! Options of `zesty search`.

use clap::Args;
use std::path::PathBuf;

#[derive(Args)]
pub struct SearchArgs {
    pub collection: String,
    /// Text to search for
    #[arg(conflicts_with_all = ["example", "vector", "batch"], required_unless_present_any = ["example", "vector", "batch"])]
    pub text: Option<String>,
    /// Search by the vector of the record with this key. Repeat it to search by the mean of several
    #[arg(long, value_name = "RECORD", conflicts_with_all = ["vector", "batch"])]
    pub example: Vec<String>,
    /// Move away from this record. May be repeated
    #[arg(long, value_name = "RECORD")]
    pub counterexample: Vec<String>,
    /// The records of --example and --counterexample may be hits
    #[arg(long)]
    pub include_self: bool,
    /// Many searches: a file (- is standard input) with one text a line, or one JSON object such as
    /// {"examples": "A-1", "filter": "year < 1900"}. The other options apply to all of them
    #[arg(long, value_name = "FILE", conflicts_with_all = ["vector", "compare", "explain"])]
    pub batch: Option<PathBuf>,
    /// Search by a vector: a JSON array, or @FILE with one
    #[arg(long, value_name = "ARRAY")]
    pub vector: Option<String>,
    /// Hits wanted, 1 to 1000
    #[arg(short, default_value_t = 10)]
    pub k: usize,
    /// Only records that this filter allows: CQL2 text such as "severity >= 4 AND station = 'Gull Rock'", or JSON
    #[arg(long, value_name = "CQL2")]
    pub filter: Option<String>,
    /// Hits to pass over first
    #[arg(long)]
    pub skip: Option<usize>,
    /// Leave out this record. May be repeated
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
    /// Stop filtering and searching after this many milliseconds, and show what was found
    #[arg(long, value_name = "MS")]
    pub time_limit: Option<f64>,
    /// Sort the hits by this field; -FIELD for descending
    #[arg(long, allow_hyphen_values = true)]
    pub sort: Option<String>,
    /// Show the records that this field refers to. May be repeated
    #[arg(long, value_name = "FIELD")]
    pub follow: Vec<String>,
    /// Return the vectors of this column with each hit (with --json). May be repeated
    #[arg(long, value_name = "COLUMN")]
    pub vectors: Vec<String>,
    /// Show how the filter was understood, the plan, and the time it took
    #[arg(long)]
    pub explain: bool,
    /// Print the hits as CSV
    #[arg(long, conflicts_with_all = ["json", "compare", "explain"])]
    pub csv: bool,
    /// Fields to show, separated by commas
    #[arg(long, value_delimiter = ',')]
    pub fields: Option<Vec<String>>,
    /// Scan every record instead of using an index
    #[arg(long, conflicts_with_all = ["index", "beam", "visit", "rescore", "recall", "compare"])]
    pub exact: bool,
    /// The index to use, instead of the serving choice
    #[arg(long)]
    pub index: Option<String>,
    /// Graphs: candidates that a walk keeps, 1 to 10000
    #[arg(long)]
    pub beam: Option<usize>,
    /// Cells: how many to visit, 1 to 100000
    #[arg(long)]
    pub visit: Option<usize>,
    /// With rescore in the recipe: re-rank this many times k candidates, 1 to 100
    #[arg(long)]
    pub rescore: Option<usize>,
    /// In place of settings: those that the newest target of the index measured for this recall, such as 0.95
    #[arg(long, conflicts_with_all = ["beam", "visit", "rescore"])]
    pub recall: Option<f64>,
    /// Vector column [default: the collection's default column]
    #[arg(long)]
    pub column: Option<String>,
    /// The encoder that made --vector. A column of another encoder refuses it
    #[arg(long, requires = "vector")]
    pub encoder: Option<String>,
    /// Also show the exact answer, and what was missed
    #[arg(long)]
    pub compare: bool,
}

fn at_most(text: &str) -> Result<(String, usize), String> {
    let (field, hits) = text.split_once('=').ok_or("expected FIELD=N, such as station=1")?;
    let hits = hits.parse().map_err(|_| format!("\"{hits}\" is not a number of hits"))?;
    Ok((field.into(), hits))
}
