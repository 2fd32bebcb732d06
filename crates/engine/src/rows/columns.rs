//! The values of fields, one column a field, one value a row.

use crate::rows::bits::Bits;
use crate::rows::chunked::Chunked;
use crate::rows::packed::{Lists, Packed};
use crate::schema::{self, Field, FieldType, FieldValue};
use ahash::AHashMap;
use fixedbitset::FixedBitSet;
use parking_lot::RwLock;
use serde_json::Value;
use std::sync::Arc;

/// Values of one type, one a row. A missing row holds a default and is in `missing`.
#[derive(Clone, Debug)]
pub struct Values<T> {
    values: Chunked<T>,
    missing: Bits,
}

impl<T: Clone + Default> Values<T> {
    fn new() -> Self {
        Values { values: Chunked::default(), missing: Bits::default() }
    }
    /// The value of a row that exists, or of the next one.
    pub(super) fn put(&mut self, row: u32, value: Option<T>) {
        self.missing.put(row as usize, value.is_none());
        match (row as usize) < self.values.len() {
            true => self.values.set(row, value.unwrap_or_default()),
            false => self.values.push(value.unwrap_or_default()),
        }
    }
}

impl<T> Values<T> {
    pub fn values(&self) -> &Chunked<T> {
        &self.values
    }
    pub fn missing(&self) -> &Bits {
        &self.missing
    }
}
impl<T: Copy> Values<T> {
    /// The value of a row; `None` when it is missing.
    pub fn get(&self, row: u32) -> Option<T> {
        self.values.get(row).copied().filter(|_| !self.missing.contains(row as usize))
    }
}

/// Integers, dates or timestamps, one a row. A missing row repeats the one before and is in `missing`.
#[derive(Clone, Debug, Default)]
pub struct Integers {
    values: Packed,
    missing: Bits,
}

impl Integers {
    /// The value of a row that exists, or of the next one.
    pub(super) fn put(&mut self, row: u32, value: Option<i64>) {
        self.missing.put(row as usize, value.is_none());
        match ((row as usize) < self.values.len(), value) {
            (true, Some(value)) => self.values.set(row, value),
            (true, None) => {}
            (false, value) => self.values.push(value.unwrap_or(self.values.last())),
        }
    }
    pub fn values(&self) -> &Packed {
        &self.values
    }
    pub fn missing(&self) -> &Bits {
        &self.missing
    }
    /// The value of a row; `None` when it is missing.
    pub fn get(&self, row: u32) -> Option<i64> {
        self.values.get(row).filter(|_| !self.missing.contains(row as usize))
    }
}

/// Distinct texts, numbered as they came.
#[derive(Clone, Debug, Default)]
pub(super) struct Dictionary {
    texts: Chunked<Arc<str>>,
    codes: Arc<RwLock<AHashMap<Arc<str>, u32>>>,
}

impl Dictionary {
    fn code(&self, text: &str) -> Option<u32> {
        let code = *self.codes.read().get(text)?;
        // The map is shared with later snapshots; a code beyond this one does not exist in it.
        ((code as usize) < self.texts.len()).then_some(code)
    }
    pub(super) fn len(&self) -> usize {
        self.texts.len()
    }
    pub(super) fn text(&self, code: u32) -> &str {
        self.texts.get(code).map_or("", |t| t)
    }
    pub(super) fn add(&mut self, text: &str) -> u32 {
        if let Some(code) = self.code(text) {
            return code;
        }
        let text: Arc<str> = text.into();
        let code = self.len() as u32;
        self.texts.push(text.clone());
        self.codes.write().insert(text, code);
        code
    }
}

/// In the place of a missing text's code.
pub(super) const NO_CODE: i64 = -1;

/// A string field.
#[derive(Clone, Debug, Default)]
pub struct Texts {
    pub(super) dictionary: Dictionary,
    codes: Packed,
}

impl Texts {
    /// The code of a row that exists, or of the next one.
    pub(super) fn put(&mut self, row: u32, code: Option<u32>) {
        let code = code.map_or(NO_CODE, i64::from);
        match (row as usize) < self.codes.len() {
            true => self.codes.set(row, code),
            false => self.codes.push(code),
        }
    }
    pub fn dictionary(&self) -> impl Iterator<Item = &str> {
        self.dictionary.texts.chunks().flatten().map(|t| &**t)
    }
    /// How many distinct texts there are.
    pub fn n_distinct(&self) -> usize {
        self.dictionary.len()
    }
    /// Rows whose text is missing.
    pub(super) fn missing(&self) -> FixedBitSet {
        self.codes.between(NO_CODE, NO_CODE)
    }
    /// The code of a text that some row holds or held.
    pub fn code(&self, text: &str) -> Option<u32> {
        self.dictionary.code(text)
    }
    /// By row; negative where the text is missing.
    pub fn codes(&self) -> &Packed {
        &self.codes
    }
    /// The code of a row's text; `None` when it is missing.
    pub fn code_of(&self, row: u32) -> Option<u32> {
        self.codes.get(row).and_then(|c| c.try_into().ok())
    }
    pub fn text(&self, code: u32) -> &str {
        self.dictionary.text(code)
    }
}

/// A field of string arrays.
#[derive(Clone, Debug, Default)]
pub struct TextLists {
    pub(super) dictionary: Dictionary,
    pub(super) lists: Lists<u32>,
}

