//! What LIKE, CASEI and ACCENTI do with texts.

use std::borrow::Cow;
use unicode_normalization::UnicodeNormalization;
use unicode_normalization::char::is_combining_mark;

/// Characters of a LIKE pattern: matching takes up to pattern times text.
pub const MAX_PATTERN: usize = 1_000;

/// What of a text is not regarded.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Fold {
    pub case: bool,
    pub accents: bool,
}

impl Fold {
    pub fn is_none(self) -> bool {
        self == Fold::default()
    }

    /// Unicode's full case folding; accents are what canonical decomposition sets apart from the letter.
    pub fn of(self, text: &str) -> Cow<'_, str> {
        if self.is_none() || text.is_ascii() && !(self.case && text.bytes().any(|b| b.is_ascii_uppercase())) {
            return text.into();
        }
        if text.is_ascii() {
            // Nearly all texts, and a tenth of the time; there are no accents to take off.
            return text.to_ascii_lowercase().into();
        }
        let mut out = Cow::Borrowed(text);
        if self.case {
            out = caseless::default_case_fold_str(&out).into();
        }
        if self.accents && !out.is_ascii() {
            out = out.nfd().filter(|c| !is_combining_mark(*c)).nfc().collect::<String>().into();
        }
        out
    }
}

/// A LIKE pattern: `%` is any run of characters, `_` any one, `\` takes the next literally.
#[derive(Clone, Debug, PartialEq)]
pub struct Pattern {
    pieces: Vec<Piece>,
    /// `%text%`, which most patterns are, is found much faster.
    within: Option<String>,
}

#[derive(Clone, Copy, Debug, PartialEq)]
enum Piece {
    One(char),
    AnyOne,
    AnyRun,
}

impl Pattern {
    pub fn new(text: &str) -> Pattern {
        let mut pieces = Vec::new();
        let mut chars = text.chars();
        while let Some(c) = chars.next() {
            pieces.push(match c {
                '%' if pieces.last() == Some(&Piece::AnyRun) => continue,
                '%' => Piece::AnyRun,
                '_' => Piece::AnyOne,
                '\\' => Piece::One(chars.next().unwrap_or('\\')),
                c => Piece::One(c),
            });
        }
        let within = match pieces.as_slice() {
            [Piece::AnyRun, inner @ .., Piece::AnyRun] => {
                inner.iter().map(|p| if let Piece::One(c) = p { Some(*c) } else { None }).collect()
            }
            _ => None,
        };
        Pattern { pieces, within }
    }

    /// Goes back to the last `%` only, so the time is at most pattern times text.
    pub fn matches(&self, text: &str) -> bool {
        if let Some(within) = &self.within {
            return text.contains(within.as_str());
        }
        let pieces = &self.pieces;
        let mut at = 0;
        let mut chars = text.chars();
        let mut retry: Option<(usize, std::str::Chars)> = None;
        loop {
            if let Some(Piece::AnyRun) = pieces.get(at) {
                at += 1;
                retry = Some((at, chars.clone()));
                continue;
            }
            let before = chars.clone();
            match (pieces.get(at), chars.next()) {
                (None, None) => return true,
                (Some(Piece::AnyOne), Some(_)) => at += 1,
                (Some(Piece::One(p)), Some(c)) if *p == c => at += 1,
                (_, None) if before.as_str().is_empty() && retry.is_none() => return false,
                _ => match &mut retry {
                    None => return false,
                    Some((piece, from)) => {
                        if from.next().is_none() {
                            return false;
                        }
                        at = *piece;
                        chars = from.clone();
                    }
                },
            }
        }
    }
}
