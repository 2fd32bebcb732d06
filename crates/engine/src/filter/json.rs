//! CQL2 JSON to a tree and back.

use super::text::{interval_end, moment, not_real};
use super::tree::{
    ArrayTest, Comparison, Counts, Expr, Function, Literal, Node, Operator, Relation, Term, Value, called,
    is_parameter, name_of, spatial, unknown_function,
};
use super::{FilterError, MAX_LIST, MAX_OPERATORS, error, print};
use crate::schema::pointer_step;
use serde_json::{Map, Value as Json, json};
use std::ops::Range;

/// The tree, and the JSON Pointers that its nodes' places are numbers of.
pub(super) fn read(value: &Json) -> Result<(Expr, Vec<String>), FilterError> {
    let mut reader = Reader { pointers: vec![String::new()], counts: Counts::default(), operators: 0 };
    match reader.condition(value, 0) {
        Ok(expr) => Ok((expr, reader.pointers)),
        Err(e) => Err(pointed(e, &reader.pointers)),
    }
}

/// The place of an error as a pointer.
pub(super) fn pointed(error: FilterError, pointers: &[String]) -> FilterError {
    let pointer = pointers.get(error.start).cloned().unwrap_or_default();
    FilterError { start: 0, end: 0, pointer: Some(pointer), message: error.message }
}

struct Reader {
    pointers: Vec<String>,
    counts: Counts,
    operators: usize,
}

/// A part of the JSON and the number of its place.
type Placed<'j> = (&'j Json, usize);

fn at(place: usize) -> Range<usize> {
    place..place
}

impl Reader {
    /// Notes a place inside another.
    fn inside(&mut self, place: usize, step: &str) -> usize {
        let pointer = format!("{}{}", self.pointers[place], pointer_step(step));
        self.pointers.push(pointer);
        self.pointers.len() - 1
    }

