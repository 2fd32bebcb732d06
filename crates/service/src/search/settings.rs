//! Settings of a search: which numbers a recipe uses, and whether they are in range.

use crate::problem::{Kind, Problem, Result};
use std::fmt::Display;
use zesty_engine::Recipe;
use zesty_engine::index::Settings;
use zesty_wire as wire;

/// The settings that are given; for the rest, those of `usual`.
pub fn settings_over(given: wire::Settings, usual: Settings, pointer: &str) -> Result<Settings> {
    let settings = Settings {
        beam: given.beam.unwrap_or(usual.beam),
        visit: given.visit.unwrap_or(usual.visit),
        rescore: given.rescore.unwrap_or(usual.rescore),
    };
    for (word, value, most) in [
        ("beam", settings.beam, Settings::MAX_BEAM),
        ("visit", settings.visit, Settings::MAX_VISIT),
        ("rescore", settings.rescore, Settings::MAX_RESCORE),
    ] {
        check_range(word, value, most, format_args!("{pointer}/{word}"))?;
    }
    Ok(settings)
}

/// The given settings that are not among those that the index uses.
pub fn unused_settings(given: wire::Settings, used: wire::Settings) -> Vec<&'static str> {
    let both = given.named().into_iter().zip(used.named());
    both.filter(|((_, given), (_, used))| given.is_some() && used.is_none())
        .map(|((word, _), _)| word)
        .collect()
}

/// Those settings that a recipe uses; none of one that cannot be read.
pub fn settings_of(recipe: &str, settings: Settings) -> wire::Settings {
    settings_used(recipe.parse().ok(), settings)
}

/// Those settings that a recipe uses.
pub fn settings_used(recipe: Option<Recipe>, settings: Settings) -> wire::Settings {
    let uses = |word| recipe.is_some_and(|r| r.setting() == Some(word));
    wire::Settings {
        beam: uses("beam").then_some(settings.beam),
        visit: uses("visit").then_some(settings.visit),
        rescore: recipe.is_some_and(|r| r.rescore.is_some()).then_some(settings.rescore),
    }
}

/// Refuses a setting that is not from 1 to `most`.
pub fn check_range(word: &str, value: usize, most: usize, pointer: impl Display) -> Result<()> {
    if (1..=most).contains(&value) {
        return Ok(());
    }
    let detail = format!("{word} is {value}; it goes from 1 to {most}");
    Err(Problem::new(Kind::InvalidSettings, detail).at(pointer.to_string()))
}

/// The most hits of one search.
pub const MAX_K: usize = 1000;
/// Hits that one search can pass over and return.
pub const MAX_DEEP: usize = 10_000;

pub fn check_k(k: usize) -> Result<()> {
    if (1..=MAX_K).contains(&k) {
        return Ok(());
    }
    Err(Problem::new(Kind::InvalidK, format!("k is {k}; it goes from 1 to {MAX_K}"))
        .at("/k")
        .with("limit", MAX_K))
}
