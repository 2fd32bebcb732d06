//! Measuring: what is reported of stored records is what queries that were never indexed get.

use crate::points::{D, attached, change, points, source, writer};
use rand::{Rng, SeedableRng};
use zesty_engine::filter::Filter;
use zesty_engine::index::{
    Index, Limit, Progress, Settings, Source, held_out_part, held_out_share, is_held_out,
};
use zesty_engine::lines::Aligned;
use zesty_engine::measure::*;
use zesty_engine::rows::Table;
use zesty_engine::scan::{Allowed, Neighbour, scan};
use zesty_engine::search::Attached;
use zesty_engine::until::Until;
use zesty_engine::{Metric, Recipe};

const WORK: fn() -> Progress = Progress::default;

fn set(drawn: &Drawn) -> QuerySet<'_> {
    QuerySet { vectors: &drawn.vectors, records: &drawn.records, filters: None }
}

fn share(table: &Table) -> f64 {
    held_out_share(table.n_records())
}

/// A table and an index in parts, the queries, and their answers.
struct Bench {
    table: Table,
    index: Attached,
    parts: Parts,
    drawn: Drawn,
    known: Known,
}

fn bench(table: &Table, recipe: &str, k: usize) -> Bench {
    let index = attached(table, table.vectors()[0].metric, recipe);
    let drawn = draw(table, 0, Draw::Sampled, 10_000, 1, (2, &WORK())).unwrap();
    let parts = hold_out(table, 0, set(&drawn), share(table), true);
    let known = exact(&parts, 0, set(&drawn), k, (2, &WORK())).unwrap();
    Bench { table: table.clone(), index, parts, drawn, known }
}

/// An index as it is in every part.
fn in_parts<'a>(parts: &Parts, index: &'a Attached) -> Vec<InPart<'a>> {
    parts.index(index, 0, (2, &WORK())).unwrap()
}

impl Bench {
    fn sweep(&self, trials: &[Trial], progress: &Progress) -> Result<Swept, MeasureError> {
        let in_parts = in_parts(&self.parts, &self.index);
        let spec = SweepSpec {
            column: 0,
            set: set(&self.drawn),
            known: &self.known,
            indexes: &[&in_parts],
            trials,
            rounds: 2,
            seed: 1,
        };
        sweep(&self.parts, &spec, progress, |_| {})
    }

    /// Leaves the queries of the first parts.
    fn only_parts(&mut self, n: usize) {
        let all = std::mem::take(&mut self.drawn);
        let part = |record: &Option<u64>| held_out_part(record.unwrap(), share(&self.table));
        for (record, vector) in all.records.into_iter().zip(all.vectors.chunks(D)) {
            if part(&record).unwrap() < n {
                self.drawn.records.push(record);
                self.drawn.vectors.extend(vector);
            }
        }
        self.parts = hold_out(&self.table, 0, set(&self.drawn), share(&self.table), true);
        self.known = exact(&self.parts, 0, set(&self.drawn), self.known.k, (2, &WORK())).unwrap();
    }

    fn recall(&self, settings: Settings, k: usize) -> f64 {
        let trial = Trial { index: 0, settings, k, clients: 1 };
        self.sweep(&[trial], &WORK()).unwrap().points[0].point.summary.recall_mean
    }
}

/// Parts that are asked of indexes which never had their records: building all would take long.
const TRIED: usize = 4;