    /// `{"op": ..., "args": [...]}`: the name, the arguments and their places.
    fn operation<'j>(
        &mut self,
        object: &'j Map<String, Json>,
        place: usize,
    ) -> Result<(&'j str, Vec<Placed<'j>>), FilterError> {
        let Some(op) = object.get("op") else {
            return error(&at(place), "expected {\"op\": ..., \"args\": [...]} or {\"property\": ...}");
        };
        let Some(op) = op.as_str() else {
            let here = self.inside(place, "op");
            return error(&at(here), "\"op\" is the name of an operator, such as \"=\" or \"and\"");
        };
        let here = self.inside(place, "args");
        let Some(args) = object.get("args").and_then(Json::as_array) else {
            return error(&at(here), format!("\"args\" of \"{op}\" is an array"));
        };
        if let Some(word) = object.keys().find(|k| !matches!(k.as_str(), "op" | "args")) {
            let here = self.inside(place, word);
            return error(
                &at(here),
                format!("\"{word}\" is not a member of an operation; those are \"op\" and \"args\""),
            );
        }
        let args = args.iter().enumerate().map(|(i, a)| (a, self.inside(here, &i.to_string())));
        Ok((op, args.collect()))
    }

    fn condition(&mut self, value: &Json, place: usize) -> Result<Expr, FilterError> {
        let object = match value {
            Json::Bool(b) => return Ok(Expr::Constant(*b)),
            Json::Object(object) => object,
            _ => return error(&at(place), "expected a condition such as {\"op\": \"=\", \"args\": [...]}"),
        };
        if object.contains_key("property") {
            self.counts.condition(&at(place))?;
            return Ok(Expr::Flag(self.value(value, place)?));
        }
        let (op, args) = self.operation(object, place)?;
        let lower = op.to_ascii_lowercase();
        if matches!(lower.as_str(), "and" | "or" | "not") {
            self.counts.deeper(&at(place))?;
            let mut parts = args.iter().map(|(v, p)| self.condition(v, *p)).collect::<Result<Vec<_>, _>>()?;
            self.counts.depth -= 1;
            return match (lower.as_str(), parts.len()) {
                ("not", 1) => Ok(Expr::Not(Box::new(parts.remove(0)))),
                ("not", n) => error(&at(place), format!("\"not\" takes 1 argument, not {n}")),
                (_, 0) => error(&at(place), format!("\"{op}\" takes 2 arguments or more")),
                (_, 1) => Ok(parts.remove(0)),
                ("and", _) => Ok(Expr::And(parts)),
                _ => Ok(Expr::Or(parts)),
            };
        }
        self.counts.condition(&at(place))?;
        self.operators = 0;
        let wanted = |n: usize| match args.len() == n {
            true => Ok(()),
            false => error(&at(place), format!("\"{op}\" takes {n} arguments, not {}", args.len())),
        };
        if let Some(comparison) = called(&Comparison::ALL, op) {
            wanted(2)?;
            return Ok(Expr::Compare(self.arg(&args, 0)?, comparison, self.arg(&args, 1)?));
        }
        if let Some(test) = called(&ArrayTest::ALL, op) {
            wanted(2)?;
            return Ok(Expr::Array(test, self.arg(&args, 0)?, self.arg(&args, 1)?));
        }
        if let Some(relation) = called(&Relation::ALL, op) {
            wanted(2)?;
            return Ok(Expr::Time(relation, self.arg(&args, 0)?, self.arg(&args, 1)?));
        }
        match lower.as_str() {
            "between" => {
                wanted(3)?;
                Ok(Expr::Between(self.arg(&args, 0)?, self.arg(&args, 1)?, self.arg(&args, 2)?))
            }
            "in" => {
                wanted(2)?;
                let value = self.arg(&args, 0)?;
                match self.arg(&args, 1)? {
                    Node { is: Term::List(values), .. } => Ok(Expr::In(value, values)),
                    parameter @ Node { is: Term::Parameter(_), .. } => Ok(Expr::In(value, vec![parameter])),
                    other => error(&other.at, "the second argument of \"in\" is an array of values"),
                }
            }
            "like" => {
                wanted(2)?;
                Ok(Expr::Like(self.arg(&args, 0)?, self.arg(&args, 1)?))
            }
            "isnull" => {
                wanted(1)?;
                Ok(Expr::IsNull(self.arg(&args, 0)?))
            }
            _ => error(&at(place), spatial(op).unwrap_or_else(|| not_condition(op))),
        }
    }

    fn arg(&mut self, args: &[Placed<'_>], i: usize) -> Result<Value, FilterError> {
        let (value, place) = args[i];
        self.value(value, place)
    }

    fn value(&mut self, value: &Json, place: usize) -> Result<Value, FilterError> {
        let is = match value {
            Json::Null => return error(&at(place), "missing values are found with \"isNull\""),
            Json::Bool(b) => Term::Literal(Literal::Boolean(*b)),
            Json::String(s) => Term::Literal(Literal::Text(s.clone())),
            Json::Number(n) => Term::Literal(match (n.as_i64(), n.as_f64()) {
                (Some(n), _) => Literal::Integer(n),
                (_, Some(x)) if n.is_f64() && x.is_finite() => Literal::Number(x),
                _ => return error(&at(place), format!("{n} is beyond 64-bit integers")),
            }),
            Json::Array(items) => {
                if items.len() > MAX_LIST {
                    return error(&at(place), format!("a list takes up to {MAX_LIST} values"));
                }
                let values = items.iter().enumerate().map(|(i, item)| {
                    let here = self.inside(place, &i.to_string());
                    self.value(item, here)
                });
                Term::List(values.collect::<Result<_, _>>()?)
            }
            Json::Object(object) => return self.object(object, place),
        };
        Ok(Node { at: at(place), is })
    }

    fn object(&mut self, object: &Map<String, Json>, place: usize) -> Result<Value, FilterError> {
        let single = |name: &str| object.get(name).filter(|_| object.len() == 1);
        let text = |name: &str| single(name).and_then(Json::as_str);
        let is = if let Some(name) = text("property") {
            Term::Property(name.into())
        } else if let Some(name) = text("parameter") {
            match is_parameter(name) {
                true => Term::Parameter(name.into()),
                false => {
                    let detail =
                        format!("\"{name}\" cannot name a parameter: a letter, then letters, digits and _");
                    return error(&at(place), detail);
                }
            }
        } else if let Some((text, is_date)) =
            text("date").map(|t| (t, true)).or_else(|| text("timestamp").map(|t| (t, false)))
        {
            match moment(text, is_date) {
                Some(literal) => Term::Literal(literal),
                None => return error(&at(place), not_real(text, is_date)),
            }
        } else if let Some(ends) = single("interval") {
            let Some([from, to]) = ends.as_array().map(Vec::as_slice) else {
                return error(&at(place), "\"interval\" is an array of two ends");
            };
            let list = self.inside(place, "interval");
            let mut end = |value: &Json, i: &str| {
                let here = self.inside(list, i);
                let Some(text) = value.as_str() else { return self.value(value, here) };
                match interval_end(text) {
                    Some(is) => Ok(Node { at: at(here), is }),
                    None => error(
                        &at(here),
                        format!("'{text}' is not an end of an interval; write a date, a timestamp or \"..\""),
                    ),
                }
            };
            Term::Interval(Box::new(end(from, "0")?), Box::new(end(to, "1")?))
        } else {
            return self.computed(object, place);
        };
        Ok(Node { at: at(place), is })
    }

    fn computed(&mut self, object: &Map<String, Json>, place: usize) -> Result<Value, FilterError> {
        if let Some(word) = ["type", "coordinates", "bbox"].iter().find(|w| object.contains_key(**w)) {
            let why =
                spatial("BBOX").unwrap_or_default().replacen("BBOX", &format!("a geometry (\"{word}\")"), 1);
            return error(&at(place), why);
        }
        let (op, args) = self.operation(object, place)?;
        self.counts.deeper(&at(place))?;
        let operator = Operator::ALL.into_iter().find(|(symbol, ..)| symbol.eq_ignore_ascii_case(op));
        let is = if let Some((_, operator, _)) = operator {
            self.operators += 1;
            if self.operators > MAX_OPERATORS {
                let max = MAX_OPERATORS;
                return error(&at(place), format!("more than {max} operators in one arithmetic expression"));
            }
            if args.len() != 2 {
                return error(&at(place), format!("\"{op}\" takes 2 arguments, not {}", args.len()));
            }
            Term::Arithmetic(operator, Box::new(self.arg(&args, 0)?), Box::new(self.arg(&args, 1)?))
        } else if let Some(function) = called(&Function::ALL, op) {
            if args.len() != 1 {
                return error(&at(place), format!("\"{op}\" takes 1 argument, not {}", args.len()));
            }
            Term::Call(function, Box::new(self.arg(&args, 0)?))
        } else {
            return error(&at(place), spatial(op).unwrap_or_else(|| unknown_function(op)));
        };
        self.counts.depth -= 1;
        Ok(Node { at: at(place), is })
    }
}

