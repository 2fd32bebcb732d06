//! CQL2 text to a tree that knows where each part stood.
//!
//! Recursive descent with a depth limit. Integers stay integers; dates are real dates. Parts of
//! CQL2 that are not evaluated here (arithmetic, spatial and temporal functions, CASEI) are refused
//! by name.

use super::FilterError;
use crate::schema::{date, timestamp};
use std::ops::Range;

/// Bytes of filter text.
pub const MAX_BYTES: usize = 1 << 20;
/// Nested parentheses and NOTs.
pub const MAX_DEPTH: usize = 100;
/// Values in one IN list or array.
pub const MAX_LIST: usize = 100_000;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Comparison {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

#[derive(Clone, Debug, PartialEq)]
pub enum Literal {
    Text(String),
    Integer(i64),
    Number(f64),
    Boolean(bool),
    /// Days since 1970-01-01.
    Date(i64),
    /// Microseconds since 1970-01-01T00:00:00Z.
    Timestamp(i64),
}

/// A part of the tree and the bytes it came from.
#[derive(Clone, Debug, PartialEq)]
pub struct Node<T> {
    pub at: Range<usize>,
    pub is: T,
}

pub type Property = Node<String>;
pub type Value = Node<Literal>;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ArrayTest {
    /// Every listed value is in the field.
    Contains,
    /// Every value of the field is listed.
    ContainedBy,
    /// Both.
    Equals,
    /// At least one value is shared.
    Overlaps,
}

#[derive(Clone, Debug, PartialEq)]
pub enum Expr {
    Constant(bool),
    And(Vec<Expr>),
    Or(Vec<Expr>),
    Not(Box<Expr>),
    Compare(Property, Comparison, Value),
    Between(Property, Value, Value),
    In(Property, Vec<Value>),
    Like(Property, Node<String>),
    IsNull(Property),
    Array(ArrayTest, Property, Vec<Value>),
    /// A boolean field standing alone.
    Flag(Property),
}

#[derive(Clone, Debug, PartialEq)]
enum Token {
    Word(String),
    Quoted(String),
    Text(String),
    Number(Literal),
    Symbol(&'static str),
    End,
}

impl Token {
    fn shown(&self) -> String {
        match self {
            Token::Word(w) => w.clone(),
            Token::Quoted(w) => format!("\"{w}\""),
            Token::Text(t) => format!("'{t}'"),
            Token::Number(Literal::Integer(n)) => n.to_string(),
            Token::Number(_) => "a number".into(),
            Token::Symbol(s) => (*s).into(),
            Token::End => "the end of the filter".into(),
        }
    }
}

fn error<T>(at: Range<usize>, message: impl Into<String>) -> Result<T, FilterError> {
    Err(FilterError { start: at.start, end: at.end, message: message.into() })
}

/// Reads a filter. Never panics, whatever the text.
pub fn parse(text: &str) -> Result<Expr, FilterError> {
    if text.len() > MAX_BYTES {
        return error(
            MAX_BYTES..MAX_BYTES,
            format!("the filter has {} bytes; the limit is {MAX_BYTES}", text.len()),
        );
    }
    let mut parser = Parser { text, at: 0, token: Token::End, span: 0..0, depth: 0 };
    parser.next()?;
    let expr = parser.any()?;
    if parser.token != Token::End {
        let found = parser.token.shown();
        return error(parser.span, format!("expected AND, OR or the end, found {found}"));
    }
    Ok(expr)
}

const KEYWORDS: [&str; 10] = ["AND", "OR", "NOT", "BETWEEN", "IN", "LIKE", "IS", "NULL", "TRUE", "FALSE"];

struct Parser<'a> {
    text: &'a str,
    at: usize,
    token: Token,
    span: Range<usize>,
    depth: usize,
}

impl Parser<'_> {
    fn next(&mut self) -> Result<(), FilterError> {
        let rest = &self.text[self.at..];
        let start = self.text.len() - rest.trim_start().len();
        let rest = &self.text[start..];
        let Some(first) = rest.chars().next() else {
            self.token = Token::End;
            self.span = start..start;
            self.at = start;
            return Ok(());
        };
        let length;
        (self.token, length) = match first {
            '\'' => quoted(rest, '\'', start).map(|(text, n)| (Token::Text(text), n))?,
            '"' => quoted(rest, '"', start).map(|(text, n)| (Token::Quoted(text), n))?,
            '0'..='9' | '+' | '-' | '.' => number(rest, start)?,
            c if c.is_alphabetic() || c == '_' => {
                let end = rest
                    .find(|c: char| !(c.is_alphanumeric() || matches!(c, '_' | '.' | ':')))
                    .unwrap_or(rest.len());
                (Token::Word(rest[..end].into()), end)
            }
            c => {
                let symbol = ["<=", ">=", "<>", "=", "<", ">", "(", ")", ","]
                    .into_iter()
                    .find(|s| rest.starts_with(s));
                match symbol {
                    Some(symbol) => (Token::Symbol(symbol), symbol.len()),
                    None => {
                        let hint = match c {
                            '!' => "; \"not equal\" is <>",
                            '&' => "; write AND",
                            '|' => "; write OR",
                            '*' | '/' | '%' | '^' => "; arithmetic is not supported",
                            _ => "",
                        };
                        let end = start + c.len_utf8();
                        return error(start..end, format!("unexpected \"{c}\"{hint}"));
                    }
                }
            }
        };
        self.span = start..start + length;
        self.at = start + length;
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
        error(self.span.clone(), format!("expected \"{symbol}\" {context}, found {found}"))
    }

    fn any(&mut self) -> Result<Expr, FilterError> {
        let mut parts = vec![self.all()?];
        while self.take_word("OR")? {
            parts.push(self.all()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Expr::Or(parts) })
    }

    fn all(&mut self) -> Result<Expr, FilterError> {
        let mut parts = vec![self.one()?];
        while self.take_word("AND")? {
            parts.push(self.one()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Expr::And(parts) })
    }

    fn one(&mut self) -> Result<Expr, FilterError> {
        if self.depth == MAX_DEPTH {
            return error(
                self.span.clone(),
                format!("nested more than {MAX_DEPTH} deep; flatten the filter"),
            );
        }
        self.depth += 1;
        let expr = if self.take_word("NOT")? {
            Expr::Not(Box::new(self.one()?))
        } else if self.take_symbol("(")? {
            let inner = self.any()?;
            self.expect_symbol(")", "to close the parenthesis")?;
            inner
        } else {
            self.predicate()?
        };
        self.depth -= 1;
        Ok(expr)
    }

    fn predicate(&mut self) -> Result<Expr, FilterError> {
        if let Token::Word(word) = &self.token {
            let function = match word.to_ascii_uppercase().as_str() {
                "TRUE" | "FALSE" => {
                    let value = word.eq_ignore_ascii_case("TRUE");
                    self.next()?;
                    return Ok(Expr::Constant(value));
                }
                "A_CONTAINS" => Some(ArrayTest::Contains),
                "A_CONTAINEDBY" => Some(ArrayTest::ContainedBy),
                "A_EQUALS" => Some(ArrayTest::Equals),
                "A_OVERLAPS" => Some(ArrayTest::Overlaps),
                _ => None,
            };
            if let Some(test) = function {
                return self.array(test);
            }
        }
        if !matches!(self.token, Token::Word(_) | Token::Quoted(_)) {
            return self.literal_first();
        }
        // DATE('...') < logged: a literal may stand on the left too.
        if self.is_word("DATE") || self.is_word("TIMESTAMP") {
            let rest = self.text[self.at..].trim_start();
            if rest.starts_with('(') {
                return self.literal_first();
            }
        }
        let property = self.property()?;
        if let Token::Symbol("(") = self.token {
            return error(
                property.at,
                format!(
                    "function {} is not supported; A_CONTAINS, A_CONTAINEDBY, A_EQUALS, A_OVERLAPS, \
                     DATE and TIMESTAMP are",
                    property.is
                ),
            );
        }
        if let Some(comparison) = self.comparison()? {
            return Ok(Expr::Compare(property, comparison, self.value()?));
        }
        if self.take_word("IS")? {
            let negated = self.take_word("NOT")?;
            if !self.take_word("NULL")? {
                let found = self.token.shown();
                return error(self.span.clone(), format!("expected NULL, found {found}"));
            }
            return Ok(negate(negated, Expr::IsNull(property)));
        }
        let negated = self.take_word("NOT")?;
        let expr = if self.take_word("BETWEEN")? {
            let low = self.value()?;
            if !self.take_word("AND")? {
                let found = self.token.shown();
                return error(self.span.clone(), format!("expected AND and the upper bound, found {found}"));
            }
            Expr::Between(property, low, self.value()?)
        } else if self.take_word("IN")? {
            Expr::In(property, self.list()?)
        } else if self.take_word("LIKE")? {
            let Token::Text(pattern) = &self.token else {
                let found = self.token.shown();
                return error(self.span.clone(), format!("expected a pattern such as 'fog%', found {found}"));
            };
            let pattern = Node { at: self.span.clone(), is: pattern.clone() };
            self.next()?;
            Expr::Like(property, pattern)
        } else if negated || self.token != Token::End && !self.ends_predicate() {
            let found = self.token.shown();
            let expected =
                if negated { "BETWEEN, IN or LIKE" } else { "=, <>, <, <=, >, >=, BETWEEN, IN, LIKE or IS" };
            return error(
                self.span.clone(),
                format!("expected {expected} after {}, found {found}", property.is),
            );
        } else {
            Expr::Flag(property)
        };
        Ok(negate(negated, expr))
    }

    fn ends_predicate(&self) -> bool {
        self.is_word("AND") || self.is_word("OR") || self.token == Token::Symbol(")")
    }

    fn literal_first(&mut self) -> Result<Expr, FilterError> {
        let value = self.value()?;
        let Some(comparison) = self.comparison()? else {
            let found = self.token.shown();
            return error(self.span.clone(), format!("expected a comparison such as =, found {found}"));
        };
        let property = self.property()?;
        let turned = match comparison {
            Comparison::Less => Comparison::Greater,
            Comparison::LessOrEqual => Comparison::GreaterOrEqual,
            Comparison::Greater => Comparison::Less,
            Comparison::GreaterOrEqual => Comparison::LessOrEqual,
            same => same,
        };
        Ok(Expr::Compare(property, turned, value))
    }

    fn array(&mut self, test: ArrayTest) -> Result<Expr, FilterError> {
        let name = self.token.shown();
        self.next()?;
        self.expect_symbol("(", &format!("after {name}"))?;
        let property = self.property()?;
        self.expect_symbol(",", "between the field and the list")?;
        let values = self.list()?;
        self.expect_symbol(")", &format!("to close {name}"))?;
        Ok(Expr::Array(test, property, values))
    }

    fn comparison(&mut self) -> Result<Option<Comparison>, FilterError> {
        let comparison = match self.token {
            Token::Symbol("=") => Comparison::Equal,
            Token::Symbol("<>") => Comparison::NotEqual,
            Token::Symbol("<") => Comparison::Less,
            Token::Symbol("<=") => Comparison::LessOrEqual,
            Token::Symbol(">") => Comparison::Greater,
            Token::Symbol(">=") => Comparison::GreaterOrEqual,
            _ => return Ok(None),
        };
        self.next()?;
        Ok(Some(comparison))
    }

    fn property(&mut self) -> Result<Property, FilterError> {
        let is = match &self.token {
            Token::Quoted(name) => name.clone(),
            Token::Word(word) if !KEYWORDS.iter().any(|k| word.eq_ignore_ascii_case(k)) => word.clone(),
            other => {
                let found = other.shown();
                return error(self.span.clone(), format!("expected a field name, found {found}"));
            }
        };
        let at = self.span.clone();
        self.next()?;
        Ok(Node { at, is })
    }

    fn list(&mut self) -> Result<Vec<Value>, FilterError> {
        let start = self.span.start;
        self.expect_symbol("(", "to begin the list")?;
        let mut values = Vec::new();
        if self.take_symbol(")")? {
            return Ok(values);
        }
        loop {
            values.push(self.value()?);
            if values.len() > MAX_LIST {
                return error(start..self.span.end, format!("a list takes up to {MAX_LIST} values"));
            }
            if self.take_symbol(")")? {
                return Ok(values);
            }
            if !self.take_symbol(",")? {
                let found = self.token.shown();
                return error(
                    self.span.clone(),
                    format!("expected \",\" or \")\" in the list, found {found}"),
                );
            }
        }
    }

    fn value(&mut self) -> Result<Value, FilterError> {
        let at = self.span.clone();
        let is = match &self.token {
            Token::Text(text) => Literal::Text(text.clone()),
            Token::Number(number) => number.clone(),
            Token::Word(w) if w.eq_ignore_ascii_case("TRUE") => Literal::Boolean(true),
            Token::Word(w) if w.eq_ignore_ascii_case("FALSE") => Literal::Boolean(false),
            Token::Word(w) if w.eq_ignore_ascii_case("DATE") || w.eq_ignore_ascii_case("TIMESTAMP") => {
                let is_date = w.eq_ignore_ascii_case("DATE");
                return self.instant(is_date);
            }
            Token::Word(w) if !KEYWORDS.iter().any(|k| w.eq_ignore_ascii_case(k)) => {
                return error(
                    at,
                    format!("expected a value, found the name {w}; texts stand in single quotes: '{w}'"),
                );
            }
            Token::Quoted(w) => {
                return error(at, format!("double quotes enclose field names; a text is written '{w}'"));
            }
            other => {
                let found = other.shown();
                return error(at, format!("expected a value, found {found}"));
            }
        };
        self.next()?;
        Ok(Node { at, is })
    }

    /// `DATE('1931-10-04')` or `TIMESTAMP('1931-10-04T18:30:00Z')`.
    fn instant(&mut self, is_date: bool) -> Result<Value, FilterError> {
        let start = self.span.start;
        let name = self.token.shown();
        self.next()?;
        self.expect_symbol("(", &format!("after {name}"))?;
        let Token::Text(text) = self.token.clone() else {
            let found = self.token.shown();
            return error(
                self.span.clone(),
                format!("expected a quoted {}, found {found}", name.to_lowercase()),
            );
        };
        let is =
            if is_date { date(&text).map(Literal::Date) } else { timestamp(&text).map(Literal::Timestamp) };
        let Some(is) = is else {
            let example = if is_date { "DATE('1931-10-04')" } else { "TIMESTAMP('1931-10-04T18:30:00Z')" };
            return error(
                self.span.clone(),
                format!("'{text}' is not a real {}; write {example}", name.to_lowercase()),
            );
        };
        self.next()?;
        let end = self.span.end;
        self.expect_symbol(")", &format!("to close {name}"))?;
        Ok(Node { at: start..end, is })
    }
}

