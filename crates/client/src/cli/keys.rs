//! Options of `zesty key`.

use chrono::{DateTime, NaiveDate, NaiveTime, TimeDelta, Utc};
use clap::{Args, Subcommand};
use zesty_client::wire::Scope;

/// What `zesty key make` takes.
#[derive(Args)]
pub struct MakeKey {
    pub name: String,
    /// What it may do, with commas between: ask, search, read, write, tune, manage
    #[arg(long, value_delimiter = ',', required = true, value_name = "SCOPES")]
    pub scope: Vec<Scope>,
    /// The collections it is good for, with commas between; all when absent
    #[arg(long, value_delimiter = ',', value_name = "NAMES")]
    pub collection: Vec<String>,
    /// A CQL2 filter: records outside of it do not exist for this key
    #[arg(long, value_name = "CQL2")]
    pub filter: Option<String>,
    /// A field that is set in every record it writes; may be repeated
    #[arg(long, value_name = "FIELD=VALUE")]
    pub value: Vec<String>,
    /// How the keys of records begin that it may write
    #[arg(long, value_name = "TEXT")]
    pub key_prefix: Option<String>,
    /// With the scope ask: the saved searches that it may ask, with commas between; all that are live when absent
    #[arg(long, value_delimiter = ',', value_name = "NAMES")]
    pub search: Vec<String>,
    /// Requests a second that each node takes from it
    #[arg(long, value_name = "N")]
    pub rate: Option<u32>,
    /// Bytes that the body of one of its requests may have
    #[arg(long, value_name = "BYTES")]
    pub body_bytes: Option<u64>,
    /// When it ends: 90d, 12h, 30m, a date, or a time in RFC 3339
    #[arg(long, value_name = "WHEN", value_parser = read_end)]
    pub ends: Option<DateTime<Utc>>,
}

/// What `zesty key allow` and `zesty key withdraw` take.
#[derive(Args)]
pub struct Permission {
    pub name: String,
    /// Scopes, with commas between
    #[arg(long, value_delimiter = ',', value_name = "SCOPES", required_unless_present_any = ["collection", "search"])]
    pub scope: Vec<Scope>,
    /// Collections, with commas between
    #[arg(long, value_delimiter = ',', value_name = "NAMES")]
    pub collection: Vec<String>,
    /// Saved searches, with commas between
    #[arg(long, value_delimiter = ',', value_name = "NAMES")]
    pub search: Vec<String>,
}

#[derive(Subcommand)]
pub enum KeyCommand {
    /// Make a key and print it, only this once
    #[command(
        after_help = "Examples:\n  zesty key make shop-front --scope ask --collection logbook --search notes-near\n  \
                      zesty key make nightly-load --scope write --collection logbook --ends 90d\n  \
                      zesty key make northern --scope search,read --collection logbook --filter \"region = 'North Reach'\"\n\n\
                      A key with a filter sees only the records that the filter allows. If it also writes, it needs\n\
                      --value for every field of the filter, and --key-prefix. docs/keys.md walks through it."
    )]
    Make(MakeKey),
    /// List keys, what they permit, and when they were last used
    #[command(after_help = "Example:\n  zesty key list")]
    List,
    /// Add scopes, collections or saved searches to what a key permits
    #[command(after_help = "Example:\n  zesty key allow northern --scope write")]
    Allow(Permission),
    /// Take scopes, collections or saved searches from what a key permits
    #[command(after_help = "Example:\n  zesty key withdraw northern --collection stations")]
    Withdraw(Permission),
    /// Set when a key ends
    #[command(after_help = "Example:\n  zesty key end northern 30d")]
    End {
        name: String,
        /// 90d, 12h, 30m, a date, or a time in RFC 3339
        #[arg(value_parser = read_end, value_name = "WHEN")]
        at: DateTime<Utc>,
    },
    /// Limit the requests of a key
    #[command(after_help = "Example:\n  zesty key limit northern --rate 50")]
    Limit {
        name: String,
        /// Requests a second that each node takes from it; 0 for as many as come
        #[arg(long, value_name = "N", required_unless_present = "body_bytes")]
        rate: Option<u32>,
        /// Bytes that the body of one of its requests may have; 0 for what the routes take
        #[arg(long, value_name = "BYTES")]
        body_bytes: Option<u64>,
    },
    /// Give a key a new secret and print it, only this once
    #[command(after_help = "Example:\n  zesty key rotate northern --overlap 2d")]
    Rotate {
        name: String,
        /// How long the secret before stays good: 2d, 12h, 30m; it ends at once when absent
        #[arg(long, value_parser = read_span, value_name = "SPAN")]
        overlap: Option<TimeDelta>,
    },
    /// Remove a key. Its users are refused from then on
    #[command(after_help = "Example:\n  zesty key remove northern")]
    Remove { name: String },
    /// Show what a key may do and what it sees
    #[command(
        after_help = "Examples:\n  zesty key try zk_0123...\n  zesty key try          (the key of this connection)\n  \
                      zesty key try - < key.txt"
    )]
    Try {
        /// The secret; - reads it from standard input [default: the key of this connection]
        key: Option<String>,
    },
    /// List what was done with keys, newest first
    #[command(after_help = "Example:\n  zesty key audit --limit 20")]
    Audit {
        /// How many entries to show, 1 to 1000
        #[arg(long, default_value_t = 50)]
        limit: usize,
        /// Only entries before this one
        #[arg(long, value_name = "ENTRY")]
        before: Option<i64>,
    },
}

fn read_span(text: &str) -> Result<TimeDelta, String> {
    let wrong = || format!("\"{text}\" is not a span such as 90d, 12h or 30m");
    let (number, unit) = text.split_at_checked(text.len().saturating_sub(1)).ok_or_else(wrong)?;
    let number: i64 = number.parse().map_err(|_| wrong())?;
    let seconds = match unit {
        "d" => 86_400,
        "h" => 3_600,
        "m" => 60,
        _ => return Err(wrong()),
    };
    let span = number.checked_mul(seconds).filter(|s| (0..=100 * 366 * 86_400).contains(s));
    span.map(TimeDelta::seconds).ok_or_else(|| format!("{text} is not between 0 and 100 years"))
}

fn read_end(text: &str) -> Result<DateTime<Utc>, String> {
    if let Ok(at) = DateTime::parse_from_rfc3339(text) {
        return Ok(at.with_timezone(&Utc));
    }
    if let Ok(day) = text.parse::<NaiveDate>() {
        return Ok(day.and_time(NaiveTime::MIN).and_utc());
    }
    let span = read_span(text).map_err(|_| {
        format!(
            "\"{text}\" is no time; write 90d, 12h, 30m, a date such as 2030-01-31, or a time in RFC 3339"
        )
    })?;
    Ok(Utc::now() + span)
}
