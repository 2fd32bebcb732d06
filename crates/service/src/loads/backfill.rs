//! Backfill: vectors made later, for records that have a text and no vector in a column.

use crate::access::grant::{Grant, Scope};
use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::loads::batch::BATCH_BYTES;
use crate::loads::encode::vectors_of;
use crate::node::encoders::Encoders;
use crate::node::jobs::{Job, Stop};
use crate::problem::{Kind, Problem, Result};
use crate::records::template::render;
use serde_json::{Value, json};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use zesty_catalog::Made;
use zesty_engine::rows::LastBlock;
use zesty_wire as wire;

/// Starts giving every record that has a text and no vector in a column a vector, as a job.
pub async fn start(
    grant: &Grant,
    registry: &Arc<Registry>,
    encoders: &Arc<Encoders>,
    (collection, column): (&str, &str),
) -> Result<wire::Job> {
    let live = registry.collection(grant, Scope::Write, collection)?;
    let about = &live.columns()[live.column(Some(column), "")?];
    if about.encoder.is_none() || about.template.is_none() {
        let detail = format!("column \"{column}\" has no encoder with a template; load its vectors instead");
        return Err(Problem::new(Kind::NoEncoder, detail));
    }
    let (registry, encoders, ids) = (registry.clone(), encoders.clone(), (live.id, about.id));
    let jobs = registry.jobs.clone();
    let work = move |job: Arc<Job>| async move { backfill(&registry, &encoders, ids, &job).await };
    Ok(jobs.start("backfill", collection, column, work).await?.view())
}

/// Gives every record that has a text and no vector in a column a vector.
async fn backfill(
    registry: &Arc<Registry>,
    encoders: &Encoders,
    (collection, column): (i64, i64),
    job: &Job,
) -> Result<Value, Stop> {
    let live = registry.get(collection)?;
    let position = |live: &Live| {
        let found = live.columns().iter().position(|c| c.id == column);
        found.ok_or_else(|| Stop::Failed("the column is gone".into()))
    };
    let at = position(&live)?;
    let table = live.table.load_full();
    let mut lacking = table.alive().to_set();
    table.vectors()[at].vectors.present().take_from(&mut lacking);
    let rows: Vec<u32> = lacking.ones().map(|r| r as u32).collect();
    job.progress.total.store(rows.len(), Ordering::Relaxed);
    let (mut filled, mut failed, mut without) = (0, 0, 0);
    for portion in rows.chunks(1000) {
        // Each time again: the collection may have taken another schema meanwhile.
        let live = registry.get(collection)?;
        let at = position(&live)?;
        let about = live.columns()[at].clone();
        let (Some(encoder), Some(template)) = (&about.encoder, &about.template) else {
            return Err(Stop::Failed(format!("column \"{}\" has no encoder with a template", about.name)));
        };
        let encoder = encoders.get(encoder).await?;
        let numbers: Vec<u64> = portion.iter().map(|r| table.number(*r)).collect();
        let (mut records, mut texts) = (Vec::new(), Vec::new());
        {
            // As they are now: those that were deleted meanwhile are passed over.
            let (now, mut last) = (live.table.load_full(), LastBlock::default());
            for row in now.rows_of_numbers(&numbers).into_iter().flatten() {
                let body = live.body(&now, row, &mut last)?;
                match render(template, &body) {
                    Some(text) => {
                        texts.push(text);
                        records.push((now.number(row), now.row_revision(row)));
                    }
                    None => without += 1,
                }
            }
        }
        let made = vectors_of(encoders, &live, at, &encoder, &texts, job).await?;
        let given: Vec<_> = records
            .into_iter()
            .zip(made)
            .map(|((number, revision), made)| {
                failed += usize::from(made.is_err());
                Made { number, revision, vector: made }
            })
            .collect();
        // A packet of the database has its limit.
        let step = (BATCH_BYTES / (about.dimensions as usize * 4)).clamp(1, 1000);
        for given in given.chunks(step) {
            filled += loop {
                match registry.get(collection)?.fill(registry, column, given.to_vec()).await {
                    // The collection took another schema meanwhile; the column is still there, or the next look says so.
                    Err(p) if p.kind == Kind::Reshaped => position(&*registry.get(collection)?).map(drop)?,
                    filled => break filled?,
                }
            };
        }
        job.progress.done.fetch_add(portion.len(), Ordering::Relaxed);
        job.count(json!({"filled": filled, "unencoded": failed, "without_text": without}));
        if job.progress.is_cancelled() {
            return Err(Stop::Cancelled);
        }
    }
    job.say(format!("{filled} records were given a vector, {failed} could not be, {without} have no text"));
    Ok(json!({"filled": filled, "unencoded": failed, "without_text": without}))
}
