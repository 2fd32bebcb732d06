//! Graphs and searches held to the exact answer, on made-up data.

use crate::points::*;
use proptest::prelude::*;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Map, json};
use zesty_engine::filter::Filter;
use zesty_engine::index::{FileError, Index, Limit, Progress, Settings, Work};
use zesty_engine::kernels::Kernels;
use zesty_engine::large_pages::LargePages;
use zesty_engine::measure::{mean, recall, recall_ties};
use zesty_engine::recipe::DataShape;
use zesty_engine::rows::{Change, Writer};
use zesty_engine::scan::{Allowed, Neighbour, Queries, scan_many};
use zesty_engine::search::{Attached, CostOf, Request, Strategy as Plan, run};
use zesty_engine::until::Until;
use zesty_engine::{Metric, Recipe, Schema};

#[test]
fn filtered_searches_return_k_hits_at_every_selectivity_and_the_plan_changes_on_the_way() {
    let all = points(6050, Metric::Cosine, 21);
    let (rows, queries) = all.split_at(6000);
    let table = writer(rows, Metric::Cosine).snapshot();
    let index = attached(&table, Metric::Cosine, "graph(links=12, build=80)");
    let settings = Settings::beam(40);
    let mut strategies = Vec::new();
    for below in [0, 1, 5, 30, 300, 3000, 6000] {
        let filter = format!("n < {below}");
        let mut found = Vec::new();
        for query in queries {
            let exact = ask(&table, query, 10, Some(&filter), None);
            let answer = ask(&table, query, 10, Some(&filter), Some((&index, settings)));
            assert_eq!(answer.nearest.len(), below.min(10), "{filter}");
            assert_eq!(answer.plan.allowed, below);
            found.push(recall(&answer.nearest, &exact.nearest));
            strategies.push(answer.plan.strategy);
        }
        assert!(mean(&found) > 0.93, "{filter}: {}", mean(&found));
    }
    let by_index = [Plan::WalkAllowed, Plan::VisitAllowed, Plan::ScanStored];
    assert!(strategies.contains(&Plan::ScanAllowed) && by_index.iter().any(|plan| strategies.contains(plan)));
}

#[test]
fn filters_near_and_far_from_the_query_keep_their_recall_whatever_is_taken() {
    let all = points(8040, Metric::Cosine, 77);
    let (rows, queries) = all.split_at(8000);
    // Rows in the order of their first component: a range of n lies near some queries and far from others.
    let mut rows = rows.to_vec();
    rows.sort_by(|a, b| a[0].total_cmp(&b[0]));
    let table = writer(&rows, Metric::Cosine).snapshot();
    for recipe in [
        "graph(links=12, build=80)",
        "graph(links=12, build=80) | int8",
        "cells(64) | bits | rescore(f32)",
        "cells(64, overlap=on) | bits | rescore(f32)",
        "cells(64)",
        "scan | int8",
    ] {
        let index = attached(&table, Metric::Cosine, recipe);
        let settings = Settings { beam: 80, visit: 24, rescore: 8 };
        for filter in ["n < 4000", "n >= 4000", "n < 800", "n BETWEEN 3600 AND 4400", "n >= 7920"] {
            let mut found = Vec::new();
            for query in queries {
                let exact = ask(&table, query, 10, Some(filter), None);
                let test = Filter::from_text(filter).unwrap().compile(table.schema()).unwrap();
                for only in [None, Some(Plan::ScanStored), Some(Plan::VisitAllowed), Some(Plan::WalkAllowed)]
                {
                    let request = Request {
                        column: 0,
                        query,
                        k: 10,
                        filter: Some(&test),
                        excluded: &[],
                        index: Some((&index, settings)),
                        only,
                        until: Until::NONE,
                    };
                    let answer = run(&table, request);
                    assert_eq!(answer.nearest.len(), 10);
                    assert!(answer.nearest.iter().all(|n| test.run(&table).contains(n.row as usize)));
                    found.push(recall(&answer.nearest, &exact.nearest));
                }
            }
            assert!(mean(&found) > 0.93, "{recipe}, {filter}: {}", mean(&found));
        }
    }
}