/// The recall of the held-out rows of some parts on indexes that were built without those of each.
fn never_indexed(rows: &[Vec<f32>], metric: Metric, recipe: &str, settings: Settings, k: usize) -> f64 {
    let share = held_out_share(rows.len());
    let mut recalls = Vec::new();
    for part in 0..TRIED {
        let asks = |i: usize| held_out_part(i as u64, share) == Some(part);
        let (mut vectors, mut own) = (Aligned::default(), Vec::new());
        for (i, row) in rows.iter().enumerate().filter(|(i, _)| !asks(*i)) {
            vectors.extend(row);
            own.push(i as u64);
        }
        let flat = vectors.clone();
        let source = Source { vectors, numbers: own.clone(), ..source(&[], metric) };
        let index = Index::build(source, recipe.parse().unwrap(), 1, &WORK()).unwrap();
        recalls.extend(rows.iter().enumerate().filter(|(i, _)| asks(*i)).map(|(_, query)| {
            let truth = scan(std::iter::once((0, flat.as_slice())), metric, query, k, Allowed::All);
            let mut found = index.search(query, k, settings, Allowed::All, Limit::NONE).0;
            let number = |node: u32| index.numbers()[node as usize];
            found.iter_mut().for_each(|n| n.row = own.binary_search(&number(n.row)).unwrap() as u32);
            recall(&found, &truth)
        }));
    }
    mean(&recalls)
}

#[test]
fn recall_of_held_out_records_is_that_of_an_index_which_never_had_them() {
    for metric in [Metric::Cosine, Metric::Euclidean] {
        let rows = points(4000, metric, 3);
        let table = writer(&rows, metric).snapshot();
        for (recipe, settings, flattered) in [
            ("graph(links=8, build=60)", Settings::beam(10), true),
            ("graph(links=8, build=60, layers=off)", Settings::beam(10), true),
            (
                "graph(links=8, build=60) | int8 | rescore(f32)",
                Settings { rescore: 1, ..Settings::beam(10) },
                true,
            ),
            ("graph(links=16, build=40, inline_codes=on) | bits | rescore(f32)", Settings::beam(10), false),
            ("cells(40) | int8 | rescore(f32)", Settings { visit: 2, ..Settings::default() }, false),
            (
                "cells(40, overlap=on) | bits | rescore(f16)",
                Settings { visit: 2, ..Settings::default() },
                false,
            ),
            ("scan | bits | rescore(f32)", Settings { rescore: 1, ..Settings::default() }, false),
        ] {
            let never = never_indexed(&rows, metric, recipe, settings, 10);
            let mut bench = bench(&table, recipe, 10);
            bench.only_parts(TRIED);
            let reported = bench.recall(settings, 10);
            assert!((reported - never).abs() < 0.025, "{recipe} {metric}: {reported} reported, {never} got");
            if flattered {
                // What is measured would matter: the index itself answers its own records better.
                let index = attached(&table, metric, recipe);
                let own = |row: &Vec<f32>| {
                    let truth = scan(table.vectors()[0].vectors.blocks(), metric, row, 10, Allowed::All);
                    recall(&index.index.search(row, 10, settings, Allowed::All, Limit::NONE).0, &truth)
                };
                let asks = rows.iter().enumerate().filter(|(i, _)| is_held_out(*i as u64, share(&table)));
                let itself = mean(&asks.map(|(_, row)| own(row)).collect::<Vec<_>>());
                assert!(itself > never + 0.02, "{recipe} {metric}: {itself} by itself, {never} unseen");
            }
        }
    }
}

