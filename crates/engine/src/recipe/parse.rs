//! From text to a recipe; errors point at the byte.

use crate::names::did_you_mean;
use crate::recipe::check::parts_divide;
use crate::recipe::choose::Wish;
use crate::recipe::form::{
    CellsRecipe, CrossedRecipe, GraphRecipe, Prepare, Recipe, RecipeError, Route, Router, Store,
};

fn error<T>(offset: usize, message: impl Into<String>) -> Result<T, RecipeError> {
    Err(RecipeError { offset, message: message.into() })
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

/// The order in which the parts of a recipe stand.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Part {
    Prepare,
    Route,
    Store,
    Finish,
}

const WORDS: [(&str, Part); 11] = [
    ("center", Part::Prepare),
    ("reduce", Part::Prepare),
    ("rotate", Part::Prepare),
    ("scan", Part::Route),
    ("graph", Part::Route),
    ("cells", Part::Route),
    ("f16", Part::Store),
    ("int8", Part::Store),
    ("pq", Part::Store),
    ("bits", Part::Store),
    ("rescore", Part::Finish),
];

impl std::str::FromStr for Recipe {
    type Err = RecipeError;

    fn from_str(text: &str) -> Result<Self, RecipeError> {
        let mut reader = Reader { text, at: 0 };
        let mut prepare = Prepare::default();
        let (mut route, mut store, mut rescore) = (None, None, None);
        let mut rotate_at = 0;
        loop {
            let stage = reader.stage()?;
            let part = match WORDS.iter().find(|(word, _)| *word == stage.word) {
                Some((_, part)) => *part,
                None if stage.word == "f32" => {
                    return error(stage.offset, "f32 is what a recipe without a store keeps; leave it out");
                }
                None => return error(stage.offset, unknown(stage.word, route.is_some())),
            };
            match part {
                Part::Prepare if route.is_some() => {
                    let why = format!("{} prepares vectors, so it comes before the route", stage.word);
                    return error(stage.offset, why);
                }
                Part::Prepare => {
                    if stage.word == "rotate" {
                        rotate_at = stage.offset;
                    }
                    prepare.add(&stage)?;
                }
                Part::Route if route.is_some() => {
                    return error(stage.offset, "a recipe has one route: scan, graph or cells");
                }
                Part::Route => route = Some((read_route(&stage)?, stage.offset)),
                _ if route.is_none() => {
                    let why = format!("a route comes before it: write graph | {}", stage.word);
                    return error(stage.offset, why);
                }
                Part::Store if rescore.is_some() => {
                    return error(stage.offset, "the store comes before rescore");
                }
                Part::Store => {
                    if let Some((store, _)) = store {
                        let why = format!("a recipe has one store; it has {store} already");
                        return error(stage.offset, why);
                    }
                    store = Some((read_store(&stage)?, stage.offset));
                }
                Part::Finish if rescore.is_some() => return error(stage.offset, "rescore is given twice"),
                Part::Finish => {
                    let store = store.map_or(Store::F32, |(store, _)| store);
                    rescore = Some(read_finish(&stage, store, prepare.reduce.is_some())?);
                }
            }
            if !reader.take('|') {
                break;
            }
        }
        if let Some(extra) = reader.peek() {
            return error(
                reader.at,
                format!("unexpected \"{extra}\" after the recipe; stages stand between |"),
            );
        }
        let Some((route, route_at)) = route else {
            return error(text.len(), "the route is missing: add | scan, | graph or | cells");
        };
        let (store, store_at) = store.unwrap_or((Store::F32, text.len()));
        if prepare.rotate && !matches!(store, Store::Pq { .. }) {
            let why = "rotate learns a rotation for the product codes that follow, and there are none; \
                       add | pq(...), or leave rotate out (bits brings a rotation of its own)";
            return error(rotate_at, why);
        }
        if let Route::Graph(GraphRecipe { inline_codes: true, .. }) = route
            && store != (Store::Bits { planes: 1 })
        {
            let why =
                "inline_codes=on keeps one-bit codes of the neighbours next to a node's links; add | bits";
            return error(if store == Store::F32 { route_at } else { store_at }, why);
        }
        if let Route::Cells(CellsRecipe { overlap: true, .. }) = route
            && store != (Store::Bits { planes: 1 })
        {
            let why = "overlap=on puts one-bit codes of rows into further cells; add | bits";
            return error(if store == Store::F32 { route_at } else { store_at }, why);
        }
        if let (Store::Pq { parts, .. }, Some(reduced)) = (store, prepare.reduce)
            && let Err(why) = parts_divide(parts, reduced)
        {
            return error(store_at, why);
        }
        Ok(Recipe { prepare, route, store, rescore })
    }
}

