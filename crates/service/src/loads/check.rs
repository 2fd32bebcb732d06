//! Rows of files held against a collection, before they are written. Fields are only ever added and widened, so what fits
//! them once fits them when it is written.

use crate::collections::live::Live;
use crate::collections::registry::Registry;
use crate::loads::merge::compose;
use crate::loads::rejects::with_member;
use crate::problem::Result;
use crate::records::check::checked_record;
use serde_json::json;
use std::collections::HashMap;
use std::sync::Arc;
use zesty_catalog::RecordWrite;
use zesty_engine::Table;
use zesty_files::{Bad, Record, Row};
use zesty_wire::NewRecord;

/// Rows that were checked.
#[derive(Default)]
pub struct Checked {
    pub writes: Arc<Vec<RecordWrite>>,
    /// Their places, by key.
    pub places: HashMap<String, usize>,
    /// The columns that their vectors stand for.
    pub columns: Vec<i64>,
    /// Lines for the file of rejects.
    pub bad: Vec<String>,
    /// Rows that the writes and rejects account for.
    pub passed: u64,
    /// Rows whose key stood in an earlier row.
    pub n_superseded: u64,
    /// Why the load stops here.
    pub stop: Option<String>,
}

/// A row that is not taken.
struct Wrong {
    reason: String,
    /// The text in the file, if it could not be read as a record.
    text: Option<String>,
    record: Option<Box<NewRecord>>,
}

/// Holds one row against the collection. With `copy` a wrong one is given back: a copy of every record would cost more
/// than its check.
fn checked(live: &Live, table: &Table, row: Result<Record, Bad>, copy: bool) -> Result<RecordWrite, Wrong> {
    let row = row.map_err(|bad| Wrong { reason: bad.reason, text: Some(bad.text), record: None })?;
    let record = NewRecord { key: row.key, fields: row.fields, vectors: row.vectors };
    let kept = copy.then(|| Box::new(record.clone()));
    let at = |_: usize| (String::new(), String::new());
    checked_record(live, table, record, 0, &mut HashMap::new(), &at).map_err(|p| Wrong {
        reason: p.detail,
        text: None,
        record: kept,
    })
}

/// What rows of a load are checked by.
pub struct Checker {
    pub registry: Arc<Registry>,
    /// The collection's id.
    pub collection: i64,
    /// Whether rows are merged into records that exist.
    pub merges: bool,
    /// Whether a bad row is set aside, and does not end the load.
    pub set_aside: bool,
    /// The file's name.
    pub file: String,
    /// What a row is called there.
    pub unit: &'static str,
}

impl Checker {
    /// Sorts rows into records to write and rows to set aside. If a key appears twice in a file, the later row wins; if
    /// rows are merged, it is merged into the earlier one.
    pub fn check(&self, rows: Vec<Row>) -> Result<Checked> {
        let live = self.registry.get(self.collection)?;
        let table = live.table.load_full();
        let mut out = Checked { columns: live.target().columns, ..Checked::default() };
        let mut writes: Vec<RecordWrite> = Vec::with_capacity(rows.len());
        let mut places: HashMap<String, usize> = HashMap::with_capacity(rows.len());
        for row in rows {
            let wrong = match checked(&live, &table, row.record, self.set_aside && row.text.is_none()) {
                Ok(write) => {
                    match places.get(&write.key) {
                        Some(&place) => {
                            match self.merges {
                                true => compose(&mut writes[place], write),
                                false => writes[place] = write,
                            }
                            out.n_superseded += 1;
                        }
                        None => {
                            places.insert(write.key.clone(), writes.len());
                            writes.push(write);
                        }
                    }
                    out.passed += 1;
                    continue;
                }
                Err(wrong) => wrong,
            };
            if !self.set_aside {
                out.stop = Some(format!(
                    "{}, {} {}: {}; what stands before it is committed: mend the file and load it again, or resume with \
                     bad rows set aside",
                    self.file, self.unit, row.n, wrong.reason
                ));
                break;
            }
            let mut rejected = json!({self.unit: row.n, "reason": wrong.reason});
            if let Some(text) = wrong.text {
                rejected["text"] = json!(text);
            }
            let record = || wrong.record.map_or("{}".into(), |r| json!(r).to_string());
            out.bad.push(with_member(&row.text.unwrap_or_else(record), "rejected", &rejected));
            out.passed += 1;
        }
        Ok(Checked { writes: Arc::new(writes), places, ..out })
    }
}