#[test]
fn a_search_whose_time_is_up_answers_with_what_it_has() {
    let rows = points(6000, Metric::Cosine, 79);
    let table = writer(&rows, Metric::Cosine).snapshot();
    let filter = Filter::from_text("n < 5000").unwrap().compile(table.schema()).unwrap();
    for recipe in
        ["graph(links=12, build=80)", "graph(links=12, build=80) | int8", "cells(64)", "scan | bits"]
    {
        let index = attached(&table, Metric::Cosine, recipe);
        for index in [None, Some((&index, Settings { beam: 500, visit: 60, rescore: 1 }))] {
            for filter in [None, Some(&filter)] {
                let request = Request {
                    column: 0,
                    query: &rows[17],
                    k: 10,
                    filter,
                    excluded: &[],
                    index,
                    only: None,
                    until: Until::NONE,
                };
                let whole = run(&table, request);
                assert!(!whole.cut && whole.nearest.len() == 10);
                // The time was up before it began: little is compared, and nothing breaks.
                let cut = run(&table, Request { until: Until::at(std::time::Instant::now()), ..request });
                assert!(cut.cut, "{recipe}");
                let compared = |work: Work| work.distances + 32 * work.blocks;
                assert!(
                    compared(cut.work) < compared(whole.work),
                    "{recipe}: {:?} {:?}",
                    cut.work,
                    whole.work
                );
                assert!(cut.nearest.is_sorted());
            }
        }
    }
}

#[test]
fn cells_beside_a_graph_find_what_filters_leave() {
    let (n, d) = (5003, 64);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index");
    for (metric, recipe) in [
        (Metric::Cosine, "graph(links=6, build=40) | int8 | rescore(f32)"),
        (Metric::Euclidean, "graph(links=6, build=40)"),
        (Metric::Dot, "center | reduce(40) | graph(links=6, build=40) | bits | rescore(int8)"),
    ] {
        let mut all = leaning(n + 40, d, metric, 21);
        let queries = all.split_off(n);
        // A range of n lies near some queries and far from others.
        all.sort_by(|a, b| a[0].total_cmp(&b[0]));
        let mut writer = Writer::new(schema(), [("v".to_owned(), metric, d)]);
        let changes: Vec<_> = (0..n).map(|i| change(i as u64, 1, Some(all[i].clone()))).collect();
        writer.apply(1, &changes);
        let table = writer.snapshot();
        let index = build(&all, metric, recipe, 1);
        let shape = DataShape { rows: n, dimensions: d, metric };
        bytes_are_as_expected(&index, shape, 0.03);

        index.write(&path).unwrap();
        let good = std::fs::read(&path).unwrap();
        let opened = Index::open(&path).unwrap();
        let some = index.nodes_where(|node| node % 5 == 0);
        let by_cells =
            |index: &Index| index.search(&queries[0], 10, Settings::default(), (&some).into(), Limit::NONE).0;
        assert_eq!(by_cells(&opened), by_cells(&index), "{recipe}");
        assert!(by_cells(&index).iter().all(|found| some.contains(found.row as usize)));
        // Renewed, what was learned stays, and every row lies in a cell.
        let alive = index.nodes_where(|node| node % 2 == 0);
        let renewed = index.renew(source(&all, metric), &alive, 1, &Progress::default()).unwrap();
        let every = renewed.nodes_where(|_| true);
        let nearest = renewed.search(&all[77], 1, Settings::default(), (&every).into(), Limit::NONE).0[0];
        if metric != Metric::Dot {
            assert_eq!(renewed.numbers()[nearest.row as usize], 77, "{recipe}");
        }
        let mut rng = ChaCha8Rng::seed_from_u64(5);
        for _ in 0..20 {
            let mut bad = good.clone();
            let at = rng.random_range(good.len() / 2..good.len());
            bad[at] ^= 1 << rng.random_range(0..8);
            std::fs::write(&path, &bad).unwrap();
            assert!(matches!(Index::open(&path), Err(FileError::Damaged(_))), "{recipe}: a flip at {at}");
        }

        std::fs::write(&path, &good).unwrap();
        let attached = Attached::new(Index::open(&path).unwrap(), &table, 0).unwrap();
        // Rows that were replaced since: the index's nodes are no longer the rows' numbers.
        let mut writer = writer;
        let moved: Vec<_> = (0..50).map(|i| change(i * 100, 2, Some(all[i as usize].clone()))).collect();
        writer.apply(2, &moved);
        let later = writer.snapshot();
        for (table, index) in [(&table, &attached), (&later, &Attached::new(index, &later, 0).unwrap())] {
            for (filter, k) in
                [("n >= 4000", 10), ("n < 300", 10), ("NOT n BETWEEN 4 AND 4990", 30), ("odd = TRUE", 10)]
            {
                let test = Filter::from_text(filter).unwrap().compile(table.schema()).unwrap();
                for only in [Plan::VisitAllowed, Plan::ScanStored] {
                    let mut found = Vec::new();
                    for query in &queries {
                        let ask = |index, only| {
                            let request = Request {
                                column: 0,
                                query,
                                k,
                                filter: Some(&test),
                                excluded: &[],
                                index,
                                only,
                                until: Until::NONE,
                            };
                            run(table, request)
                        };
                        let exact = ask(None, None);
                        let answer = ask(Some((index, Settings::default())), Some(only));
                        assert_eq!(answer.plan.strategy, only, "{recipe}");
                        assert_eq!(answer.nearest.len(), exact.nearest.len(), "{recipe}, {filter}");
                        assert!(answer.nearest.iter().all(|n| test.run(table).contains(n.row as usize)));
                        found.push(recall(&answer.nearest, &exact.nearest));
                    }
                    assert!(mean(&found) > 0.95, "{recipe}, {filter}, {only:?}: {}", mean(&found));
                }
            }
        }
    }
}