fn unknown(word: &str, routed: bool) -> String {
    let known = if routed {
        "after the route come a store (f16, int8, pq or bits) and rescore"
    } else {
        "a recipe begins with center, reduce or rotate, or with its route: scan, graph or cells"
    };
    let words = WORDS.iter().filter(|(_, part)| (*part > Part::Route) == routed);
    format!("unknown stage \"{word}\"; {known}{}", did_you_mean(word, words.map(|(w, _)| *w)))
}

fn whole(argument: &Argument, name: &str, low: usize, high: usize) -> Result<usize, RecipeError> {
    match argument.value.parse::<usize>() {
        Ok(n) if (low..=high).contains(&n) => Ok(n),
        _ => error(
            argument.value_offset,
            format!("{name} takes a whole number from {low} to {high}, not \"{}\"", argument.value),
        ),
    }
}

fn no_arguments(stage: &Stage) -> Result<(), RecipeError> {
    match stage.arguments.first() {
        Some(argument) => error(argument.offset, format!("{} takes no arguments", stage.word)),
        None => Ok(()),
    }
}

impl Prepare {
    fn add(&mut self, stage: &Stage) -> Result<(), RecipeError> {
        let given = match stage.word {
            "center" => std::mem::replace(&mut self.center, true),
            "rotate" => std::mem::replace(&mut self.rotate, true),
            _ => {
                let [argument @ Argument { name: "", .. }] = &stage.arguments[..] else {
                    return error(stage.offset, "reduce takes the dimensions to keep, such as reduce(96)");
                };
                return match self.reduce.replace(whole(argument, "reduce", 1, 16_384)?) {
                    Some(_) => error(stage.offset, "reduce is given twice"),
                    None => Ok(()),
                };
            }
        };
        if given {
            return error(stage.offset, format!("{} is given twice", stage.word));
        }
        no_arguments(stage)
    }
}

fn read_route(stage: &Stage) -> Result<Route, RecipeError> {
    match stage.word {
        "scan" => no_arguments(stage).map(|()| Route::Scan),
        "graph" => graph(&stage.arguments).map(Route::Graph),
        _ => cells(&stage.arguments),
    }
}

fn read_store(stage: &Stage) -> Result<Store, RecipeError> {
    let store = match stage.word {
        "f16" => Store::F16,
        "int8" => Store::Int8,
        "pq" => return product(stage),
        _ => {
            return match &stage.arguments[..] {
                [] => Ok(Store::Bits { planes: 1 }),
                [argument @ Argument { name: "", .. }] => {
                    Ok(Store::Bits { planes: whole(argument, "bits", 1, 4)? })
                }
                [argument, ..] => {
                    error(argument.offset, "bits takes how many bits each dimension gets, such as bits(2)")
                }
            };
        }
    };
    no_arguments(stage).map(|()| store)
}

fn product(stage: &Stage) -> Result<Store, RecipeError> {
    let (mut parts, mut bits) = (None, 8);
    for argument in &stage.arguments {
        match argument.name {
            "" => parts = Some(whole(argument, "pq", 1, 16_384)?),
            "bits" => match argument.value {
                "8" => bits = 8,
                "4" => bits = 4,
                other => {
                    let why = format!("bits of a product code are 8 or 4, not \"{other}\"");
                    return error(argument.value_offset, why);
                }
            },
            other => {
                let hint = did_you_mean(other, ["bits"]);
                let why = format!("pq has no argument \"{other}\"; it takes its parts and bits{hint}");
                return error(argument.offset, why);
            }
        }
    }
    match parts {
        Some(parts) => Ok(Store::Pq { parts, bits }),
        None => error(stage.offset, "pq takes how many parts a vector is cut into, such as pq(32)"),
    }
}

