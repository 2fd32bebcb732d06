//! CQL2 text to a tree: recursive descent with limits.

use super::lex::{self, Token};
use super::tree::{
    ArrayTest, Comparison, Counts, Expr, Function, Literal, Node, Operator, Relation, Term, Value, called,
    is_keyword, spatial, unknown_function,
};
use super::{FilterError, MAX_BYTES, MAX_LIST, MAX_OPERATORS, error};
use crate::schema::{date, timestamp};
use std::ops::Range;

pub(super) fn read(text: &str) -> Result<Expr, FilterError> {
    if text.len() > MAX_BYTES {
        let mut end = MAX_BYTES;
        while !text.is_char_boundary(end) {
            end -= 1;
        }
        let n = text.len();
        return error(&(end..end), format!("the filter has {n} bytes; the limit is {MAX_BYTES}"));
    }
    let mut parser =
        Parser { text, at: 0, token: Token::End, span: 0..0, counts: Counts::default(), operators: 0 };
    parser.next()?;
    let any = parser.any()?;
    let expr = parser.condition(any)?;
    if parser.token != Token::End {
        let found = parser.token.shown();
        return error(&parser.span, format!("expected AND, OR or the end, found {found}"));
    }
    Ok(expr)
}

/// Parentheses hold either.
enum Part {
    Condition(Expr),
    Value(Value),
}

struct Parser<'a> {
    text: &'a str,
    at: usize,
    token: Token,
    span: Range<usize>,
    counts: Counts,
    /// Of the arithmetic expression that is being read.
    operators: usize,
}