#[test]
fn what_a_filter_allows_is_kept_for_its_snapshot_only() {
    let rows = points(3000, Metric::Cosine, 91);
    let mut writer = writer(&rows, Metric::Cosine);
    let table = writer.snapshot();
    let test = Filter::from_text("n < 40").unwrap().compile(table.schema()).unwrap();
    let ask = |table: &zesty_engine::Table, excluded: &[u32]| {
        let request = Request {
            column: 0,
            query: &rows[5],
            k: 100,
            filter: Some(&test),
            excluded,
            index: None,
            only: None,
            until: Until::NONE,
        };
        run(table, request)
    };
    let (first, again) = (ask(&table, &[]), ask(&table, &[]));
    assert!(first.filter_ran && !again.filter_ran);
    assert_eq!((first.nearest.len(), &again.nearest), (40, &first.nearest));
    // The query's own row is left out of one search, not of those that come after.
    assert_eq!((ask(&table, &[5]).nearest.len(), ask(&table, &[]).nearest.len()), (39, 40));
    writer.apply(2, &[change(7, 2, Some(rows[7].clone())), Change { body: None, ..change(8, 2, None) }]);
    let later = writer.snapshot();
    let after = ask(&later, &[]);
    assert!(after.filter_ran, "another snapshot");
    assert_eq!(after.nearest.len(), 39, "one of them is gone");
    assert_eq!(ask(&table, &[]).nearest.len(), 40, "the earlier one is as it was");
    assert_eq!(ask(&later.without(&[3]), &[]).nearest.len(), 38, "rows that are as if deleted are not kept");
}

