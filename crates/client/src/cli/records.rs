//! Options of `zesty record`.

use clap::Subcommand;

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
        /// Sort by this field; -FIELD for the largest first
        #[arg(long, value_name = "FIELD", allow_hyphen_values = true)]
        sort: Option<String>,
        /// Only keys after this one, or after where the last page ended
        #[arg(long)]
        after: Option<String>,
        /// Only records that this CQL2 filter allows
        #[arg(long, value_name = "CQL2")]
        filter: Option<String>,
    },
    /// Show one record
    #[command(after_help = "Example:\n  zesty record show logbook GUL-1931-01-03-1 --vectors")]
    Show {
        collection: String,
        record: String,
        /// Include its vectors
        #[arg(long)]
        vectors: bool,
    },
    /// Set fields of one record, or of all records that a filter allows
    #[command(
        after_help = "Examples:\n  zesty record set logbook GUL-1931-01-03-1 severity=3 note='Fog.' keeper=null\n  \
        zesty record set logbook --filter \"station = 'Gull Rock'\" region='Outer Isles'"
    )]
    Set {
        collection: String,
        /// RECORD (not with --filter), then FIELD=VALUE... VALUE is JSON, or else text. null removes the value. FIELD may
        /// be a path, such as place.lat
        #[arg(required = true, value_name = "RECORD | FIELD=VALUE")]
        words: Vec<String>,
        /// Take all records that this filter allows. Counts them first, and asks
        #[arg(long, value_name = "CQL2")]
        filter: Option<String>,
        /// Do not ask
        #[arg(long, requires = "filter")]
        yes: bool,
    },
    /// Delete one record, or all records that a filter allows
    #[command(after_help = "Examples:\n  zesty record delete logbook GUL-1931-01-03-1\n  \
        zesty record delete logbook --filter \"year < 1912\"")]
    Delete {
        collection: String,
        #[arg(required_unless_present = "filter", conflicts_with = "filter")]
        record: Option<String>,
        /// Take all records that this filter allows. Counts them first, and asks
        #[arg(long, value_name = "CQL2")]
        filter: Option<String>,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
}