fn read_finish(stage: &Stage, store: Store, reduced: bool) -> Result<Store, RecipeError> {
    let [Argument { name: "", value, value_offset, .. }] = stage.arguments[..] else {
        let why = "rescore takes what it ranks with: rescore(f32), rescore(f16) or rescore(int8)";
        return error(stage.offset, why);
    };
    let finer = match value {
        "f32" => Store::F32,
        "f16" => Store::F16,
        "int8" => Store::Int8,
        other => {
            let hint = did_you_mean(other, ["f32", "f16", "int8"]);
            return error(value_offset, format!("rescore takes f32, f16 or int8, not \"{other}\"{hint}"));
        }
    };
    // Of reduced vectors, whole ones of the same kind tell more.
    let helps =
        finer.coarseness() < store.coarseness() || reduced && finer.coarseness() == store.coarseness();
    if !helps {
        let why = format!(
            "{finer} is not finer than the store, {store}: nothing would change; leave rescore out, or store \
             shorter codes such as int8 or bits"
        );
        return error(value_offset, why);
    }
    Ok(finer)
}

fn cells(arguments: &[Argument]) -> Result<Route, RecipeError> {
    const MOST: usize = 1 << 20;
    let mut cells = CellsRecipe::default();
    let mut crossed = None;
    let mut other_at = None;
    for argument in arguments {
        match argument.name {
            "" => match argument.value.split_once('x') {
                None => cells.count = Some(whole(argument, "cells", 1, MOST)?),
                Some((left, right)) => {
                    let part = |value| whole(&Argument { value, ..*argument }, "each side of cells", 2, 4096);
                    crossed = Some(CrossedRecipe { left: part(left)?, right: part(right)? });
                }
            },
            "router" => {
                other_at = Some(argument);
                cells.router = match argument.value {
                    "scan" => Router::Scan,
                    "graph" => Router::Graph,
                    other => {
                        let hint = did_you_mean(other, ["scan", "graph"]);
                        let why = format!("router is scan or graph, not \"{other}\"{hint}");
                        return error(argument.value_offset, why);
                    }
                }
            }
            "overlap" => {
                other_at = Some(argument);
                cells.overlap = switch(argument)?;
            }
            other => {
                let hint = did_you_mean(other, ["router", "overlap"]);
                let why =
                    format!("cells has no argument \"{other}\"; it takes how many, router and overlap{hint}");
                return error(argument.offset, why);
            }
        }
    }
    match (crossed, other_at) {
        (Some(_), Some(Argument { offset, name: "router", .. })) => {
            error(*offset, "crossed codebooks merge two short lists and need no router; leave router out")
        }
        (Some(_), Some(other)) => {
            error(other.offset, "rows of crossed codebooks are in one cell each; leave overlap out")
        }
        (Some(crossed), None) => Ok(Route::Crossed(crossed)),
        (None, _) => Ok(Route::Cells(cells)),
    }
}

fn switch(argument: &Argument) -> Result<bool, RecipeError> {
    match argument.value {
        "on" => Ok(true),
        "off" => Ok(false),
        other => error(argument.value_offset, format!("{} is on or off, not \"{other}\"", argument.name)),
    }
}

fn graph(arguments: &[Argument]) -> Result<GraphRecipe, RecipeError> {
    let mut graph = GraphRecipe::default();
    let mut build_offset = None;
    for argument in arguments {
        let switch = || switch(argument);
        match argument.name {
            "" => {
                let value = argument.value;
                return error(argument.offset, format!("write arguments by name, such as links={value}"));
            }
            "links" => graph.links = whole(argument, "links", 2, 256)?,
            "build" => {
                graph.build = whole(argument, "build", 2, 4096)?;
                build_offset = Some(argument.value_offset);
            }
            "layers" => graph.layers = switch()?,
            "inline_codes" => graph.inline_codes = switch()?,
            other => {
                let hint = did_you_mean(other, ["links", "build", "layers", "inline_codes"]);
                let why = format!(
                    "graph has no argument \"{other}\"; it takes links, build, layers and inline_codes{hint}"
                );
                return error(argument.offset, why);
            }
        }
    }
    if graph.build < graph.links {
        let links = graph.links;
        match build_offset {
            Some(offset) => {
                let why = format!(
                    "build={} is below links={links}; a node cannot choose {links} neighbours from fewer \
                     candidates, so use build={links} or more",
                    graph.build
                );
                return error(offset, why);
            }
            None => graph.build = links,
        }
    }
    Ok(graph)
}

