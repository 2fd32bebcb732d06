//! The query vector of a search: given, encoded from text, or made of other records' vectors.

use crate::collections::reach::Reach;
use crate::node::encoders::Encoders;
use crate::problem::{Kind, Problem, Result};
use zesty_engine::Table;
use zesty_wire::{Keys, SearchRequest};

/// Records that a search can take as examples, or as counterexamples.
pub const MAX_EXAMPLES: usize = 100;

/// The prepared vectors of records.
fn examples<'t>(
    reach: &Reach,
    table: &'t Table,
    column: usize,
    keys: &Keys,
    pointer: &str,
) -> Result<Vec<&'t [f32]>> {
    let vectors = &table.vectors()[column].vectors;
    let keys = keys.list();
    if keys.is_empty() || keys.len() > MAX_EXAMPLES {
        let detail = format!("{} keys are given; give 1 to {MAX_EXAMPLES}", keys.len());
        return Err(Problem::new(Kind::WrongShape, detail).at(pointer));
    }
    let within = reach.within(table)?;
    let mut rows = Vec::with_capacity(keys.len());
    for key in keys {
        let row = within.row(table, key).ok_or_else(|| reach.unknown_record(key).at(pointer))?;
        if !vectors.present().contains(row as usize) {
            let name = &reach.live.columns()[column].name;
            let detail = format!("record \"{key}\" has no vector in column \"{name}\"");
            return Err(Problem::new(Kind::NoData, detail).at(pointer));
        }
        rows.push(row);
    }
    Ok(rows.iter().map(|row| vectors.row(*row)).collect())
}

fn mean_of(vectors: &[&[f32]]) -> Vec<f32> {
    let n = vectors.len() as f32;
    let mut mean = vec![0.0; vectors.first().map_or(0, |v| v.len())];
    for vector in vectors {
        mean.iter_mut().zip(*vector).for_each(|(m, x)| *m += x / n);
    }
    mean
}

/// The prepared query vector.
pub async fn resolve(
    encoders: &Encoders,
    reach: &Reach,
    column: usize,
    input: &SearchRequest,
) -> Result<Vec<f32>> {
    let live = &reach.live;
    let about = &live.columns()[column];
    if let Some(said) = &input.encoder {
        live.check_encoder(column, said, "/encoder")?;
    }
    let metric = live.metrics[column];
    let dimensions = about.dimensions as usize;
    let table = live.table.load_full();
    let query = match (&input.text, &input.vector, &input.examples) {
        (Some(text), None, None) => {
            if text.trim().is_empty() {
                return Err(Problem::new(Kind::WrongShape, "the text to search for is empty").at("/text"));
            }
            let Some(name) = &about.encoder else {
                let detail = format!(
                    "column \"{}\" has no encoder, so it cannot be searched by text; give a vector of {dimensions} \
                     numbers, or a record's key in examples",
                    about.name
                );
                return Err(Problem::new(Kind::NoEncoder, detail).at("/text"));
            };
            let encoder = encoders.get(name).await?;
            let texts = std::slice::from_ref(text);
            let vector = encoders.encode(&encoder, texts, about.dimensions).await?.remove(0);
            let subject = format!("what encoder \"{name}\" made of the text");
            metric.prepare(&vector, dimensions).map_err(|e| Problem::vector(&e, &subject, "/text"))?
        }
        (None, Some(vector), None) => {
            let subject = format!("the query for column \"{}\"", about.name);
            metric.prepare(vector, dimensions).map_err(|e| Problem::vector(&e, &subject, "/vector"))?
        }
        (None, None, Some(keys)) => {
            let vectors = examples(reach, &table, column, keys, "/examples")?;
            if vectors.len() == 1 && input.counterexamples.is_none() {
                vectors[0].to_vec()
            } else {
                mean_of(&vectors)
            }
        }
        _ => {
            let given = [input.text.is_some(), input.vector.is_some(), input.examples.is_some()];
            let n = given.iter().filter(|g| **g).count();
            let detail = format!("give one of text, vector or examples; {n} are given");
            return Err(Problem::new(Kind::WrongShape, detail));
        }
    };
    let several = input.examples.as_ref().is_some_and(|keys| keys.list().len() > 1);
    let mut query = query;
    if let Some(keys) = &input.counterexamples {
        let vectors = examples(reach, &table, column, keys, "/counterexamples")?;
        query.iter_mut().zip(mean_of(&vectors)).for_each(|(q, away)| *q -= away / 2.0);
    }
    if several || input.counterexamples.is_some() {
        let subject = "what is left of the examples";
        query = metric.prepare(&query, dimensions).map_err(|e| Problem::vector(&e, subject, "/examples"))?;
    }
    Ok(query)
}
