//! Values of a field for some rows as plain arrays: how columns are written to segments, read from them, and
//! gathered when rows are left out.

use crate::rows::columns::{Column, Dictionary};
use crate::tensors::{FileError, TensorFile, Tensors, damaged};

/// In the place of a missing text's code.
const NO_TEXT: u32 = u32::MAX;

/// Texts one after the other.
#[derive(Debug, Default)]
pub(super) struct Texts {
    bytes: Vec<u8>,
    /// Where each ends.
    ends: Vec<u64>,
}

impl Texts {
    fn get(&self, at: usize) -> &str {
        let start = if at == 0 { 0 } else { self.ends[at - 1] as usize };
        // Read from a file only when it was found to be text.
        std::str::from_utf8(&self.bytes[start..self.ends[at] as usize]).unwrap_or_default()
    }

    fn push(&mut self, text: &str) {
        self.bytes.extend(text.as_bytes());
        self.ends.push(self.bytes.len() as u64);
    }

    fn is_sound(&self) -> bool {
        let rise = self.ends.windows(2).all(|two| two[0] <= two[1]);
        rise && self.ends.last().copied().unwrap_or(0) == self.bytes.len() as u64
            && std::str::from_utf8(&self.bytes)
                .is_ok_and(|all| self.ends.iter().all(|end| all.is_char_boundary(*end as usize)))
    }
}

/// Numbers the texts that some rows have anew, in the order in which they come.
struct Renumbered<'a> {
    from: &'a Dictionary,
    new: Vec<u32>,
    texts: Texts,
}

impl<'a> Renumbered<'a> {
    fn new(from: &'a Dictionary) -> Self {
        Renumbered { from, new: vec![NO_TEXT; from.len()], texts: Texts::default() }
    }

    fn of(&mut self, code: u32) -> u32 {
        let new = &mut self.new[code as usize];
        if *new == NO_TEXT {
            *new = self.texts.ends.len() as u32;
            self.texts.push(self.from.text(code));
        }
        *new
    }
}

/// Values of one field, one for each of some rows.
#[derive(Debug)]
pub(super) enum FieldData {
    Codes {
        codes: Vec<u32>,
        texts: Texts,
    },
    Integers {
        values: Vec<i64>,
        missing: Vec<u8>,
    },
    Numbers {
        values: Vec<f64>,
        missing: Vec<u8>,
    },
    /// 0, 1, or 2 where it is missing.
    Booleans(Vec<u8>),
    CodeLists {
        ends: Vec<u64>,
        items: Vec<u32>,
        missing: Vec<u8>,
        texts: Texts,
    },
    IntegerLists {
        ends: Vec<u64>,
        items: Vec<i64>,
        missing: Vec<u8>,
    },
    Stored {
        missing: Vec<u8>,
    },
}

/// Lists one after the other.
fn lists<T>(lists: impl Iterator<Item = Option<Vec<T>>>) -> (Vec<u64>, Vec<T>, Vec<u8>) {
    let (mut ends, mut items, mut missing) = (Vec::new(), Vec::new(), Vec::new());
    for list in lists {
        missing.push(u8::from(list.is_none()));
        items.extend(list.into_iter().flatten());
        ends.push(items.len() as u64);
    }
    (ends, items, missing)
}

fn optional<T: Default>(values: impl Iterator<Item = Option<T>>) -> (Vec<T>, Vec<u8>) {
    values.map(|v| (v.is_none(), v.unwrap_or_default())).map(|(m, v)| (v, u8::from(m))).unzip()
}

fn list_at<'a, T>(ends: &[u64], items: &'a [T], at: usize) -> &'a [T] {
    let start = if at == 0 { 0 } else { ends[at - 1] as usize };
    &items[start..ends[at] as usize]
}

