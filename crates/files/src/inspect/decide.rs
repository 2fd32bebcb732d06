//! Which type a column has, and which column holds the keys.

use crate::file::Format;
use crate::inspect::found::Choice;
use crate::inspect::seen::{Seen, TYPES};
use std::collections::BTreeSet;

/// What a column is taken as.
pub struct Decided {
    pub kind: &'static str,
    pub remark: Option<String>,
    pub choices: Vec<Choice>,
}

pub fn decided(seen: &Seen, format: Format) -> Decided {
    let plain =
        |kind, remark: Option<&str>| Decided { kind, remark: remark.map(Into::into), choices: Vec::new() };
    let types: Vec<&'static str> = seen.types.keys().copied().filter(|t| *t != "empty array").collect();
    match types.as_slice() {
        [] if seen.types.contains_key("empty array") => plain("array of strings", None),
        [] => plain("string", Some("every value is missing")),
        ["numbers"] if seen.fraction => {
            plain("array of integers", Some("a field cannot hold arrays of numbers with fractions"))
        }
        ["numbers"] => plain("array of integers", None),
        ["integer", "number"] => plain("number", None),
        ["array of several types"] => plain(
            "array of strings",
            Some("its arrays hold items of several types; a field takes arrays of one"),
        ),
        [one] => plain(one, None),
        many => mixed(seen, many, format),
    }
}

/// A column with values of several types: taken as the one that most values have, unless text takes all of them.
pub fn mixed(seen: &Seen, types: &[&'static str], format: Format) -> Decided {
    let unit = format.unit();
    // A cell of CSV is text, whatever it looks like.
    let texts: &[&str] = match format {
        Format::Csv => &["string", "date", "timestamp", "integer", "number", "boolean"],
        _ => &["string", "date", "timestamp"],
    };
    let rejects = |kind: &str| -> Choice {
        let fits = |t: &str| match kind {
            "string" => texts.contains(&t),
            "number" => t == "integer" || t == "number",
            "array of integers" => t == "numbers" || t == "empty array",
            "array of strings" => t == "array of strings" || t == "empty array",
            kind => t == kind,
        };
        let others = seen.types.iter().filter(|(t, _)| !fits(t));
        let n_rejected = others.clone().map(|(_, s)| s.n).sum();
        let first = others.filter_map(|(_, s)| s.first.clone()).min_by_key(|(row, _)| *row);
        Choice { r#type: kind.into(), n_rejected, first }
    };
    let mut wanted: BTreeSet<&str> = types
        .iter()
        .map(|t| match *t {
            "numbers" => "array of integers",
            "array of several types" => "array of strings",
            plain => plain,
        })
        .collect();
    if types.iter().any(|t| texts.contains(t)) {
        wanted.insert("string");
    }
    let mut choices: Vec<Choice> =
        TYPES.iter().filter(|t| wanted.contains(**t)).map(|t| rejects(t)).collect();
    choices.sort_by_key(|c| c.n_rejected);
    let kind = TYPES.iter().find(|t| **t == choices[0].r#type).copied().unwrap_or("string");
    // What most values look like, and what does not.
    let common = seen.types.iter().max_by_key(|(_, s)| s.n).map(|(t, s)| (*t, s.n));
    let (look, n) = common.unwrap_or(("string", 0));
    let odd = seen.types.iter().filter(|(t, _)| **t != look).filter_map(|(_, s)| s.first.as_ref());
    let odd = odd.min_by_key(|(row, _)| *row).map_or(String::new(), |(row, v)| {
        let shown: String = v.to_string().chars().take(60).collect();
        format!("; {unit} {row} is {shown}")
    });
    let plural = |t: &str| match t {
        "boolean" | "string" | "integer" | "number" | "date" | "timestamp" => format!("{t}s"),
        "numbers" => "arrays of numbers".into(),
        t => t.replacen("array", "arrays", 1),
    };
    let remark = format!("{n} of {} look like {}{odd}", seen.n, plural(look));
    Decided { kind, remark: Some(remark), choices }
}

pub fn key_of(found: &[(String, Seen)], n: u64) -> Option<String> {
    let can = |seen: &Seen| {
        seen.n == n
            && n > 0
            && seen.types.keys().all(|t| matches!(*t, "string" | "integer" | "date" | "timestamp"))
    };
    for usual in ["key", "id", "_id", "uuid", "doc_id", "document_id"] {
        if let Some((name, _)) = found.iter().find(|(name, seen)| name == usual && can(seen)) {
            return Some(name.clone());
        }
    }
    let distinct = |seen: &Seen| seen.distinct.len() as u64 == n;
    found
        .iter()
        .find(|(name, seen)| !name.contains('.') && can(seen) && distinct(seen))
        .map(|(name, _)| name.clone())
}
