//! One query looked at closely: what an index missed of the truth, by how much, what would find it, and where the query
//! lies among the records.

use super::recall::{recall, score_gap, standout};
use super::statistics::percentile;
use crate::filter::Test;
use crate::index::Settings;
use crate::kernels::Kernels;
use crate::rows::Table;
use crate::scan::Neighbour;
use crate::search::{Answer, Attached, Request, Strategy, run};
use crate::until::Until;
use rand::SeedableRng;
use rand::seq::SliceRandom;

/// Ranks of the similarity curve.
pub const CURVE: usize = 1000;
/// Records that tell how far neighbours are in this collection.
const RECORDS: usize = 200;
/// Rows that tell how far any row is.
const ROWS: usize = 1000;

/// A query under the lens.
#[derive(Clone, Copy)]
pub struct LensRequest<'a> {
    pub table: &'a Table,
    pub column: usize,
    pub attached: &'a Attached,
    pub settings: Settings,
    /// Prepared.
    pub query: &'a [f32],
    pub k: usize,
    pub filter: Option<&'a Test>,
    /// Rows that do not count, such as the record that asks.
    pub excluded: &'a [u32],
}

/// A true neighbour.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TrueNeighbour {
    pub at: Neighbour,
    /// Its rank among the hits, from 0.
    pub found: Option<usize>,
    /// Whether it is clearly nearer than the k-th: see [`standout`].
    pub stands_out: bool,
    /// The smallest setting that finds it; none where the largest does not.
    pub smallest: Option<Settings>,
}

/// Where a query lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Place {
    /// As near to its neighbours as three of four records are.
    InACluster,
    /// Farther than that, but not farther than 19 of 20.
    AtTheEdge,
    /// Farther from its neighbours than 19 of 20 records.
    InTheOpen,
}

/// What the lens shows.
#[derive(Clone, Debug)]
pub struct Seen {
    pub truth: Vec<TrueNeighbour>,
    pub answer: Answer,
    pub recall: f64,
    pub gap: f64,
    /// Of the true neighbours that stand out, how many were found, and how many there are.
    pub standout: (usize, usize),
    /// Ranks of the nearest rows, nearest first, at most [`CURVE`].
    pub curve: Vec<f32>,
    pub place: Option<Place>,
    /// Distances from records to their 10th neighbour: the 5th, 25th, 50th, 75th and 95th percentile.
    pub of_records: Option<[f64; 5]>,
    /// Distances from the query to rows of the collection: the same percentiles.
    pub of_rows: [f64; 5],
    /// Searches made to find the smallest settings.
    pub n_searches: usize,
}

fn percentiles(values: &[f64]) -> [f64; 5] {
    [0.05, 0.25, 0.5, 0.75, 0.95].map(|p| percentile(values, p).unwrap_or(0.0))
}

/// Looks at one query. Time: two exact scans, one for 200 records together, and some searches for each miss.
pub fn look(request: &LensRequest<'_>, threads: usize) -> Seen {
    let LensRequest { table, column, query, k, filter, excluded, .. } = *request;
    let metric = table.vectors()[column].metric;
    let exact = Request {
        column,
        query,
        k: k.max(CURVE),
        filter,
        excluded,
        index: None,
        only: None,
        until: Until::NONE,
    };
    let curve = run(table, exact).nearest;
    let truth = &curve[..curve.len().min(k)];
    let own = Strategy::of_index(&request.attached.index.recipe(), filter);
    // With a filter the plan is part of what answers.
    let answer = request.answer(request.settings, filter.is_none().then_some(own));
    let distances = request.distances();
    let typical = percentile(&distances.iter().map(|d| f64::from(*d)).collect::<Vec<_>>(), 0.5);
    let typical_rank = typical.unwrap_or(0.0) as f32;
    let found = &answer.nearest;
    let n_standing = standout(found, truth, typical_rank, metric).1;
    let (smallest, n_searches) = request.smallest(truth);
    let truth_seen = truth.iter().enumerate().map(|(i, at)| TrueNeighbour {
        at: *at,
        found: found.iter().position(|f| f.row == at.row),
        stands_out: i < n_standing,
        smallest: smallest[i],
    });
    let of_records = request.of_records(threads);
    let tenth = curve.get(9).map(|n| f64::from(metric.distance(n.rank)));
    let place = of_records.zip(tenth).map(|(of, tenth)| match tenth {
        d if d <= of[3] => Place::InACluster,
        d if d <= of[4] => Place::AtTheEdge,
        _ => Place::InTheOpen,
    });
    Seen {
        truth: truth_seen.collect(),
        recall: recall(found, truth),
        gap: score_gap(found, truth, metric),
        standout: standout(found, truth, typical_rank, metric),
        curve: curve.iter().take(CURVE).map(|n| n.rank).collect(),
        place,
        of_records,
        of_rows: percentiles(
            &distances.iter().map(|rank| f64::from(metric.distance(*rank))).collect::<Vec<_>>(),
        ),
        answer,
        n_searches,
    }
}

