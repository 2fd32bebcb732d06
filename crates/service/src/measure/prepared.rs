//! A query set made ready to measure with: its queries, what is held out, and its exact answers.

use crate::collections::registry::Registry;
use crate::measure::read_queries::MAX_QUERIES;
use crate::measure::spec::spec_of;
use crate::measure::work::off;
use crate::node::jobs::{Job, Stop};
use crate::problem::{Kind, Problem, Result};
use crate::records::select::read_and_compile;
use serde_json::Value;
use std::collections::HashMap;
use std::sync::Arc;
use zesty_catalog::{Answers, Neighbours, NewQuery, query_set};
use zesty_engine::filter::Test;
use zesty_engine::index::{Progress, held_out_share, is_held_out};
use zesty_engine::measure::{Known, MeasureError, NEIGHBOURHOOD, Parts, QuerySet, exact, hold_out};
use zesty_engine::scan::Neighbour;
use zesty_engine::search::Attached;
use zesty_engine::{Schema, Table};

/// Queries as the engine takes them.
pub struct Asking {
    pub vectors: Vec<f32>,
    pub records: Vec<Option<u64>>,
    pub filters: Option<Vec<Option<Test>>>,
    /// The filter of all of them, where they have the same one, as CQL2 JSON.
    pub filter: Option<serde_json::Value>,
    /// The share of the records that is held out.
    pub share: f64,
    /// Whether exact copies of a record that asks count as neighbours.
    pub copies: bool,
}

impl Asking {
    pub fn new(queries: &[NewQuery], schema: &Schema, share: f64, copies: Option<bool>) -> Result<Asking> {
        let mut filters = Vec::with_capacity(queries.len());
        // Most sets have one filter for all.
        let mut last: Option<(&serde_json::Value, Option<Test>)> = None;
        for query in queries {
            let Some(json) = &query.filter else {
                filters.push(None);
                continue;
            };
            if last.as_ref().is_none_or(|(known, _)| *known != json) {
                let filter = serde_json::from_value(json.clone()).map_err(|e| {
                    Problem::new(Kind::Internal, format!("a kept filter cannot be read: {e}"))
                })?;
                last = Some((json, read_and_compile(schema, Some(&filter))?.map(|(_, test)| test)));
            }
            filters.push(last.as_ref().and_then(|(_, test)| test.clone()));
        }
        let first = queries.first().and_then(|first| first.filter.clone());
        let first = first.filter(|filter| queries.iter().all(|q| q.filter.as_ref() == Some(filter)));
        let first = first.and_then(|filter| serde_json::from_value(filter).ok());
        Ok(Asking {
            filter: read_and_compile(schema, first.as_ref())?.map(|(filter, _)| filter.to_json()),
            vectors: queries.iter().flat_map(|q| q.vector.iter().copied()).collect(),
            records: queries.iter().map(|q| q.number).collect(),
            filters: filters.iter().any(Option::is_some).then_some(filters),
            share,
            copies: copies.unwrap_or(true),
        })
    }

    /// The parts that the queries ask.
    pub fn parts(&self, table: &Table, column: usize) -> Parts {
        hold_out(table, column, self.set(), self.share, self.copies)
    }

    pub fn set(&self) -> QuerySet<'_> {
        QuerySet { vectors: &self.vectors, records: &self.records, filters: self.filters.as_deref() }
    }
}

/// The share of the records that everything which is measured together holds out: the least of those of the collection,
/// and of each index, as large as it was when it was built. Smaller shares lie within larger ones.
pub fn common_share<'a>(table: &Table, column: usize, indexes: impl Iterator<Item = &'a Attached>) -> f64 {
    let rows = table.alive().intersection_count(table.vectors()[column].vectors.present());
    let of_indexes = indexes.map(|a| held_out_share(a.index.description().rows_at_build));
    of_indexes.fold(held_out_share(rows), f64::min)
}

/// Exact answers of queries, each in its part, and the seconds they took.
pub fn exact_for(
    parts: &Parts,
    column: usize,
    asking: &Asking,
    k: usize,
    work: (usize, &Progress),
) -> Result<(Known, f64), MeasureError> {
    let start = std::time::Instant::now();
    let known = exact(parts, column, asking.set(), k, work)?;
    Ok((known, start.elapsed().as_secs_f64()))
}

pub fn answers_of(table: &Table, known: &Known, share: f64, seconds: f64) -> Answers {
    let neighbours = known.nearest.iter().zip(&known.typical).map(|(list, typical)| Neighbours {
        nearest: list.iter().map(|n| (table.number(n.row), n.rank)).collect(),
        typical: *typical,
    });
    Answers {
        k: known.k,
        revision: table.revision(),
        share,
        n_rows: known.n_rows,
        seconds,
        neighbours: neighbours.collect(),
    }
}

/// A query set with its exact answers.
pub struct PreparedSet {
    pub model: query_set::Model,
    pub asking: Arc<Asking>,
    pub known: Known,
    /// Of each query its place in the set.
    pub positions: Vec<usize>,
    pub texts: Vec<Option<String>>,
    /// Grades by key.
    pub relevant: Vec<Option<Value>>,
    pub n_left_out: usize,
}