/// `auto` and its arguments, where a text begins with that word.
pub(super) fn auto(text: &str) -> Option<Result<Wish, RecipeError>> {
    let mut reader = Reader { text, at: 0 };
    let stage = reader.stage().ok().filter(|stage| stage.word == "auto")?;
    Some((|| {
        let (mut recall, mut memory_mb) = (0.95, None);
        for argument in &stage.arguments {
            let number = |low: f64, high: f64| match argument.value.parse::<f64>() {
                Ok(value) if value >= low && value <= high => Ok(value),
                _ => error(
                    argument.value_offset,
                    format!(
                        "{} takes a number from {low} to {high}, not \"{}\"",
                        argument.name, argument.value
                    ),
                ),
            };
            match argument.name {
                "recall" => recall = number(0.5, 0.999)?,
                "memory" => memory_mb = Some(number(1.0, 1e9)?),
                other => {
                    let why = format!("auto takes recall and memory (in MB), not \"{other}\"");
                    return error(argument.offset, why);
                }
            }
        }
        match reader.peek() {
            None => Ok(Wish::Auto { recall, memory_mb }),
            Some(_) => error(reader.at, "auto takes no other stage: it chooses all of them"),
        }
    })())
}

impl std::str::FromStr for Wish {
    type Err = RecipeError;