fn not_condition(op: &str) -> String {
    if Operator::ALL.iter().any(|o| o.0 == op) || called(&Function::ALL, op).is_some() {
        return format!("\"{op}\" gives a value, not a condition; compare it with something");
    }
    let known = ["and", "or", "not", "between", "in", "like", "isNull"].into_iter();
    let known = known.chain(Comparison::ALL.map(|c| c.0)).chain(ArrayTest::ALL.map(|c| c.0));
    let known: Vec<&str> = known.chain(Relation::ALL.map(|c| c.0)).collect();
    let hint = crate::names::did_you_mean(op, known.iter().copied());
    format!("operator \"{op}\" is not known{hint} (operators: {})", known.join(", ").to_lowercase())
}

fn op(name: &str, args: impl IntoIterator<Item = Json>) -> Json {
    let name = if name.chars().all(|c| !c.is_lowercase()) { name.to_lowercase() } else { name.into() };
    json!({"op": name, "args": args.into_iter().collect::<Vec<_>>()})
}

pub(super) fn write(expr: &Expr) -> Json {
    let v = |value: &Value| term(&value.is);
    match expr {
        Expr::Constant(b) => json!(b),
        Expr::And(parts) => op("and", parts.iter().map(write)),
        Expr::Or(parts) => op("or", parts.iter().map(write)),
        Expr::Not(part) => op("not", [write(part)]),
        Expr::Compare(a, comparison, b) => op(name_of(&Comparison::ALL, *comparison), [v(a), v(b)]),
        Expr::Between(a, low, high) => op("between", [v(a), v(low), v(high)]),
        Expr::In(a, values) => op("in", [v(a), Json::Array(values.iter().map(v).collect())]),
        Expr::Like(a, pattern) => op("like", [v(a), v(pattern)]),
        Expr::IsNull(a) => op("isNull", [v(a)]),
        Expr::Array(test, a, b) => op(name_of(&ArrayTest::ALL, *test), [v(a), v(b)]),
        Expr::Time(relation, a, b) => op(name_of(&Relation::ALL, *relation), [v(a), v(b)]),
        Expr::Flag(a) => v(a),
    }
}

fn term(of: &Term) -> Json {
    let v = |value: &Value| term(&value.is);
    match of {
        Term::Property(name) => json!({"property": name}),
        Term::Parameter(name) => json!({"parameter": name}),
        Term::Literal(Literal::Text(text)) => json!(text),
        Term::Literal(Literal::Integer(n)) => json!(n),
        Term::Literal(Literal::Number(x)) => json!(x),
        Term::Literal(Literal::Boolean(b)) => json!(b),
        Term::Literal(date @ Literal::Date(_)) => json!({"date": print::moment(date)}),
        Term::Literal(instant @ Literal::Timestamp(_)) => json!({"timestamp": print::moment(instant)}),
        Term::Arithmetic(operator, a, b) => op(operator.symbol().0, [v(a), v(b)]),
        Term::Call(function, a) => op(function.name(), [v(a)]),
        Term::List(values) => Json::Array(values.iter().map(v).collect()),
        Term::Interval(from, to) => {
            let end = |value: &Value| match &value.is {
                Term::Literal(literal) => json!(print::moment(literal)),
                other => term(other),
            };
            json!({"interval": [end(from), end(to)]})
        }
        Term::Open => json!(".."),
    }
}