impl PreparedSet {
    /// Some of the queries; the others count as left out.
    pub fn only(self, picks: &[usize]) -> PreparedSet {
        let n = self.positions.len();
        if picks.len() == n {
            return self;
        }
        let (asking, known) = (&self.asking, &self.known);
        let d = asking.vectors.len() / n.max(1);
        let picked = || picks.iter().copied();
        PreparedSet {
            asking: Arc::new(Asking {
                vectors: picked().flat_map(|q| asking.vectors[q * d..][..d].iter().copied()).collect(),
                records: picked().map(|q| asking.records[q]).collect(),
                filters: asking.filters.as_ref().map(|all| picked().map(|q| all[q].clone()).collect()),
                filter: asking.filter.clone(),
                ..**asking
            }),
            known: Known {
                nearest: picked().map(|q| known.nearest[q].clone()).collect(),
                typical: picked().map(|q| known.typical[q]).collect(),
                ..*known
            },
            positions: picked().map(|q| self.positions[q]).collect(),
            texts: picked().map(|q| self.texts[q].clone()).collect(),
            relevant: picked().map(|q| self.relevant[q].clone()).collect(),
            n_left_out: self.n_left_out + n - picks.len(),
            model: self.model,
        }
    }
}

/// The exact answers of a set for the rows of `table`: those that are kept, if they are of this revision and enough;
/// or computed now, and kept. Queries that an index may have seen, or whose filter allows nothing, are left out.
pub async fn known_answers(
    registry: &Arc<Registry>,
    table: &Arc<Table>,
    column: usize,
    model: &query_set::Model,
    (k, share): (usize, f64),
    job: &Arc<Job>,
) -> Result<PreparedSet, Stop> {
    let spec = spec_of(model)?;
    let rows = registry.catalog.queries(model.id, 0, MAX_QUERIES as u64).await?;
    let d = table.vectors()[column].vectors.dimensions();
    let queries: Vec<NewQuery> = rows
        .into_iter()
        .map(|r| NewQuery {
            vector: bytemuck::pod_collect_to_vec(&r.vector),
            number: r.number.map(|n| n as u64),
            text: r.text,
            filter: r.filter,
            relevant: r.relevant,
        })
        .collect();
    if queries.iter().any(|q| q.vector.len() != d) || queries.is_empty() {
        let why = format!("query set \"{}\" does not hold vectors of {d} dimensions", model.name);
        return Err(Stop::Failed(why));
    }
    let asking = Arc::new(Asking::new(&queries, table.schema(), share, spec.copies)?);
    let kept = registry.catalog.kept_answers(&[model.id]).await?;
    let parts = {
        let (table, asking) = (table.clone(), asking.clone());
        off(move || Ok(asking.parts(&table, column))).await?
    };
    let n_rows = parts.n_rows(column);
    if k > n_rows {
        let why =
            format!("k is {k}, and {n_rows} records can be a neighbour of query set \"{}\"", model.name);
        return Err(Stop::Failed(why));
    }
    let fits = |a: &&zesty_catalog::answers::Model| {
        a.revision as u64 == table.revision() && a.share == share && a.k as usize >= k
    };
    let known = match kept.iter().find(fits) {
        Some(kept) => from_kept(table, registry.catalog.answers(kept).await?),
        None => None,
    };
    let known = match known {
        Some(known) => known,
        None => {
            if let Some(old) = kept.iter().find(|a| a.revision as u64 != table.revision()) {
                job.say(format!(
                    "the exact answers of \"{}\" are of revision {}, and the collection is at {}: computing them again",
                    model.name,
                    old.revision,
                    table.revision()
                ));
            }
            let (asked, work) = (asking.clone(), job.clone());
            let (threads, k) = (registry.threads, k.max(NEIGHBOURHOOD));
            let exact = move || exact_for(&parts, column, &asked, k, (threads, &work.progress));
            let (known, seconds) = off(exact).await?;
            let answers = answers_of(table, &known, share, seconds);
            registry.catalog.put_answers(model, &answers).await?;
            job.say(format!(
                "exact answers of {} queries of \"{}\" in {seconds:.1} s",
                queries.len(),
                model.name
            ));
            known
        }
    };
    let unseen = |q: &usize| asking.records[*q].is_none_or(|number| is_held_out(number, share));
    let usable: Vec<usize> =
        (0..queries.len()).filter(unseen).filter(|q| !known.nearest[*q].is_empty()).collect();
    let (texts, relevant) = queries.into_iter().map(|q| (q.text, q.relevant)).unzip();
    let positions = (0..asking.records.len()).collect();
    let all = PreparedSet { model: model.clone(), asking, known, positions, texts, relevant, n_left_out: 0 };
    Ok(all.only(&usable))
}

/// Kept answers as rows of a table; `None` where a record is not there.
fn from_kept(table: &Table, answers: Answers) -> Option<Known> {
    let rows = table.alive().ones().map(|row| (table.number(row as u32), row as u32));
    let row_of: HashMap<u64, u32> = rows.collect();
    let mut nearest = Vec::with_capacity(answers.neighbours.len());
    let mut typical = Vec::with_capacity(answers.neighbours.len());
    for of in answers.neighbours {
        let list = of
            .nearest
            .iter()
            .map(|(number, rank)| Some(Neighbour { row: *row_of.get(number)?, rank: *rank }));
        nearest.push(list.collect::<Option<Vec<Neighbour>>>()?);
        typical.push(of.typical);
    }
    Some(Known { k: answers.k, nearest, typical, n_rows: answers.n_rows })
}
