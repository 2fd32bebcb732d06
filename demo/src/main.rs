//! Writes `logbook.jsonl.gz`, `stations.jsonl` and `logbook.schema.json` into a folder.

use clap::Parser;
use flate2::{Compression, GzBuilder};
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::PathBuf;

#[derive(Parser)]
#[command(about = "Makes the demo data: the keepers' logbook and the 36 stations")]
struct Arguments {
    /// Where to write
    #[arg(long, default_value = "demo")]
    out: PathBuf,
    #[arg(long, default_value_t = zesty_demo::SEED)]
    seed: u64,
    #[arg(long, default_value_t = zesty_demo::ENTRIES)]
    entries: usize,
}

fn main() -> io::Result<()> {
    let a = Arguments::parse();
    // No time and no name in the header, so that the same seed gives the same bytes.
    let file = BufWriter::new(File::create(a.out.join("logbook.jsonl.gz"))?);
    let mut out = GzBuilder::new().mtime(0).write(file, Compression::best());
    for entry in zesty_demo::logbook(a.seed, a.entries) {
        writeln!(out, "{entry}")?;
    }
    out.finish()?.flush()?;
    let mut out = BufWriter::new(File::create(a.out.join("stations.jsonl"))?);
    for station in zesty_demo::stations() {
        writeln!(out, "{station}")?;
    }
    out.flush()?;
    let schema = serde_json::to_string_pretty(&zesty_demo::logbook_schema())?;
    std::fs::write(a.out.join("logbook.schema.json"), schema + "\n")
}
