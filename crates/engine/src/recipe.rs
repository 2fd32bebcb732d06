//! Recipes: the one-line description of an index.
//!
//! `stage | stage | ...`, read left to right; a stage is a word with optional named arguments.
//! This crate builds the two routes `scan` and `graph(links=16, build=200, layers=on)`.

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

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Recipe {
    Scan,
    Graph(GraphRecipe),
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
        match self {
            Recipe::Scan => f.write_str("scan"),
            Recipe::Graph(g) => {
                write!(f, "graph(links={}, build={}", g.links, g.build)?;
                f.write_str(if g.layers { ")" } else { ", layers=off)" })
            }
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
                if !self.take('=') {
                    return error(offset, format!("write arguments by name: {name}=VALUE"));
                }
                let (value_offset, value) = self.word("a value")?;
                if arguments.iter().any(|a| a.name == name) {
                    return error(offset, format!("{name} is given twice"));
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
        let recipe = match stage.word {
            "scan" => {
                if let Some(argument) = stage.arguments.first() {
                    return error(argument.offset, "scan takes no arguments");
                }
                Recipe::Scan
            }
            "graph" => Recipe::Graph(graph(&stage.arguments)?),
            other => {
                let hint = did_you_mean(other, ["scan", "graph"]);
                return error(
                    stage.offset,
                    format!("unknown stage \"{other}\"; the stages are scan and graph{hint}"),
                );
            }
        };
        if reader.take('|') {
            let next = reader.stage()?;
            return error(
                next.offset,
                format!("nothing can follow the route here; drop \"| {}\"", next.word),
            );
        }
        if let Some(extra) = reader.peek() {
            return error(reader.at, format!("unexpected \"{extra}\" after the recipe"));
        }
        Ok(recipe)
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
        assert_eq!("scan".parse::<Recipe>().unwrap(), Recipe::Scan);
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
            ("graph | graph", 8, "nothing can follow"),
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
            text in ".{0,60}", links in 2usize..=256, extra in 0usize..1000, layers in any::<bool>()
        ) {
            let _ = text.parse::<Recipe>();
            let recipe = Recipe::Graph(GraphRecipe { links, build: links + extra, layers });
            prop_assert_eq!(recipe.to_string().parse::<Recipe>(), Ok(recipe));
        }
    }
}
