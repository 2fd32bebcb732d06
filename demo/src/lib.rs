//! The keepers' logbook of the Coast Lights Office: made-up notes from a seeded grammar.
//!
//! The same seed always gives the same logbook. `demo/logbook.jsonl.gz` and `demo/stations.jsonl`
//! are what this makes with seed 1911.

mod grammar;
mod people;

use chrono::{Datelike, Days, NaiveDate};
use grammar::Grammar;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Map, Value, json};
use std::collections::HashMap;

pub use people::stations;

pub const SEED: u64 = 1911;
pub const ENTRIES: usize = 30_000;

/// One line of a JSON Lines file: `key`, then the fields.
pub fn logbook(seed: u64, n: usize) -> Vec<Value> {
    let grammar = Grammar::read(include_str!("../grammar.txt"));
    let stations = stations();
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let keepers = people::keepers(&mut rng, stations.len());
    let first = NaiveDate::from_ymd_opt(1911, 3, 1).expect("a real date");
    let days = (NaiveDate::from_ymd_opt(1967, 10, 31).expect("a real date") - first).num_days() as u64;
    let watches = ["first", "middle", "morning", "forenoon", "afternoon", "dog"];

    let mut used: HashMap<String, u32> = HashMap::new();
    let mut entries: Vec<(NaiveDate, Value)> = Vec::with_capacity(n);
    let mut recent: Vec<(usize, String)> = Vec::new();
    while entries.len() < n {
        // Stations differ: some keepers fill a page, some a line a month.
        let s = (rng.random::<f64>().powf(1.5) * stations.len() as f64) as usize;
        let station = &stations[s];
        let date = first.checked_add_days(Days::new(rng.random_range(0..=days))).expect("in range");
        let winter = matches!(date.month(), 11 | 12 | 1 | 2);
        let drawn = grammar.story(&mut rng, |story| match (story.kind.as_str(), winter) {
            ("garden" | "visitor", true) => 0.2,
            (_, true) if story.tags.contains(&"snow".to_owned()) => 2.5,
            (_, false) if story.tags.contains(&"snow".to_owned()) => 0.05,
            (_, true) if story.tags.contains(&"storm".to_owned()) => 2.0,
            _ => 1.0,
        });
        // Routine is copied from the day before, sometimes with a word changed.
        let (told, note) = if rng.random_bool(0.03) && !recent.is_empty() {
            let (told, old) = recent.choose(&mut rng).expect("not empty").clone();
            (told, if rng.random_bool(0.5) { old } else { format!("{old} As yesterday.") })
        } else {
            let note = grammar.tell(&mut rng, &grammar.stories()[drawn]);
            (drawn, if rng.random_bool(0.07) { misspell(&mut rng, &note) } else { note })
        };
        let story = &grammar.stories()[told];
        recent.push((told, note.clone()));
        if recent.len() > 400 {
            recent.remove(0);
        }

        let code = &station["code"].as_str().expect("stations have codes");
        let day = format!("{code}-{date}");
        let nth = used.entry(day.clone()).or_default();
        *nth += 1;
        let key = format!("{day}-{nth}");
        let severity = rng.random_range(story.severity.clone());
        let mut body = Map::new();
        let mut set = |name: &str, missing: f64, rng: &mut ChaCha8Rng, value: Value| {
            if !rng.random_bool(missing) {
                body.insert(name.into(), value);
            }
        };
        set("key", 0.0, &mut rng, json!(key));
        set("station", 0.0, &mut rng, station["name"].clone());
        set("region", 0.0, &mut rng, station["region"].clone());
        set("logged", 0.0, &mut rng, json!(date.to_string()));
        set("year", 0.0, &mut rng, json!(date.year()));
        let watch = *watches.choose(&mut rng).expect("not empty");
        set("watch", 0.02, &mut rng, json!(watch));
        let keeper = people::on_duty(&keepers, s, date.year(), &mut rng);
        set("keeper", 0.03, &mut rng, json!(keeper));
        set("kind", 0.0, &mut rng, json!(story.kind));
        let wind = rng.random_range(story.wind.clone());
        set("wind_force", 0.06, &mut rng, json!(wind));
        let tenths = rng.random_range(story.visibility.start() * 10..=story.visibility.end() * 10);
        set("visibility_nm", 0.10, &mut rng, json!(f64::from(tenths) / 10.0));
        set("severity", 0.0, &mut rng, json!(severity));
        set("tags", 0.2, &mut rng, json!(story.tags));
        let sketch = rng.random_bool(0.06);
        set("sketch", 0.0, &mut rng, json!(sketch));
        set("note", 0.0, &mut rng, json!(note));
        entries.push((date, Value::Object(body)));
    }
    entries.sort_by(|a, b| a.0.cmp(&b.0).then_with(|| a.1["key"].as_str().cmp(&b.1["key"].as_str())));
    entries.into_iter().map(|(_, body)| body).collect()
}