#[test]
fn copies_in_large_pages_answer_as_the_file_does_and_give_their_room_back() {
    const PAGE: usize = 2 << 20;
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index");
    let mut all = leaning(4040, 200, Metric::Cosine, 34);
    let queries = all.split_off(4000);
    for (recipe, copied) in [
        // 1.6 MB of codes.
        ("graph(links=8, build=60) | f16 | rescore(f32)", PAGE),
        // Cells are read on and on.
        ("cells(16) | f16", 0),
        // 800 kB would waste most of a page, and finer vectors are read here and there.
        ("graph(links=8, build=60) | int8 | rescore(f32)", 0),
    ] {
        build(&all, Metric::Cosine, recipe, 1).write(&path).unwrap();
        let pages = LargePages::new(PAGE);
        let open = |pages: &LargePages| Index::open_into(&path, pages).unwrap();
        let (mapped, first) = (Index::open(&path).unwrap(), open(&pages));
        assert_eq!((mapped.n_bytes_copied(), first.n_bytes_copied(), pages.taken()), (0, copied, copied));
        for query in &queries {
            let ask =
                |index: &Index| index.search(query, 10, Settings::beam(60), Allowed::All, Limit::NONE).0;
            assert_eq!(ask(&mapped), ask(&first), "{recipe}");
        }
        assert_eq!(open(&pages).n_bytes_copied(), 0, "{recipe}: there is no room for two");
        let second = open(&pages.instead_of(first.n_bytes_copied()));
        drop(first);
        assert_eq!((second.n_bytes_copied(), pages.taken()), (copied, copied));
        drop(second);
        assert_eq!(pages.taken(), 0);
    }
}

#[test]
fn heads_spare_walks_most_rows_and_lose_next_to_nothing() {
    let (n, d) = (4300, 200);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("index");
    for (metric, recipe) in [
        (Metric::Cosine, "graph(links=8, build=60) | int8 | rescore(f32)"),
        (Metric::Euclidean, "graph(links=8, build=60) | f16"),
        (Metric::Dot, "center | graph(links=8, build=60) | int8 | rescore(f16)"),
    ] {
        let mut all = leaning(n + 40, d, metric, 33);
        let queries = all.split_off(n);
        let index = build(&all, metric, recipe, 1);
        let shape = DataShape { rows: n, dimensions: d, metric };
        bytes_are_as_expected(&index, shape, 0.02);
        index.write(&path).unwrap();
        let opened = Index::open(&path).unwrap();
        let alive = index.nodes_where(|node| node % 2 == 0);
        let renewed = index.renew(source(&all, metric), &alive, 1, &Progress::default()).unwrap();
        for (which, index) in [("opened", &opened), ("renewed", &renewed)] {
            assert_eq!(index.reachable(), n, "{recipe}, {which}");
            let some = index.nodes_where(|node| index.numbers()[node as usize] % 3 != 0);
            for (allowed, least) in [(Allowed::All, 0.97), ((&some).into(), 0.95)] {
                let mut found = Vec::new();
                for query in &queries {
                    let hits = index.search(query, 10, Settings::beam(60), allowed, Limit::NONE).0;
                    let numbers = |n: &Neighbour| index.numbers()[n.row as usize] as u32;
                    let hits: Vec<_> = hits.iter().map(|n| Neighbour { row: numbers(n), ..*n }).collect();
                    let only = |row: usize| matches!(allowed, Allowed::All) || !row.is_multiple_of(3);
                    let mut exact: Vec<Neighbour> = (0..n)
                        .filter(|row| only(*row))
                        .map(|row| Neighbour {
                            rank: metric.rank(Kernels::best(), query, &all[row]),
                            row: row as u32,
                        })
                        .collect();
                    exact.sort();
                    exact.truncate(10);
                    found.push(recall(&hits, &exact));
                }
                assert!(mean(&found) > least, "{recipe}, {which}: {}", mean(&found));
            }
        }
        let same = |query| {
            let ask =
                |index: &Index| index.search(query, 10, Settings::beam(60), Allowed::All, Limit::NONE).0;
            ask(&index) == ask(&opened)
        };
        assert!(queries.iter().all(|query| same(query)), "{recipe}");
    }
}

