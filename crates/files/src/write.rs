//! Writing records to files, a portion at a time.

use crate::file::Format;
use arrow_array::builder::*;
use arrow_array::types::Float32Type;
use arrow_array::*;
use arrow_ipc::writer::StreamWriter;
use arrow_schema::{DataType, Field, Schema, SchemaRef, TimeUnit};
use chrono::{DateTime, NaiveDate};
use parquet::arrow::ArrowWriter;
use parquet::basic::Compression;
use parquet::file::properties::WriterProperties;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::collections::HashMap;
use std::io::{self, Write};
use std::sync::{Arc, Mutex, PoisonError};

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Layout {
    JsonLines,
    Csv,
    Parquet,
    /// Arrow IPC, as a stream.
    Arrow,
    /// The vectors of one column.
    Npy,
    /// The vectors of one column and the keys.
    Safetensors,
    /// The keys, one a line.
    Keys,
}

impl Layout {
    pub const ALL: [Layout; 7] = [
        Layout::JsonLines,
        Layout::Csv,
        Layout::Parquet,
        Layout::Arrow,
        Layout::Npy,
        Layout::Safetensors,
        Layout::Keys,
    ];

    pub fn name(self) -> &'static str {
        match self {
            Layout::JsonLines => "jsonlines",
            Layout::Csv => "csv",
            Layout::Parquet => "parquet",
            Layout::Arrow => "arrow",
            Layout::Npy => "npy",
            Layout::Safetensors => "safetensors",
            Layout::Keys => "keys",
        }
    }

    /// By the end of a file's name.
    pub fn of(name: &str) -> Layout {
        if name.to_lowercase().ends_with(".safetensors") {
            return Layout::Safetensors;
        }
        match Format::of(name) {
            Format::Csv => Layout::Csv,
            Format::Parquet => Layout::Parquet,
            Format::Arrow => Layout::Arrow,
            Format::Npy => Layout::Npy,
            _ => Layout::JsonLines,
        }
    }

    pub fn media_type(self) -> &'static str {
        match self {
            Layout::JsonLines => "application/jsonl",
            Layout::Csv => "text/csv; charset=utf-8; header=present",
            Layout::Parquet => "application/vnd.apache.parquet",
            Layout::Arrow => "application/vnd.apache.arrow.stream",
            Layout::Npy | Layout::Safetensors => "application/octet-stream",
            Layout::Keys => "text/plain; charset=utf-8",
        }
    }

    /// Holds vectors only, of one column: records without one are left out.
    pub fn is_vectors(self) -> bool {
        matches!(self, Layout::Npy | Layout::Safetensors)
    }
}

/// A vector column as it is written.
#[derive(Clone, Debug)]
pub struct OutColumn {
    pub name: String,
    pub dimensions: usize,
    pub encoder: Option<String>,
}

/// A record as it is written; vectors in the order of the columns.
pub struct OutRecord {
    pub key: String,
    pub fields: Map<String, Value>,
    pub vectors: Vec<Option<Vec<f32>>>,
}

/// Where arrow writes while we take away what is done.
#[derive(Clone, Default)]
struct Shared(Arc<Mutex<Vec<u8>>>);