/// A slip of the pen or two: letters swapped, doubled or left out in longer words.
fn misspell(rng: &mut ChaCha8Rng, note: &str) -> String {
    let mut words: Vec<String> = note.split(' ').map(Into::into).collect();
    for _ in 0..rng.random_range(1..=2) {
        let word = rng.random_range(0..words.len());
        let mut letters: Vec<char> = words[word].chars().collect();
        if letters.len() < 5 || !letters.iter().all(|c| c.is_ascii_lowercase()) {
            continue;
        }
        let at = rng.random_range(1..letters.len() - 1);
        match rng.random_range(0..3) {
            0 => letters.swap(at, at - 1),
            1 => letters.insert(at, letters[at]),
            _ => drop(letters.remove(at)),
        }
        words[word] = letters.into_iter().collect();
    }
    words.join(" ")
}

/// The fields of the logbook as JSON Schema.
pub fn logbook_schema() -> Value {
    let text = |d: &str| json!({"type": "string", "description": d});
    json!({"type": "object", "properties": {
        "station": text("The light where the entry was written"),
        "region": text("Stretch of the coast"),
        "logged": {"type": "string", "format": "date", "description": "Day of the entry"},
        "year": {"type": "integer", "description": "Year of the entry, 1911 to 1967"},
        "watch": text("first, middle, morning, forenoon, afternoon or dog"),
        "keeper": text("Who wrote it"),
        "kind": text("What the entry is about"),
        "wind_force": {"type": "integer", "description": "Beaufort, 0 to 12"},
        "visibility_nm": {"type": "number", "description": "Visibility in nautical miles"},
        "severity": {"type": "integer", "description": "1 routine to 5 lives at risk"},
        "tags": {"type": "array", "items": {"type": "string"}},
        "sketch": {"type": "boolean", "description": "Whether the page has a drawing"},
        "note": text("The entry itself"),
    }})
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn the_same_seed_writes_the_same_logbook_and_keys_are_unique() {
        let book = logbook(5, 2000);
        assert_eq!(book, logbook(5, 2000));
        assert_ne!(book, logbook(6, 2000));
        let keys: HashSet<_> = book.iter().map(|e| e["key"].as_str().unwrap()).collect();
        assert_eq!(keys.len(), 2000);
    }

    #[test]
    fn notes_are_finished_sentences_and_mostly_different() {
        let book = logbook(SEED, 4000);
        let notes: Vec<&str> = book.iter().map(|e| e["note"].as_str().unwrap()).collect();
        for note in &notes {
            assert!(!note.contains(['{', '}', '|']) && !note.contains("  "), "{note}");
            assert!(note.ends_with('.') && note.starts_with(|c: char| c.is_uppercase()), "{note}");
        }
        let distinct: HashSet<_> = notes.iter().collect();
        assert!(distinct.len() > 3200, "{}", distinct.len());
        assert!(distinct.len() < 4000, "near-duplicates are part of life");
    }

    #[test]
    fn values_go_missing_and_rare_things_are_rare() {
        let book = logbook(SEED, 5000);
        let share = |f: &dyn Fn(&Value) -> bool| book.iter().filter(|e| f(e)).count() as f64 / 5000.0;
        assert!((0.03..0.10).contains(&share(&|e| e.get("wind_force").is_none())));
        assert!((0.01..0.12).contains(&share(&|e| e["severity"] == 5)));
        assert_eq!(stations().len(), 36);
    }
}
