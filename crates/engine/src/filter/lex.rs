//! CQL2 text to tokens.

use super::tree::is_parameter;
use super::{FilterError, error};
use std::ops::Range;

#[derive(Clone, Debug, PartialEq)]
pub(super) enum Token {
    Word(String),
    Quoted(String),
    Text(String),
    /// Without its colon.
    Parameter(String),
    /// As written, without a sign.
    Number(String),
    Symbol(&'static str),
    End,
}

impl Token {
    pub fn shown(&self) -> String {
        match self {
            Token::Word(w) => w.clone(),
            Token::Quoted(w) => format!("\"{w}\""),
            Token::Text(t) => format!("'{t}'"),
            Token::Parameter(name) => format!(":{name}"),
            Token::Number(n) => n.clone(),
            Token::Symbol(s) => (*s).into(),
            Token::End => "the end of the filter".into(),
        }
    }
}

const SYMBOLS: [&str; 15] = ["<=", ">=", "<>", "=", "<", ">", "(", ")", ",", "+", "-", "*", "/", "%", "^"];

/// The next token of `text` from byte `from` on, and its place.
pub(super) fn next(text: &str, from: usize) -> Result<(Token, Range<usize>), FilterError> {
    let start = text.len() - text[from..].trim_start().len();
    let rest = &text[start..];
    let Some(first) = rest.chars().next() else {
        return Ok((Token::End, start..start));
    };
    let (token, length) = match first {
        '\'' => quoted(rest, '\'', start).map(|(text, n)| (Token::Text(text), n))?,
        '"' => quoted(rest, '"', start).map(|(text, n)| (Token::Quoted(text), n))?,
        '0'..='9' | '.' => number(rest, start)?,
        ':' => parameter(rest, start)?,
        c if c.is_alphabetic() || c == '_' => {
            let end = rest
                .find(|c: char| !(c.is_alphanumeric() || matches!(c, '_' | '.' | ':')))
                .unwrap_or(rest.len());
            (Token::Word(rest[..end].into()), end)
        }
        c => match SYMBOLS.into_iter().find(|s| rest.starts_with(s)) {
            Some(symbol) => (Token::Symbol(symbol), symbol.len()),
            None => {
                let hint = match c {
                    '!' => "; \"not equal\" is <>",
                    '&' => "; write AND",
                    '|' => "; write OR",
                    _ => "",
                };
                return error(&(start..start + c.len_utf8()), format!("unexpected \"{c}\"{hint}"));
            }
        },
    };
    Ok((token, start..start + length))
}

/// The text inside quotes and its length. A doubled or backslashed quote means itself. Before a
/// quote, two backslashes mean one, so that a text can end in a backslash. Elsewhere each means itself.
fn quoted(rest: &str, quote: char, start: usize) -> Result<(String, usize), FilterError> {
    let mut out = String::new();
    let mut chars = rest.char_indices().skip(1).peekable();
    let mut backslashes = 0;
    while let Some((i, c)) = chars.next() {
        if c == '\\' && quote == '\'' {
            backslashes += 1;
            continue;
        }
        let kept = if c == quote { backslashes / 2 } else { backslashes };
        let escaped = c == quote && backslashes % 2 == 1;
        (0..kept).for_each(|_| out.push('\\'));
        backslashes = 0;
        if c == quote && !escaped {
            if chars.peek().is_none_or(|&(_, next)| next != quote) {
                return Ok((out, i + 1));
            }
            chars.next();
        }
        out.push(c);
    }
    let what = if quote == '\'' { "text" } else { "field name" };
    error(&(start..start + 1), format!("the {what} that begins here is not closed with {quote}"))
}

fn parameter(rest: &str, start: usize) -> Result<(Token, usize), FilterError> {
    let name = &rest[1..];
    let end = name.find(|c: char| !(c.is_ascii_alphanumeric() || c == '_')).unwrap_or(name.len());
    match is_parameter(&name[..end]) {
        true => Ok((Token::Parameter(name[..end].into()), end + 1)),
        false => error(&(start..start + 1), "a colon begins a parameter, such as :station"),
    }
}

fn number(rest: &str, start: usize) -> Result<(Token, usize), FilterError> {
    let digits = |from: usize| rest[from..].bytes().take_while(u8::is_ascii_digit).count();
    let mut end = digits(0);
    let mut whole = end > 0;
    if rest[end..].starts_with('.') {
        let more = digits(end + 1);
        whole |= more > 0;
        end += 1 + more;
    }
    if whole && rest[end..].starts_with(['e', 'E']) {
        let sign = usize::from(rest[end + 1..].starts_with(['+', '-']));
        let more = digits(end + 1 + sign);
        if more > 0 {
            end += 1 + sign + more;
        }
    }
    if !whole {
        return error(&(start..start + end.max(1)), "expected a number");
    }
    if let Some(c) = rest[end..].chars().next()
        && (c.is_alphanumeric() || c == '_' || c == '.')
    {
        let at = start..start + end + c.len_utf8();
        return error(&at, format!("\"{}{c}\" is not a number", &rest[..end]));
    }
    Ok((Token::Number(rest[..end].into()), end))
}
