//! Reads `grammar.txt` and tells stories from it.

use rand::Rng;
use rand::seq::{IndexedRandom, SliceRandom};
use std::collections::HashMap;
use std::ops::RangeInclusive;

pub struct Story {
    pub kind: String,
    weight: f64,
    pub severity: RangeInclusive<i64>,
    pub wind: RangeInclusive<i64>,
    pub visibility: RangeInclusive<i32>,
    pub tags: Vec<String>,
    openings: Vec<String>,
    continuations: Vec<String>,
}

pub struct Grammar {
    slots: HashMap<String, Vec<String>>,
    stories: Vec<Story>,
}

impl Grammar {
    /// The grammar is part of the program: a mistake in it is a panic that names the line.
    pub fn read(text: &str) -> Grammar {
        let mut slots = HashMap::new();
        let mut stories: Vec<Story> = Vec::new();
        for line in text.lines().map(str::trim).filter(|l| !l.is_empty() && !l.starts_with('#')) {
            if let Some(rest) = line.strip_prefix("story ") {
                stories.push(story(rest));
            } else if let Some(opening) = line.strip_prefix("- ") {
                stories.last_mut().expect("a story before its lines").openings.push(opening.into());
            } else if let Some(more) = line.strip_prefix("+ ") {
                stories.last_mut().expect("a story before its lines").continuations.push(more.into());
            } else {
                let (name, choices) = line.split_once(" = ").unwrap_or_else(|| panic!("grammar: {line}"));
                slots.insert(name.into(), choices.split(" | ").map(|c| c.trim().into()).collect());
            }
        }
        Grammar { slots, stories }
    }

    pub fn stories(&self) -> &[Story] {
        &self.stories
    }

    /// Draws a story, by weight times leaning; its number among [`Grammar::stories`].
    pub fn story(&self, rng: &mut impl Rng, leaning: impl Fn(&Story) -> f64) -> usize {
        let all: Vec<usize> = (0..self.stories.len()).collect();
        let weight = |&i: &usize| self.stories[i].weight * leaning(&self.stories[i]);
        *all.choose_weighted(rng, weight).expect("weights are positive")
    }

    pub fn tell<R: Rng>(&self, rng: &mut R, story: &Story) -> String {
        let mut parts = vec![story.openings.choose(rng).expect("stories have openings").as_str()];
        let mut more: Vec<&str> = story.continuations.iter().map(String::as_str).collect();
        more.shuffle(rng);
        let n = [0, 1, 1, 2].choose(rng).expect("not empty");
        parts.extend(more.into_iter().take(*n));
        let mut text = String::new();
        for part in parts {
            let sentence = finish(&self.fill(rng, part));
            // Two slots may have come to the same sentence.
            let said = sentence.trim_end_matches('.').to_lowercase();
            if !text.to_lowercase().contains(&said) {
                text = if text.is_empty() { sentence } else { format!("{text} {sentence}") };
            }
        }
        text
    }

    fn fill<R: Rng>(&self, rng: &mut R, text: &str) -> String {
        let Some((before, rest)) = text.split_once('{') else { return text.into() };
        let (name, after) = rest.split_once('}').expect("slots are closed");
        let choices = self.slots.get(name).unwrap_or_else(|| panic!("no slot {name}"));
        let choice = choices.choose(rng).expect("not empty");
        let choice = self.fill(rng, choice);
        format!("{before}{choice}{}", self.fill(rng, after))
    }
}

/// Capitals after full stops, one full stop at the end, `a` before a vowel corrected.
fn finish(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 1);
    let mut start = true;
    for c in text.trim().chars() {
        if start && c.is_alphabetic() {
            out.extend(c.to_uppercase());
            start = false;
        } else {
            out.push(c);
            start = (start && c == ' ') || matches!(c, '.' | '!' | '?');
        }
    }
    while out.contains("..") {
        out = out.replace("..", ".");
    }
    if !out.ends_with(['.', '!', '?']) {
        out.push('.');
    }
    for (wrong, right) in
        [(" a a ", " a "), (" the the ", " the "), ("the a ", "a "), ("A cask of a ", "A "), ("A oil", "Oil")]
    {
        out = out.replace(wrong, right);
    }
    out
}

fn story(line: &str) -> Story {
    let (mut kind, mut weight) = (Vec::new(), 1.0);
    let mut options = HashMap::new();
    for word in line.split_whitespace() {
        if let Some((name, value)) = word.split_once('=') {
            options.insert(name, value);
        } else if let Ok(number) = word.parse() {
            weight = number;
        } else {
            kind.push(word);
        }
    }
    let range = |name: &str| {
        let (low, high) = options[name].split_once('-').expect("a range");
        (low.parse::<i64>().expect("a number"), high.parse::<i64>().expect("a number"))
    };
    let (severity, wind, visibility) = (range("sev"), range("wind"), range("vis"));
    Story {
        kind: kind.join(" "),
        weight,
        severity: severity.0..=severity.1,
        wind: wind.0..=wind.1,
        visibility: visibility.0 as i32..=visibility.1 as i32,
        tags: options["tags"].split(',').map(Into::into).collect(),
        openings: Vec::new(),
        continuations: Vec::new(),
    }
}
