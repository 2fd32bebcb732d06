//! Measurements as people read them: tables, and the frontier as a drawing.

use crate::drawing::Scale;
use crate::show::{bytes, count, micros, seconds, table, times, when};
use comfy_table::Table;
use zesty_client::wire::{
    Aim, Figures, LensAnswer, Notice, Place, QuerySet, Settings, Sweep, SweepPoint, Target, WatchState,
};

/// Three digits that tell recalls near 1 apart.
fn recall(r: f64) -> String {
    format!("{r:.4}")
}

fn spread(f: &Figures) -> String {
    format!("{:.4} to {:.4}", f.recall_interval.low, f.recall_interval.high)
}

fn number(x: Option<f64>) -> String {
    x.map_or_else(String::new, |x| format!("{x:.3}"))
}

pub fn notices(all: &[Notice]) -> String {
    all.iter().map(|n| format!("\nnotice: {}", n.text)).collect()
}

pub const STALE: &str = "\nnotice: the collection has changed since; run it again to see what holds now";

pub fn query_sets(all: &[QuerySet]) -> Table {
    let mut t = table(&[
        "name",
        "kind",
        ">queries",
        ">to 1st",
        ">to 10th",
        ">to 100th",
        ">dimensionality",
        ">exact k",
        "when",
    ]);
    for s in all {
        let d = s.difficulty.as_ref().map(|d| &d.queries);
        t.add_row([
            s.name.clone(),
            kind(s),
            count(s.n_queries),
            number(d.and_then(|d| d.distance_1)),
            number(d.and_then(|d| d.distance_10)),
            number(d.and_then(|d| d.distance_100)),
            d.and_then(|d| d.intrinsic).map_or_else(String::new, |x| format!("{x:.1}")),
            s.answers.as_ref().map_or_else(String::new, |a| match a.stale {
                true => format!("{} (stale)", a.k),
                false => a.k.to_string(),
            }),
            when(&s.created_at),
        ]);
    }
    t
}

fn kind(s: &QuerySet) -> String {
    let kind = serde_json::to_value(s.kind).ok();
    let kind = kind.as_ref().and_then(|k| k.as_str()).unwrap_or_default().to_owned();
    match (s.of, s.noise) {
        (Some(of), _) => format!("{kind} of {of}"),
        (_, Some(noise)) => format!("{kind} by {noise}"),
        _ => kind,
    }
}

pub fn query_set(s: &QuerySet) -> String {
    let mut out = format!(
        "{}: {} queries, {}, column {}, seed {}, made at revision {}",
        s.name,
        count(s.n_queries),
        kind(s),
        s.column,
        s.seed,
        s.revision
    );
    if s.n_filtered > 0 {
        out += &format!("\n{} of them have a filter", count(s.n_filtered));
    }
    if s.n_graded > 0 {
        out += &format!("\n{} of them know keys that are right", count(s.n_graded));
    }
    if let Some(d) = &s.difficulty {
        let mut t = table(&["medians", ">to 1st", ">to 10th", ">to 100th", ">local dimensionality"]);
        for (name, d) in [("these queries", &d.queries), ("the collection's records", &d.records)] {
            t.add_row([
                name.to_owned(),
                number(d.distance_1),
                number(d.distance_10),
                number(d.distance_100),
                d.intrinsic.map_or_else(String::new, |x| format!("{x:.1}")),
            ]);
        }
        out += &format!("\n{t}");
    }
    match &s.answers {
        Some(a) => {
            out += &format!(
                "\nexact answers: {} neighbours each among {} records, at revision {}, in {}{}",
                a.k,
                count(a.n_rows),
                a.revision,
                seconds(a.seconds),
                if a.stale { "; stale: the collection has changed since" } else { "" }
            );
        }
        None => out += "\nexact answers: none yet",
    }
    out
}

pub fn sweeps(all: &[Sweep]) -> Table {
    let mut t = table(&[">sweep", "indexes", "query sets", ">points", ">best recall", "", "when"]);
    for s in all {
        let best = s.result.points.iter().map(|p| p.figures.recall_mean).fold(0.0, f64::max);
        let names = |all: Vec<&str>| all.join(", ");
        t.add_row([
            s.id.to_string(),
            names(s.result.indexes.iter().map(|i| i.name.as_str()).collect()),
            names(s.result.query_sets.iter().map(|q| q.name.as_str()).collect()),
            count(s.result.points.len()),
            recall(best),
            match (s.stale, s.result.cut) {
                (_, true) => "cut".into(),
                (true, _) => "stale".into(),
                _ => String::new(),
            },
            when(&s.created_at),
        ]);
    }
    t
}

