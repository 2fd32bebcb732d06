//! Tables and lines that people read.

use comfy_table::{Cell, CellAlignment, ContentArrangement, LineStyle, Table, TableStyle};
use serde_json::{Map, Value};
use zesty_client::Problem;
use zesty_client::wire::*;
use zesty_files::Inspection;

/// A table with the given headings; those that begin with `>` hold numbers and stand to the right.
pub fn table(headings: &[&str]) -> Table {
    let mut table = Table::new();
    table.load_style(TableStyle::new().header_separator(LineStyle::none().fill('─').junction('─')));
    table.set_content_arrangement(ContentArrangement::Dynamic);
    if !table.is_tty() {
        table.set_width(160);
    }
    table.set_header(headings.iter().map(|h| h.trim_start_matches('>')));
    for (i, heading) in headings.iter().enumerate() {
        if heading.starts_with('>')
            && let Some(column) = table.column_mut(i)
        {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    table
}

/// 12345 as 12,345.
pub fn count<N: TryInto<i128>>(n: N) -> String {
    let digits = n.try_into().unwrap_or(0).to_string();
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(c);
    }
    out
}

pub fn bytes<N: TryInto<u64>>(n: N) -> String {
    let n = n.try_into().unwrap_or(0);
    match n {
        0..1_000 => format!("{n} B"),
        1_000..1_000_000 => format!("{:.1} kB", n as f64 / 1e3),
        1_000_000..1_000_000_000 => format!("{:.1} MB", n as f64 / 1e6),
        _ => format!("{:.2} GB", n as f64 / 1e9),
    }
}

/// Microseconds in the unit that reads best.
pub fn micros(us: f64) -> String {
    match us {
        us if us < 1e3 => format!("{us:.0} us"),
        us if us < 1e6 => format!("{:.2} ms", us / 1e3),
        us => format!("{:.1} s", us / 1e6),
    }
}

/// A time, to the second, in UTC.
pub fn when(at: &chrono::DateTime<chrono::Utc>) -> String {
    at.format("%Y-%m-%d %H:%M:%S").to_string()
}

/// How many times as fast; a tenth matters while it is little.
pub fn times(ratio: f64) -> String {
    if ratio < 10.0 { format!("{ratio:.1}") } else { format!("{ratio:.0}") }
}

pub fn seconds(s: f64) -> String {
    if s < 120.0 { format!("{s:.1} s") } else { format!("{:.0} min", s / 60.0) }
}

pub fn serving(column: &Column) -> String {
    match &column.serving {
        Some(s) => match s.recall {
            Some(recall) => format!("{} (recall {recall})", s.index),
            None => format!("{} ({})", s.index, s.settings),
        },
        None => "exact scan".into(),
    }
}

pub fn collections(all: &[Collection]) -> Table {
    let mut t = table(&["collection", ">records", "vector columns", "serving", ">revision"]);
    for c in all {
        let columns: Vec<String> =
            c.columns.iter().map(|v| format!("{} ({} {})", v.name, v.dimensions, v.metric)).collect();
        let serving: Vec<String> = c.columns.iter().map(serving).collect();
        t.add_row([
            c.name.clone(),
            count(c.n_records as u64),
            columns.join("\n"),
            serving.join("\n"),
            c.revision.to_string(),
        ]);
    }
    t
}

/// How a property of a JSON Schema is called.
fn kind(property: &Value) -> String {
    let text = |v: &Value, k: &str| v.get(k).and_then(Value::as_str).unwrap_or("").to_owned();
    match (text(property, "type").as_str(), text(property, "format").as_str()) {
        ("string", "date") => "date".into(),
        ("string", "date-time") => "timestamp".into(),
        ("array", _) => format!("array of {}s", text(&property["items"], "type")),
        (kind, _) => kind.into(),
    }
}

/// Every field of a JSON Schema by dotted path.
fn properties(schema: &Value, path: &str, each: &mut dyn FnMut(&str, &Value)) {
    for (name, property) in schema["properties"].as_object().into_iter().flatten() {
        let full = format!("{path}{name}");
        match property["type"].as_str() {
            Some("object") => properties(property, &format!("{full}."), each),
            _ => each(&full, property),
        }
    }
}

/// What a look into a file found.
pub fn inspection(found: &Inspection) -> String {
    let rows = match found.n_rows {
        Some(n) => format!("{} rows", count(n)),
        None => format!("more than {} rows", count(found.n_sampled)),
    };
    let looked = if found.n_rows == Some(found.n_sampled) {
        String::new()
    } else {
        format!(", {} read", count(found.n_sampled))
    };
    let mut out = format!("{}  {rows}{looked}", found.file);
    if let Some(key) = &found.key {
        out += &format!("; keys in \"{key}\"");
    }
    if !found.fields.is_empty() {
        let mut t = table(&["field", "type", ">missing", ">distinct", "examples"]);
        for f in &found.fields {
            let name =
                if f.name == f.source { f.name.clone() } else { format!("{} (was {})", f.name, f.source) };
            let mut examples: Vec<String> = f.examples.iter().map(|e| shortened(&plain(e), 28)).collect();
            examples.extend(f.remark.iter().map(|r| format!("! {r}")));
            t.add_row([
                name,
                f.r#type.clone(),
                count(f.n_missing),
                count(f.n_distinct),
                examples.join(" · "),
            ]);
        }
        out += &format!("\n{t}");
    }
    if !found.vectors.is_empty() {
        let mut t = table(&["vectors", ">dimensions", "element", ">missing", "remark"]);
        for v in &found.vectors {
            t.add_row([
                v.source.clone(),
                v.dimensions.to_string(),
                v.element.clone(),
                count(v.n_missing),
                v.remark.clone().unwrap_or_default(),
            ]);
        }
        out += &format!("\n{t}");
    }
    for trouble in &found.troubles {
        out += &format!("\n! {trouble}");
    }
    out
}

pub fn shortened(text: &str, width: usize) -> String {
    match text.chars().count() {
        n if n > width => format!("{}…", text.chars().take(width - 1).collect::<String>()),
        _ => text.to_owned(),
    }
}

/// The reconciliation of a load.
pub fn load_done(collection: &str, d: &LoadResult, elapsed: f64) -> String {
    let others = if d.others_wrote { "; others wrote to it meanwhile" } else { "" };
    let unencoded = match d.unencoded {
        0 => String::new(),
        n => format!(", {} of them without a vector", count(n)),
    };
    format!(
        "read {} = new {} + replaced {} + unchanged {} + rejected {}{unencoded}, in {} ({}/s)\n{collection} held {} \
         records and holds {} at revision {}{others}",
        count(d.read),
        count(d.new),
        count(d.replaced),
        count(d.unchanged),
        count(d.rejected),
        seconds(elapsed),
        count((d.read as f64 / elapsed.max(1e-6)) as u64),
        count(d.before),
        count(d.in_database),
        d.revision,
    )
}

pub fn loads(all: &[Load]) -> Table {
    let mut t =
        table(&[">load", "state", "files", ">read", ">new", ">replaced", ">unchanged", ">rejected", "when"]);
    for l in all {
        t.add_row([
            l.id.to_string(),
            l.state.clone(),
            l.files.join(", "),
            count(l.read),
            count(l.new),
            count(l.replaced),
            count(l.unchanged),
            count(l.rejected),
            when(&l.created_at),
        ]);
    }
    t
}

pub fn costs(c: &Costs) -> String {
    let mut t = table(&["part", "name", ">rows", ">MariaDB", ">disk", ">memory", ">mapped", ">coverage"]);
    let shown = |n: u64| if n == 0 { String::new() } else { bytes(n) };
    for p in &c.parts {
        let coverage = p.coverage.map_or(String::new(), |c| format!("{:.1}%", c * 100.0));
        t.add_row([
            p.part.clone(),
            p.name.clone(),
            count(p.n),
            shown(p.database),
            shown(p.disk),
            shown(p.memory),
            shown(p.mapped),
            coverage,
        ]);
    }
    t.add_row([
        "total".into(),
        String::new(),
        String::new(),
        bytes(c.database),
        bytes(c.disk),
        bytes(c.memory),
        bytes(c.mapped),
        String::new(),
    ]);
    let written =
        c.written_at.map_or("nothing was written yet".into(), |w| format!("last written {}", when(&w)));
    format!("{t}\n{written}, revision {}", c.revision)
}

pub fn unencoded(column: &str, u: &Unencoded) -> String {
    let mut out = format!("{} records have no vector in {column}", count(u.n_without_vector));
    if !u.records.is_empty() {
        let mut t = table(&["key", "why"]);
        for r in &u.records {
            t.add_row([r.key.as_str(), r.reason.as_str()]);
        }
        out += &format!("; the encoder would not take:\n{t}");
    }
    out
}

pub fn collection(c: &Collection) -> String {
    let mut out = format!("{}  {} records, revision {}\n", c.name, count(c.n_records as u64), c.revision);
    if !c.description.is_empty() {
        out += &format!("{}\n", c.description);
    }
    if let Some(trouble) = &c.trouble {
        out += &format!("{trouble}\n");
    }
    let mut t = table(&["field", "type", "description"]);
    properties(&c.fields, "", &mut |path, property| {
        let mut text = property["description"].as_str().unwrap_or("").to_owned();
        for (word, said) in [("refersTo", "refers to "), ("storedOnly", "stored only")] {
            if let Some(value) = property.get(word) {
                text += &format!(
                    "{}({said}{})",
                    if text.is_empty() { "" } else { " " },
                    value.as_str().unwrap_or("")
                );
            }
        }
        t.add_row([path, &kind(property), &text]);
    });
    out += &format!("{t}\n");
    let mut t = table(&[
        "vector column",
        ">dimensions",
        "metric",
        "encoder",
        "reads",
        ">vectors",
        ">memory",
        ">mapped",
        "serving",
    ]);
    for v in &c.columns {
        t.add_row([
            if c.columns.len() > 1 && Some(&v.name) == c.default_column.as_ref() {
                format!("{} (default)", v.name)
            } else {
                v.name.clone()
            },
            v.dimensions.to_string(),
            v.metric.clone(),
            v.encoder.clone().unwrap_or("none".into()),
            v.template.clone().unwrap_or_default(),
            count(v.n_vectors as u64),
            bytes(v.n_bytes_memory),
            bytes(v.n_bytes_mapped),
            serving(v),
        ]);
    }
    match c.columns.is_empty() {
        true => out += &format!("no vector column yet; `zesty column add {} NAME` adds one", c.name),
        false => out += &t.to_string(),
    }
    if !c.indexes.is_empty() {
        out += &format!("\n{}", indexes(&c.indexes));
    }
    out
}

pub fn indexes(all: &[Index]) -> Table {
    // One column of vectors needs no naming.
    let several = all.iter().any(|i| i.column != all[0].column);
    let mut head = vec![
        "index",
        "recipe",
        "state",
        ">rows",
        ">newer",
        ">dead",
        ">read throughout",
        ">file",
        ">built in",
    ];
    head.extend([">recall", ">p50", "at", "serving"]);
    if several {
        head.insert(1, "column");
    }
    let mut t = table(&head);
    for i in all {
        let state = match &i.error {
            Some(why) => format!("{}: {why}", i.state),
            None => i.state.clone(),
        };
        let m = i.measured.as_ref();
        let mut row = vec![
            i.name.clone(),
            i.recipe.clone(),
            state,
            count(i.n_rows),
            count(i.n_uncovered),
            count(i.n_dead),
            bytes(i.n_bytes_memory),
            bytes(i.n_bytes_file),
            seconds(i.build_seconds),
            m.map_or(String::new(), |m| format!("{:.4}", m.recall_mean)),
            m.map_or(String::new(), |m| micros(m.p50_us)),
            m.map_or(String::new(), |m| m.settings.to_string()),
            if i.serving { "yes".into() } else { String::new() },
        ];
        if several {
            row.insert(1, i.column.clone());
        }
        t.add_row(row);
    }
    t
}

/// A recipe, stage by stage.
pub fn explained(e: &RecipeExplained) -> String {
    let mut t = table(&["stage", "what it does", ">bytes a row", ">and once"]);
    for s in &e.stages {
        t.add_row([s.stage.clone(), s.what.clone(), format!("{:.1}", s.bytes_per_row), bytes(s.fixed_bytes)]);
    }
    let why = e.why.as_ref().map(|why| format!("\nchosen {why}")).unwrap_or_default();
    let learns = e.learns_from.map(|n| format!("\nlearns from {} rows", count(n))).unwrap_or_default();
    let notices: String = e.notices.iter().map(|n| format!("\nnotice: {n}")).collect();
    format!(
        "{}\nfor {} rows x {}, {}{why}\n{t}\nexpected: {} in memory, {} on disk, about {} of processor time to build{learns}{notices}",
        e.recipe,
        count(e.rows),
        e.dimensions,
        e.metric,
        bytes(e.expected.memory_bytes),
        bytes(e.expected.file_bytes),
        seconds(e.expected.build_seconds)
    )
}

/// Eight heights, to draw a histogram in a line.
const HEIGHTS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

pub fn field_counts(f: &Fields) -> Table {
    let mut t = table(&["field", "type", ">present", ">missing", ">distinct", "values"]);
    for field in &f.fields {
        let values = match &field.histogram {
            Some(h) => {
                let most = h.counts.iter().copied().max().unwrap_or(1).max(1);
                let bars: String = h.counts.iter().map(|n| HEIGHTS[(n * 8).div_ceil(most).min(8)]).collect();
                format!("{} {bars} {}", plain(&h.low), plain(&h.high))
            }
            // Where hardly any value comes twice, the frequent ones say nothing.
            None if field.values.first().is_none_or(|v| v.count < 2) => String::new(),
            None => {
                let listed = field.values.iter().map(|v| {
                    let text: String = plain(&v.value).chars().take(28).collect();
                    format!("{text} {}", count(v.count))
                });
                listed.collect::<Vec<_>>().join(" · ")
            }
        };
        t.add_row([
            field.name.clone(),
            field.r#type.clone(),
            count(field.n_present),
            count(field.n_missing),
            count(field.n_distinct),
            values,
        ]);
    }
    t
}

/// A value of a field, as one reads it.
pub fn plain(value: &Value) -> String {
    match value {
        Value::String(s) => s.clone(),
        Value::Array(items) => items.iter().map(plain).collect::<Vec<_>>().join(", "),
        Value::Null => String::new(),
        other => other.to_string(),
    }
}

/// The fields of a record in a few lines: short ones together, long texts on lines of their own.
pub fn fields(fields: &Map<String, Value>) -> String {
    let (mut short, mut long) = (Vec::new(), Vec::new());
    for (name, value) in fields {
        let text = plain(value);
        match text.chars().count() {
            0 => {}
            1..=40 => short.push(format!("{name} {text}")),
            _ => long.push(text),
        }
    }
    long.push(short.join(" · "));
    long.retain(|l| !l.is_empty());
    long.join("\n")
}

/// Hits as a table. With chosen fields one column each; else the whole record in one.
pub fn hits(hits: &[Hit], chosen: Option<&[String]>, missed: &[String]) -> Table {
    let mut headings = vec![">#", ">score", ">distance", "key"];
    match chosen {
        Some(chosen) => headings.extend(chosen.iter().map(String::as_str)),
        None => headings.push("record"),
    }
    let mut t = table(&headings);
    if chosen.is_none() {
        // Whole records take several lines each, and need a line between them.
        let style = t.style().row_separator(LineStyle::none().fill('┄').junction('┄'));
        t.load_style(style);
    }
    for (i, hit) in hits.iter().enumerate() {
        let mark = if missed.contains(&hit.key) { "○ " } else { "" };
        let mut row = vec![
            (i + 1).to_string(),
            format!("{:.4}", hit.score),
            format!("{:.4}", hit.distance),
            format!("{mark}{}", hit.key),
        ];
        match chosen {
            Some(chosen) => {
                row.extend(chosen.iter().map(|f| at_path(&hit.fields, f).map(plain).unwrap_or_default()))
            }
            None => row.push(fields(&hit.fields)),
        }
        // What the record refers to is shown under it.
        for (name, found) in hit.follow.iter().flatten() {
            let about = found.as_ref().map(|f| fields(&f.fields));
            let about = about.unwrap_or_else(|| "no such record".into());
            let key = found.as_ref().map_or("", |f| f.key.as_str());
            let last = row.last_mut().expect("a row has a key");
            *last += &format!("\n→ {name} {key}: {about}");
        }
        t.add_row(row);
    }
    t
}

/// Hits as CSV: the query where there are several, place, score, distance, key, then fields.
pub fn csv(answers: &[(Option<&str>, &SearchAnswer)], chosen: Option<&[String]>) -> Result<String, String> {
    let mut names: Vec<String> = chosen.unwrap_or_default().to_vec();
    if chosen.is_none() {
        for hit in answers.iter().flat_map(|(_, a)| &a.hits) {
            names.extend(hit.fields.keys().filter(|k| !names.contains(k)).cloned().collect::<Vec<_>>());
        }
    }
    let mut out = csv::Writer::from_writer(Vec::new());
    let several = answers.iter().any(|a| a.0.is_some());
    let query = several.then_some("query");
    let heading = query.into_iter().chain(["place", "score", "distance", "key"]);
    let failed = |e: csv::Error| e.to_string();
    out.write_record(heading.chain(names.iter().map(String::as_str))).map_err(failed)?;
    for (query, answer) in answers {
        for (i, hit) in answer.hits.iter().enumerate() {
            let mut row: Vec<String> = query.iter().map(|q| (*q).to_owned()).collect();
            row.extend([
                (i + 1).to_string(),
                hit.score.to_string(),
                hit.distance.to_string(),
                hit.key.clone(),
            ]);
            row.extend(names.iter().map(|name| match at_path(&hit.fields, name) {
                Some(Value::String(s)) => s.clone(),
                None | Some(Value::Null) => String::new(),
                // Lists and objects as JSON, so that they can be read back.
                Some(other) => other.to_string(),
            }));
            out.write_record(row).map_err(failed)?;
        }
    }
    let bytes = out.into_inner().map_err(|e| e.to_string())?;
    String::from_utf8(bytes).map_err(|e| e.to_string())
}

/// A member by name, or by dotted path.
fn at_path<'a>(fields: &'a Map<String, Value>, path: &str) -> Option<&'a Value> {
    fields.get(path).or_else(|| {
        let mut steps = path.split('.');
        let first = fields.get(steps.next()?)?;
        steps.try_fold(first, |value, step| value.get(step))
    })
}