#[test]
fn held_out_records_stay_so_when_an_index_is_renewed_or_read_from_its_file() {
    let rows = points(3000, Metric::Cosine, 5);
    let mut writer = writer(&rows[..2500], Metric::Cosine);
    let recipe = "graph(links=8, build=40)";
    let before = attached(&writer.snapshot(), Metric::Cosine, recipe);
    let new: Vec<_> = (2500..3000).map(|i| change(i as u64, 2, Some(rows[i].clone()))).collect();
    writer.apply(2, &new);
    let gone: Vec<_> = (0..200)
        .map(|i| zesty_engine::rows::Change { body: None, vectors: Vec::new(), ..change(i * 9, 3, None) })
        .collect();
    writer.apply(3, &gone);
    let table = writer.snapshot();
    let vectors = &table.vectors()[0].vectors;
    let mut of_now = source(&[], Metric::Cosine);
    of_now.description.revision = 3;
    for row in table.alive().ones() {
        of_now.vectors.extend(vectors.row(row as u32));
        of_now.numbers.push(table.number(row as u32));
    }
    let renewed = before.index.renew(of_now, &before.living(&table, 0), 1, &WORK()).unwrap();
    let share = held_out_share(renewed.description().rows_at_build);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index");
    renewed.write(&path).unwrap();
    for index in [renewed, Index::open(&path).unwrap()] {
        let held: Vec<u64> = index.held_out().ones().map(|node| index.numbers()[node]).collect();
        let wanted: Vec<u64> = index.numbers().iter().copied().filter(|n| is_held_out(*n, share)).collect();
        assert_eq!((held.len(), held.iter().all(|n| wanted.contains(n))), (wanted.len(), true));
        let index = Attached::new(index, &table, 0).unwrap();
        let drawn = draw(&table, 0, Draw::Sampled, 500, 1, (2, &WORK())).unwrap();
        let parts = hold_out(&table, 0, set(&drawn), share, true);
        for (part, without) in parts.all().iter().zip(&in_parts(&parts, &index)) {
            // What is left can all be reached, and nothing else.
            assert_eq!(without.index.reachable(), index.index.len() - part.rows.len());
        }
        let known = exact(&parts, 0, set(&drawn), 10, (2, &WORK())).unwrap();
        let bench = Bench { table: table.clone(), index, parts, drawn, known };
        assert!(bench.recall(Settings::beam(200), 10) > 0.98);
    }
}

#[test]
fn the_same_seed_draws_the_same_queries_and_another_draws_others() {
    let rows = points(2000, Metric::Euclidean, 8);
    let table = writer(&rows, Metric::Euclidean).snapshot();
    for how in [Draw::Sampled, Draw::Blended { of: 3 }, Draw::Jittered { noise: 0.5 }] {
        let of = |seed| draw(&table, 0, how, 40, seed, (1, &WORK())).unwrap();
        assert_eq!(of(1), of(1));
        assert_ne!(of(1).vectors, of(2).vectors, "{how:?}");
        assert_eq!(of(1).records.len(), 40);
    }
    let sampled = draw(&table, 0, Draw::Sampled, 5000, 1, (1, &WORK())).unwrap();
    let numbers: Vec<u64> = sampled.records.iter().flatten().copied().collect();
    assert!(numbers.iter().all(|n| is_held_out(*n, share(&table))));
    for (number, vector) in numbers.iter().zip(sampled.vectors.chunks(D)) {
        assert_eq!(vector, rows[*number as usize]);
    }
    let few = writer(&rows[..5], Metric::Euclidean).snapshot();
    assert_eq!(draw(&few, 0, Draw::Sampled, 3, 1, (1, &WORK())), Err(MeasureError::NoneHeldOut));
    assert!(draw(&few, 0, Draw::Blended { of: 2 }, 3, 1, (1, &WORK())).is_ok());
}

#[test]
fn blends_lie_farther_than_records_and_noise_lies_as_far_as_it_says() {
    let rows = points(3000, Metric::Euclidean, 4);
    let table = writer(&rows, Metric::Euclidean).snapshot();
    let hard = |how| {
        let drawn = draw(&table, 0, how, 150, 1, (2, &WORK())).unwrap();
        let parts = hold_out(&table, 0, set(&drawn), share(&table), true);
        let known = exact(&parts, 0, set(&drawn), NEIGHBOURHOOD, (2, &WORK())).unwrap();
        (difficulty(&known, Metric::Euclidean), drawn)
    };
    let (sampled, _) = hard(Draw::Sampled);
    let (blended, _) = hard(Draw::Blended { of: 3 });
    assert!(blended.distances[0].unwrap() > 1.2 * sampled.distances[0].unwrap());
    assert!(sampled.distances[0] < sampled.distances[1] && sampled.distances[1] < sampled.distances[2]);
    let (_, near) = hard(Draw::Jittered { noise: 0.01 });
    for query in near.vectors.chunks(D) {
        let nearest = scan(table.vectors()[0].vectors.blocks(), Metric::Euclidean, query, 11, Allowed::All);
        let (own, tenth) = (nearest[0].rank.sqrt(), nearest[10].rank.sqrt());
        assert!((own / tenth - 0.01).abs() < 0.002, "{own} of {tenth}");
    }
}

