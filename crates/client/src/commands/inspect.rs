//! `zesty inspect`: looks into a file before anything is created.

use crate::cli::Becoming;
use crate::runner::{Done, Failure, print};
use crate::show;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::io::Write;
use std::path::Path;
use zesty_files::{Inspection, Limits, Named};

pub fn name_of(path: &Path) -> String {
    path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default()
}

/// What a file is to become, as it was asked for.
#[derive(Clone, Copy)]
pub struct Wish<'a> {
    pub becoming: &'a Becoming,
    pub encoder: Option<&'a str>,
}

impl Wish<'_> {
    /// The types that were chosen, by the file's name of the field.
    pub fn types(self, file: &Path) -> Result<BTreeMap<String, String>, Failure> {
        let mut types = BTreeMap::new();
        if self.becoming.types.is_empty() {
            return Ok(types);
        }
        let found = inspected(file, &types)?;
        for pair in &self.becoming.types {
            let (field, kind) =
                pair.split_once('=').ok_or_else(|| format!("write FIELD=TYPE, not \"{pair}\""))?;
            let kind = match kind {
                "strings" => "array of strings",
                "integers" => "array of integers",
                plain => plain,
            };
            // By either name: that in the file, or the one that the collection takes.
            let source = found.fields.iter().find(|f| f.name == field).map_or(field, |f| &f.source);
            types.insert(source.to_owned(), kind.to_owned());
        }
        Ok(types)
    }
}

pub fn inspected(path: &Path, types: &BTreeMap<String, String>) -> Result<Inspection, Failure> {
    let named = Named { path: path.into(), name: path.display().to_string() };
    zesty_files::inspect_as(&named, Limits::default(), types).map_err(|e| e.to_string().into())
}

/// A name that a collection takes, from the name of a file.
fn collection_name(file: &Path) -> String {
    let stem = name_of(file).split('.').next().unwrap_or("").to_lowercase();
    let plain =
        stem.chars().map(|c| if c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' { c } else { '_' });
    let name: String = plain.take(60).collect();
    if name.starts_with(|c: char| c.is_ascii_lowercase()) { name } else { format!("c-{name}") }
}

/// The description of a collection that the files fit, as the API takes it.
pub fn description(name: &str, found: &Inspection, side: Option<&Inspection>, wish: Wish<'_>) -> Value {
    let vectors = found.vectors.iter().chain(side.into_iter().flat_map(|b| &b.vectors));
    let mut columns: Vec<Value> = vectors
        .map(|v| {
            let mut column = json!({"name": v.name, "dimensions": v.dimensions, "metric": "cosine"});
            if let Some(encoder) = wish.encoder {
                column["encoder"] = json!(encoder);
            }
            column
        })
        .collect();
    if let (Some(encoder), Some(template)) = (wish.encoder, &wish.becoming.template) {
        let own = wish.becoming.column.as_deref();
        match columns.as_mut_slice() {
            // Vectors that the file lacks are made by the encoder that made the others.
            [only] if own.is_none_or(|own| only["name"] == own) => only["template"] = json!(template),
            _ => columns
                .push(json!({"name": own.unwrap_or("meaning"), "metric": "cosine", "encoder": encoder,
                "template": template})),
        }
    }
    json!({"name": name, "fields": found.schema(), "columns": columns})
}

/// The options with which a file goes into a collection made from it.
fn options(found: &Inspection) -> Vec<String> {
    let mapping = found.mapping();
    let mut options: Vec<String> = mapping.key.iter().map(|k| format!("--key-column '{k}'")).collect();
    options.extend(mapping.rename.iter().map(|(from, to)| format!("--rename '{from}={to}'")));
    options
}

/// Shows what a file holds. Needs no service.
pub fn inspect(
    file: &Path,
    vectors: Option<&Path>,
    wish: Wish<'_>,
    write: Option<&Path>,
    as_json: bool,
) -> Done {
    let found = inspected(file, &wish.types(file)?)?;
    let side = vectors.map(|v| inspected(v, &BTreeMap::new())).transpose()?;
    if as_json {
        let shown =
            json!({"records": found, "vectors": side, "schema": found.schema(), "mapping": found.mapping()});
        print(serde_json::to_string_pretty(&shown).unwrap_or_default());
    } else {
        print(show::inspection(&found));
        if let Some(side) = &side {
            print(show::inspection(side));
            if let (Some(a), Some(b)) = (found.n_rows, side.n_rows)
                && a != b
            {
                eprintln!("zesty: {} has {a} rows and {} has {b}: match them by key", found.file, side.file);
            }
        }
        let options = options(&found);
        if !options.is_empty() {
            print(format_args!("to load it: {}", options.join(" ")));
        }
    }
    if let Some(path) = write {
        let name = collection_name(file);
        let about = description(&name, &found, side.as_ref(), wish);
        let text = serde_json::to_string_pretty(&about).unwrap_or_default();
        let mut out = std::fs::File::create_new(path).map_err(|e| format!("{}: {e}", path.display()))?;
        writeln!(out, "{text}").map_err(|e| format!("{}: {e}", path.display()))?;
        let load = options(&found).iter().map(|o| format!(" {o}")).collect::<String>();
        eprintln!(
            "wrote {}; edit it, then: zesty collection create --file {}, and: zesty load {name} {}{load}",
            path.display(),
            path.display(),
            file.display()
        );
    }
    Ok(0)
}
