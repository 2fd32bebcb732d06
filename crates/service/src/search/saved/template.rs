//! A saved search that was read: its parameters stand where values go, and nowhere else.

use crate::json::parse;
use crate::problem::{Kind, Problem, Result};
use crate::records::select::read_filter;
use crate::search::saved::values;
use crate::search::settings::{MAX_DEEP, MAX_K};
use indexmap::IndexMap;
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use zesty_engine::Schema;
use zesty_engine::filter::Filter;
use zesty_engine::names::did_you_mean;
use zesty_wire::{self as wire, Parameter, SavedDefinition, SearchRequest, ValueType};

/// Parameters of one saved search.
const MOST_PARAMETERS: usize = 50;
/// Bytes of a definition, as JSON.
const MOST_BYTES: usize = 64 << 10;

/// What a member of a search takes from a parameter.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Takes {
    Text,
    Vector,
    Keys,
    KeyList,
    /// Whole, and bounded: up to so many.
    Count(usize),
    Number,
}

/// The members of a search whose value can be a parameter.
const SLOTS: [(&str, Takes); 9] = [
    ("text", Takes::Text),
    ("vector", Takes::Vector),
    ("examples", Takes::Keys),
    ("counterexamples", Takes::Keys),
    ("leave_out", Takes::KeyList),
    ("k", Takes::Count(MAX_K)),
    ("skip", Takes::Count(MAX_DEEP)),
    ("score_at_least", Takes::Number),
    ("distance_at_most", Takes::Number),
];