#[test]
fn dimensionality_is_that_of_the_data_and_not_of_the_vectors() {
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(1);
    // Points that fill a few of the dimensions.
    for filled in [2, 6] {
        let one = |_| (0..D).map(|i| if i < filled { rng.random_range(0.0f32..1.0) } else { 0.0 }).collect();
        let rows: Vec<Vec<f32>> = (0..4000).map(one).collect();
        let table = writer(&rows, Metric::Euclidean).snapshot();
        let drawn = draw(&table, 0, Draw::Sampled, 100, 1, (2, &WORK())).unwrap();
        let parts = hold_out(&table, 0, set(&drawn), share(&table), true);
        let known = exact(&parts, 0, set(&drawn), NEIGHBOURHOOD, (2, &WORK())).unwrap();
        let found = difficulty(&known, Metric::Euclidean).intrinsic.unwrap();
        assert!((found - filled as f64).abs() < 0.25 * filled as f64, "{found} of {filled}");
        assert_eq!(difficulty(&known, Metric::Dot).intrinsic, None);
    }
}

#[test]
fn exact_answers_leave_out_who_asks_copies_when_asked_and_what_a_filter_bars() {
    let mut rows = points(1000, Metric::Cosine, 6);
    let asks = (0..1000u64).find(|n| is_held_out(*n, held_out_share(1000))).unwrap();
    let copy = if asks == 999 { 998 } else { 999 };
    assert!(!is_held_out(copy, held_out_share(1000)));
    rows[copy as usize] = rows[asks as usize].clone();
    let table = writer(&rows, Metric::Cosine).snapshot();
    let drawn = Drawn { vectors: rows[asks as usize].clone(), records: vec![Some(asks)] };
    let nearest = |copies| {
        let parts = hold_out(&table, 0, set(&drawn), share(&table), copies);
        let known = exact(&parts, 0, set(&drawn), 5, (1, &WORK())).unwrap();
        known.nearest[0].iter().map(|n| table.number(n.row)).collect::<Vec<_>>()
    };
    assert!(!nearest(true).contains(&asks) && nearest(true)[0] == copy);
    assert!(!nearest(false).contains(&copy));
    let odd = Filter::from_text("odd = TRUE").unwrap().compile(table.schema()).unwrap();
    let filters = [Some(odd)];
    let filtered = QuerySet { filters: Some(&filters), ..set(&drawn) };
    let known = exact(&Parts::whole(table.clone(), 1), 0, filtered, 5, (1, &WORK())).unwrap();
    assert!(known.nearest[0].len() == 5 && known.nearest[0].iter().all(|n| table.number(n.row) % 2 == 1));
}

#[test]
fn a_sweep_repeats_its_recall_tells_like_points_apart_and_keeps_whole_points_when_it_is_cut() {
    let rows = points(3000, Metric::Cosine, 9);
    let table = writer(&rows, Metric::Cosine).snapshot();
    let bench = bench(&table, "graph(links=5, build=30)", 20);
    let trial = |beam, k, clients| Trial { index: 0, settings: Settings::beam(beam), k, clients };
    let trials = [trial(20, 20, 1), trial(20, 10, 1), trial(120, 20, 1), trial(20, 20, 2)];
    let (a, b) = (bench.sweep(&trials, &WORK()).unwrap(), bench.sweep(&trials, &WORK()).unwrap());
    for (a, b) in a.points.iter().zip(&b.points) {
        let (a, b) = (&a.point.summary, &b.point.summary);
        assert_eq!(
            (a.recall_mean, &a.histogram, a.recall_interval),
            (b.recall_mean, &b.histogram, b.recall_interval)
        );
        assert_eq!(a.distances_per_query, b.distances_per_query);
    }
    let recalls: Vec<f64> = a.points.iter().map(|m| m.point.summary.recall_mean).collect();
    assert!(recalls[2] > recalls[0] && recalls[3] == recalls[0], "{recalls:?}");
    let first = &a.points[0].point;
    assert!(!first.like.contains(&2) && !first.like.contains(&1), "other recall, other k: {:?}", first.like);
    assert!(first.worst.windows(2).all(|w| w[0].recall <= w[1].recall) && first.rounds.len() == 2);
    let truth = &bench.known.nearest[first.worst[0].query];
    assert_eq!(truth.len(), 20);
    // Cancelled before it begins there is nothing; after the first round there are whole points.
    let progress = WORK();
    progress.cancel();
    assert_eq!(bench.sweep(&trials, &progress).err(), Some(MeasureError::Cancelled));
}