impl FieldData {
    /// The values of some rows.
    pub fn of(column: &Column, rows: &[u32]) -> FieldData {
        let rows = rows.iter().copied();
        match column {
            Column::Text(t) => {
                let mut new = Renumbered::new(&t.dictionary);
                let codes = rows.map(|row| t.code_of(row).map_or(NO_TEXT, |code| new.of(code))).collect();
                FieldData::Codes { codes, texts: new.texts }
            }
            Column::Integer(v) | Column::Date(v) | Column::Timestamp(v) => {
                let (values, missing) = optional(rows.map(|row| v.get(row)));
                FieldData::Integers { values, missing }
            }
            Column::Number(v) => {
                let (values, missing) = optional(rows.map(|row| v.get(row)));
                FieldData::Numbers { values, missing }
            }
            Column::Boolean(v) => {
                FieldData::Booleans(rows.map(|row| v.get(row).map_or(2, u8::from)).collect())
            }
            Column::Texts(t) => {
                let mut new = Renumbered::new(&t.dictionary);
                let all = rows.map(|row| Some(t.list(row)?.iter().map(|code| new.of(*code)).collect()));
                let (ends, items, missing) = lists(all);
                FieldData::CodeLists { ends, items, missing, texts: new.texts }
            }
            Column::Integers(l) => {
                let (ends, items, missing) = lists(rows.map(|row| Some(l.get(row)?.to_vec())));
                FieldData::IntegerLists { ends, items, missing }
            }
            Column::Stored(missing) => {
                FieldData::Stored { missing: rows.map(|r| u8::from(missing.contains(r as usize))).collect() }
            }
        }
    }

    /// Gives a column a value for each of some rows, which exist or are the next: that at the same place here.
    /// Returns false for a column of another type.
    pub fn put(&self, column: &mut Column, rows: impl Iterator<Item = (usize, u32)>) -> bool {
        let known = |missing: &[u8], at: usize| missing[at] == 0;
        match (self, column) {
            (FieldData::Codes { codes, texts }, Column::Text(t)) => {
                // A text is looked up once.
                let mut new = vec![NO_TEXT; texts.ends.len()];
                for (at, row) in rows {
                    let code = codes[at];
                    if code != NO_TEXT && new[code as usize] == NO_TEXT {
                        new[code as usize] = t.dictionary.add(texts.get(code as usize));
                    }
                    t.put(row, (code != NO_TEXT).then(|| new[code as usize]));
                }
            }
            (
                FieldData::Integers { values, missing },
                Column::Integer(v) | Column::Date(v) | Column::Timestamp(v),
            ) => rows.for_each(|(at, row)| v.put(row, known(missing, at).then(|| values[at]))),
            (FieldData::Numbers { values, missing }, Column::Number(v)) => {
                rows.for_each(|(at, row)| v.put(row, known(missing, at).then(|| values[at])));
            }
            (FieldData::Booleans(values), Column::Boolean(v)) => {
                rows.for_each(|(at, row)| v.put(row, (values[at] != 2).then_some(values[at] == 1)));
            }
            (FieldData::CodeLists { ends, items, missing, texts }, Column::Texts(t)) => {
                for (at, row) in rows {
                    let list = known(missing, at).then(|| list_at(ends, items, at));
                    let mut add = |code: &u32| t.dictionary.add(texts.get(*code as usize));
                    let list: Option<Vec<u32>> = list.map(|codes| codes.iter().map(&mut add).collect());
                    t.lists.put(row, list);
                }
            }
            (FieldData::IntegerLists { ends, items, missing }, Column::Integers(l)) => {
                for (at, row) in rows {
                    l.put(row, known(missing, at).then(|| list_at(ends, items, at).iter().copied()));
                }
            }
            (FieldData::Stored { missing }, Column::Stored(m)) => {
                rows.for_each(|(at, row)| m.put(row as usize, missing[at] != 0));
            }
            _ => return false,
        }
        true
    }