#[test]
fn what_bounds_leave_unread_would_not_have_been_found() {
    for metric in [Metric::Cosine, Metric::Euclidean, Metric::Dot] {
        let mut all = leaning(3030, 100, metric, 34);
        let queries = all.split_off(3000);
        for (recipe, rescore, most) in
            [("scan | int8 | rescore(f32)", 20, 60.0), ("scan | bits(4) | rescore(f32)", 20, 150.0)]
        {
            let index = build(&all, metric, recipe, 1);
            let settings = Settings { rescore, ..Settings::default() };
            let mut read = Vec::new();
            for query in &queries {
                let (hits, work) = index.search(query, 10, settings, Allowed::All, Limit::NONE);
                let mut exact: Vec<Neighbour> = (0..3000u32)
                    .map(|row| Neighbour {
                        rank: metric.rank(Kernels::best(), query, &all[row as usize]),
                        row,
                    })
                    .collect();
                exact.sort();
                exact.truncate(10);
                assert!(recall_ties(&hits, &exact) > 0.99, "{recipe}, {metric}");
                read.push((work.distances - 3000) as f64);
            }
            assert!(mean(&read) >= 10.0 && mean(&read) < most, "{recipe}, {metric}: {}", mean(&read));
        }
    }
}

#[test]
fn what_is_expected_to_be_cheapest_is_taken() {
    let all = points(9000, Metric::Cosine, 40);
    let small = writer(&all[..400], Metric::Cosine).snapshot();
    let large = writer(&all, Metric::Cosine).snapshot();
    let settings = Settings::beam(40);
    for table in [&small, &large] {
        let index = attached(table, Metric::Cosine, "graph(links=12, build=60)");
        let answer = ask(table, &all[3], 10, None, Some((&index, settings)));
        let considered = &answer.plan.considered;
        assert_eq!(considered[0].strategy, answer.plan.strategy, "{considered:?}");
        assert!(considered.is_sorted_by(|a, b| a.expected_us <= b.expected_us), "{considered:?}");
        let mut kinds: Vec<_> = considered.iter().map(|c| c.strategy).collect();
        kinds.sort_by_key(|s| *s as u8);
        assert_eq!(kinds, [Plan::ScanAll, Plan::Walk]);
        // Fewer rows make a scan cheaper, and a walk hardly.
        let scan = considered.iter().find(|c| c.strategy == Plan::ScanAll).unwrap();
        assert_eq!(scan.costs.iter().find(|c| c.of == CostOf::Distance).unwrap().n, table.len());
        // What it costs is the sum of its parts.
        for c in considered {
            let sum: f64 = c.costs.iter().map(|cost| cost.n as f64 * cost.ns_each / 1e3).sum();
            assert!((sum - c.expected_us).abs() < 1e-6 * sum, "{c:?}");
        }
    }
}

#[test]
fn a_walk_that_finds_too_few_is_finished_by_cells() {
    // Half of the rows are allowed, but all of them lie far from the query.
    let mut rng = ChaCha8Rng::seed_from_u64(2);
    let rows: Vec<Vec<f32>> = (0..8000)
        .map(|i| {
            let mut v: Vec<f32> = (0..D).map(|_| rng.random_range(-0.1f32..0.1)).collect();
            v[0] += if i % 2 == 1 { 1.0 } else { -1.0 };
            Metric::Cosine.prepare(&v, D).unwrap()
        })
        .collect();
    let table = writer(&rows, Metric::Cosine).snapshot();
    let index = attached(&table, Metric::Cosine, "graph(links=8, build=40)");
    let exact = ask(&table, &rows[0], 10, Some("odd"), None);
    let test = Filter::from_text("odd").unwrap().compile(table.schema()).unwrap();
    for only in [None, Some(Plan::WalkAllowed), Some(Plan::VisitAllowed)] {
        let index = Some((&index, Settings::beam(10)));
        let (query, filter) = (&rows[0][..], Some(&test));
        let answer = run(
            &table,
            Request { column: 0, query, k: 10, filter, excluded: &[], index, only, until: Until::NONE },
        );
        assert_eq!(answer.nearest.len(), 10, "{only:?}");
        let found = recall(&answer.nearest, &exact.nearest);
        assert!(found >= 0.8, "{only:?}: {found} by {:?}", answer.plan.strategy);
    }
}