#[test]
fn a_target_is_chosen_on_one_half_and_verified_on_the_other() {
    let rows = points(5000, Metric::Cosine, 11);
    let table = writer(&rows, Metric::Cosine).snapshot();
    let bench = bench(&table, "graph(links=5, build=30)", 10);
    let index = in_parts(&bench.parts, &bench.index);
    let stage = Stage { parts: &bench.parts, index: &index, set: set(&bench.drawn), known: &bench.known };
    let mut beams = Vec::new();
    for recall in [0.9, 0.95, 0.985] {
        let target = Target { aim: Aim::Mean, recall, k: 10 };
        let solved = solve(0, &[stage], target, None, &WORK()).unwrap();
        assert!(solved.chosen && solved.chosen_recall >= recall);
        let verified = &solved.verified.overall;
        assert!((verified.recall_mean - recall).abs() < 0.05, "{recall}: {}", verified.recall_mean);
        assert_eq!(verified.histogram.iter().sum::<usize>(), bench.drawn.records.len() / 2);
        beams.push(solved.settings.beam);
    }
    assert!(beams.is_sorted() && beams[0] < beams[2], "{beams:?}");
    // Signs alone never tell all: the best there is comes back, and is not called reached.
    let lossy = self::bench(&table, "scan | bits", 10);
    let index = in_parts(&lossy.parts, &lossy.index);
    let stage = Stage { parts: &lossy.parts, index: &index, set: set(&lossy.drawn), known: &lossy.known };
    let target = Target { aim: Aim::Mean, recall: 1.0, k: 10 };
    let solved = solve(0, &[stage], target, None, &WORK()).unwrap();
    assert!(!solved.chosen && !solved.is_reached(target) && solved.verified.overall.recall_mean > 0.2);
    let recipe: Recipe = "scan | bits".parse().unwrap();
    assert_eq!(lossy.index.index.recipe(), recipe);
}