impl TextLists {
    pub fn code(&self, text: &str) -> Option<u32> {
        self.dictionary.code(text)
    }
    pub fn lists(&self) -> &Lists<u32> {
        &self.lists
    }
    /// The codes of a row's texts; `None` when the list is missing.
    pub fn list(&self, row: u32) -> Option<&[u32]> {
        self.lists.get(row)
    }
    pub fn text(&self, code: u32) -> &str {
        self.dictionary.text(code)
    }
}

/// The values of one field, one a row.
#[derive(Clone, Debug)]
pub enum Column {
    Text(Texts),
    Integer(Integers),
    Number(Values<f64>),
    Boolean(Values<bool>),
    Date(Integers),
    Timestamp(Integers),
    Texts(TextLists),
    Integers(Lists<i64>),
    /// A field that is stored only: known is where it is missing.
    Stored(Bits),
}

impl Column {
    pub(super) fn new(field: &Field) -> Column {
        match field.kind {
            _ if field.stored_only => Column::Stored(Bits::default()),
            FieldType::String => Column::Text(Texts::default()),
            FieldType::Integer => Column::Integer(Integers::default()),
            FieldType::Number => Column::Number(Values::new()),
            FieldType::Boolean => Column::Boolean(Values::new()),
            FieldType::Date => Column::Date(Integers::default()),
            FieldType::Timestamp => Column::Timestamp(Integers::default()),
            FieldType::Strings => Column::Texts(TextLists::default()),
            FieldType::Integers => Column::Integers(Lists::default()),
        }
    }

    /// The value of a row that exists, or of the next one.
    pub(super) fn put(&mut self, row: u32, kind: FieldType, value: Option<&Value>) {
        if let Column::Stored(missing) = self {
            missing.put(row as usize, value.is_none_or(Value::is_null));
            return;
        }
        // Bodies were checked when they were written; what does not parse now is missing.
        let value = value.and_then(|v| schema::parse(kind, v).ok().flatten());
        match (self, value) {
            (Column::Stored(_), _) => {}
            (Column::Text(texts), value) => {
                let code = match value {
                    Some(FieldValue::Text(text)) => Some(texts.dictionary.add(&text)),
                    _ => None,
                };
                texts.put(row, code);
            }
            (Column::Integer(v) | Column::Date(v) | Column::Timestamp(v), value) => {
                let value = match value {
                    Some(FieldValue::Integer(n)) => Some(n),
                    _ => None,
                };
                v.put(row, value);
            }
            (Column::Number(v), value) => {
                let value = match value {
                    Some(FieldValue::Number(x)) => Some(x),
                    _ => None,
                };
                v.put(row, value);
            }
            (Column::Boolean(v), value) => {
                let value = match value {
                    Some(FieldValue::Boolean(b)) => Some(b),
                    _ => None,
                };
                v.put(row, value);
            }
            (Column::Texts(t), value) => {
                let list = match value {
                    Some(FieldValue::Texts(list)) => Some(list),
                    _ => None,
                };
                t.lists.put(row, list.map(|l| l.into_iter().map(|text| t.dictionary.add(&text))));
            }
            (Column::Integers(lists), value) => {
                let list = match value {
                    Some(FieldValue::Integers(list)) => Some(list),
                    _ => None,
                };
                lists.put(row, list);
            }
        }
    }

    /// How many texts are kept for no row, at least.
    pub(super) fn n_unused_texts(&self, n_rows: usize) -> usize {
        match self {
            Column::Text(t) => t.dictionary.len().saturating_sub(n_rows),
            _ => 0,
        }
    }

    /// The same values under a field that was widened; `None` when bodies must be read again.
    pub(super) fn widened(&self, old: &Field, new: &Field) -> Option<Column> {
        if old.kind == new.kind && old.stored_only == new.stored_only {
            return Some(self.clone());
        }
        match (self, new.kind) {
            (Column::Integer(values), FieldType::Number) if !new.stored_only => {
                let mut wide = Values::new();
                for (row, value) in values.values.iter().enumerate() {
                    wide.put(row as u32, (!values.missing.contains(row)).then_some(value as f64));
                }
                Some(Column::Number(wide))
            }
            _ => None,
        }
    }

    /// Bytes that the column takes in memory.
    pub fn n_bytes(&self) -> usize {
        fn values<T: Clone>(v: &Values<T>) -> usize {
            v.values.len() * size_of::<T>() + v.missing.n_bytes()
        }
        fn dictionary(d: &Dictionary) -> usize {
            // A text is kept once, with two counts, and pointed to by the list and the map.
            d.texts.chunks().flatten().map(|t| t.len() + 16 + 16 + 24).sum()
        }
        match self {
            Column::Text(t) => t.codes.n_bytes() + dictionary(&t.dictionary),
            Column::Integer(v) | Column::Date(v) | Column::Timestamp(v) => {
                v.values.n_bytes() + v.missing.n_bytes()
            }
            Column::Number(v) => values(v),
            Column::Boolean(v) => values(v),
            Column::Texts(t) => t.lists.n_bytes() + dictionary(&t.dictionary),
            Column::Integers(l) => l.n_bytes(),
            Column::Stored(missing) => missing.n_bytes(),
        }
    }
}
