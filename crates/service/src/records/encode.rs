//! The vectors that encoders make of records.

use crate::collections::live::Live;
use crate::node::encoders::Encoders;
use crate::problem::{Problem, Result};
use crate::records::check::Place;
use crate::records::template::render;
use serde_json::{Map, Value};
use zesty_catalog::{RecordWrite, VectorWrite, vector_column};

/// The records that bring no vector in a column and have a text for its encoder: their places, and the texts.
pub fn texts_to_encode(writes: &[RecordWrite], column: usize, template: &str) -> (Vec<usize>, Vec<String>) {
    let lacking = writes.iter().enumerate().filter(|(_, w)| w.vectors[column] == VectorWrite::Clear);
    lacking.filter_map(|(i, w)| Some((i, render(template, w.body.fields())?))).unzip()
}

/// Whether a record's vector in a column stays when its fields change: nobody encodes it, or the encoder would
/// read the same text.
pub fn vector_stays(
    column: &vector_column::Model,
    old: &Map<String, Value>,
    new: &Map<String, Value>,
) -> bool {
    let read = |body| column.template.as_ref().and_then(|t| render(t, body));
    column.encoder.is_none() || read(old) == read(new)
}

/// Asks the encoders for the vectors that records do not bring.
pub async fn encode_missing(
    encoders: &Encoders,
    live: &Live,
    writes: &mut [RecordWrite],
    place: Place<'_>,
) -> Result<()> {
    for (c, column) in live.columns().iter().enumerate() {
        let (Some(name), Some(template)) = (&column.encoder, &column.template) else { continue };
        let (rows, texts) = texts_to_encode(writes, c, template);
        if texts.is_empty() {
            continue;
        }
        let encoder = encoders.get(name).await?;
        let encoded = encoders.encode(&encoder, &texts, column.dimensions).await?;
        for (i, vector) in rows.into_iter().zip(encoded) {
            let (at, words) = place(i);
            live.metrics[c].prepare(&vector, column.dimensions as usize).map_err(|e| {
                let subject = format!("{words}record \"{}\": what encoder \"{name}\" made", writes[i].key);
                Problem::vector(&e, &subject, at)
            })?;
            writes[i].vectors[c] = VectorWrite::Set(vector);
        }
    }
    Ok(())
}
