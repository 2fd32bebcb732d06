//! A comparison as it is kept and shown.

use crate::collections::live::{Live, LiveIndex};
use crate::measure::machine::machine;
use crate::search::settings::settings_of;
use serde_json::{Map, Value, json};
use std::collections::HashMap;
use std::sync::Arc;
use zesty_catalog::{ComparedPair, query};
use zesty_engine::index::Settings;
use zesty_engine::measure::{Compared, Graded, Pair, PairedTest, mean};
use zesty_engine::{Metric, Table};
use zesty_wire as wire;

/// The figures of one query, as they are kept.
#[derive(serde::Serialize, serde::Deserialize)]
struct Figures {
    overlap: f64,
    recall: [f64; 2],
    ndcg: Option<[f64; 2]>,
}

/// What one query gave, for reports.
pub struct QueryFigures {
    pub position: u64,
    pub overlap: f64,
    pub recall: [f64; 2],
    pub ndcg: Option<[f64; 2]>,
    pub verdict: Option<String>,
}

impl From<ComparedPair> for QueryFigures {
    fn from(pair: ComparedPair) -> QueryFigures {
        let none = Figures { overlap: 0.0, recall: [0.0; 2], ndcg: None };
        let Figures { overlap, recall, ndcg } = serde_json::from_value(pair.figures).unwrap_or(none);
        QueryFigures { position: pair.position, overlap, recall, ndcg, verdict: pair.verdict }
    }
}

/// A side to compare, checked.
#[derive(Clone)]
pub struct ReadySide {
    pub column: usize,
    /// None answers exactly.
    pub index: Option<Arc<LiveIndex>>,
    pub settings: Settings,
}

/// A query as it is kept. Where the same hits come in another order, a little differs.
pub fn kept_pair(table: &Table, pair: &Pair, position: usize) -> ComparedPair {
    let [left, right] = &pair.hits;
    let reordered = left.iter().zip(right).filter(|(l, r)| l.row != r.row).count();
    let figures =
        Figures { overlap: pair.overlap, recall: pair.recall, ndcg: pair.graded.map(|g| g.map(|g| g.ndcg)) };
    ComparedPair {
        position: position as u64,
        difference: (1.0 - pair.overlap) + 1e-3 * reordered as f64 / left.len().max(1) as f64,
        figures: json!(figures),
        hits: [left, right].map(|hits| hits.iter().map(|n| (table.number(n.row), n.rank)).collect()),
        verdict: None,
    }
}

fn paired(test: PairedTest) -> wire::PairedTest {
    wire::PairedTest {
        left_better: test.better[0],
        right_better: test.better[1],
        same: test.same,
        difference: test.difference,
        interval: wire::Interval { low: test.interval.low, high: test.interval.high },
        p: test.p,
    }
}

pub fn result_of(
    (live, sides): (&Live, &[ReadySide; 2]),
    compared: Compared,
    query_set: wire::SweptSet,
    (revision, n_unknown_keys, notices): (u64, usize, Vec<wire::Notice>),
) -> wire::ComparisonResult {
    let side = |i: usize| {
        let ReadySide { column, index, settings } = &sides[i];
        let recipe = index.as_ref().map(|index| index.model.recipe.clone());
        let of = |f: &dyn Fn(&Graded) -> f64| {
            let all = compared.pairs.iter().filter_map(|p| p.graded.as_ref());
            mean(&all.map(|g| f(&g[i])).collect::<Vec<_>>())
        };
        let latency = compared.latency[i];
        wire::ComparedSide {
            column: live.columns()[*column].name.clone(),
            index: index.as_ref().map(|index| index.model.name.clone()),
            settings: settings_of(recipe.as_deref().unwrap_or_default(), *settings),
            recipe,
            recall_mean: mean(&compared.pairs.iter().map(|p| p.recall[i]).collect::<Vec<_>>()),
            graded: compared.by_grades.map(|_| wire::GradedFigures {
                hit_rate: of(&|g| f64::from(u8::from(g.hit))),
                mean_reciprocal_rank: of(&|g| g.reciprocal_rank),
                ndcg: of(&|g| g.ndcg),
            }),
            p50_us: latency.p50_us,
            p95_us: latency.p95_us,
            p99_us: latency.p99_us,
        }
    };
    let moves = compared.moves;
    wire::ComparisonResult {
        left: side(0),
        right: side(1),
        query_set,
        moves: wire::RankMoves {
            same_rank: moves.same_rank,
            by_one: moves.by_one,
            by_two_or_three: moves.by_two_or_three,
            farther: moves.farther,
            left_alone: moves.alone[0],
            right_alone: moves.alone[1],
        },
        finders: compared.finders.map(|f| wire::Finders {
            both: f.both,
            left_alone: f.alone[0],
            right_alone: f.alone[1],
            neither: f.neither,
        }),
        by_recall: paired(compared.by_recall),
        by_grades: compared.by_grades.map(paired),
        distances: compared.distances.map(|(by_rank, nearer)| wire::ComparedDistances {
            left: by_rank.iter().map(|d| d[0]).collect(),
            right: by_rank.iter().map(|d| d[1]).collect(),
            nearer: paired(nearer),
        }),
        overlap: compared.overlap,
        n_unknown_keys,
        revision,
        machine: machine(),
        notices,
    }
}

/// A query as its set has it, and the key of the record that asks.
pub struct AskedBy {
    pub row: query::Model,
    pub record: Option<String>,
}

/// One query with the hits of both sides; `by` is there as long as its set is.
pub fn query(
    pair: ComparedPair,
    by: Option<AskedBy>,
    records: &HashMap<u64, (String, Map<String, Value>)>,
    metrics: [Metric; 2],
) -> wire::ComparedQuery {
    let (row, record) = by.map(|by| (by.row, by.record)).unzip();
    let relevant = row.as_ref().and_then(|row| row.relevant.as_ref());
    let hits = |side: usize| {
        let other = &pair.hits[1 - side];
        let hit = |(i, (number, rank)): (usize, &(u64, f32))| {
            let record = records.get(number);
            let key = record.map(|(key, _)| key.clone());
            wire::ComparedHit {
                rank: i + 1,
                distance: metrics[side].distance(*rank),
                score: metrics[side].score(*rank),
                other_rank: other.iter().position(|(n, _)| n == number).map(|at| at + 1),
                grade: key.as_ref().and_then(|key| relevant?.get(key)?.as_f64()),
                fields: record.map(|(_, fields)| fields.clone()).unwrap_or_default(),
                key,
            }
        };
        pair.hits[side].iter().enumerate().map(hit).collect()
    };
    let (left, right) = (hits(0), hits(1));
    let QueryFigures { position, overlap, recall, ndcg, verdict } = pair.into();
    wire::ComparedQuery {
        position,
        text: row.as_ref().and_then(|row| row.text.clone()),
        record: record.flatten(),
        filter: row.as_ref().and_then(|row| serde_json::from_value(row.filter.clone()?).ok()),
        overlap,
        left_recall: recall[0],
        right_recall: recall[1],
        left_ndcg: ndcg.map(|n| n[0]),
        right_ndcg: ndcg.map(|n| n[1]),
        verdict: verdict.and_then(|word| serde_json::from_value(json!(word)).ok()),
        left,
        right,
    }
}
