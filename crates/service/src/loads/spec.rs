//! What a load is to do, held against its collection and its files before a row is read.

use crate::collections::columns::MAX_COLUMNS;
use crate::collections::live::Live;
use crate::names::{MOST_NAMES, check_lists};
use crate::node::uploads::{Uploads, wrong_file};
use crate::problem::{Kind, Problem, Result};
use crate::records::batch::MAX_BATCH;
use serde_json::{Value, json};
use zesty_engine::schema::FieldType;
use zesty_files::{Kind as CellKind, LoadSources, Mapping, Match, Rows, TargetFields, VectorSource};
use zesty_wire::{self as wire, BadRows, LoadRequest};

/// As it is kept: with the names of its files, which are gone once it is done.
pub fn kept(request: &LoadRequest, uploads: &Uploads) -> Value {
    let names: Vec<String> = request.files().filter_map(|id| uploads.get(id).ok()).map(|f| f.name).collect();
    json!({"input": request, "names": names})
}

/// Everything that can be known to be wrong before a row is read.
pub fn plan(request: &LoadRequest, uploads: &Uploads, live: &Live) -> Result<LoadSources> {
    let named = |id: &String, at: &str| uploads.named(id).map_err(|p| p.at(at));
    if let Some(n) = request.batch.filter(|n| !(1..=MAX_BATCH).contains(n)) {
        let detail = format!("batch is {n}; it goes from 1 to {MAX_BATCH}");
        return Err(Problem::new(Kind::WrongShape, detail).at("/batch"));
    }
    check_lists([("/only", request.only.as_ref().map_or(0, Vec::len))], MOST_NAMES)?;
    check_lists([("/vectors", request.vectors.len())], MAX_COLUMNS)?;
    if request.records.is_none() && request.vectors.is_empty() {
        return Err(Problem::new(Kind::WrongShape, "name a file: records, vectors, or both"));
    }
    let mut vectors: Vec<VectorSource> = Vec::new();
    for (i, v) in request.vectors.iter().enumerate() {
        let column = live.column(v.column.as_deref(), &format!("/vectors/{i}/column"))?;
        let column = live.columns()[column].name.clone();
        if vectors.iter().any(|v| v.column == column) {
            let detail = format!("two files bring the vectors of column \"{column}\"");
            return Err(Problem::new(Kind::WrongShape, detail).at(format!("/vectors/{i}/column")));
        }
        vectors.push(VectorSource {
            column,
            file: named(&v.file, &format!("/vectors/{i}/file"))?,
            keys: v.keys.as_ref().map(|k| named(k, &format!("/vectors/{i}/keys"))).transpose()?,
        });
    }
    if let Some(said) = &request.encoder {
        let columns = 0..live.columns().len();
        let concerned =
            |c: &usize| vectors.is_empty() || vectors.iter().any(|v| v.column == live.columns()[*c].name);
        columns.filter(concerned).try_for_each(|c| live.check_encoder(c, said, "/encoder"))?;
    }
    let table = live.table.load();
    let kind = |kind: FieldType| match kind {
        FieldType::Integer | FieldType::Number => CellKind::Number,
        FieldType::Boolean => CellKind::Boolean,
        FieldType::Strings | FieldType::Integers => CellKind::Array,
        FieldType::String | FieldType::Date | FieldType::Timestamp => CellKind::Text,
    };
    Ok(LoadSources {
        records: request.records.as_ref().map(|r| named(r, "/records")).transpose()?,
        vectors,
        matching: match request.matching {
            wire::Match::Row => Match::Row,
            wire::Match::Key => Match::Key,
        },
        mapping: Mapping {
            key: request.key.clone(),
            rename: request.rename.clone(),
            only: request.only.clone(),
            keyless: false,
        },
        target: TargetFields {
            fields: table.schema().fields.iter().map(|f| (f.name.clone(), kind(f.kind))).collect(),
            columns: live.columns().iter().map(|c| c.name.clone()).collect(),
        },
        limits: uploads.limits,
        keep_text: request.bad_rows == BadRows::SetAside,
    })
}

/// Opens the files; what is wrong with one as a whole is found here. Files that say which encoder made
/// their vectors are believed.
pub fn open(live: &Live, sources: &LoadSources) -> Result<Rows> {
    let rows = Rows::open(sources).map_err(wrong_file)?;
    for (column, said) in &rows.encoders {
        if let Some(column) = live.columns().iter().position(|c| c.name == *column) {
            live.check_encoder(column, said, "/records")?;
        }
    }
    Ok(rows)
}
