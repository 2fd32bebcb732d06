//! The vectors that a load or a backfill has made of texts: an encoder that does not answer is waited for.

use crate::collections::live::Live;
use crate::node::encoders::{EncodeFailure, Encoders, Trouble};
use crate::node::jobs::{Job, Stop};
use crate::records::encode::texts_to_encode;
use std::sync::Arc;
use std::time::{Duration, Instant};
use zesty_catalog::{RecordWrite, VectorWrite, encoder};

/// How long a load waits for a database or an encoder that does not answer.
pub const PATIENCE: Duration = Duration::from_secs(120);

/// Texts in one request to an encoder.
const TEXTS: usize = 256;

/// Half a second, doubled up to five.
pub async fn pause(attempt: u32) {
    tokio::time::sleep(Duration::from_millis((500 << attempt.min(4)).min(5000))).await;
}

/// Vectors of texts, or the reason why there is none, text by text. An encoder that does not answer is
/// waited for; texts that it refuses are found by halving.
pub async fn vectors_of(
    encoders: &Encoders,
    live: &Live,
    column: usize,
    encoder: &encoder::Model,
    texts: &[String],
    job: &Job,
) -> Result<Vec<Result<Vec<f32>, String>>, Stop> {
    let dimensions = live.columns()[column].dimensions;
    let mut out: Vec<Option<Result<Vec<f32>, String>>> = vec![None; texts.len()];
    let mut todo: Vec<(usize, usize)> =
        (0..texts.len()).step_by(TEXTS).map(|at| (at, (at + TEXTS).min(texts.len()))).rev().collect();
    let (mut waiting, mut attempt) = (None, 0);
    while let Some((from, to)) = todo.pop() {
        if job.progress.is_cancelled() {
            return Err(Stop::Cancelled);
        }
        match encoders.encode(encoder, &texts[from..to], dimensions).await {
            Ok(vectors) => {
                (waiting, attempt) = (None, 0);
                for (place, vector) in out[from..to].iter_mut().zip(vectors) {
                    *place = Some(match live.metrics[column].prepare(&vector, dimensions as usize) {
                        Ok(_) => Ok(vector),
                        Err(e) => Err(format!("what encoder \"{}\" made {e}", encoder.name)),
                    });
                }
            }
            Err(EncodeFailure { trouble: Trouble::Wrong, problem }) => return Err(problem.into()),
            Err(EncodeFailure { trouble: Trouble::Refused, problem }) => {
                if to - from == 1 {
                    out[from] = Some(Err(problem.detail));
                } else {
                    let middle = from + (to - from) / 2;
                    todo.push((middle, to));
                    todo.push((from, middle));
                }
            }
            Err(EncodeFailure { trouble: Trouble::Later, problem }) => {
                let since = *waiting.get_or_insert_with(Instant::now);
                if since.elapsed() > PATIENCE {
                    return Err(problem.into());
                }
                if attempt == 0 {
                    job.say(format!("{}; trying again", problem.detail));
                }
                attempt += 1;
                pause(attempt).await;
                todo.push((from, to));
            }
        }
    }
    Ok(out.into_iter().map(|o| o.unwrap_or_else(|| Err("was not encoded".into()))).collect())
}

/// Makes the vectors that records do not bring. A record whose text the encoder does not take stays
/// without, and says why.
pub async fn encode_patiently(
    encoders: &Encoders,
    live: &Live,
    mut writes: Arc<Vec<RecordWrite>>,
    job: &Job,
) -> Result<Arc<Vec<RecordWrite>>, Stop> {
    for (c, column) in live.columns().iter().enumerate() {
        let (Some(name), Some(template)) = (&column.encoder, &column.template) else { continue };
        let (rows, texts) = texts_to_encode(&writes, c, template);
        if texts.is_empty() {
            continue;
        }
        let encoder = encoders.get(name).await?;
        let made = vectors_of(encoders, live, c, &encoder, &texts, job).await?;
        // Copied only where something is made: most batches bring all that they need.
        let writes = Arc::make_mut(&mut writes);
        for (i, made) in rows.into_iter().zip(made) {
            match made {
                Ok(vector) => writes[i].vectors[c] = VectorWrite::Set(vector),
                Err(reason) => writes[i].unencoded.push((c, reason)),
            }
        }
    }
    Ok(writes)
}