impl LensRequest<'_> {
    fn answer(&self, settings: Settings, only: Option<Strategy>) -> Answer {
        let request = Request {
            column: self.column,
            query: self.query,
            k: self.k,
            filter: self.filter,
            excluded: self.excluded,
            index: Some((self.attached, settings)),
            only,
            until: Until::NONE,
        };
        run(self.table, request)
    }

    /// The smallest beam or visit that finds each true neighbour, with the other settings as they are, and how many
    /// searches that took. What a larger one finds a smaller one may have found too: a search in halves does not
    /// look at all of them. Always by the index's own structure: a plan follows measured times, and a scan that it
    /// takes once would be credited to a setting.
    fn smallest(&self, truth: &[Neighbour]) -> (Vec<Option<Settings>>, usize) {
        let (index, mut n) = (&self.attached.index, 0);
        let recipe = index.recipe();
        let own = Some(Strategy::of_index(&recipe, self.filter));
        let (most, with): (usize, Box<dyn Fn(usize) -> Settings>) = match recipe.setting() {
            Some("visit") => (
                recipe.n_cells(index.len()).unwrap_or(1).min(Settings::MAX_VISIT),
                Box::new(|visit| Settings { visit, ..self.settings }),
            ),
            Some(_) => (
                index.len().clamp(1, Settings::MAX_BEAM),
                Box::new(|beam| Settings { beam, ..self.settings }),
            ),
            None => (Settings::MAX_RESCORE, Box::new(|rescore| Settings { rescore, ..self.settings })),
        };
        let mut smallest = vec![None; truth.len()];
        let mut finds = |value: usize| -> Vec<bool> {
            n += 1;
            let found = self.answer(with(value), own).nearest;
            truth.iter().map(|t| found.iter().any(|f| f.row == t.row)).collect()
        };
        // Doubling tells between which two values each one turns up.
        let (mut value, mut before) = (1, 0);
        let mut between: Vec<Option<(usize, usize)>> = vec![None; truth.len()];
        loop {
            for (place, found) in between.iter_mut().zip(finds(value)) {
                if found && place.is_none() {
                    *place = Some((before, value));
                }
            }
            if value == most || between.iter().all(Option::is_some) {
                break;
            }
            (before, value) = (value, (2 * value).min(most));
        }
        for (i, place) in between.iter().enumerate() {
            let Some((mut low, mut high)) = *place else { continue };
            while high - low > (high / 20).max(1) {
                let middle = low + (high - low) / 2;
                if finds(middle)[i] { high = middle } else { low = middle }
            }
            smallest[i] = Some(with(high));
        }
        (smallest, n)
    }

    /// Ranks of some rows.
    fn distances(&self) -> Vec<f32> {
        let column = &self.table.vectors()[self.column];
        let kernels = Kernels::best();
        let rows = self.some_rows(ROWS);
        rows.iter().map(|row| column.metric.rank(kernels, self.query, column.vectors.row(*row))).collect()
    }

    /// How far records are from their 10th neighbour.
    fn of_records(&self, threads: usize) -> Option<[f64; 5]> {
        let column = &self.table.vectors()[self.column];
        let rows = self.some_rows(RECORDS);
        let own: Vec<f32> = rows.iter().flat_map(|row| column.vectors.row(*row).iter().copied()).collect();
        let excluded: Vec<Option<u32>> = rows.iter().copied().map(Some).collect();
        let work = (threads, &crate::index::Progress::default());
        let near = super::exact::nearest_of(self.table, self.column, (&own, &excluded), 10, work).ok()?;
        let tenth = near.iter().filter_map(|list| list.get(9)).map(|n| column.metric.distance(n.rank).into());
        let tenth: Vec<f64> = tenth.collect();
        (!tenth.is_empty()).then(|| percentiles(&tenth))
    }

    fn some_rows(&self, n: usize) -> Vec<u32> {
        let present = self.table.vectors()[self.column].vectors.present();
        let mut rows: Vec<u32> = self.table.alive().and(present).ones().map(|row| row as u32).collect();
        rows.sort_unstable_by_key(|row| self.table.number(*row));
        let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(1);
        rows.partial_shuffle(&mut rng, n).0.to_vec()
    }
}