impl Takes {
    /// Why a parameter does not fit here.
    fn misfit(self, about: &Parameter) -> Option<String> {
        let of = |kind: ValueType| about.r#type == kind;
        let array_of = |kinds: &[ValueType]| {
            of(ValueType::Array) && about.items.is_some_and(|items| kinds.contains(&items.r#type))
        };
        let (fits, wanted) = match self {
            Takes::Text => (of(ValueType::String), "a string".to_owned()),
            Takes::Vector => {
                let numbers = array_of(&[ValueType::Number]);
                (numbers, "an array of numbers, as long as the column has dimensions (maxItems)".into())
            }
            Takes::Keys => (
                of(ValueType::String) || array_of(&[ValueType::String]),
                "a string, or an array of strings".into(),
            ),
            Takes::KeyList => (array_of(&[ValueType::String]), "an array of strings".into()),
            Takes::Count(most) => {
                let bounded = about.maximum.is_some_and(|max| max <= most as f64);
                let fits = of(ValueType::Integer) && bounded && about.minimum.is_none_or(|min| min >= 0.0);
                (fits, format!("an integer with a maximum of at most {most}"))
            }
            Takes::Number => (of(ValueType::Number) || of(ValueType::Integer), "a number".into()),
        };
        (!fits).then(|| format!("it takes {wanted}"))
    }
}

/// A version of a saved search, ready to be asked.
#[derive(Clone, Debug)]
pub struct Template {
    pub name: String,
    pub version: i32,
    pub definition: SavedDefinition,
    /// Members of the search, and the parameters that they take their values from.
    slots: Vec<(&'static str, String)>,
    /// The search without those members and without its filter.
    fixed: Map<String, Value>,
    filter: Option<Filter>,
}

/// The name in `{"parameter": name}`.
fn parameter(value: &Value) -> Option<&str> {
    let object = value.as_object().filter(|o| o.len() == 1)?;
    object.get("parameter")?.as_str()
}

fn wrong<T>(detail: String, pointer: String) -> Result<T> {
    Err(Problem::new(Kind::WrongShape, detail).at(pointer))
}

impl Template {
    /// Reads a definition. Whether it fits its collection is another question.
    pub fn read(name: &str, version: i32, definition: SavedDefinition) -> Result<Template> {
        let bytes = json!(definition).to_string().len();
        if bytes > MOST_BYTES {
            let detail = format!("the definition takes {bytes} bytes as JSON; it may take {MOST_BYTES}");
            return wrong(detail, String::new());
        }
        let parameters = &definition.parameters;
        if parameters.len() > MOST_PARAMETERS {
            let detail =
                format!("{} parameters are described; up to {MOST_PARAMETERS} are taken", parameters.len());
            return wrong(detail, "/parameters".into());
        }
        for (name, about) in parameters {
            let good = name.starts_with(|c: char| c.is_ascii_alphabetic())
                && name.len() <= 64
                && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
            if !good {
                let detail = format!(
                    "\"{name}\" cannot name a parameter: a letter, then letters, digits and _, up to 64"
                );
                return wrong(detail, format!("/parameters/{name}"));
            }
            values::check_parameter(name, about)?;
        }
        let (mut slots, mut fixed) = (Vec::new(), definition.search.clone());
        for (member, takes) in SLOTS {
            let Some(name) = fixed.get(member).and_then(parameter) else { continue };
            let pointer = format!("/search/{member}");
            let about = described(parameters, name, &pointer)?;
            if let Some(why) = takes.misfit(about) {
                let detail = format!("parameter \"{name}\" does not fit {member}: {why}");
                return wrong(detail, format!("/parameters/{name}"));
            }
            slots.push((member, name.to_owned()));
            fixed.remove(member);
        }
        if let Some((member, _)) =
            fixed.iter().find(|(m, value)| *m != "filter" && parameter(value).is_some())
        {
            let all = SLOTS.map(|(member, _)| member).join(", ");
            let detail = format!("{member} takes no parameter; these do: {all}, and values in the filter");
            return wrong(detail, format!("/search/{member}"));
        }
        let filter = match fixed.remove("filter") {
            Some(filter) => {
                let filter: wire::Filter = parse(filter.to_string().as_bytes(), "/search/filter")?;
                read_filter(&filter).map_err(|p| p.inside("/search"))?
            }
            None => None,
        };
        for name in filter.iter().flat_map(Filter::parameters) {
            described(parameters, name, "/search/filter")?;
        }
        let used = |name: &str| {
            slots.iter().any(|(_, n)| n == name)
                || filter.as_ref().is_some_and(|f| f.parameters().contains(name))
        };
        if let Some(name) = parameters.keys().find(|name| !used(name)) {
            let detail =
                format!("parameter \"{name}\" stands nowhere in the search; use it, or leave it out");
            return wrong(detail, format!("/parameters/{name}"));
        }
        let template = Template { name: name.into(), version, slots, fixed, filter, definition };
        // Members that a search does not know are refused now, not when it is asked.
        parse::<SearchRequest>(Value::Object(template.fixed.clone()).to_string().as_bytes(), "/search")?;
        Ok(template)
    }

    /// A search with values that fit, to try the definition with.
    pub fn sample(&self) -> Result<SearchRequest> {
        let parameters = &self.definition.parameters;
        self.request(&parameters.iter().map(|(name, about)| (name.clone(), values::sample(about))).collect())
    }

    /// Refuses a filter that does not fit the fields, with the place in the filter as it was written.
    pub fn check_filter(&self, schema: &Schema) -> Result<()> {
        let Some(filter) = &self.filter else { return Ok(()) };
        let sample = |about: &Parameter| values::bound(about, &values::sample(about));
        let bound = filter.bind(|name| self.definition.parameters.get(name).and_then(sample));
        let checked = bound.and_then(|filter| filter.map(|f| f.compile(schema)).transpose());
        let text = self.definition.search.get("filter").and_then(Value::as_str).unwrap_or_default();
        checked.map(drop).map_err(|e| Problem::filter(&e, text))
    }

    /// Whether a parameter is the query vector: the sample of it has no meaning.
    pub fn takes_vector(&self) -> bool {
        self.slots.iter().any(|(member, _)| *member == "vector")
    }

    /// The search that values make.
    pub fn request(&self, given: &BTreeMap<String, Value>) -> Result<SearchRequest> {
        let parameters = &self.definition.parameters;
        if let Some(name) = given.keys().find(|name| !parameters.contains_key(*name)) {
            let hint = did_you_mean(name, parameters.keys().map(String::as_str));
            let all = parameters.keys().cloned().collect::<Vec<_>>().join(", ");
            let takes = if all.is_empty() { "it takes none".to_owned() } else { format!("it takes {all}") };
            let detail = format!("saved search \"{}\" has no parameter \"{name}\"{hint}; {takes}", self.name);
            return wrong(detail, format!("/{name}"));
        }
        let mut read = BTreeMap::new();
        for (name, about) in parameters {
            let value = given.get(name).filter(|v| !v.is_null());
            match (value.map(|v| values::read(name, about, v)).transpose()?, &about.default) {
                (Some(value), _) => drop(read.insert(name.as_str(), value)),
                (None, Some(default)) => drop(read.insert(name.as_str(), default.clone())),
                (None, None) if about.optional => {}
                (None, None) => {
                    let about_it = match about.description.as_str() {
                        "" => String::new(),
                        text => format!(" ({text})"),
                    };
                    let detail = format!("give \"{name}\"{about_it}: {}", values::takes(about));
                    return wrong(detail, format!("/{name}"));
                }
            }
        }
        let mut search = self.fixed.clone();
        for (member, name) in &self.slots {
            if let Some(value) = read.get(name.as_str()) {
                search.insert((*member).into(), value.clone());
            }
        }
        let mut request: SearchRequest =
            serde_json::from_value(Value::Object(search)).map_err(|e| self.ours(&e))?;
        if let Some(filter) = &self.filter {
            let bound = filter.bind(|name| values::bound(parameters.get(name)?, read.get(name)?));
            let bound = bound.map_err(|e| Problem::filter(&e, ""))?;
            request.filter = bound.map(|f| wire::Filter::Json(f.to_json()));
        }
        Ok(request)
    }

    fn ours(&self, error: &serde_json::Error) -> Problem {
        Problem::new(Kind::Internal, format!("saved search \"{}\" cannot be read: {error}", self.name))
    }

    /// A refusal of the search that values made, in the words of whoever gave them: pointers go to parameters.
    pub fn told(&self, problem: Problem) -> Problem {
        let step = problem.pointer.as_deref().and_then(|p| p.strip_prefix('/'));
        let step = step.map(|p| p.split_once('/').map_or((p, ""), |(member, rest)| (member, rest)));
        let slot = step.and_then(|(member, rest)| {
            let (_, name) = self.slots.iter().find(|(m, _)| *m == member)?;
            Some(if rest.is_empty() { format!("/{name}") } else { format!("/{name}/{rest}") })
        });
        match slot {
            Some(pointer) => problem.at(pointer),
            None => Problem {
                detail: format!(
                    "saved search \"{}\", version {}: {}",
                    self.name, self.version, problem.detail
                ),
                pointer: None,
                ..problem
            },
        }
    }
}

fn described<'p>(
    parameters: &'p IndexMap<String, Parameter>,
    name: &str,
    pointer: &str,
) -> Result<&'p Parameter> {
    parameters.get(name).ok_or_else(|| {
        let hint = did_you_mean(name, parameters.keys().map(String::as_str));
        let detail =
            format!("parameter \"{name}\" is used and not described{hint}; describe it in parameters");
        Problem::new(Kind::WrongShape, detail).at(pointer)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(definition: Value) -> Result<Template> {
        Template::read("near", 1, serde_json::from_value(definition).unwrap())
    }

    fn given(values: Value) -> BTreeMap<String, Value> {
        serde_json::from_value(values).unwrap()
    }

    fn notes() -> Value {
        json!({
            "search": {"text": {"parameter": "q"}, "k": {"parameter": "n"}, "fields": ["note"],
                "filter": "station = :station AND year >= :since AND kind IN (:kinds)"},
            "parameters": {
                "q": {"type": "string", "maxLength": 5},
                "n": {"type": "integer", "minimum": 1, "maximum": 20, "default": 3},
                "station": {"type": "string"},
                "since": {"type": "integer", "optional": true},
                "kinds": {"type": "array", "items": {"type": "string"}, "enum": ["lamp", "rescue"], "maxItems": 2,
                    "optional": true},
            },
        })
    }

    #[test]
    fn values_make_a_search_and_never_change_its_filter() {
        let template = read(notes()).unwrap();
        let request = template.request(&given(json!({"q": "fog", "station": "x' OR TRUE --"}))).unwrap();
        assert_eq!((request.k, request.text.as_deref()), (3, Some("fog")));
        let filter = json!({"op": "=", "args": [{"property": "station"}, "x' OR TRUE --"]});
        assert_eq!(json!(request.filter), filter);
        let all = json!({"q": "fog", "n": 7.0, "station": "a", "since": 1930, "kinds": ["lamp"]});
        let request = template.request(&given(all)).unwrap();
        assert_eq!(request.k, 7);
        assert_eq!(json!(request.filter)["args"].as_array().unwrap().len(), 3);
    }

    #[test]
    fn a_wrong_value_is_named_with_what_would_work() {
        let template = read(notes()).unwrap();
        let cases = [
            (json!({}), "/q", "give \"q\": a string of up to 5 characters"),
            (
                json!({"q": "foghorn", "station": "a"}),
                "/q",
                "a string of up to 5 characters; \"foghorn\" is given",
            ),
            (json!({"q": 5, "station": "a"}), "/q", "5 is given"),
            (json!({"q": "a", "station": "a", "n": 21}), "/n", "an integer from 1 to 20; 21 is given"),
            (json!({"q": "a", "station": "a", "n": 1.5}), "/n", "1.5 is given"),
            (json!({"q": "a", "station": {"op": "or"}}), "/station", "is given"),
            (
                json!({"q": "a", "station": "a", "kinds": ["lamp", "fog"]}),
                "/kinds/1",
                "one of \"lamp\", \"rescue\"",
            ),
            (json!({"q": "a", "station": "a", "kinds": "lamp"}), "/kinds", "an array of up to 2 values"),
            (json!({"q": "a", "station": "a", "kinds": ["lamp", "lamp", "lamp"]}), "/kinds", "3 are given"),
            (json!({"q": "a", "statoin": "a"}), "/statoin", "did you mean \"station\"?"),
        ];
        for (values, pointer, part) in cases {
            let refused = template.request(&given(values.clone())).unwrap_err();
            assert_eq!(refused.pointer.as_deref(), Some(pointer), "{values}: {}", refused.detail);
            assert!(refused.detail.contains(part), "{values}: {}", refused.detail);
        }
    }

    #[test]
    fn a_definition_that_makes_no_sense_is_refused_when_it_is_saved() {
        let change = |pointer: &str, value: Value| {
            let mut definition = notes();
            let (parent, last) = pointer.rsplit_once('/').unwrap();
            definition.pointer_mut(parent).unwrap()[last] = value;
            read(definition)
        };
        let cases = [
            ("/search/filter", json!({"parameter": "station"}), "/search/filter"),
            ("/search/filter", json!("station = :statoin"), "/search/filter"),
            ("/search/filter", json!("station = "), "/search/filter"),
            ("/search/fields", json!({"parameter": "q"}), "/search/fields"),
            ("/search/exact", json!({"parameter": "q"}), "/search/exact"),
            ("/search/limit", json!(5), "/search/limit"),
            ("/search/k", json!({"parameter": "q"}), "/parameters/q"),
            ("/parameters/n/maximum", json!(5000), "/parameters/n"),
            ("/parameters/n/default", json!(21), "/parameters/n/default"),
            ("/parameters/n/optional", json!(true), "/parameters/n/default"),
            ("/parameters/n/minimum", json!(30), "/parameters/n/maximum"),
            ("/parameters/q/format", json!("date"), "/parameters/q/maxLength"),
            ("/parameters/q/items", json!({"type": "string"}), "/parameters/q/items"),
            ("/parameters/kinds/enum", json!(["lamp", 5]), "/parameters/kinds/enum/1"),
            ("/parameters/kinds/maxItems", json!(0), "/parameters/kinds/maxItems"),
            ("/parameters/unused", json!({"type": "string"}), "/parameters/unused"),
            ("/parameters/9", json!({"type": "string"}), "/parameters/9"),
        ];
        for (pointer, value, at) in cases {
            let refused = change(pointer, value).unwrap_err();
            assert_eq!(refused.pointer.as_deref(), Some(at), "{pointer}: {}", refused.detail);
        }
        let long = change("/description", json!("x".repeat(70_000))).unwrap_err();
        assert!(long.detail.contains("65536"), "{}", long.detail);
    }

    #[test]
    fn refusals_point_at_parameters() {
        let template = read(notes()).unwrap();
        let told = template.told(Problem::new(Kind::NoEncoder, "no encoder").at("/text"));
        assert_eq!((told.pointer.as_deref(), told.detail.as_str()), (Some("/q"), "no encoder"));
        let told = template.told(Problem::new(Kind::Unknown, "no field").at("/fields/0"));
        assert_eq!(
            (told.pointer, told.detail.as_str()),
            (None, "saved search \"near\", version 1: no field")
        );
    }
}