#[test]
fn the_lens_agrees_with_what_is_tried_by_hand() {
    for (metric, recipe, of) in [
        (Metric::Cosine, "graph(links=4, build=20)", "beam"),
        (Metric::Euclidean, "cells(40) | int8 | rescore(f32)", "visit"),
        (Metric::Dot, "scan | bits | rescore(f32)", "rescore"),
    ] {
        let rows = points(3000, metric, 12);
        let table = writer(&rows, metric).snapshot();
        let index = attached(&table, metric, recipe);
        let drawn = draw(&table, 0, Draw::Blended { of: 3 }, 12, 5, (1, &WORK())).unwrap();
        let odd = Filter::from_text("odd = TRUE").unwrap().compile(table.schema()).unwrap();
        for (i, query) in drawn.vectors.chunks(D).enumerate() {
            let filter = (i % 4 == 3).then_some(&odd);
            let settings = Settings { beam: 10, visit: 1, rescore: 1 };
            let excluded = [i as u32 * 7];
            let request = LensRequest {
                table: &table,
                column: 0,
                attached: &index,
                settings,
                query,
                k: 10,
                filter,
                excluded: &excluded,
            };
            let seen = look(&request, 1);
            // The truth, by sorting everything.
            let mut all: Vec<u32> = (0..3000).collect();
            all.retain(|row| *row != excluded[0] && (filter.is_none() || row % 2 == 1));
            let kernels = zesty_engine::kernels::Kernels::best();
            let rank = |row: &u32| metric.rank(kernels, query, &rows[*row as usize]);
            all.sort_by(|a, b| rank(a).total_cmp(&rank(b)).then(a.cmp(b)));
            let truth: Vec<u32> = seen.truth.iter().map(|t| t.at.row).collect();
            let far = |row: u32| (rank(&row) - rank(&all[9])).max(0.0);
            assert!(truth.len() == 10 && truth.iter().all(|row| far(*row) < 1e-4), "{recipe} {i}");
            assert!(seen.curve.len() == 1000 && seen.curve.is_sorted());
            assert!((seen.curve[999] - rank(&all[999])).abs() < 1e-3);
            // What is called found is among the hits, at that rank; the recall is their share.
            for t in &seen.truth {
                let at = seen.answer.nearest.iter().position(|n| n.row == t.at.row);
                assert_eq!(t.found, at);
            }
            let n_found = seen.truth.iter().filter(|t| t.found.is_some()).count();
            assert_eq!(seen.recall, n_found as f64 / 10.0);
            // The smallest setting finds it when it is tried, and what is found now is not said to need more.
            for t in &seen.truth {
                let Some(smallest) = t.smallest else {
                    assert!(t.found.is_none(), "{recipe}: the largest setting finds what a small one does");
                    continue;
                };
                let again = look(&LensRequest { settings: smallest, ..request }, 1);
                assert!(
                    again.answer.nearest.iter().any(|n| n.row == t.at.row),
                    "{recipe} {of}: {smallest:?}"
                );
            }
            let stands_out = seen.truth.iter().take_while(|t| t.stands_out).count();
            assert_eq!(stands_out, seen.standout.1, "those that stand out come first");
            assert!(seen.of_rows.is_sorted() && seen.of_records.unwrap().is_sorted());
        }
    }
}

#[test]
fn where_a_query_lies_is_told_by_its_neighbours() {
    let rows = points(3000, Metric::Euclidean, 13);
    let table = writer(&rows, Metric::Euclidean).snapshot();
    let index = attached(&table, Metric::Euclidean, "graph(links=8, build=40)");
    let place = |query: &[f32]| {
        let request = LensRequest {
            table: &table,
            column: 0,
            attached: &index,
            settings: Settings::default(),
            query,
            k: 5,
            filter: None,
            excluded: &[],
        };
        look(&request, 2).place
    };
    // A record lies where records lie; far outside there is nothing.
    let inside = (0..40).filter(|i| place(&rows[i * 50]) == Some(Place::InACluster)).count();
    assert!(inside >= 25, "{inside} of 40");
    assert_eq!(place(&[50.0; D]), Some(Place::InTheOpen));
}