/// One line on how the answer came about.
pub fn via(s: &SearchAnswer) -> String {
    let plan = &s.via.plan;
    let cut = s.notices.iter().any(|n| n.code == "time-limit");
    let how = match plan.strategy {
        _ if cut => "stopped by its time limit".to_owned(),
        Strategy::ScanAll => "exact: scanned every record".to_owned(),
        Strategy::ScanAllowed => "exact: scanned the allowed records".to_owned(),
        _ => {
            let settings = s.via.settings.as_ref().map(|x| format!(" with {x}")).unwrap_or_default();
            let widened =
                plan.widened.map(|x| format!(", widened to {x} for the filter")).unwrap_or_default();
            let target = s.via.target.as_ref().map(|t| {
                let stale = if t.stale { ", stale" } else { "" };
                format!(", which gave recall {:.3} at k {} (target {}{stale})", t.achieved, t.k, t.id)
            });
            let index = s.via.index.as_deref().unwrap_or("?");
            format!("approximate: index {index}{settings}{widened}{}", target.unwrap_or_default())
        }
    };
    let filtered = if plan.allowed < plan.rows {
        format!(", filter allows {} of {}", count(plan.allowed), count(plan.rows))
    } else {
        String::new()
    };
    let distances = s.via.work.distances;
    let t = &s.timing;
    let encode = if t.encode_us > 0.0 { format!("encode {}, ", micros(t.encode_us)) } else { String::new() };
    format!(
        "{how}{filtered}; {} distances; {encode}filter {}, search {}, fetch {}, all {}; revision {}",
        count(distances),
        micros(t.filter_us),
        micros(t.search_us),
        micros(t.fetch_us),
        micros(t.total_us),
        s.revision
    )
}

