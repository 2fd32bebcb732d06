//! What the service answers, by subject. Each module holds the shapes and the handlers of one.

pub mod collections;
pub mod columns;
pub mod console;
pub mod files;
pub mod indexes;
pub mod jobs;
pub mod loads;
pub mod records;
pub mod search;
pub mod sweeps;
pub mod system;

pub(crate) use crate::edge::blocking;
use crate::edge::{Input, MAX_LIST};
use crate::hub::Hub;
use crate::problem::{Kind, Problem, Result};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::ToSchema;
use zesty_engine::filter::{Filter, Test};
use zesty_engine::index::Settings;
use zesty_engine::{Recipe, Schema};
use zesty_files::json::{Budget, Strict};

pub(crate) type Hubbed = State<Arc<Hub>>;

/// Search-time numbers that trade recall for speed
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SettingsInput {
    /// Graphs: how many candidates a walk keeps open, 1 to 10,000; 64 when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub beam: Option<usize>,
    /// Cells: how many are visited, 1 to 100,000; 16 when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub visit: Option<usize>,
    /// How many times k candidates are ranked anew, where the recipe says rescore: 1 to 100, 3 when absent
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rescore: Option<usize>,
}

impl std::fmt::Display for SettingsInput {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let words: Vec<String> =
            self.named().iter().filter_map(|(w, n)| Some(format!("{w} {}", (*n)?))).collect();
        f.write_str(&words.join(", "))
    }
}

impl SettingsInput {
    fn named(self) -> [(&'static str, Option<usize>); 3] {
        [("beam", self.beam), ("visit", self.visit), ("rescore", self.rescore)]
    }

    pub fn check(self, pointer: &str) -> Result<Settings> {
        self.over(Settings::default(), pointer)
    }

    /// What is given, and for the rest what would hold without.
    pub fn over(self, usual: Settings, pointer: &str) -> Result<Settings> {
        let settings = Settings {
            beam: self.beam.unwrap_or(usual.beam),
            visit: self.visit.unwrap_or(usual.visit),
            rescore: self.rescore.unwrap_or(usual.rescore),
        };
        check_settings(settings, pointer)?;
        Ok(settings)
    }

    /// Settings that are given and not among the `heeded`.
    pub fn idle(self, heeded: SettingsInput) -> Vec<&'static str> {
        let both = self.named().into_iter().zip(heeded.named());
        both.filter(|((_, given), (_, heeded))| given.is_some() && heeded.is_none())
            .map(|((word, _), _)| word)
            .collect()
    }

    /// Those settings that a recipe heeds.
    pub fn of(recipe: &str, settings: Settings) -> Self {
        let recipe: Option<Recipe> = recipe.parse().ok();
        let heeds = |word| recipe.is_some_and(|r| r.setting() == Some(word));
        SettingsInput {
            beam: heeds("beam").then_some(settings.beam),
            visit: heeds("visit").then_some(settings.visit),
            rescore: recipe.is_some_and(|r| r.rescore.is_some()).then_some(settings.rescore),
        }
    }
}

pub(crate) fn check_settings(settings: Settings, pointer: &str) -> Result<()> {
    for (word, value, most) in [
        ("beam", settings.beam, Settings::MAX_BEAM),
        ("visit", settings.visit, Settings::MAX_VISIT),
        ("rescore", settings.rescore, Settings::MAX_RESCORE),
    ] {
        check_range(word, value, most, &format!("{pointer}/{word}"))?;
    }
    Ok(())
}

pub(crate) fn check_range(word: &str, value: usize, most: usize, pointer: &str) -> Result<()> {
    if (1..=most).contains(&value) {
        return Ok(());
    }
    let detail = format!("{word} is {value}; it goes from 1 to {most}");
    Err(Problem::new(Kind::InvalidSettings, detail).at(pointer))
}

/// A filter as CQL2 text or as CQL2 JSON; text that begins with `{` is read as JSON
#[derive(Clone, Debug, ToSchema)]
pub enum FilterInput {
    Text(String),
    #[schema(value_type = Object)]
    Json(serde_json::Value),
}

impl<'de> Deserialize<'de> for FilterInput {
    /// JSON is read only as far as a filter may be long: a large one would take many times its bytes in memory.
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let budget = Budget::new(zesty_engine::filter::MAX_BYTES, "the filter");
        let seed = Strict { budget: Some(&budget) };
        Ok(match serde::de::DeserializeSeed::deserialize(seed, deserializer)? {
            serde_json::Value::String(text) => FilterInput::Text(text),
            json => FilterInput::Json(json),
        })
    }
}

impl FilterInput {
    /// `None` when it is blank.
    pub(crate) fn read(&self) -> Result<Option<Filter>> {
        let json = match self {
            FilterInput::Text(text) if text.trim().is_empty() => return Ok(None),
            FilterInput::Text(text) if text.trim_start().starts_with('{') => serde_json::from_str(text)
                .map_err(|e| {
                    let detail = format!("the filter begins with {{ and is not CQL2 JSON: {e}");
                    Problem::new(Kind::InvalidFilter, detail).at("/filter")
                })?,
            FilterInput::Text(text) => {
                return Filter::from_text(text).map(Some).map_err(|e| Problem::filter(&e, text));
            }
            FilterInput::Json(json) => json.clone(),
        };
        Filter::from_json(&json).map(Some).map_err(|e| Problem::filter(&e, ""))
    }

    fn text(&self) -> &str {
        match self {
            FilterInput::Text(text) => text,
            FilterInput::Json(_) => "",
        }
    }
}

impl From<String> for FilterInput {
    fn from(text: String) -> FilterInput {
        FilterInput::Text(text)
    }
}

/// A filter, and the same against the fields it speaks of; `None` when it is absent or blank.
pub(crate) fn read_and_compile(
    schema: &Schema,
    filter: Option<&FilterInput>,
) -> Result<Option<(Filter, Test)>> {
    let Some(input) = filter else { return Ok(None) };
    let Some(read) = input.read()? else { return Ok(None) };
    let test = read.compile(schema).map_err(|e| Problem::filter(&e, input.text()))?;
    Ok(Some((read, test)))
}

/// The most hits of one search.
pub const MAX_K: usize = 1000;

pub(crate) fn check_k(k: usize) -> Result<()> {
    if (1..=MAX_K).contains(&k) {
        return Ok(());
    }
    Err(Problem::new(Kind::InvalidK, format!("k is {k}; it goes from 1 to {MAX_K}"))
        .at("/k")
        .with("limit", MAX_K))
}

/// Names of collections, columns, indexes, keys and encoders: 1 to 64 of a-z, 0-9, `-` and `_`,
/// beginning with a letter.
pub(crate) fn check_name(what: &str, name: &str, pointer: &str) -> Result<()> {
    let good = (1..=64).contains(&name.len())
        && name.starts_with(|c: char| c.is_ascii_lowercase())
        && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_');
    if good {
        return Ok(());
    }
    Err(Problem::new(
        Kind::InvalidName,
        format!("\"{name}\" cannot name a {what}: use 1 to 64 of a-z, 0-9, - and _, beginning with a letter"),
    )
    .at(pointer))
}
