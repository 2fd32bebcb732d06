//! Comparisons as people read them: two sides next to each other.

use crate::report::{STALE, notices};
use crate::show::{count, fields, micros, shortened, table, when};
use comfy_table::Table;
use serde_json::{Map, Value};
use zesty_client::wire::{
    ComparedHit, ComparedPage, ComparedQuery, ComparedSide, Comparison, PairedTest, Verdict, Verdicts,
};

pub fn comparisons(all: &[Comparison]) -> Table {
    let mut t = table(&[
        ">comparison",
        "left",
        "right",
        "query set",
        ">overlap",
        ">left recall",
        ">right recall",
        ">verdicts",
        "when",
    ]);
    for c in all {
        let (r, v) = (&c.result, &c.verdicts);
        t.add_row([
            c.id.to_string(),
            c.spec.left.to_string(),
            c.spec.right.to_string(),
            r.query_set.name.clone(),
            format!("{:.3}", r.overlap.last().copied().unwrap_or(0.0)),
            format!("{:.4}", r.left.recall_mean),
            format!("{:.4}", r.right.recall_mean),
            format!("{} : {}", v.left, v.right),
            when(&c.created_at),
        ]);
    }
    t
}

fn chance(p: f64) -> String {
    if p < 0.001 { "under 0.001".into() } else { format!("{p:.3}") }
}

fn tested(what: &str, test: &PairedTest) -> String {
    let verdict = match test.p < 0.05 {
        true if test.left_better > test.right_better => "left is better",
        true => "right is better",
        false => "neither is better by more than chance",
    };
    format!(
        "\nby {what}: left better on {}, right on {}, the same on {}: {verdict} (sign test, p {})",
        count(test.left_better),
        count(test.right_better),
        count(test.same),
        chance(test.p)
    )
}

pub fn verdicts(v: &Verdicts) -> String {
    let all = v.left + v.right + v.same + v.neither;
    if all == 0 {
        return "no verdicts yet".into();
    }
    format!(
        "{} verdicts: left {}, right {}, the same {}, neither {} (sign test, p {})",
        count(all),
        v.left,
        v.right,
        v.same,
        v.neither,
        chance(v.p)
    )
}

// Long because: one block a part of the report, in the order it is read.
pub fn comparison(c: &Comparison) -> String {
    let r = &c.result;
    let mut out = format!(
        "comparison {} at revision {}: {} queries of \"{}\", k {}",
        c.id,
        r.revision,
        count(r.query_set.n_queries),
        r.query_set.name,
        c.spec.k
    );
    if r.query_set.n_held_out > 0 {
        out += &format!(
            " ({} records held out in parts: no index has seen them)",
            count(r.query_set.n_held_out)
        );
    }
    if r.query_set.n_left_out > 0 {
        out += &format!("; {} queries are left out", count(r.query_set.n_left_out));
    }
    let graded = r.left.graded.is_some();
    let mut headings = vec!["", "column", "answers", ">recall", ">p50", ">p95", ">p99"];
    if graded {
        headings.extend([">hit rate", ">mean reciprocal rank", ">nDCG"]);
    }
    let mut t = table(&headings);
    for (name, side) in [("left", &r.left), ("right", &r.right)] {
        let mut row = vec![name.to_owned(), side.column.clone(), answers(side)];
        row.push(format!("{:.4}", side.recall_mean));
        row.extend([side.p50_us, side.p95_us, side.p99_us].map(micros));
        if let Some(g) = side.graded {
            row.extend([g.hit_rate, g.mean_reciprocal_rank, g.ndcg].map(|x| format!("{x:.4}")));
        }
        t.add_row(row);
    }
    out += &format!("\n{t}");
    let mut t = table(&["first hits", ">both have"]);
    for k in [1, 2, 3, 5, 10, 20, 50, 100].into_iter().filter(|k| *k <= r.overlap.len()) {
        t.add_row([k.to_string(), format!("{:.1}%", r.overlap[k - 1] * 100.0)]);
    }
    out += &format!("\n{t}");
    let m = &r.moves;
    out += &format!(
        "\nhits of both: {} at the same rank, {} one rank apart, {} two or three, {} more; only left has {}, only right {}",
        count(m.same_rank),
        count(m.by_one),
        count(m.by_two_or_three),
        count(m.farther),
        count(m.left_alone),
        count(m.right_alone)
    );
    if let Some(f) = &r.finders {
        out += &format!(
            "\ntrue neighbours: both found {}, only left {}, only right {}, neither {}",
            count(f.both),
            count(f.left_alone),
            count(f.right_alone),
            count(f.neither)
        );
    }
    out += &tested("recall", &r.by_recall);
    if let Some(test) = &r.by_grades {
        out += &tested("nDCG", test);
    }
    if let Some(d) = &r.distances {
        out += &tested("distance", &d.nearer);
    } else {
        out += "\nthe sides search two columns: each has its own truth, and distances do not compare";
    }
    if r.n_unknown_keys > 0 {
        out += &format!(
            "\n{} graded keys are not in the collection, and count as not found",
            count(r.n_unknown_keys)
        );
    }
    out += &format!("\n{}", verdicts(&c.verdicts));
    out += &notices(&r.notices);
    if c.stale {
        out += STALE;
    }
    out
}