#[test]
fn fresh_writes_are_found_and_dead_rows_are_not() {
    let all = points(12_000, Metric::Euclidean, 8);
    let mut writer = writer(&all, Metric::Euclidean);
    let index = attached(&writer.snapshot(), Metric::Euclidean, "graph(links=12, build=80)");
    let settings = Settings::beam(60);
    let query = all[17].clone();
    let before = writer.snapshot();
    assert_eq!(keys(&before, &ask(&before, &query, 1, None, Some((&index, settings))))[0], "k17");

    // One record moves onto the query, the nearest is deleted, one is replaced far away.
    writer.apply(2, &[change(50_000, 2, Some(query.clone()))]);
    writer.apply(3, &[Change { body: None, ..change(17, 3, None) }]);
    let second = keys(&before, &ask(&before, &query, 2, None, None))[1].clone();
    let number: u64 = second[1..].parse().unwrap();
    writer.apply(4, &[change(number, 4, Some(vec![9.0; D]))]);

    let table = writer.snapshot();
    assert_eq!(table.n_records(), 12_000);
    // So few rows may be scanned sooner than walked, so the walk is asked for.
    let answer = ask_only(&table, &query, 5, None, Some((&index, settings)), Some(Plan::Walk));
    let exact = ask(&table, &query, 5, None, None);
    assert_eq!(answer.plan.strategy, Plan::Walk);
    assert_eq!(answer.plan.unindexed, 2);
    assert_eq!(keys(&table, &answer), keys(&table, &exact));
    assert_eq!(keys(&table, &answer)[0], "k50000");
    assert!(!keys(&table, &answer).contains(&"k17".to_owned()) && !keys(&table, &answer).contains(&second));
    assert_eq!((index.n_dead(&table), index.uncovered(&table, 0).count_ones(..)), (2, 2));
    // The older snapshot still answers as before.
    assert_eq!(keys(&before, &ask(&before, &query, 1, None, Some((&index, settings))))[0], "k17");
    // Attached again, as after a restart, the index covers what is still true.
    let recipe: Recipe = "graph(links=12, build=80)".parse().unwrap();
    let again = Index::build(source(&all, Metric::Euclidean), recipe, 1, &Progress::default()).unwrap();
    let again = Attached::new(again, &table, 0).unwrap();
    assert_eq!(keys(&table, &ask(&table, &query, 5, None, Some((&again, settings)))), keys(&table, &exact));
}

#[test]
fn records_without_a_vector_are_kept_but_never_found() {
    let mut writer = writer(&points(50, Metric::Dot, 1), Metric::Dot);
    writer.apply(2, &[change(90, 2, None)]);
    let table = writer.snapshot();
    assert_eq!(table.n_records(), 51);
    let answer = ask(&table, &[1.0; D], 100, None, None);
    assert_eq!(answer.nearest.len(), 50);
    assert!(!keys(&table, &answer).contains(&"k90".to_owned()));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Whatever was written, replaced and deleted, a search with a generous beam equals the scan.
    #[test]
    fn live_searches_equal_the_scan(
        n in 1usize..400, edits in prop::collection::vec((0u64..500, any::<bool>()), 0..60),
        below in 0u64..600, k in 1usize..15, seed in any::<u64>(),
    ) {
        let all = points(n + edits.len() + 1, Metric::Cosine, seed);
        let mut writer = writer(&all[..n], Metric::Cosine);
        let index = attached(&writer.snapshot(), Metric::Cosine, "graph(links=16, build=100)");
        for (i, (number, delete)) in edits.iter().enumerate() {
            let revision = 2 + i as u64;
            let mut edit = change(*number, revision, Some(all[n + i].clone()));
            if *delete {
                edit.body = None;
            }
            writer.apply(revision, &[edit]);
        }
        let table = writer.snapshot();
        let query = &all[n + edits.len()];
        let filter = format!("n < {below}");
        for filter in [None, Some(filter.as_str())] {
            let exact = ask(&table, query, k, filter, None);
            let answer = ask(&table, query, k, filter, Some((&index, Settings::beam(400))));
            prop_assert_eq!(answer.nearest.len(), exact.nearest.len());
            for (a, b) in answer.nearest.iter().zip(&exact.nearest) {
                prop_assert!((a.rank - b.rank).abs() < 1e-5);
            }
        }
    }

    #[test]
    fn truth_in_blocks_equals_truth_one_by_one(n in 1usize..600, seed in any::<u64>()) {
        let rows = points(n + 20, Metric::Cosine, seed);
        let index = build(&rows[..n], Metric::Cosine, "scan", 1);
        let queries: Vec<f32> = rows[n..].concat();
        let block = [(0, index.vectors().unwrap())];
        let all = Queries { values: &queries, dimensions: D, excluded: &[None; 20] };
        let many = scan_many(&block, Metric::Cosine, all, 5, Allowed::All, 2);
        for (list, q) in many.iter().zip(queries.chunks(D)) {
            // Sums in another order round differently, so nearly equal rows may change places.
            let one = search(&index, q, 5, 1);
            prop_assert_eq!(one.len(), list.len());
            for (a, b) in one.iter().zip(list) {
                prop_assert!((a.rank - b.rank).abs() < 1e-5);
            }
        }
    }
}

