//! Recipes: the one-line description of an index.
//!
//! `stage | stage | ...`, read left to right; a stage is a word with optional named arguments.
//! This crate builds the routes `scan` and `graph(links=16, build=200, layers=on)`, the stores `f16` and `int8`
//! (`f32` when there is none), and the finish `rescore(f32)` or `rescore(f16)`, which keeps finer vectors beside
//! the codes and ranks the candidates anew with them.

use crate::names::did_you_mean;
use std::fmt;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct GraphRecipe {
    /// Neighbours kept per node on upper layers; the ground layer keeps twice as many. 2 to 256.
    pub links: usize,
    /// Candidates kept open while a node is inserted. `links` to 4096.
    pub build: usize,
    /// Whether sparse upper layers lead to the entry of the ground layer.
    pub layers: bool,
}

impl Default for GraphRecipe {
    fn default() -> Self {
        GraphRecipe { links: 16, build: 200, layers: true }
    }
}

/// How candidates are found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Route {
    Scan,
    Graph(GraphRecipe),
}

/// How vectors are kept; coarser ones come later.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Store {
    F32,
    F16,
    Int8,
}

impl Store {
    pub fn name(self) -> &'static str {
        match self {
            Store::F32 => "f32",
            Store::F16 => "f16",
            Store::Int8 => "int8",
        }
    }

    /// Bytes of one vector.
    pub fn n_bytes(self, dimensions: usize) -> usize {
        match self {
            Store::F32 => 4 * dimensions,
            Store::F16 => 2 * dimensions,
            // With its scale and its squared length.
            Store::Int8 => dimensions + 8,
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Recipe {
    pub route: Route,
    pub store: Store,
    /// Finer vectors that candidates are ranked with anew.
    pub rescore: Option<Store>,
}

impl From<Route> for Recipe {
    fn from(route: Route) -> Self {
        Recipe { route, store: Store::F32, rescore: None }
    }
}

/// What is wrong with a recipe and where: `offset` counts bytes from its start.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct RecipeError {
    pub offset: usize,
    pub message: String,
}

fn error<T>(offset: usize, message: impl Into<String>) -> Result<T, RecipeError> {
    Err(RecipeError { offset, message: message.into() })
}

impl fmt::Display for Recipe {
    /// The canonical form: defaults of `links` and `build` are spelled out, `layers` only when off.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.route {
            Route::Scan => f.write_str("scan")?,
            Route::Graph(g) => {
                write!(f, "graph(links={}, build={}", g.links, g.build)?;
                f.write_str(if g.layers { ")" } else { ", layers=off)" })?;
            }
        }
        if self.store != Store::F32 {
            write!(f, " | {}", self.store.name())?;
        }
        match self.rescore {
            Some(finer) => write!(f, " | rescore({})", finer.name()),
            None => Ok(()),
        }
    }
}

struct Argument<'a> {
    offset: usize,
    name: &'a str,
    value_offset: usize,
    value: &'a str,
}

struct Stage<'a> {
    offset: usize,
    word: &'a str,
    arguments: Vec<Argument<'a>>,
}

struct Reader<'a> {
    text: &'a str,
    at: usize,
}

impl<'a> Reader<'a> {
    fn skip_space(&mut self) {
        self.at = self.text.len() - self.text[self.at..].trim_start().len();
    }

    fn peek(&mut self) -> Option<char> {
        self.skip_space();
        self.text[self.at..].chars().next()
    }

    fn take(&mut self, wanted: char) -> bool {
        let found = self.peek() == Some(wanted);
        if found {
            self.at += wanted.len_utf8();
        }
        found
    }

    fn word(&mut self, what: &str) -> Result<(usize, &'a str), RecipeError> {
        self.skip_space();
        let (offset, rest) = (self.at, &self.text[self.at..]);
        let end = rest
            .find(|c: char| !(c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.')))
            .unwrap_or(rest.len());
        if end == 0 {
            let found = rest.chars().next().map_or("the end".into(), |c| format!("\"{c}\""));
            return error(offset, format!("expected {what}, found {found}"));
        }
        self.at += end;
        Ok((offset, &rest[..end]))
    }

    fn stage(&mut self) -> Result<Stage<'a>, RecipeError> {
        let (offset, word) = self.word("a stage such as graph or scan")?;
        let mut arguments: Vec<Argument> = Vec::new();
        if self.take('(') && !self.take(')') {
            loop {
                let (offset, name) = self.word("an argument such as links=16")?;
                let (name, value_offset, value) = if self.take('=') {
                    let (value_offset, value) = self.word("a value")?;
                    (name, value_offset, value)
                } else {
                    ("", offset, name)
                };
                if arguments.iter().any(|a| a.name == name) {
                    return error(
                        offset,
                        format!("{} is given twice", if name.is_empty() { "the value" } else { name }),
                    );
                }
                arguments.push(Argument { offset, name, value_offset, value });
                if self.take(')') {
                    break;
                }
                if !self.take(',') {
                    return error(self.at, "expected \",\" or \")\"");
                }
            }
        }
        Ok(Stage { offset, word, arguments })
    }
}

impl std::str::FromStr for Recipe {
    type Err = RecipeError;