#[test]
fn only_what_asks_is_held_out_and_nothing_else_changes_its_place() {
    let rows = points(1500, Metric::Cosine, 14);
    let table = writer(&rows, Metric::Cosine).snapshot();
    let blended = draw(&table, 0, Draw::Blended { of: 3 }, 5, 1, (1, &WORK())).unwrap();
    let nothing = hold_out(&table, 0, set(&blended), share(&table), true);
    assert!(nothing.n_held_out() == 0 && nothing.table(3).n_records() == 1500 && nothing.all().len() == 1);
    let sampled = draw(&table, 0, Draw::Sampled, 5, 1, (1, &WORK())).unwrap();
    let parts = hold_out(&table, 0, set(&sampled), share(&table), true);
    // The table itself is as it was, and rows keep their numbers and records.
    assert_eq!(table.n_records(), 1500);
    let numbers: Vec<u64> = (0..1500).collect();
    for (query, record) in sampled.records.iter().enumerate() {
        let part = held_out_part(record.unwrap(), share(&table));
        let found = parts.table(query).rows_of_numbers(&numbers);
        for (number, row) in numbers.iter().zip(found) {
            assert_eq!(row.is_none(), held_out_part(*number, share(&table)) == part);
            assert!(row.is_none_or(|row| table.number(row) == *number));
        }
    }
    // An index without them finds none of them, with a filter or without one.
    let odd = Filter::from_text("odd = TRUE").unwrap().compile(table.schema()).unwrap();
    for recipe in ["graph(links=8, build=40)", "cells(20)", "cells(20) | int8", "scan | int8", "scan | bits"]
    {
        let index = attached(&table, Metric::Cosine, recipe);
        let in_parts = in_parts(&parts, &index);
        for (i, query) in sampled.vectors.chunks(D).enumerate() {
            let (part, without) = (&parts.all()[parts.of(i)], &*in_parts[parts.of(i)]);
            for filter in [None, Some(&odd)] {
                let request = zesty_engine::search::Request {
                    column: 0,
                    query,
                    k: 60,
                    filter,
                    excluded: &[],
                    index: Some((without, Settings::beam(100))),
                    only: None,
                    until: Until::NONE,
                };
                let found = zesty_engine::search::run(&part.table, request).nearest;
                assert_eq!(found.len(), 60, "{recipe}");
                assert!(found.iter().all(|n| !part.rows.contains(&n.row)), "{recipe}");
            }
            let found = without.index.search(query, 60, Settings::beam(100), Allowed::All, Limit::NONE).0;
            let number = |node: u32| without.index.numbers()[node as usize];
            let own = held_out_part(sampled.records[i].unwrap(), share(&table));
            let is_out = |n: &Neighbour| held_out_part(number(n.row), share(&table)) == own;
            assert!(!found.iter().any(is_out), "{recipe}");
        }
    }
}

#[test]
fn a_map_shows_the_directions_in_which_rows_differ_most() {
    // Two groups far apart along one axis, wide along another, and hardly different along the others.
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(3);
    let rows: Vec<Vec<f32>> = (0..600)
        .map(|i| {
            let mut v: Vec<f32> = (0..D).map(|_| rng.random_range(-0.1f32..0.1)).collect();
            v[5] += if i % 2 == 0 { 10.0 } else { -10.0 };
            v[2] += rng.random_range(-4.0f32..4.0);
            v
        })
        .collect();
    let table = writer(&rows, Metric::Euclidean).snapshot();
    let drawn = map(&table, 0, None, 500, (2, &WORK())).unwrap();
    assert_eq!((drawn.rows.len(), drawn.n_rows), (500, 600));
    for (&row, &[x, y]) in drawn.rows.iter().zip(&drawn.places) {
        assert_eq!(x > 0.0, row % 2 == 0, "the first direction tells the groups apart, and points up");
        assert!((y.abs() - rows[row as usize][2].abs()).abs() < 0.5);
        assert_eq!(drawn.place(&rows[row as usize]), [x, y]);
    }
    let [first, second] = drawn.explained;
    // 100 and 16 / 3 of 100 + 16 / 3 + 24 * 0.01 / 3.
    assert!((first - 0.948).abs() < 0.01 && (second - 0.05).abs() < 0.01, "{first} {second}");
    // More dimensions than rows: the same way.
    let few = writer(&rows[..12], Metric::Euclidean).snapshot();
    let drawn = map(&few, 0, None, 500, (1, &WORK())).unwrap();
    assert!(drawn.rows.iter().zip(&drawn.places).all(|(row, [x, _])| (*x > 0.0) == (row % 2 == 0)));
    // All alike there is no direction, and nothing breaks.
    let alike = writer(&vec![rows[0].clone(); 20], Metric::Euclidean).snapshot();
    let drawn = map(&alike, 0, None, 500, (1, &WORK())).unwrap();
    assert!(drawn.places.iter().flatten().all(|x| x.abs() < 1e-3) && drawn.explained[0] <= 1.0);
}
