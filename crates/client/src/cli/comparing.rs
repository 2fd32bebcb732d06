//! Options of `zesty compare`.

use clap::{Args, Subcommand, ValueEnum};
use std::path::PathBuf;
use zesty_client::wire::{CompareSide, Verdict};

/// Reads `graph-1`, `graph-1,beam=200`, `exact` or `exact,column=NAME`.
fn side(text: &str) -> Result<CompareSide, String> {
    let mut parts = text.split(',').map(str::trim);
    let name = parts.next().unwrap_or_default();
    if name.is_empty() {
        return Err("write INDEX, INDEX,beam=200, exact, or exact,column=NAME".into());
    }
    let mut side = CompareSide { index: (name != "exact").then(|| name.into()), ..CompareSide::default() };
    for part in parts {
        let wrong = || {
            format!("\"{part}\" is no setting; write beam=N, visit=N, rescore=N, or column=NAME after exact")
        };
        let (word, value) = part.split_once('=').ok_or_else(wrong)?;
        let number = || value.parse::<usize>().map(Some).map_err(|_| wrong());
        match word {
            "beam" => side.settings.beam = number()?,
            "visit" => side.settings.visit = number()?,
            "rescore" => side.settings.rescore = number()?,
            "column" => side.column = Some(value.into()),
            _ => return Err(wrong()),
        }
    }
    Ok(side)
}

#[derive(Args)]
pub struct CompareArgs {
    pub collection: String,
    /// An index with its settings, such as graph-1,beam=40; or exact, or exact,column=NAME
    #[arg(value_parser = side)]
    pub left: CompareSide,
    /// The same for the other side
    #[arg(value_parser = side)]
    pub right: CompareSide,
    /// The query set that both are asked [default: sampled, which is made if it is not there]
    #[arg(long, value_name = "SET")]
    pub queries: Option<String>,
    /// Hits of a search, 1 to 100
    #[arg(short, default_value_t = 10)]
    pub k: usize,
    /// Times that both answer every query, in turns [default: 3]
    #[arg(long)]
    pub rounds: Option<usize>,
    /// Of the intervals [default: 1]
    #[arg(long)]
    pub seed: Option<u64>,
}

#[derive(Clone, Copy, ValueEnum)]
pub enum Judged {
    Left,
    Right,
    /// Both are as good
    Same,
    /// Both are bad
    Neither,
    /// Take the verdict back
    Open,
}

impl Judged {
    pub fn verdict(self) -> Option<Verdict> {
        match self {
            Judged::Left => Some(Verdict::Left),
            Judged::Right => Some(Verdict::Right),
            Judged::Same => Some(Verdict::Same),
            Judged::Neither => Some(Verdict::Neither),
            Judged::Open => None,
        }
    }
}

#[derive(Subcommand)]
pub enum CompareCommand {
    /// Compare two indexes, two settings, or two vector columns on the same queries
    ///
    /// A query of a set is asked of another column by its record's vector there, or by its text.
    #[command(
        after_help = "Examples:\n  zesty compare run logbook graph-1 cells-1\n  zesty compare run logbook graph-1,beam=20 graph-1,beam=200 --queries far\n  zesty compare run logbook exact exact,column=note_large --queries asked"
    )]
    Run(CompareArgs),
    /// List comparisons, newest first
    #[command(after_help = "Example:\n  zesty compare list logbook")]
    List { collection: String },
    /// Show a comparison. Without a number: the newest
    #[command(after_help = "Example:\n  zesty compare show logbook 3")]
    Show { collection: String, comparison: Option<i64> },
    /// Show the hits of both sides next to each other, for the queries that differ most
    #[command(
        after_help = "Examples:\n  zesty compare hits logbook 3\n  zesty compare hits logbook 3 --position 17 --fields station,note"
    )]
    Hits {
        collection: String,
        comparison: i64,
        /// One query, by its place in the query set
        #[arg(long, conflicts_with_all = ["from", "limit"])]
        position: Option<u64>,
        /// Queries to pass over
        #[arg(long, default_value_t = 0)]
        from: u64,
        /// Queries to show, 1 to 100
        #[arg(long, default_value_t = 3)]
        limit: u64,
        /// Fields to show, by dotted path
        #[arg(long, value_delimiter = ',')]
        fields: Vec<String>,
    },
    /// Say which side is better for a query
    #[command(after_help = "Example:\n  zesty compare judge logbook 3 17 left")]
    Judge {
        collection: String,
        comparison: i64,
        /// The query, by its place in the query set
        position: u64,
        #[arg(value_enum)]
        verdict: Judged,
    },
    /// Save a comparison: its queries as .csv or .parquet, all of it as .json, its chart as .png, or one page of .html that needs no service
    #[command(after_help = "Example:\n  zesty compare save logbook comparison.html")]
    Save {
        collection: String,
        /// The ending says the format; - is CSV on standard output
        file: PathBuf,
        /// The newest when absent
        #[arg(long)]
        comparison: Option<i64>,
    },
    /// Delete a comparison with its verdicts
    #[command(after_help = "Example:\n  zesty compare delete logbook 3")]
    Delete { collection: String, comparison: i64 },
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_side_is_an_index_with_settings_or_the_exact_scan_of_a_column() {
        assert_eq!(side("graph-1").unwrap().to_string(), "graph-1");
        let with = side("graph-1, beam=20,rescore=6").unwrap();
        assert_eq!((with.settings.beam, with.settings.rescore), (Some(20), Some(6)));
        assert_eq!(side(&with.to_string()).unwrap(), with);
        let exact = side("exact,column=note_large").unwrap();
        assert_eq!((exact.index, exact.column.as_deref()), (None, Some("note_large")));
        for wrong in ["", "graph-1,beam", "graph-1,beam=x", "graph-1,width=3"] {
            assert!(side(wrong).is_err(), "{wrong}");
        }
    }
}