    fn from_str(text: &str) -> Result<Self, RecipeError> {
        let mut reader = Reader { text, at: 0 };
        let stage = reader.stage()?;
        let route = match stage.word {
            "scan" => {
                if let Some(argument) = stage.arguments.first() {
                    return error(argument.offset, "scan takes no arguments");
                }
                Route::Scan
            }
            "graph" => Route::Graph(graph(&stage.arguments)?),
            "f16" | "int8" | "rescore" => {
                let why = format!("a recipe begins with its route: write graph | {}", stage.word);
                return error(stage.offset, why);
            }
            other => {
                let hint = did_you_mean(other, ["scan", "graph"]);
                return error(
                    stage.offset,
                    format!("unknown stage \"{other}\"; the routes are scan and graph{hint}"),
                );
            }
        };
        let mut recipe = Recipe::from(route);
        while reader.take('|') {
            let next = reader.stage()?;
            recipe.add(&next)?;
        }
        if let Some(extra) = reader.peek() {
            return error(
                reader.at,
                format!("unexpected \"{extra}\" after the recipe; stages stand between |"),
            );
        }
        Ok(recipe)
    }
}

impl Recipe {
    /// Adds a stage that follows the route.
    fn add(&mut self, stage: &Stage) -> Result<(), RecipeError> {
        let store = match stage.word {
            "f16" => Store::F16,
            "int8" => Store::Int8,
            "rescore" => return self.finish(stage),
            "scan" | "graph" => {
                return error(stage.offset, "a recipe has one route, and it stands first");
            }
            "f32" => {
                return error(stage.offset, "f32 is what a recipe without a store keeps; leave it out");
            }
            other => {
                let hint = did_you_mean(other, ["f16", "int8", "rescore"]);
                let known = "after the route stand a store, f16 or int8, and rescore(f32) or rescore(f16)";
                return error(stage.offset, format!("unknown stage \"{other}\"; {known}{hint}"));
            }
        };
        if let Some(argument) = stage.arguments.first() {
            return error(argument.offset, format!("{} takes no arguments", stage.word));
        }
        if self.rescore.is_some() {
            return error(stage.offset, "the store stands before rescore");
        }
        if self.store != Store::F32 {
            return error(
                stage.offset,
                format!("a recipe has one store; it has {} already", self.store.name()),
            );
        }
        self.store = store;
        Ok(())
    }

    fn finish(&mut self, stage: &Stage) -> Result<(), RecipeError> {
        if self.rescore.is_some() {
            return error(stage.offset, "rescore is given twice");
        }
        let [Argument { name: "", value, value_offset, .. }] = stage.arguments[..] else {
            return error(stage.offset, "rescore takes what it ranks with: rescore(f32) or rescore(f16)");
        };
        let finer = match value {
            "f32" => Store::F32,
            "f16" => Store::F16,
            other => {
                let hint = did_you_mean(other, ["f32", "f16"]);
                return error(value_offset, format!("rescore takes f32 or f16, not \"{other}\"{hint}"));
            }
        };
        if finer >= self.store {
            let why = format!(
                "{} is no finer than the store, {}: nothing would change; leave rescore out, or store codes such as int8",
                finer.name(),
                self.store.name()
            );
            return error(value_offset, why);
        }
        self.rescore = Some(finer);
        Ok(())
    }

