//! A stand-in for a model server: two small text encoders learned from a corpus of notes, served
//! over the Open Inference Protocol v2 (REST). Reached only through that protocol.

pub mod model;
pub mod server;

use model::{Model, Size};
use std::fs::File;
use std::io::{self, BufRead, BufReader};
use std::path::Path;

/// The two encoders: the same corpus, different numbers of dimensions.
pub const SIZES: [Size; 2] =
    [Size { name: "lampwright-small", dimensions: 96 }, Size { name: "lampwright-large", dimensions: 384 }];

/// The `note` of every line of a JSON Lines file (`.gz` is unpacked).
pub fn read_notes(path: &Path) -> io::Result<Vec<String>> {
    let file =
        File::open(path).map_err(|e| io::Error::new(e.kind(), format!("corpus {}: {e}", path.display())))?;
    let reader: Box<dyn BufRead> = if path.extension().is_some_and(|e| e == "gz") {
        Box::new(BufReader::new(flate2::read::GzDecoder::new(file)))
    } else {
        Box::new(BufReader::new(file))
    };
    let mut notes = Vec::new();
    for (i, line) in reader.lines().enumerate() {
        let record: serde_json::Value = serde_json::from_str(&line?)
            .map_err(|e| io::Error::other(format!("{}, line {}: {e}", path.display(), i + 1)))?;
        if let Some(note) = record["note"].as_str() {
            notes.push(note.to_owned());
        }
    }
    Ok(notes)
}

/// Both models, from the cache folder where it holds them, learned (and cached) otherwise.
pub fn models(corpus: &Path, cache: Option<&Path>) -> io::Result<Vec<Model>> {
    let notes = read_notes(corpus)?;
    Model::load_or_learn(&notes, &SIZES, cache)
}