impl Shared {
    fn take(&self) -> Vec<u8> {
        std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

impl Write for Shared {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(bytes);
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

enum Sink {
    Lines,
    Csv,
    Parquet(Box<ArrowWriter<Shared>>, SchemaRef),
    Arrow(Box<StreamWriter<Shared>>, SchemaRef),
    Vectors,
    Keys,
}

/// Writes records in one layout. Bytes come out of every call; together they are the file.
pub struct Export {
    sink: Sink,
    out: Shared,
    /// Dotted path and type name of each field.
    fields: Vec<(String, String)>,
    columns: Vec<OutColumn>,
    /// Vectors that the header promised.
    promised: u64,
    written: u64,
}

fn found<'a>(fields: &'a Map<String, Value>, path: &str) -> &'a Value {
    let mut steps = path.split('.');
    let first = steps.next().and_then(|s| fields.get(s)).unwrap_or(&Value::Null);
    steps.fold(first, |value, step| &value[step])
}

fn arrow_schema(fields: &[(String, String)], columns: &[OutColumn]) -> SchemaRef {
    let mut all = vec![Field::new("key", DataType::Utf8, false)];
    for (path, kind) in fields {
        let kind = match kind.as_str() {
            "integer" => DataType::Int64,
            "number" => DataType::Float64,
            "boolean" => DataType::Boolean,
            "date" => DataType::Date32,
            "timestamp" => DataType::Timestamp(TimeUnit::Microsecond, Some("UTC".into())),
            "array of strings" => DataType::new_list(DataType::Utf8, true),
            "array of integers" => DataType::new_list(DataType::Int64, true),
            _ => DataType::Utf8,
        };
        all.push(Field::new(path, kind, true));
    }
    for column in columns {
        let kind = DataType::new_fixed_size_list(DataType::Float32, column.dimensions as i32, true);
        let said =
            column.encoder.iter().map(|e| ("encoder".to_owned(), e.clone())).collect::<HashMap<_, _>>();
        all.push(Field::new(&column.name, kind, true).with_metadata(said));
    }
    Arc::new(Schema::new(all))
}

fn arrays(schema: &SchemaRef, fields: &[(String, String)], records: &[OutRecord]) -> Vec<ArrayRef> {
    let mut all: Vec<ArrayRef> =
        vec![Arc::new(StringArray::from_iter_values(records.iter().map(|r| &r.key)))];
    for (path, kind) in fields {
        let values = records.iter().map(|r| found(&r.fields, path));
        all.push(match kind.as_str() {
            "integer" => Arc::new(values.map(Value::as_i64).collect::<Int64Array>()),
            "number" => Arc::new(values.map(Value::as_f64).collect::<Float64Array>()),
            "boolean" => Arc::new(values.map(Value::as_bool).collect::<BooleanArray>()),
            "date" => {
                let days = values.map(|v| NaiveDate::parse_from_str(v.as_str()?, "%Y-%m-%d").ok());
                Arc::new(days.map(|d| d.map(|d| d.to_epoch_days())).collect::<Date32Array>())
            }
            "timestamp" => {
                let at = values.map(|v| DateTime::parse_from_rfc3339(v.as_str()?).ok());
                let micros = at.map(|t| t.map(|t| t.timestamp_micros()));
                Arc::new(micros.collect::<TimestampMicrosecondArray>().with_timezone("UTC"))
            }
            "array of strings" => {
                let mut list = ListBuilder::new(StringBuilder::new());
                for value in values {
                    let items = value.as_array();
                    items.into_iter().flatten().for_each(|i| list.values().append_option(i.as_str()));
                    list.append(items.is_some());
                }
                Arc::new(list.finish())
            }
            "array of integers" => {
                let mut list = ListBuilder::new(Int64Builder::new());
                for value in values {
                    let items = value.as_array();
                    items.into_iter().flatten().for_each(|i| list.values().append_option(i.as_i64()));
                    list.append(items.is_some());
                }
                Arc::new(list.finish())
            }
            _ => Arc::new(values.map(Value::as_str).collect::<StringArray>()),
        });
    }
    for (c, field) in schema.fields().iter().skip(1 + fields.len()).enumerate() {
        let DataType::FixedSizeList(_, size) = field.data_type() else { continue };
        let vectors = records.iter().map(|r| Some(r.vectors[c].as_ref()?.iter().map(|x| Some(*x))));
        all.push(Arc::new(FixedSizeListArray::from_iter_primitive::<Float32Type, _, _>(vectors, *size)));
    }
    all
}

fn csv_cell(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(s) => s.clone(),
        other => other.to_string(),
    }
}

impl Export {
    /// `keys` are those of the records that will come; only layouts of vectors need them beforehand.
    pub fn new(
        layout: Layout,
        fields: Vec<(String, String)>,
        columns: Vec<OutColumn>,
        keys: &[String],
    ) -> io::Result<Export> {
        let out = Shared::default();
        let schema = arrow_schema(&fields, &columns);
        let sink = match layout {
            Layout::JsonLines => Sink::Lines,
            Layout::Csv => {
                let headings = std::iter::once("key").chain(fields.iter().map(|(p, _)| p.as_str()));
                let mut writer = csv::Writer::from_writer(out.clone());
                writer.write_record(headings.chain(columns.iter().map(|c| c.name.as_str())))?;
                writer.flush()?;
                drop(writer);
                Sink::Csv
            }
            Layout::Parquet => {
                let properties = WriterProperties::builder()
                    .set_compression(Compression::ZSTD(Default::default()))
                    .set_max_row_group_row_count(Some(16_384))
                    .build();
                let writer = ArrowWriter::try_new(out.clone(), schema.clone(), Some(properties));
                Sink::Parquet(Box::new(writer.map_err(io::Error::other)?), schema)
            }
            Layout::Arrow => {
                let writer = StreamWriter::try_new(out.clone(), &schema).map_err(io::Error::other)?;
                Sink::Arrow(Box::new(writer), schema)
            }
            Layout::Npy | Layout::Safetensors => {
                let [column] = columns.as_slice() else {
                    return Err(io::Error::other("name one vector column"));
                };
                let head = if layout == Layout::Npy {
                    npy_head(keys.len(), column)?
                } else {
                    tensors_head(keys, column)
                };
                out.clone().write_all(&head)?;
                Sink::Vectors
            }
            Layout::Keys => Sink::Keys,
        };
        Ok(Export { sink, out, fields, columns, promised: keys.len() as u64, written: 0 })
    }

