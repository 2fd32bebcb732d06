//! The canonical text of a filter: reading it gives the same tree.

use super::tree::{
    ArrayTest, Comparison, Expr, Literal, Operator, Relation, Term, Value, is_keyword, name_of,
};
use crate::schema::{FieldType, written};
use std::fmt::{Display, Formatter, Result, Write};

fn quoted(f: &mut Formatter<'_>, text: &str) -> Result {
    let mut out = String::with_capacity(text.len() + 2);
    let mut backslashes = 0;
    for c in text.chars() {
        if c == '\'' {
            // Before a quote two stand for one.
            (0..backslashes).for_each(|_| out.push('\\'));
            out.push('\'');
        }
        backslashes = if c == '\\' { backslashes + 1 } else { 0 };
        out.push(c);
    }
    (0..backslashes).for_each(|_| out.push('\\'));
    write!(f, "'{out}'")
}

pub(super) fn moment(literal: &Literal) -> Option<String> {
    match literal {
        Literal::Date(days) => written(FieldType::Date, *days).as_str().map(Into::into),
        Literal::Timestamp(micros) => written(FieldType::Timestamp, *micros).as_str().map(Into::into),
        _ => None,
    }
}

impl Display for Literal {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        match self {
            Literal::Text(text) => quoted(f, text),
            Literal::Integer(n) => write!(f, "{n}"),
            Literal::Number(x) => write!(f, "{x:?}"),
            Literal::Boolean(b) => f.write_str(if *b { "TRUE" } else { "FALSE" }),
            Literal::Date(_) => write!(f, "DATE('{}')", moment(self).unwrap_or_default()),
            Literal::Timestamp(_) => write!(f, "TIMESTAMP('{}')", moment(self).unwrap_or_default()),
        }
    }
}

fn list(f: &mut Formatter<'_>, values: &[Value]) -> Result {
    f.write_char('(')?;
    for (i, value) in values.iter().enumerate() {
        let comma = if i > 0 { ", " } else { "" };
        write!(f, "{comma}{}", value.is)?;
    }
    f.write_char(')')
}

impl Display for Term {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        let end = |f: &mut Formatter<'_>, value: &Value| match &value.is {
            Term::Literal(literal) if moment(literal).is_some() => {
                write!(f, "'{}'", moment(literal).unwrap_or_default())
            }
            other => write!(f, "{other}"),
        };
        match self {
            Term::Property(name) => {
                let mut chars = name.chars();
                let plain = chars.next().is_some_and(|c| c.is_alphabetic() || c == '_')
                    && chars.all(|c| c.is_alphanumeric() || matches!(c, '_' | '.' | ':'))
                    && !is_keyword(name);
                if plain { f.write_str(name) } else { write!(f, "\"{}\"", name.replace('"', "\"\"")) }
            }
            Term::Parameter(name) => write!(f, ":{name}"),
            Term::Literal(literal) => write!(f, "{literal}"),
            Term::Arithmetic(operator, left, right) => {
                let (symbol, strength) = operator.symbol();
                let side = |f: &mut Formatter<'_>, value: &Value, least: usize| match &value.is {
                    Term::Arithmetic(inner, ..) if inner.symbol().1 < least => write!(f, "({})", value.is),
                    inner => write!(f, "{inner}"),
                };
                let power = *operator == Operator::Power;
                side(f, left, strength + usize::from(power))?;
                write!(f, " {symbol} ")?;
                side(f, right, strength + usize::from(!power))
            }
            Term::Call(function, inner) => write!(f, "{}({})", function.name(), inner.is),
            Term::List(values) => list(f, values),
            Term::Interval(from, to) => {
                f.write_str("INTERVAL(")?;
                end(f, from)?;
                f.write_str(", ")?;
                end(f, to)?;
                f.write_char(')')
            }
            Term::Open => f.write_str("'..'"),
        }
    }
}

impl Display for Expr {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        let join = |f: &mut Formatter<'_>, parts: &[Expr], word: &str| {
            for (i, part) in parts.iter().enumerate() {
                let word = if i > 0 { word } else { "" };
                match part {
                    Expr::And(_) | Expr::Or(_) => write!(f, "{word}({part})")?,
                    _ => write!(f, "{word}{part}")?,
                }
            }
            Ok(())
        };
        let negated = |f: &mut Formatter<'_>, expr: &Expr, not: &str| match expr {
            Expr::Between(value, low, high) => {
                write!(f, "{} {not}BETWEEN {} AND {}", value.is, low.is, high.is)
            }
            Expr::In(value, values) => {
                write!(f, "{} {not}IN ", value.is)?;
                list(f, values)
            }
            Expr::Like(value, pattern) => write!(f, "{} {not}LIKE {}", value.is, pattern.is),
            Expr::IsNull(value) => write!(f, "{} IS {not}NULL", value.is),
            other if not.is_empty() => write!(f, "{other}"),
            Expr::And(_) | Expr::Or(_) => write!(f, "NOT ({expr})"),
            other => write!(f, "NOT {other}"),
        };
        match self {
            Expr::Constant(b) => write!(f, "{}", Literal::Boolean(*b)),
            Expr::And(parts) => join(f, parts, " AND "),
            Expr::Or(parts) => join(f, parts, " OR "),
            Expr::Not(part) => negated(f, part, "NOT "),
            Expr::Compare(left, comparison, right) => {
                write!(f, "{} {} {}", left.is, name_of::<Comparison>(&Comparison::ALL, *comparison), right.is)
            }
            Expr::Array(test, left, right) => {
                write!(f, "{}({}, {})", name_of::<ArrayTest>(&ArrayTest::ALL, *test), left.is, right.is)
            }
            Expr::Time(relation, left, right) => {
                write!(f, "{}({}, {})", name_of::<Relation>(&Relation::ALL, *relation), left.is, right.is)
            }
            Expr::Flag(value) => write!(f, "{}", value.is),
            _ => negated(f, self, ""),
        }
    }
}
