//! Texts find notes that mean the same in other words.

use std::collections::HashSet;
use std::path::Path;
use std::sync::OnceLock;
use zesty_encoder::model::{Model, words};

struct Book {
    models: Vec<Model>,
    notes: Vec<(String, String)>,
    vectors: Vec<Vec<Vec<f32>>>,
}

/// The shipped notes, thinned; both models learned from all of them.
fn book() -> &'static Book {
    static BOOK: OnceLock<Book> = OnceLock::new();
    BOOK.get_or_init(|| {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/logbook.jsonl.gz");
        let models = zesty_encoder::models(&path, None).unwrap();
        let file = flate2::read::GzDecoder::new(std::fs::File::open(path).unwrap());
        let notes: Vec<(String, String)> = std::io::BufRead::lines(std::io::BufReader::new(file))
            .step_by(5)
            .map(|line| {
                let v: serde_json::Value = serde_json::from_str(&line.unwrap()).unwrap();
                (v["kind"].as_str().unwrap().into(), v["note"].as_str().unwrap().into())
            })
            .collect();
        let vectors = models.iter().map(|m| notes.iter().map(|(_, n)| m.encode(n)).collect()).collect();
        Book { models, notes, vectors }
    })
}

/// Common words do not make two texts alike.
const SMALL: [&str; 40] = [
    "a", "an", "and", "at", "the", "of", "on", "in", "to", "for", "with", "by", "our", "was", "is", "it",
    "we", "had", "has", "his", "her", "from", "all", "out", "up", "down", "off", "one", "two", "four",
    "after", "not", "that", "as", "no", "he", "she", "they", "into", "over",
];

fn content(text: &str) -> HashSet<String> {
    words(text).filter(|w| !SMALL.contains(&w.as_str())).collect()
}

#[test]
fn queries_find_notes_that_share_none_of_their_words() {
    let book = book();
    let queries = [
        ("gale tearing at the shutters", "weather"),
        ("sea smooth, windless and still", "weather"),
        ("hailstones and ice, everything frozen", "weather"),
        ("the siren moaned through thick mist", "fog signal"),
        ("air engine knocked and stalled", "fog signal"),
        ("polished the lens till it shone", "lamp"),
        ("the gears jammed so we cranked by hand", "lamp"),
        ("tender landed flour and potatoes", "supply"),
        ("nothing left to eat but biscuit", "supply"),
        ("schooner aground, crew hauled in on a rope", "rescue"),
        ("upturned dinghy and two boys in the water", "rescue"),
        ("gannets and terns round the lantern at night", "wildlife"),
        ("whale swimming close by the rock", "wildlife"),
        ("soldered the leaking tank", "repair"),
        ("superintendent counted the stores", "inspection"),
        ("tourists with sketchbooks climbed the tower", "visitor"),
        ("fever and a bad chest, sent for the physician", "illness"),
        ("hens on the roof again", "animals"),
        ("the telephone is dead", "signals"),
        ("rabbits ate the cabbages", "garden"),
    ];
    for (m, model) in book.models.iter().enumerate() {
        let mut right = 0;
        let mut wrong = Vec::new();
        for (query, kind) in queries {
            let mine = content(query);
            let vector = model.encode(query);
            let mut ranked: Vec<(f32, usize)> = book.vectors[m]
                .iter()
                .enumerate()
                .map(|(i, v)| (v.iter().zip(&vector).map(|(a, b)| a * b).sum(), i))
                .collect();
            ranked.sort_by(|a, b| b.0.total_cmp(&a.0));
            let others: Vec<&(String, String)> = ranked
                .iter()
                .map(|&(_, i)| &book.notes[i])
                .filter(|(_, note)| content(note).is_disjoint(&mine))
                .take(10)
                .collect();
            let hits = others.iter().filter(|(k, _)| k == kind).count();
            if hits >= 6 {
                right += 1;
            } else {
                wrong.push(format!("{query} ({kind}): {hits} of 10; first {:?}", others[0]));
            }
        }
        assert!(right >= 18, "{}: {right} of {}\n{}", model.name, queries.len(), wrong.join("\n"));
    }
}

#[test]
fn misspelt_words_land_near_the_right_ones() {
    let similarity = |model: &Model, a: &str, b: &str| -> f32 {
        model.encode(a).iter().zip(model.encode(b)).map(|(x, y)| x * y).sum()
    };
    for model in &book().models {
        let right = similarity(model, "the barometer drops", "the baromter drops");
        let other = similarity(model, "the barometer drops", "cabbages and leeks");
        assert!(right > 0.6 && right > other + 0.3, "{}: {right} {other}", model.name);
    }
}

#[test]
fn every_text_has_a_unit_vector_and_learning_is_repeatable() {
    let notes: Vec<String> = book().notes.iter().take(300).map(|(_, n)| n.clone()).collect();
    let cache = tempfile::tempdir().unwrap();
    let learn = |cache| Model::load_or_learn(&notes, &zesty_encoder::SIZES, cache).unwrap();
    let (first, second, cached) = (learn(Some(cache.path())), learn(None), learn(Some(cache.path())));
    for ((a, b), c) in first.iter().zip(&second).zip(&cached) {
        for text in ["storm", "", "☂☂☂", "qqqq zzzz", "the gale", &"word ".repeat(5000)] {
            let v = a.encode(text);
            let length: f32 = v.iter().map(|x| x * x).sum();
            assert!((length - 1.0).abs() < 1e-4 && v.len() == a.dimensions, "{text}");
            assert_eq!(v, b.encode(text));
            assert_eq!(v, c.encode(text));
        }
    }
}