    /// Adds the tensors of a field, whose names begin with `name`.
    pub fn add<'a>(&'a self, tensors: &mut Tensors<'a>, name: &str) {
        let named = |part: &str| format!("{name}.{part}");
        let texts_of = |tensors: &mut Tensors<'a>, texts: &'a Texts| {
            tensors.add(named("texts"), &texts.bytes, &[texts.bytes.len()]);
            tensors.add(named("text_ends"), &texts.ends, &[texts.ends.len()]);
        };
        match self {
            FieldData::Codes { codes, texts } => {
                tensors.add(named("codes"), codes, &[codes.len()]);
                texts_of(tensors, texts);
            }
            FieldData::Integers { values, missing } => {
                tensors.add(named("integers"), values, &[values.len()]);
                tensors.add(named("missing"), missing, &[missing.len()]);
            }
            FieldData::Numbers { values, missing } => {
                tensors.add(named("numbers"), values, &[values.len()]);
                tensors.add(named("missing"), missing, &[missing.len()]);
            }
            FieldData::Booleans(values) => tensors.add(named("booleans"), values, &[values.len()]),
            FieldData::CodeLists { ends, items, missing, texts } => {
                tensors.add(named("ends"), ends, &[ends.len()]);
                tensors.add(named("item_codes"), items, &[items.len()]);
                tensors.add(named("missing"), missing, &[missing.len()]);
                texts_of(tensors, texts);
            }
            FieldData::IntegerLists { ends, items, missing } => {
                tensors.add(named("ends"), ends, &[ends.len()]);
                tensors.add(named("item_integers"), items, &[items.len()]);
                tensors.add(named("missing"), missing, &[missing.len()]);
            }
            FieldData::Stored { missing } => {
                tensors.add(named("missing"), missing, &[missing.len()]);
            }
        }
    }

    /// Reads what [`FieldData::add`] wrote for `n` rows.
    pub fn read(file: &TensorFile, name: &str, n: usize) -> Result<FieldData, FileError> {
        let named = |part: &str| format!("{name}.{part}");
        let missing = || Ok::<_, FileError>(file.of::<u8>(&named("missing"), &[n])?.to_vec());
        let ends = |len: usize| {
            let ends = file.of::<u64>(&named("ends"), &[n])?.to_vec();
            let rise = ends.windows(2).all(|two| two[0] <= two[1]);
            if !rise || ends.last().copied().unwrap_or(0) != len as u64 {
                return Err(damaged(format!("lists of \"{name}\" do not follow each other")));
            }
            Ok(ends)
        };
        let texts = |codes: &[u32], may_miss: bool| {
            let texts = Texts {
                bytes: file.list::<u8>(&named("texts"))?.to_vec(),
                ends: file.list::<u64>(&named("text_ends"))?.to_vec(),
            };
            let exists = |code: &u32| (*code as usize) < texts.ends.len() || (may_miss && *code == NO_TEXT);
            if !texts.is_sound() || !codes.iter().all(exists) {
                return Err(damaged(format!("texts of \"{name}\" do not exist")));
            }
            Ok(texts)
        };
        if file.has(&named("codes")) {
            let codes = file.of::<u32>(&named("codes"), &[n])?.to_vec();
            let texts = texts(&codes, true)?;
            return Ok(FieldData::Codes { codes, texts });
        }
        if file.has(&named("integers")) {
            let values = file.of::<i64>(&named("integers"), &[n])?.to_vec();
            return Ok(FieldData::Integers { values, missing: missing()? });
        }
        if file.has(&named("numbers")) {
            let values = file.of::<f64>(&named("numbers"), &[n])?.to_vec();
            return Ok(FieldData::Numbers { values, missing: missing()? });
        }
        if file.has(&named("booleans")) {
            return Ok(FieldData::Booleans(file.of::<u8>(&named("booleans"), &[n])?.to_vec()));
        }
        if file.has(&named("item_codes")) {
            let items = file.list::<u32>(&named("item_codes"))?.to_vec();
            let texts = texts(&items, false)?;
            return Ok(FieldData::CodeLists { ends: ends(items.len())?, items, missing: missing()?, texts });
        }
        if file.has(&named("item_integers")) {
            let items = file.list::<i64>(&named("item_integers"))?.to_vec();
            return Ok(FieldData::IntegerLists { ends: ends(items.len())?, items, missing: missing()? });
        }
        Ok(FieldData::Stored { missing: missing()? })
    }
}