/// What differs between the points of a sweep, in words.
fn point_name(s: &Sweep, p: &SweepPoint) -> String {
    let mut words = Vec::new();
    if s.result.indexes.len() > 1 {
        words.push(p.index.clone());
    }
    // A setting that all points share says nothing of one.
    let shared = s.spec.rescores.as_ref().is_none_or(|list| list.len() < 2);
    let main = p.settings.beam.or(p.settings.visit).is_some();
    let rescore = p.settings.rescore.filter(|_| !shared || !main);
    let settings = Settings { rescore, ..p.settings }.to_string();
    if !settings.is_empty() {
        words.push(settings);
    }
    if s.spec.k.len() > 1 {
        words.push(format!("k {}", p.k));
    }
    if s.spec.clients.len() > 1 {
        words.push(format!("{} clients", p.clients));
    }
    if words.is_empty() { p.index.clone() } else { words.join(", ") }
}

// Long because: one block a part of the report, in the order it is read.
pub fn sweep(s: &Sweep) -> String {
    let r = &s.result;
    let mut out = format!("sweep {} at revision {}", s.id, r.revision);
    if let (1, Some(i)) = (r.indexes.len(), r.indexes.first()) {
        out += &format!(" of {} ({})", i.name, i.recipe);
    }
    for set in &r.query_sets {
        let mut t = table(&[
            "settings",
            ">recall mean",
            "19 of 20 in",
            ">p5",
            ">min",
            ">standout",
            ">gap",
            ">p50",
            ">p95",
            ">p99",
            ">queries/s",
            ">x exact",
            ">distances",
        ]);
        for p in r.points.iter().filter(|p| p.query_set == set.name) {
            let f = &p.figures;
            let exact = set.exact.as_ref().map(|e| p.queries_per_s / e.queries_per_s);
            t.add_row([
                point_name(s, p) + if p.like.is_empty() { "" } else { " ~" },
                recall(f.recall_mean),
                spread(f),
                format!("{:.2}", f.recall_p5),
                format!("{:.2}", f.recall_min),
                f.standout_recall.map_or_else(|| "none".into(), recall),
                format!("{:.2}%", f.gap_mean * 100.0),
                micros(f.p50_us),
                micros(f.p95_us),
                micros(f.p99_us),
                count(p.queries_per_s.round() as u64),
                exact.map_or_else(String::new, times),
                count(f.distances_per_query.round() as u64),
            ]);
        }
        let k = if s.spec.k.len() > 1 { String::new() } else { format!("recall@{} on ", first_k(s)) };
        out += &format!("\n\n{k}{} queries of \"{}\"", count(set.n_queries), set.name);
        out += &format!(", among {} records", count(set.n_rows));
        if set.n_held_out > 0 {
            out += &format!(" ({} held out in parts: no index has seen them)", count(set.n_held_out));
        }
        if set.n_left_out > 0 {
            out += &format!("; {} queries are left out, because an index may have seen them", set.n_left_out);
        }
        out += &format!("\n{t}");
        if let Some(e) = &set.exact {
            out += &format!(
                "\nexact scan: p50 {}, p99 {}, {} queries/s (measured on {} of the queries)",
                micros(e.p50_us),
                micros(e.p99_us),
                count(e.queries_per_s.round() as u64),
                e.queries
            );
        }
    }
    if r.points.iter().any(|p| !p.like.is_empty()) {
        out += "\n~ neither recall nor latency tells this point from another one";
    }
    out += &format!("\n\n{}", frontier(s));
    let mut t = table(&["index", "recipe", ">memory", ">file", ">build", ">newer records"]);
    for i in &r.indexes {
        t.add_row([
            i.name.clone(),
            i.recipe.clone(),
            bytes(i.n_bytes_memory as u64),
            bytes(i.n_bytes_file as u64),
            seconds(i.build_seconds),
            count(i.n_uncovered),
        ]);
    }
    out += &format!("\n{t}\n{} cores of {}, version {}", r.machine.cores, r.machine.cpu, r.machine.version);
    if r.cut {
        out += "\nnotice: the sweep was cancelled; these are the points that were whole by then";
    }
    out += &notices(&r.notices);
    if s.stale {
        out += STALE;
    }
    out
}

fn first_k(s: &Sweep) -> usize {
    s.result.points.first().map_or(10, |p| p.k)
}