    fn from_str(text: &str) -> Result<Self, RecipeError> {
        match auto(text) {
            Some(wish) => wish,
            None => text.parse().map(Wish::Exactly),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    fn canonical(text: &str) -> String {
        text.parse::<Recipe>().unwrap().to_string()
    }

    #[test]
    fn ways_of_writing_one_recipe_print_alike() {
        for text in ["graph", "graph()", " graph ( build = 200 , links=16,layers=on, inline_codes=off ) "] {
            assert_eq!(canonical(text), "graph(links=16, build=200)");
        }
        let flat = "graph(links=8, build=50, layers=off)";
        assert_eq!(canonical(flat), flat);
        assert_eq!("scan".parse::<Recipe>().unwrap(), Route::Scan.into());
        let composite = " graph( links = 24 )|int8 | rescore( f32 )".parse::<Recipe>().unwrap();
        assert_eq!(composite.to_string(), "graph(links=24, build=200) | int8 | rescore(f32)");
        assert_eq!(composite.n_bytes_row(100, crate::Metric::Cosine), 104 + 400);
        assert_eq!(
            canonical("reduce(128)|center|cells(router=graph,1024)|pq(bits=8, 32)|rescore(f16)"),
            "center | reduce(128) | cells(1024, router=graph) | pq(32) | rescore(f16)"
        );
        assert_eq!(canonical("cells ( 64x64 ) | bits(1)"), "cells(64x64) | bits");
        assert_eq!(canonical("cells(router=scan)"), "cells");
        assert_eq!(canonical("reduce(32) | scan | rescore(f32)"), "reduce(32) | scan | rescore(f32)");
    }

    #[test]
    fn the_json_form_says_the_same() {
        let text = "center | reduce(128) | cells(1024, router=graph) | pq(32, bits=4) | rescore(f16)";
        let recipe: Recipe = text.parse().unwrap();
        let form = json!({
            "prepare": {"center": true, "reduce": 128, "rotate": false},
            "route": {"cells": {"count": 1024, "router": "graph", "overlap": false}},
            "store": {"pq": {"parts": 32, "bits": 4}},
            "rescore": "f16"
        });
        assert_eq!(serde_json::to_value(recipe).unwrap(), form);
        assert_eq!(Recipe::from_json(form), Ok(recipe));
        assert_eq!(Recipe::from_json(json!({"route": {"graph": {}}})), "graph".parse());
        assert_eq!(Recipe::from_json(json!({"route": "scan"})), "scan".parse());
        for (form, part) in [
            (json!({"route": {"graph": {"links": 1}}}), "from 2 to 256"),
            (json!({"route": {"graph": {"link": 16}}}), "unknown field `link`"),
            (json!({"route": "scan", "store": "f16", "rescore": "f16"}), "not finer"),
            (json!({}), "missing field `route`"),
        ] {
            let error = Recipe::from_json(form).unwrap_err();
            assert!(error.message.contains(part), "{error}");
        }
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
            ("graph | rescore(f32)", 16, "not finer than the store, f32"),
            ("graph | f16 | rescore(f16)", 22, "not finer than the store, f16"),
            ("graph | int8 | rescore", 15, "rescore(f32)"),
            ("graph | int8 | rescore(int8)", 23, "not finer"),
            ("graph | bits | rescore(pq)", 23, "f32, f16 or int8"),
            ("graph | int8 | rescore(f32) | rescore(f16)", 30, "twice"),
            ("graph | rescore(f32) | int8", 16, "not finer"),
            ("graph | int8 | rescore(f32) | f16", 30, "before rescore"),
            ("graph |", 7, "expected a stage"),
            ("graph x", 6, "unexpected"),
            ("scan(x=1)", 5, "no arguments"),
            ("center", 6, "the route is missing"),
            ("center | center | scan", 9, "given twice"),
            ("graph | center", 8, "before the route"),
            ("reduce | scan", 0, "reduce(96)"),
            ("reduce(0) | scan", 7, "from 1 to 16384"),
            ("rotate | graph | int8", 0, "add | pq"),
            ("cells(0)", 6, "from 1 to"),
            ("cells(64x1)", 6, "from 2 to 4096"),
            ("cells(8x8, router=scan)", 11, "no router"),
            ("cells(16, router=tree)", 17, "scan or graph"),
            ("graph | pq", 8, "pq(32)"),
            ("graph | pq(8, bits=6)", 19, "8 or 4"),
            ("reduce(100) | scan | pq(32)", 21, "use pq(25) or pq(50)"),
            ("graph | bits(9)", 13, "from 1 to 4"),
            ("graph(inline_codes=on)", 0, "add | bits"),
            ("graph(inline_codes=on) | int8", 25, "add | bits"),
            ("cells(9, overlap=on)", 0, "add | bits"),
            ("cells(overlap=on) | bits(2)", 20, "add | bits"),
            ("cells(overlap=yes) | bits", 14, "on or off"),
            ("cells(8x8, overlap=on) | bits", 11, "leave overlap out"),
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
            center in any::<bool>(), reduce in prop::option::of(Just(64usize)),
            route in 0usize..4, count in prop::option::of(1usize..5000), graph_router in any::<bool>(),
            store in prop::sample::select(vec![
                (Store::F32, None), (Store::F16, None), (Store::F16, Some(Store::F32)), (Store::Int8, None),
                (Store::Int8, Some(Store::F16)), (Store::Pq { parts: 16, bits: 4 }, Some(Store::Int8)),
                (Store::Pq { parts: 32, bits: 8 }, None), (Store::Bits { planes: 1 }, Some(Store::F32)),
                (Store::Bits { planes: 3 }, None)]),
        ) {
            let _ = text.parse::<Recipe>();
            let inline_codes = store.0 == Store::Bits { planes: 1 } && center;
            let router = if graph_router { Router::Graph } else { Router::Scan };
            let route = match route {
                0 => Route::Scan,
                1 => Route::Graph(GraphRecipe { links, build: links + extra, layers, inline_codes }),
                2 => Route::Cells(CellsRecipe { count, router, overlap: inline_codes }),
                _ => Route::Crossed(CrossedRecipe { left: links, right: links }),
            };
            let prepare = Prepare { center, reduce, rotate: matches!(store.0, Store::Pq { .. }) && layers };
            let recipe = Recipe { prepare, route, store: store.0, rescore: store.1 };
            prop_assert_eq!(recipe.to_string().parse::<Recipe>(), Ok(recipe));
            prop_assert_eq!(Recipe::from_json(serde_json::to_value(recipe).unwrap()), Ok(recipe));
        }
    }
}