#[test]
fn field_counts_equal_a_naive_count() {
    use std::collections::HashMap;
    use zesty_engine::counts::count;
    let schema = Schema::from_json(&json!({"properties": {
        "n": {"type": "integer"}, "x": {"type": "number"}, "word": {"type": "string"},
        "on": {"type": "string", "format": "date"}, "flag": {"type": "boolean"},
        "tags": {"type": "array", "items": {"type": "string"}}}}))
    .unwrap();
    let mut writer = Writer::new(schema, []);
    let mut rng = ChaCha8Rng::seed_from_u64(12);
    let words = ["fog", "oil", "gale"];
    let mut bodies = Vec::new();
    for i in 0..500u64 {
        let mut body = Map::new();
        let mut set = |name: &str, value: serde_json::Value| {
            if rng.random_bool(0.8) {
                body.insert(name.into(), value);
            }
        };
        set("n", json!(i as i64 % 7 - 3));
        set("x", json!(if i % 5 == 0 { -0.0 } else { i as f64 * 1e300 }));
        set("word", json!(words[i as usize % 3]));
        set("on", json!(format!("1931-10-{:02}", 1 + i % 9)));
        set("flag", json!(i % 4 == 0));
        set("tags", json!([words[i as usize % 2], words[2]]));
        bodies.push(body.clone());
        writer.apply(
            i + 1,
            &[Change { number: i, key: i.to_string(), revision: i + 1, body: Some(body), vectors: vec![] }],
        );
    }
    let table = writer.snapshot();
    let rows = Filter::from_text("n >= 0 OR n IS NULL").unwrap().compile(table.schema()).unwrap().run(&table);
    let kept: Vec<&Map<_, _>> =
        bodies.iter().filter(|b| b.get("n").is_none_or(|n| n.as_i64() >= Some(0))).collect();
    for (field, name) in ["n", "x", "word", "on", "flag", "tags"].iter().enumerate() {
        let counts = count(&table, field, &rows, 100);
        let present: Vec<_> = kept.iter().filter_map(|b| b.get(*name)).collect();
        assert_eq!(
            (counts.n_present, counts.n_missing),
            (present.len(), kept.len() - present.len()),
            "{name}"
        );
        let mut naive: HashMap<String, usize> = HashMap::new();
        for value in present {
            match value {
                serde_json::Value::Array(items) => {
                    items.iter().for_each(|i| *naive.entry(i.to_string()).or_default() += 1);
                }
                value => *naive.entry(value.to_string().replace("-0.0", "0.0")).or_default() += 1,
            }
        }
        assert_eq!(counts.n_distinct, naive.len(), "{name}");
        let listed = count(&table, field, &rows, 1000).values;
        let listed: HashMap<String, usize> =
            listed.into_iter().map(|v| (v.value.to_string(), v.count)).collect();
        assert_eq!(listed, naive, "{name}");
        assert!(counts.values.windows(2).all(|v| v[0].count >= v[1].count), "{name}");
        if let Some(h) = counts.histogram {
            assert_eq!(h.counts.iter().sum::<usize>(), counts.n_present, "{name}: every value is in one bar");
        }
    }
    assert_eq!(count(&table, 3, &rows, 0).histogram.unwrap().low, json!("1931-10-01"));
}