pub fn jobs(all: &[Job]) -> Table {
    let mut t = table(&[">job", "kind", "collection", "subject", "state", ">time", "error"]);
    for j in all {
        t.add_row([
            Cell::new(j.id),
            Cell::new(&j.kind),
            Cell::new(&j.collection),
            Cell::new(&j.subject),
            Cell::new(&j.state),
            Cell::new(seconds(j.elapsed_s)),
            Cell::new(j.error.as_deref().unwrap_or("")),
        ]);
    }
    t
}

/// A refusal: what, where, and the request id to find it in the service's log.
pub fn problem(p: &Problem, filter: Option<&str>) -> String {
    let mut out = p.detail.clone();
    if let (Some(at), Some(text)) = (p.rest.get("at"), filter)
        && p.word() == "invalid-filter"
        && at.get("line").is_some()
    {
        let number = |k: &str| at[k].as_u64().unwrap_or(0) as usize;
        let line = text.lines().nth(number("line").saturating_sub(1)).unwrap_or("");
        let before: usize = number("column").saturating_sub(1);
        let width = text.get(number("start")..number("end")).map_or(1, |t| t.chars().count()).max(1);
        out += &format!("\n  {line}\n  {}{}", " ".repeat(before), "^".repeat(width));
    }
    out + &format!("\n  ({}, request {})", p.word(), p.request_id)
}

/// What an edit of many left out because others changed it meanwhile; nothing when that is none.
pub fn left_out(n: usize, keys: &[String]) -> String {
    if n == 0 {
        return String::new();
    }
    let more = if n > keys.len() { ", ..." } else { "" };
    format!(
        ", {} left out because others changed them meanwhile ({}{more})",
        count(n as u64),
        keys.join(", ")
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_well() {
        assert_eq!(
            ["0", "999", "1,000", "1,234,567"],
            [0, 999, 1000, 1_234_567].map(count).map(|s| s).each_ref().map(|s| s.as_str())
        );
        assert_eq!(micros(12.4), "12 us");
        assert_eq!(micros(2_500.0), "2.50 ms");
        assert_eq!(bytes(46_080_000), "46.1 MB");
    }
}