impl Parser<'_> {
    fn next(&mut self) -> Result<(), FilterError> {
        (self.token, self.span) = lex::next(self.text, self.at)?;
        self.at = self.span.end;
        Ok(())
    }

    fn is_word(&self, word: &str) -> bool {
        matches!(&self.token, Token::Word(w) if w.eq_ignore_ascii_case(word))
    }

    fn take_word(&mut self, word: &str) -> Result<bool, FilterError> {
        let found = self.is_word(word);
        if found {
            self.next()?;
        }
        Ok(found)
    }

    fn take_symbol(&mut self, symbol: &str) -> Result<bool, FilterError> {
        let found = matches!(self.token, Token::Symbol(s) if s == symbol);
        if found {
            self.next()?;
        }
        Ok(found)
    }

    fn expect_symbol(&mut self, symbol: &str, context: &str) -> Result<(), FilterError> {
        if self.take_symbol(symbol)? {
            return Ok(());
        }
        let found = self.token.shown();
        error(&self.span, format!("expected \"{symbol}\" {context}, found {found}"))
    }

    fn any(&mut self) -> Result<Part, FilterError> {
        let first = self.all()?;
        if !self.is_word("OR") {
            return Ok(first);
        }
        let mut parts = vec![self.condition(first)?];
        while self.take_word("OR")? {
            let part = self.all()?;
            parts.push(self.condition(part)?);
        }
        Ok(Part::Condition(Expr::Or(parts)))
    }

    fn all(&mut self) -> Result<Part, FilterError> {
        let first = self.one()?;
        if !self.is_word("AND") {
            return Ok(first);
        }
        let mut parts = vec![self.condition(first)?];
        while self.take_word("AND")? {
            let part = self.one()?;
            parts.push(self.condition(part)?);
        }
        Ok(Part::Condition(Expr::And(parts)))
    }

    fn one(&mut self) -> Result<Part, FilterError> {
        let at = self.span.clone();
        if self.take_word("NOT")? {
            self.counts.deeper(&at)?;
            let part = self.one()?;
            let expr = self.condition(part)?;
            self.counts.depth -= 1;
            return Ok(Part::Condition(Expr::Not(Box::new(expr))));
        }
        self.predicate()
    }

    /// A value without a comparison must be a boolean.
    fn condition(&mut self, part: Part) -> Result<Expr, FilterError> {
        let value = match part {
            Part::Condition(expr) => return Ok(expr),
            Part::Value(value) => value,
        };
        match value.is {
            Term::Literal(Literal::Boolean(b)) => Ok(Expr::Constant(b)),
            Term::Property(_) => {
                self.counts.condition(&value.at)?;
                Ok(Expr::Flag(value))
            }
            _ if self.token != Token::End => {
                let found = self.token.shown();
                error(&self.span, format!("expected a comparison such as =, found {found}"))
            }
            _ => error(&value.at, "this is a value, not a condition; compare it with something"),
        }
    }

    fn predicate(&mut self) -> Result<Part, FilterError> {
        let start = self.span.clone();
        if let Token::Word(word) = &self.token
            && self.text[self.at..].trim_start().starts_with('(')
        {
            let word = word.clone();
            if let Some(test) = called(&ArrayTest::ALL, &word) {
                let (left, right) = self.pair(&word, Parser::value_or_list)?;
                self.counts.condition(&start)?;
                return Ok(Part::Condition(Expr::Array(test, left, right)));
            }
            if let Some(relation) = called(&Relation::ALL, &word) {
                let (left, right) = self.pair(&word, Parser::value)?;
                self.counts.condition(&start)?;
                return Ok(Part::Condition(Expr::Time(relation, left, right)));
            }
        }
        self.operators = 0;
        let left = match self.sum(1)? {
            Part::Value(value) => value,
            condition => return Ok(condition),
        };
        if let Some(comparison) = self.comparison()? {
            let right = self.value()?;
            self.counts.condition(&start)?;
            return Ok(Part::Condition(Expr::Compare(left, comparison, right)));
        }
        let negated_at = self.span.clone();
        let (is, negated) = match self.take_word("IS")? {
            true => (true, self.take_word("NOT")?),
            false => (false, self.take_word("NOT")?),
        };
        let expr = if is {
            if !self.take_word("NULL")? {
                let found = self.token.shown();
                return error(&self.span, format!("expected NULL, found {found}"));
            }
            Expr::IsNull(left)
        } else if self.take_word("BETWEEN")? {
            let low = self.value()?;
            if !self.take_word("AND")? {
                let found = self.token.shown();
                return error(&self.span, format!("expected AND and the upper bound, found {found}"));
            }
            Expr::Between(left, low, self.value()?)
        } else if self.take_word("IN")? {
            match self.list()?.is {
                Term::List(values) => Expr::In(left, values),
                _ => unreachable!("lists are lists"),
            }
        } else if self.take_word("LIKE")? {
            Expr::Like(left, self.value()?)
        } else if negated {
            let found = self.token.shown();
            return error(&self.span, format!("expected BETWEEN, IN or LIKE, found {found}"));
        } else {
            let ends = matches!(self.token, Token::End | Token::Symbol(")" | ","));
            if let (Term::Property(name), false) =
                (&left.is, ends || self.is_word("AND") || self.is_word("OR"))
            {
                let found = self.token.shown();
                let expected = "=, <>, <, <=, >, >=, BETWEEN, IN, LIKE or IS";
                return error(
                    &negated_at,
                    format!("expected {expected} after {name}, found {found}; AND, OR join"),
                );
            }
            return Ok(Part::Value(left));
        };
        self.counts.condition(&start)?;
        Ok(Part::Condition(if negated { Expr::Not(Box::new(expr)) } else { expr }))
    }

    fn comparison(&mut self) -> Result<Option<Comparison>, FilterError> {
        let Token::Symbol(symbol) = self.token else { return Ok(None) };
        let comparison = called(&Comparison::ALL, symbol);
        if comparison.is_some() {
            self.next()?;
        }
        Ok(comparison)
    }

    /// `NAME(first, second)`.
    fn pair(
        &mut self,
        name: &str,
        read: fn(&mut Self) -> Result<Value, FilterError>,
    ) -> Result<(Value, Value), FilterError> {
        self.next()?;
        self.expect_symbol("(", &format!("after {name}"))?;
        let left = read(self)?;
        self.expect_symbol(",", &format!("between the two sides of {name}"))?;
        let right = read(self)?;
        self.expect_symbol(")", &format!("to close {name}"))?;
        Ok((left, right))
    }

    fn value(&mut self) -> Result<Value, FilterError> {
        let start = self.span.clone();
        self.operators = 0;
        match self.sum(1)? {
            Part::Value(value) => Ok(value),
            Part::Condition(_) => error(&start, "expected a value, found a condition"),
        }
    }

    fn value_or_list(&mut self) -> Result<Value, FilterError> {
        if self.token == Token::Symbol("(") { self.list() } else { self.value() }
    }

    fn list(&mut self) -> Result<Value, FilterError> {
        let start = self.span.start;
        self.expect_symbol("(", "to begin the list")?;
        let mut values = Vec::new();
        while self.token != Token::Symbol(")") {
            if !values.is_empty() {
                self.expect_symbol(",", "or \")\" in the list")?;
            }
            values.push(self.value()?);
            if values.len() > MAX_LIST {
                return error(&(start..self.span.end), format!("a list takes up to {MAX_LIST} values"));
            }
        }
        let at = start..self.span.end;
        self.next()?;
        Ok(Node { at, is: Term::List(values) })
    }

    fn operator(&self, strength: usize) -> Option<Operator> {
        let is = |symbol: &str| match &self.token {
            Token::Symbol(s) => *s == symbol,
            Token::Word(w) => w.eq_ignore_ascii_case(symbol),
            _ => false,
        };
        Operator::ALL.into_iter().find(|(s, _, strong)| *strong == strength && is(s)).map(|o| o.1)
    }

    /// Operators of at least this strength, from the left; powers from the right.
    fn sum(&mut self, strength: usize) -> Result<Part, FilterError> {
        if strength > 3 {
            return self.primary();
        }
        let mut left = match self.sum(strength + 1)? {
            Part::Value(value) => value,
            condition => return Ok(condition),
        };
        while let Some(operator) = self.operator(strength) {
            self.operators += 1;
            if self.operators > MAX_OPERATORS {
                let max = MAX_OPERATORS;
                return error(&self.span, format!("more than {max} operators in one arithmetic expression"));
            }
            self.next()?;
            let start = self.span.clone();
            let next = if operator == Operator::Power { strength } else { strength + 1 };
            let Part::Value(right) = self.sum(next)? else {
                return error(&start, "expected a number, found a condition");
            };
            let at = left.at.start..right.at.end;
            left = Node { at, is: Term::Arithmetic(operator, Box::new(left), Box::new(right)) };
        }
        Ok(Part::Value(left))
    }

    fn primary(&mut self) -> Result<Part, FilterError> {
        let at = self.span.clone();
        let is = match self.token.clone() {
            Token::Symbol("(") => {
                self.counts.deeper(&at)?;
                self.next()?;
                let operators = self.operators;
                let part = self.any()?;
                self.operators += operators;
                let end = self.span.end;
                if let (Part::Value(_), Token::Symbol(",")) = (&part, &self.token) {
                    return error(
                        &self.span,
                        "a list may only follow IN, or be an argument of an array function",
                    );
                }
                self.expect_symbol(")", "to close the parenthesis")?;
                self.counts.depth -= 1;
                return Ok(match part {
                    Part::Value(value) => Part::Value(Node { at: at.start..end, is: value.is }),
                    condition => condition,
                });
            }
            Token::Symbol(sign @ ("-" | "+")) => {
                self.next()?;
                let Token::Number(digits) = &self.token else {
                    return error(&at, format!("a sign may only precede a number; write 0 {sign} field"));
                };
                let digits = format!("{}{digits}", if sign == "-" { "-" } else { "" });
                let at = at.start..self.span.end;
                let is = Term::Literal(number(&digits, &at)?);
                self.next()?;
                return Ok(Part::Value(Node { at, is }));
            }
            Token::Number(digits) => Term::Literal(number(&digits, &at)?),
            Token::Text(text) => Term::Literal(Literal::Text(text)),
            Token::Quoted(name) => Term::Property(name),
            Token::Parameter(name) => Term::Parameter(name),
            Token::Word(word) => {
                if self.text[self.at..].trim_start().starts_with('(') && !is_keyword(&word) {
                    return self.prefetch(&word).map(Part::Value);
                }
                match word.to_ascii_uppercase().as_str() {
                    "TRUE" => Term::Literal(Literal::Boolean(true)),
                    "FALSE" => Term::Literal(Literal::Boolean(false)),
                    "NULL" => return error(&at, "missing values are found with IS NULL"),
                    upper if is_keyword(upper) => {
                        return error(&at, format!("expected a field or a value, found {word}"));
                    }
                    _ => Term::Property(word),
                }
            }
            other => {
                let found = other.shown();
                return error(&at, format!("expected a field or a value, found {found}"));
            }
        };
        self.next()?;
        Ok(Part::Value(Node { at, is }))
    }

    /// A function that gives a value.
    fn prefetch(&mut self, name: &str) -> Result<Value, FilterError> {
        let at = self.span.clone();
        let upper = name.to_ascii_uppercase();
        if let Some(function) = called(&Function::ALL, name) {
            self.counts.deeper(&at)?;
            self.next()?;
            self.expect_symbol("(", &format!("after {name}"))?;
            let operators = self.operators;
            let inner = self.value()?;
            self.operators += operators;
            let end = self.span.end;
            self.expect_symbol(")", &format!("to close {name}"))?;
            self.counts.depth -= 1;
            return Ok(Node { at: at.start..end, is: Term::Call(function, Box::new(inner)) });
        }
        if upper == "INTERVAL" {
            let (from, to) = self.pair(name, Parser::moment)?;
            let end = self.at.min(self.span.start);
            return Ok(Node { at: at.start..end, is: Term::Interval(Box::new(from), Box::new(to)) });
        }
        if upper == "DATE" || upper == "TIMESTAMP" {
            return self.instant(upper == "DATE");
        }
        if called(&ArrayTest::ALL, name).is_some() || called(&Relation::ALL, name).is_some() {
            return error(&at, format!("{upper} is a condition and cannot stand for a value"));
        }
        error(&at, spatial(name).unwrap_or_else(|| unknown_function(name)))
    }

    /// `DATE('1931-10-04')` or `TIMESTAMP('1931-10-04T18:30:00Z')`.
    fn instant(&mut self, is_date: bool) -> Result<Value, FilterError> {
        let start = self.span.start;
        let name = self.token.shown();
        self.next()?;
        self.expect_symbol("(", &format!("after {name}"))?;
        let Token::Text(text) = self.token.clone() else {
            let found = self.token.shown();
            return error(&self.span, format!("expected a quoted {}, found {found}", name.to_lowercase()));
        };
        let is = moment(&text, is_date);
        let Some(is) = is else { return error(&self.span, not_real(&text, is_date)) };
        self.next()?;
        let end = self.span.end;
        self.expect_symbol(")", &format!("to close {name}"))?;
        Ok(Node { at: start..end, is: Term::Literal(is) })
    }

    /// An end of an interval: a quoted date, timestamp or `..`; or any value.
    fn moment(&mut self) -> Result<Value, FilterError> {
        let Token::Text(text) = &self.token else { return self.value() };
        let is = interval_end(text);
        let at = self.span.clone();
        let Some(is) = is else {
            let text = text.clone();
            return error(
                &at,
                format!("'{text}' is not an end of an interval; write a date, a timestamp or '..'"),
            );
        };
        self.next()?;
        Ok(Node { at, is })
    }
}

pub(super) fn moment(text: &str, is_date: bool) -> Option<Literal> {
    if is_date { date(text).map(Literal::Date) } else { timestamp(text).map(Literal::Timestamp) }
}

pub(super) fn not_real(text: &str, is_date: bool) -> String {
    match is_date {
        true => format!("'{text}' is not a real date; write DATE('1931-10-04')"),
        false => format!("'{text}' is not a real timestamp; write TIMESTAMP('1931-10-04T18:30:00Z')"),
    }
}

pub(super) fn interval_end(text: &str) -> Option<Term> {
    if text == ".." {
        return Some(Term::Open);
    }
    moment(text, true).or_else(|| moment(text, false)).map(Term::Literal)
}

fn number(digits: &str, at: &Range<usize>) -> Result<Literal, FilterError> {
    if digits.contains(['.', 'e', 'E']) {
        let value: f64 = digits.parse().unwrap_or(f64::INFINITY);
        if !value.is_finite() {
            return error(at, format!("{digits} is beyond 64-bit numbers"));
        }
        return Ok(Literal::Number(value));
    }
    match digits.parse() {
        Ok(value) => Ok(Literal::Integer(value)),
        Err(_) => error(at, format!("{digits} is beyond 64-bit integers")),
    }
}