/// Columns and lines of the drawing.
const WIDTH: usize = 64;
const HEIGHT: usize = 14;

/// Recall against latency: recall on a scale where 0.9, 0.99 and 0.999 are equally far apart, latency logarithmic.
fn frontier(s: &Sweep) -> String {
    let points: Vec<(&SweepPoint, f64, f64)> = s
        .result
        .points
        .iter()
        .map(|p| (p, p.figures.p50_us.max(0.1).log10(), -(1.0 - p.figures.recall_mean).max(1e-4).log10()))
        .collect();
    if points.len() < 2 {
        return String::new();
    }
    let across = Scale::of(points.iter().map(|p| p.1), WIDTH);
    let up = Scale::of(points.iter().map(|p| p.2), HEIGHT);
    let mut lines = vec![vec![' '; WIDTH]; HEIGHT];
    let mark = |p: &SweepPoint| {
        let index = s.result.indexes.iter().position(|i| i.name == p.index).unwrap_or(0);
        let set = s.result.query_sets.iter().position(|q| q.name == p.query_set).unwrap_or(0);
        let letter = (b'a' + (index % 26) as u8) as char;
        if set == 0 { letter } else { letter.to_ascii_uppercase() }
    };
    for (p, x, y) in &points {
        lines[HEIGHT - 1 - up.place(*y)][across.place(*x)] = mark(p);
    }
    let mut out = String::from("recall\n");
    for (i, line) in lines.iter().enumerate() {
        let y = up.from + (up.to - up.from) * (HEIGHT - 1 - i) as f64 / (HEIGHT - 1) as f64;
        let label = if i % 3 == 1 { format!("{:.4}", 1.0 - 10f64.powf(-y)) } else { String::new() };
        out += &format!("{label:>7} │{}\n", line.iter().collect::<String>().trim_end());
    }
    let (from, to) = (micros(10f64.powf(across.from)), micros(10f64.powf(across.to)));
    out += &format!("{:>7} └{}\n", "", "─".repeat(WIDTH));
    out += &format!("{:>9}{from}{to:>width$}  p50, logarithmic\n", "", width = WIDTH - from.chars().count());
    for (i, index) in s.result.indexes.iter().enumerate() {
        out += &format!("{:>9}{} {}\n", "", (b'a' + (i % 26) as u8) as char, index.name);
    }
    if s.result.query_sets.len() > 1 {
        out += &format!("{:>9}large letters: not the first query set\n", "");
    }
    out
}

fn aim(t: &Target) -> String {
    let of = match t.spec.aim {
        Aim::Mean => "mean",
        Aim::P5 => "5th percentile",
    };
    format!("{of} of recall@{} >= {}", t.spec.k, t.spec.recall)
}

fn achieved(t: &Target) -> f64 {
    match t.spec.aim {
        Aim::Mean => t.result.achieved.recall_mean,
        Aim::P5 => t.result.achieved.recall_p5,
    }
}

pub fn targets(all: &[Target]) -> Table {
    let mut t = table(&[">target", "index", "asked", ">achieved", "reached", "settings", ">p50", "when"]);
    for target in all {
        let r = &target.result;
        t.add_row([
            target.id.to_string(),
            target.spec.index.clone(),
            aim(target),
            recall(achieved(target)),
            match (r.reached, target.stale) {
                (true, true) => "yes (stale)",
                (true, false) => "yes",
                _ => "no",
            }
            .into(),
            r.settings.to_string(),
            micros(r.achieved.p50_us),
            when(&target.created_at),
        ]);
    }
    t
}