fn answers(side: &ComparedSide) -> String {
    let Some(index) = &side.index else { return "the exact scan".into() };
    let settings = side.settings.to_string();
    if settings.is_empty() { index.clone() } else { format!("{index}, {settings}") }
}

/// Characters that tell what a hit is about, if no fields are chosen.
const WORDS: usize = 120;

/// The chosen fields of a hit, or the first that say something.
fn about(hit: &ComparedHit, chosen: &[String]) -> String {
    if hit.key.is_none() {
        return "the record is gone".into();
    }
    if chosen.is_empty() {
        return shortened(&fields(&hit.fields).replace('\n', " "), WORDS);
    }
    let at = |path: &String| {
        let mut parts = path.split('.');
        let first = hit.fields.get(parts.next()?)?;
        Some((path.clone(), parts.try_fold(first, |value, part| value.get(part))?.clone()))
    };
    fields(&chosen.iter().filter_map(at).collect::<Map<String, Value>>())
}

fn query(q: &ComparedQuery, chosen: &[String]) -> String {
    let asks = match (&q.text, &q.record) {
        (Some(text), _) => format!("\"{text}\""),
        (None, Some(key)) => format!("record {key}"),
        (None, None) => "a vector".into(),
    };
    let verdict = match q.verdict {
        None => "not judged",
        Some(Verdict::Left) => "left is better",
        Some(Verdict::Right) => "right is better",
        Some(Verdict::Same) => "both are as good",
        Some(Verdict::Neither) => "both are bad",
    };
    let mut out = format!(
        "query {}: {asks}; both have {:.0}% of the hits; recall {:.2} and {:.2}",
        q.position,
        q.overlap * 100.0,
        q.left_recall,
        q.right_recall
    );
    if let (Some(left), Some(right)) = (q.left_ndcg, q.right_ndcg) {
        out += &format!("; nDCG {left:.3} and {right:.3}");
    }
    out += &format!("; {verdict}");
    let mut t = table(&[">", "left", ">distance", "", "right", ">distance", ""]);
    for i in 0..q.left.len().max(q.right.len()) {
        let mut row = vec![(i + 1).to_string()];
        for side in [&q.left, &q.right] {
            let Some(hit) = side.get(i) else {
                row.extend([String::new(), String::new(), String::new()]);
                continue;
            };
            let words = about(hit, chosen);
            row.push(format!("{}\n{words}", hit.key.as_deref().unwrap_or("?")));
            row.push(format!("{:.4}", hit.distance));
            let moved = match hit.other_rank {
                None => "alone".into(),
                Some(rank) if rank == hit.rank => String::new(),
                Some(rank) => format!("other {rank}"),
            };
            row.push(match hit.grade {
                Some(grade) => format!("{moved} grade {grade}").trim().to_owned(),
                None => moved,
            });
        }
        t.add_row(row);
    }
    format!("{out}\n{t}")
}

pub fn hits(page: &ComparedPage, chosen: &[String]) -> String {
    let mut out: Vec<String> = page.queries.iter().map(|q| query(q, chosen)).collect();
    if let Some(next) = page.next {
        out.push(format!("more: --from {next}"));
    }
    out.join("\n\n")
}