    /// Writes records; returns the bytes that are ready.
    pub fn write(&mut self, records: &[OutRecord]) -> io::Result<Vec<u8>> {
        self.written += records.len() as u64;
        let mut out = self.out.clone();
        match &mut self.sink {
            Sink::Lines => {
                for record in records {
                    let mut line = json!({"key": record.key, "fields": record.fields});
                    if !self.columns.is_empty() {
                        let named = self.columns.iter().zip(&record.vectors);
                        let vectors = named.filter_map(|(c, v)| Some((c.name.clone(), json!(v.as_ref()?))));
                        line["vectors"] = Value::Object(vectors.collect());
                    }
                    serde_json::to_writer(&mut out, &line)?;
                    out.write_all(b"\n")?;
                }
            }
            Sink::Csv => {
                let mut writer = csv::Writer::from_writer(out);
                for record in records {
                    let fields = self.fields.iter().map(|(path, _)| csv_cell(found(&record.fields, path)));
                    let vectors = record
                        .vectors
                        .iter()
                        .map(|v| v.as_ref().map_or(String::new(), |v| json!(v).to_string()));
                    writer.write_record(std::iter::once(record.key.clone()).chain(fields).chain(vectors))?;
                }
                writer.flush()?;
            }
            Sink::Parquet(writer, schema) => {
                let batch = RecordBatch::try_new(schema.clone(), arrays(schema, &self.fields, records));
                batch.map_err(io::Error::other).and_then(|b| writer.write(&b).map_err(io::Error::other))?;
            }
            Sink::Arrow(writer, schema) => {
                let batch = RecordBatch::try_new(schema.clone(), arrays(schema, &self.fields, records));
                batch.map_err(io::Error::other).and_then(|b| writer.write(&b).map_err(io::Error::other))?;
            }
            Sink::Vectors => {
                for record in records {
                    let vector = record.vectors.first().and_then(Option::as_ref);
                    let vector = vector.ok_or_else(|| {
                        io::Error::other(format!("record \"{}\" lost its vector", record.key))
                    })?;
                    out.write_all(bytemuck::cast_slice(vector))?;
                }
            }
            Sink::Keys => {
                for record in records {
                    writeln!(out, "{}", record.key)?;
                }
            }
        }
        Ok(self.out.take())
    }

    /// The last bytes. A file whose header promised other counts is an error, not a file.
    pub fn finish(self) -> io::Result<Vec<u8>> {
        let out = self.out.clone();
        match self.sink {
            Sink::Parquet(writer, _) => drop(writer.close().map_err(io::Error::other)?),
            Sink::Arrow(mut writer, _) => writer.finish().map_err(io::Error::other)?,
            Sink::Vectors if self.written != self.promised => {
                return Err(io::Error::other(format!(
                    "{} records were to be written and {} are left: records were deleted meanwhile; export again",
                    self.promised, self.written
                )));
            }
            _ => {}
        }
        Ok(out.take())
    }
}

fn npy_head(rows: usize, column: &OutColumn) -> io::Result<Vec<u8>> {
    use npyz::WriterBuilder;
    let mut head = Vec::new();
    let shape = [rows as u64, column.dimensions as u64];
    // The values follow later, as they come; the library would insist on them now.
    let writer =
        npyz::WriteOptions::<f32>::new().default_dtype().shape(&shape).writer(&mut head).begin_nd()?;
    drop(writer);
    Ok(head)
}

/// Layout of safetensors: a length, a JSON header, then the tensors. Vectors come first, keys last;
/// but keys are known now and vectors are not, so the keys stand first in the file.
fn tensors_head(keys: &[String], column: &OutColumn) -> Vec<u8> {
    let joined: usize = keys.iter().map(String::len).sum();
    let ends = keys.len() * 8;
    let vectors = keys.len() * column.dimensions * 4;
    // Tensors of wider values come first where that keeps them aligned.
    let keys_at = ends;
    let padded = (keys_at + joined).next_multiple_of(64) - keys_at;
    let mut header = json!({
        "__metadata__": {"column": column.name, "encoder": column.encoder.clone().unwrap_or_default(),
            "about": "key i is the bytes key_ends[i-1]..key_ends[i] of keys"},
        "key_ends": {"dtype": "I64", "shape": [keys.len()], "data_offsets": [0, ends]},
        "keys": {"dtype": "U8", "shape": [padded], "data_offsets": [keys_at, keys_at + padded]},
        "vectors": {"dtype": "F32", "shape": [keys.len(), column.dimensions],
            "data_offsets": [keys_at + padded, keys_at + padded + vectors]},
    })
    .to_string();
    while !(header.len() + 8).is_multiple_of(64) {
        header.push(' ');
    }
    let mut out = (header.len() as u64).to_le_bytes().to_vec();
    out.extend_from_slice(header.as_bytes());
    let mut end = 0i64;
    for key in keys {
        end += key.len() as i64;
        out.extend_from_slice(&end.to_le_bytes());
    }
    keys.iter().for_each(|k| out.extend_from_slice(k.as_bytes()));
    out.resize(out.len() + padded - joined, 0);
    out
}
