//! Values in place of parameters. They are put into the tree as literals, after it was read.

use super::tree::{Expr, Literal, Node, Term, Value};
use super::{FilterError, MAX_LIST, error};
use std::collections::BTreeSet;

/// What a parameter is given.
#[derive(Clone, Debug, PartialEq)]
pub enum Bound {
    One(Literal),
    /// Where a list can stand.
    List(Vec<Literal>),
}

fn values(expr: &Expr) -> Vec<&Value> {
    match expr {
        Expr::Constant(_) | Expr::And(_) | Expr::Or(_) | Expr::Not(_) => Vec::new(),
        Expr::Compare(a, _, b) | Expr::Like(a, b) | Expr::Array(_, a, b) | Expr::Time(_, a, b) => vec![a, b],
        Expr::Between(a, low, high) => vec![a, low, high],
        Expr::In(a, list) => std::iter::once(a).chain(list).collect(),
        Expr::IsNull(a) | Expr::Flag(a) => vec![a],
    }
}

fn note<'f>(value: &'f Value, found: &mut BTreeSet<&'f str>) {
    match &value.is {
        Term::Parameter(name) => drop(found.insert(name)),
        Term::Arithmetic(_, a, b) | Term::Interval(a, b) => {
            note(a, found);
            note(b, found);
        }
        Term::Call(_, inner) => note(inner, found),
        Term::List(list) => list.iter().for_each(|v| note(v, found)),
        Term::Property(_) | Term::Literal(_) | Term::Open => {}
    }
}

/// The names of all parameters.
pub(super) fn parameters(expr: &Expr) -> BTreeSet<&str> {
    match expr {
        Expr::And(parts) | Expr::Or(parts) => parts.iter().flat_map(parameters).collect(),
        Expr::Not(part) => parameters(part),
        _ => {
            let mut found = BTreeSet::new();
            values(expr).into_iter().for_each(|v| note(v, &mut found));
            found
        }
    }
}

/// The condition with values in place of parameters; `None` where one has no value.
pub(super) fn bind(expr: &Expr, to: &impl Fn(&str) -> Option<Bound>) -> Result<Option<Expr>, FilterError> {
    let all = |parts: &[Expr]| {
        let bound = parts.iter().filter_map(|part| bind(part, to).transpose());
        bound.collect::<Result<Vec<_>, _>>()
    };
    let joined = |mut parts: Vec<Expr>, join: fn(Vec<Expr>) -> Expr| match parts.len() {
        0 | 1 => parts.pop(),
        _ => Some(join(parts)),
    };
    match expr {
        Expr::And(parts) => return Ok(joined(all(parts)?, Expr::And)),
        Expr::Or(parts) => return Ok(joined(all(parts)?, Expr::Or)),
        Expr::Not(part) => return Ok(bind(part, to)?.map(|part| Expr::Not(Box::new(part)))),
        _ => {}
    }
    let named = parameters(expr);
    if named.is_empty() {
        return Ok(Some(expr.clone()));
    }
    if named.into_iter().any(|name| to(name).is_none()) {
        return Ok(None);
    }
    let v = |value: &Value| Box::new(bound(value, to));
    Ok(Some(match expr {
        Expr::Compare(a, comparison, b) => Expr::Compare(*v(a), *comparison, *v(b)),
        Expr::Between(a, low, high) => Expr::Between(*v(a), *v(low), *v(high)),
        Expr::In(a, list) => Expr::In(*v(a), items(list, to)?),
        Expr::Like(a, pattern) => Expr::Like(*v(a), *v(pattern)),
        Expr::Array(test, a, b) => Expr::Array(*test, side(a, to)?, side(b, to)?),
        Expr::Time(relation, a, b) => Expr::Time(*relation, *v(a), *v(b)),
        other => other.clone(),
    }))
}

fn literal(at: &Value, literal: Literal) -> Value {
    Node { at: at.at.clone(), is: Term::Literal(literal) }
}

fn bound(value: &Value, to: &impl Fn(&str) -> Option<Bound>) -> Value {
    let v = |value: &Value| Box::new(bound(value, to));
    let is = match &value.is {
        Term::Parameter(name) => match to(name) {
            Some(Bound::One(one)) => Term::Literal(one),
            Some(Bound::List(list)) => Term::List(list.into_iter().map(|l| literal(value, l)).collect()),
            None => value.is.clone(),
        },
        Term::Arithmetic(operator, a, b) => Term::Arithmetic(*operator, v(a), v(b)),
        Term::Call(function, inner) => Term::Call(*function, v(inner)),
        Term::Interval(from, to) => Term::Interval(v(from), v(to)),
        other => other.clone(),
    };
    Node { at: value.at.clone(), is }
}

/// The items of a list; what is given to a parameter among them may be several.
fn items(list: &[Value], to: &impl Fn(&str) -> Option<Bound>) -> Result<Vec<Value>, FilterError> {
    let mut all = Vec::with_capacity(list.len());
    for item in list {
        match bound(item, to) {
            Node { is: Term::List(several), .. } if matches!(item.is, Term::Parameter(_)) => {
                all.extend(several)
            }
            one => all.push(one),
        }
    }
    match (all.len() > MAX_LIST, list.first()) {
        (true, Some(first)) => error(&first.at, format!("a list takes up to {MAX_LIST} values")),
        _ => Ok(all),
    }
}

/// A side of an array condition: one value is a list of one.
fn side(value: &Value, to: &impl Fn(&str) -> Option<Bound>) -> Result<Value, FilterError> {
    let is = match &value.is {
        Term::Parameter(_) => Term::List(items(std::slice::from_ref(value), to)?),
        Term::List(list) => Term::List(items(list, to)?),
        _ => return Ok(bound(value, to)),
    };
    Ok(Node { at: value.at.clone(), is })
}