pub fn target(t: &Target) -> String {
    let r = &t.result;
    let mut out = format!("target {}: {} for {} ({})", t.id, aim(t), t.spec.index, r.recipe);
    let verdict = match r.reached {
        true => "reached with",
        // The half that chose had it, by a standard error more; the other half did not.
        false if r.chosen_recall >= t.spec.recall && r.instead.is_none() => {
            "just missed, ask for a little more; with"
        }
        false => "not reached; the best is",
    };
    out += &format!(
        "\n{verdict} {}: {} on queries that did not choose the settings (the mean lies in {})",
        r.settings,
        recall(achieved(t)),
        spread(&r.achieved)
    );
    out += &format!(
        "\nlatency p50 {}, p95 {}, p99 {}; {} queries/s",
        micros(r.achieved.p50_us),
        micros(r.achieved.p95_us),
        micros(r.achieved.p99_us),
        count(r.queries_per_s.round() as u64)
    );
    let mut table =
        table(&["query set", ">queries", ">recall mean", "19 of 20 in", ">p5", ">min", ">gap", ">p50"]);
    for set in &r.sets {
        let f = &set.figures;
        table.add_row([
            set.query_set.clone(),
            count(set.n_queries),
            recall(f.recall_mean),
            spread(f),
            format!("{:.2}", f.recall_p5),
            format!("{:.2}", f.recall_min),
            format!("{:.2}%", f.gap_mean * 100.0),
            micros(f.p50_us),
        ]);
    }
    out += &format!("\n{table}\n{} settings were tried on the other half of the queries", r.tried.len());
    if let Some(other) = &r.instead {
        out += &format!(
            "\n{} may reach it ({}): about {} of memory, {} of file, {} to build",
            other.recipe,
            other.why,
            bytes(other.memory_bytes),
            bytes(other.file_bytes),
            seconds(other.build_seconds)
        );
    }
    if r.served {
        out += "\nit is the serving choice now";
    }
    out += &notices(&r.notices);
    if t.stale {
        out += STALE;
    }
    out
}

pub fn lens(s: &LensAnswer) -> String {
    let mut out = format!(
        "{} with {}: found {} of the true {} (recall {:.2}); the hits are {:.2}% farther away",
        s.index,
        s.settings,
        s.truth.iter().filter(|t| t.found_at.is_some()).count(),
        s.truth.len(),
        s.recall,
        s.gap * 100.0
    );
    if s.standouts > 0 {
        out +=
            &format!("\n{} of {} true neighbours that stand out were found", s.standouts_found, s.standouts);
    }
    let mut t = table(&[">true", "key", ">distance", ">found at", "stands out", "smallest setting"]);
    for n in &s.truth {
        t.add_row([
            n.rank.to_string(),
            n.key.clone(),
            format!("{:.4}", n.distance),
            n.found_at.map_or_else(|| "○ missed".into(), |at| at.to_string()),
            if n.stands_out { "yes" } else { "" }.into(),
            n.smallest.map_or_else(|| "none finds it".into(), |s| s.to_string()),
        ]);
    }
    out += &format!("\n{t}");
    for stray in &s.strays {
        out += &format!("\nin their place at {}: {} ({:.4})", stray.rank, stray.key, stray.distance);
    }
    let word = s.place.map(|p| match p {
        Place::InACluster => "in a cluster",
        Place::AtTheEdge => "at the edge of a cluster",
        Place::InTheOpen => "in the open, where searches fare worst",
    });
    let tenth = s.curve.get(9);
    if let (Some(word), Some(tenth), Some(of)) = (word, tenth, s.of_records) {
        out += &format!(
            "\nthe query lies {word}: {tenth:.4} to its 10th neighbour; records of the collection have {:.4} to {:.4} \
             (5th to 95th percentile), {:.4} in the middle",
            of.p5, of.p95, of.p50
        );
    }
    out += &format!(
        "\nany record is {:.4} to {:.4} away, {:.4} in the middle; revision {}",
        s.of_rows.p5, s.of_rows.p95, s.of_rows.p50, s.revision
    );
    if s.held_out {
        out += "\nthe record that asks was held out: the index has not seen it";
    }
    out
}

pub fn watch(s: &WatchState) -> String {
    let mut out = match s.watch.capture {
        Some(c) => format!(
            "captures {:.1}% of the searches, at most {}, for {} days, {} their texts; {} are kept",
            c.share * 100.0,
            count(c.keep),
            c.days,
            if c.texts { "with" } else { "without" },
            count(s.captured)
        ),
        None => format!("captures no searches; {} are kept", count(s.captured)),
    };
    match s.watch.recall {
        Some(r) => {
            let spent = s.spent.map_or_else(String::new, |x| format!(", {:.2}% were taken", x * 100.0));
            out += &format!("\nchecks searches within {:.1}% of the processor time{spent}", r.budget * 100.0);
            if let Some(floor) = r.floor {
                out += &format!("; a notice comes below {floor}");
            }
        }
        None => out += "\nchecks no searches",
    }
    if s.overall.is_empty() {
        return out + "\nnothing was observed in this time" + &notices(&s.notices);
    }
    let mut t = table(&["index", ">searches checked", ">recall", "19 of 20 in"]);
    for o in &s.overall {
        t.add_row([
            o.index.clone(),
            count(o.searches),
            recall(o.recall_mean),
            format!("{:.4} to {:.4}", o.recall_low, o.recall_high),
        ]);
    }
    out + &format!("\n{t}") + &notices(&s.notices)
}