    /// Bytes of one row's vectors: codes, and what they are ranked with anew.
    pub fn n_bytes_row(&self, dimensions: usize) -> usize {
        self.store.n_bytes(dimensions) + self.rescore.map_or(0, |s| s.n_bytes(dimensions))
    }
}

fn graph(arguments: &[Argument]) -> Result<GraphRecipe, RecipeError> {
    let mut graph = GraphRecipe::default();
    let mut build_offset = None;
    for argument in arguments {
        let number = |low: usize, high: usize| match argument.value.parse::<usize>() {
            Ok(n) if (low..=high).contains(&n) => Ok(n),
            _ => error(
                argument.value_offset,
                format!(
                    "{} takes a whole number from {low} to {high}, not \"{}\"",
                    argument.name, argument.value
                ),
            ),
        };
        match argument.name {
            "" => {
                let value = argument.value;
                return error(argument.offset, format!("write arguments by name, such as links={value}"));
            }
            "links" => graph.links = number(2, 256)?,
            "build" => {
                graph.build = number(2, 4096)?;
                build_offset = Some(argument.value_offset);
            }
            "layers" => {
                graph.layers = match argument.value {
                    "on" => true,
                    "off" => false,
                    other => {
                        return error(argument.value_offset, format!("layers is on or off, not \"{other}\""));
                    }
                }
            }
            other => {
                let known = ["links", "build", "layers"];
                return error(
                    argument.offset,
                    format!(
                        "graph has no argument \"{other}\"; it takes links, build and layers{}",
                        did_you_mean(other, known)
                    ),
                );
            }
        }
    }
    if graph.build < graph.links {
        match build_offset {
            Some(offset) => {
                return error(
                    offset,
                    format!(
                        "build={} is below links={}; a node cannot choose {} neighbours from fewer \
                         candidates, so use build={} or more",
                        graph.build, graph.links, graph.links, graph.links
                    ),
                );
            }
            None => graph.build = graph.links,
        }
    }
    Ok(graph)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn ways_of_writing_one_recipe_print_alike() {
        for text in ["graph", "graph()", " graph ( build = 200 , links=16,layers=on ) "] {
            assert_eq!(text.parse::<Recipe>().unwrap().to_string(), "graph(links=16, build=200)");
        }
        let flat = "graph(links=8, build=50, layers=off)";
        assert_eq!(flat.parse::<Recipe>().unwrap().to_string(), flat);
        assert_eq!("scan".parse::<Recipe>().unwrap(), Route::Scan.into());
        let composite = " graph( links = 24 )|int8 | rescore( f32 )".parse::<Recipe>().unwrap();
        assert_eq!(composite.to_string(), "graph(links=24, build=200) | int8 | rescore(f32)");
        assert_eq!(composite.n_bytes_row(100), 108 + 400);
    }

    #[test]
    fn errors_point_at_the_place() {
        for (text, offset, part) in [
            ("", 0, "expected a stage"),
            ("grahp", 0, "did you mean \"graph\""),
            ("graph(link=16)", 6, "did you mean \"links\""),
            ("graph(links=1)", 12, "from 2 to 256"),
            ("graph(links=99999999999999999999)", 12, "from 2 to 256"),
            ("graph(links=32, build=20)", 22, "use build=32 or more"),
            ("graph(links=4, links=5)", 15, "given twice"),
            ("graph(layers=maybe)", 13, "on or off"),
            ("graph(16)", 6, "by name"),
            ("graph(links=4", 13, "expected \",\" or \")\""),
            ("graph | graph", 8, "one route"),
            ("int8", 0, "write graph | int8"),
            ("graph | int9", 8, "did you mean \"int8\""),
            ("graph | f32", 8, "leave it out"),
            ("graph | int8 | f16", 15, "one store"),
            ("graph | int8(4)", 13, "no arguments"),
            ("graph | rescore(f32)", 16, "no finer than the store, f32"),
            ("graph | f16 | rescore(f16)", 22, "no finer than the store, f16"),
            ("graph | int8 | rescore", 15, "rescore(f32)"),
            ("graph | int8 | rescore(int8)", 23, "f32 or f16"),
            ("graph | int8 | rescore(f32) | rescore(f16)", 30, "twice"),
            ("graph |", 7, "expected a stage"),
            ("graph x", 6, "unexpected"),
            ("scan(x=1)", 5, "no arguments"),
        ] {
            let error = text.parse::<Recipe>().unwrap_err();
            assert_eq!(error.offset, offset, "{text}: {error}");
            assert!(error.message.contains(part), "{text}: {error}");
        }
    }

    proptest! {
        #[test]
        fn any_text_is_answered_and_any_recipe_round_trips(
            text in ".{0,60}", links in 2usize..=256, extra in 0usize..1000, layers in any::<bool>(),
            store in prop::sample::select(vec![
                (Store::F32, None), (Store::F16, None), (Store::F16, Some(Store::F32)), (Store::Int8, None),
                (Store::Int8, Some(Store::F16)), (Store::Int8, Some(Store::F32))]),
        ) {
            let _ = text.parse::<Recipe>();
            let route = Route::Graph(GraphRecipe { links, build: links + extra, layers });
            let recipe = Recipe { route, store: store.0, rescore: store.1 };
            prop_assert_eq!(recipe.to_string().parse::<Recipe>(), Ok(recipe));
        }
    }
}
