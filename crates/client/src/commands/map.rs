//! `zesty map`.

use crate::cli::MapArgs;
use crate::commands::lens::lens_request;
use crate::drawing::Scale;
use crate::runner::{Done, Runner, failure, filter, print};
use crate::show::{count, plain};
use std::collections::BTreeMap;
use zesty_client::wire::{MapAnswer, MapRequest};

/// Columns and lines of the drawing.
const WIDTH: usize = 96;
const HEIGHT: usize = 30;
/// Values that have a letter; the others share a dot.
const LETTERS: usize = 12;

impl Runner {
    pub async fn map(&self, args: MapArgs) -> Done {
        let text = args.ask.filter.clone();
        let (column, filter) = (args.ask.column.clone(), filter(&args.ask.filter));
        let query = args.ask.asks().then(|| lens_request(args.ask)).transpose()?;
        let request = MapRequest { column, field: args.field, filter, records: args.records, query };
        let map = self.client.map(&args.collection, &request).await;
        let map = map.map_err(|e| failure(&e, text.as_deref()))?;
        if args.csv && !self.json {
            print(csv(&map)?);
            return Ok(0);
        }
        self.show(&map, drawn);
        Ok(0)
    }
}

fn csv(map: &MapAnswer) -> Result<String, String> {
    let mut out = csv::Writer::from_writer(Vec::new());
    let wrong = |e: csv::Error| e.to_string();
    out.write_record(["mark", "key", "x", "y", "value", "distance"]).map_err(wrong)?;
    for p in &map.points {
        let row = ["record", &p.key, &p.x.to_string(), &p.y.to_string(), &plain(&p.value), ""];
        out.write_record(row).map_err(wrong)?;
    }
    if let Some(q) = &map.query {
        out.write_record(["query", "", &q.x.to_string(), &q.y.to_string(), "", ""]).map_err(wrong)?;
        for n in &q.neighbours {
            let mark = match (n.true_rank, n.found_at) {
                (Some(_), Some(_)) => "found",
                (Some(_), None) => "missed",
                _ => "stray",
            };
            let (x, y, distance) = (n.x.to_string(), n.y.to_string(), n.distance.to_string());
            out.write_record([mark, &n.key, &x, &y, "", &distance]).map_err(wrong)?;
        }
    }
    let bytes = out.into_inner().map_err(|e| e.to_string())?;
    Ok(String::from_utf8_lossy(&bytes).trim_end().to_owned())
}

fn drawn(map: &MapAnswer) -> String {
    let marked = map.query.iter().flat_map(|q| q.neighbours.iter().map(|n| (n.x, n.y)).chain([(q.x, q.y)]));
    let all = map.points.iter().map(|p| (p.x, p.y)).chain(marked);
    let across = Scale::of(all.clone().map(|(x, _)| x.into()), WIDTH);
    let up = Scale::of(all.map(|(_, y)| y.into()), HEIGHT);
    let cell = |x: f32, y: f32| (HEIGHT - 1 - up.place(y.into()), across.place(x.into()));
    // The most frequent values have letters.
    let mut values: BTreeMap<String, usize> = BTreeMap::new();
    for p in &map.points {
        *values.entry(plain(&p.value)).or_default() += 1;
    }
    let mut frequent: Vec<(String, usize)> = values.into_iter().filter(|(v, _)| !v.is_empty()).collect();
    frequent.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(&b.0)));
    let letter = |i: usize| (b'a' + i as u8) as char;
    let named: BTreeMap<&str, char> =
        frequent.iter().take(LETTERS).enumerate().map(|(i, (v, _))| (v.as_str(), letter(i))).collect();
    let mut cells: BTreeMap<(usize, usize), BTreeMap<char, usize>> = BTreeMap::new();
    for p in &map.points {
        let mark = named.get(plain(&p.value).as_str()).copied().unwrap_or('·');
        *cells.entry(cell(p.x, p.y)).or_default().entry(mark).or_default() += 1;
    }
    let mut lines = vec![vec![' '; WIDTH]; HEIGHT];
    for ((line, column), marks) in cells {
        lines[line][column] = marks.into_iter().max_by_key(|(_, n)| *n).map_or(' ', |(mark, _)| mark);
    }
    if let Some(q) = &map.query {
        for n in q.neighbours.iter().rev() {
            let (line, column) = cell(n.x, n.y);
            lines[line][column] = match (n.true_rank, n.found_at) {
                (Some(_), Some(_)) => '●',
                (Some(_), None) => '○',
                _ => '◆',
            };
        }
        let (line, column) = cell(q.x, q.y);
        lines[line][column] = '@';
    }
    let mut out: String =
        lines.iter().map(|line| format!("{}\n", line.iter().collect::<String>().trim_end())).collect();
    let [x, y] = map.explained;
    out += &format!(
        "{} of {} records of {}; across {:.1}% of the variance, up {:.1}%: what looks near may be far",
        count(map.points.len()),
        count(map.n_rows),
        map.column,
        x * 100.0,
        y * 100.0
    );
    if let Some(q) = &map.query {
        let missed = q.neighbours.iter().filter(|n| n.true_rank.is_some() && n.found_at.is_none()).count();
        out += &format!(
            "\n@ the query; ● true neighbours that {} found, ○ missed ({missed}), ◆ found instead; recall {:.2}",
            q.index, q.recall
        );
    }
    if let Some(field) = &map.field {
        let words: Vec<String> = frequent
            .iter()
            .take(LETTERS)
            .enumerate()
            .map(|(i, (value, n))| format!("{} {value} {}", letter(i), count(*n)))
            .collect();
        let more = frequent.len().saturating_sub(LETTERS);
        out += &format!("\n{field}: {}", words.join(", "));
        if more > 0 {
            out += &format!(", · {more} more values");
        }
    }
    out
}