fn negate(negated: bool, expr: Expr) -> Expr {
    if negated { Expr::Not(Box::new(expr)) } else { expr }
}

/// The text inside quotes (a doubled or backslashed quote stands for itself) and its length.
fn quoted(rest: &str, quote: char, start: usize) -> Result<(String, usize), FilterError> {
    let mut out = String::new();
    let mut chars = rest.char_indices().skip(1).peekable();
    while let Some((i, c)) = chars.next() {
        let next = chars.peek().map(|&(_, c)| c);
        if c == quote {
            if next != Some(quote) {
                return Ok((out, i + 1));
            }
            chars.next();
        } else if c == '\\' && quote == '\'' && next == Some(quote) {
            chars.next();
            out.push(quote);
            continue;
        }
        out.push(c);
    }
    let what = if quote == '\'' { "text" } else { "field name" };
    error(start..start + 1, format!("the {what} that begins here is not closed with {quote}"))
}

fn number(rest: &str, start: usize) -> Result<(Token, usize), FilterError> {
    let digits = |from: usize| rest[from..].bytes().take_while(u8::is_ascii_digit).count();
    let sign = usize::from(rest.starts_with(['+', '-']));
    let mut end = sign + digits(sign);
    let mut whole = end > sign;
    let mut fraction = false;
    if rest[end..].starts_with('.') {
        let more = digits(end + 1);
        fraction = true;
        whole |= more > 0;
        end += 1 + more;
    }
    if whole && rest[end..].starts_with(['e', 'E']) {
        let sign = usize::from(rest[end + 1..].starts_with(['+', '-']));
        let more = digits(end + 1 + sign);
        if more > 0 {
            fraction = true;
            end += 1 + sign + more;
        }
    }
    let at = start..start + end.max(1);
    if !whole {
        return error(at, "expected a number; arithmetic is not supported");
    }
    if let Some(c) = rest[end..].chars().next()
        && (c.is_alphanumeric() || c == '_' || c == '.')
    {
        return error(start..start + end + c.len_utf8(), format!("\"{}{c}\" is not a number", &rest[..end]));
    }
    let literal = if fraction {
        let value: f64 = rest[..end].parse().unwrap_or(f64::INFINITY);
        if !value.is_finite() {
            return error(at, format!("{} is beyond 64-bit numbers", &rest[..end]));
        }
        Literal::Number(value)
    } else {
        match rest[..end].trim_start_matches('+').parse() {
            Ok(value) => Literal::Integer(value),
            Err(_) => return error(at, format!("{} is beyond 64-bit integers", &rest[..end])),
        }
    };
    Ok((Token::Number(literal), end))
}
