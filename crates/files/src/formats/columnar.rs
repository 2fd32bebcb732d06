//! Parquet and Arrow IPC, in batches of rows.

use crate::file::{FileError, Format, Named};
use crate::formats::nesting;
use crate::names::{MAX_COLUMNS, put};
use crate::packed::{Counted, open_file};
use crate::row::{Bad, Record, Row, Source};
use crate::sources::{Mapping, TargetFields};
use arrow_array::cast::AsArray;
use arrow_array::types::{
    ArrowPrimitiveType, Date32Type, Date64Type, Float16Type, Float32Type, Float64Type, Int8Type, Int16Type,
    Int32Type, Int64Type, TimestampMicrosecondType, TimestampMillisecondType, TimestampNanosecondType,
    TimestampSecondType, UInt8Type, UInt16Type, UInt32Type, UInt64Type,
};
use arrow_array::{
    Array, ArrayRef, FixedSizeListArray, GenericListArray, OffsetSizeTrait, RecordBatch, RecordBatchReader,
};
use arrow_ipc::reader::{FileReader, StreamReader};
use arrow_schema::{ArrowError, DataType, Field, Schema, SchemaRef, TimeUnit};
use arrow_select::take::take;
use chrono::{DateTime, Days, NaiveDate, SecondsFormat};
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use std::io::{BufReader, Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

/// Rows decoded together.
const BATCH: usize = 1024;

/// A column's name, and its value in a row or what is wrong with it.
type Cell = (String, Result<Value, String>);

pub struct Columnar {
    name: String,
    batches: Box<dyn Iterator<Item = Result<RecordBatch, ArrowError>> + Send>,
    pub schema: SchemaRef,
    /// `None` for an Arrow stream, which does not say.
    pub rows: Option<u64>,
    now: Option<RecordBatch>,
    at: usize,
    row: u64,
    /// Bytes of a row of the batch.
    row_bytes: usize,
    mapping: Mapping,
    shape: TargetFields,
}

/// Bytes of a row. The arrays of an Arrow batch share a buffer, so it is their parts of it that count.
fn row_bytes(batch: &RecordBatch) -> usize {
    let bytes = |column: &ArrayRef| {
        let whole = column.get_array_memory_size();
        column.to_data().get_slice_memory_size().unwrap_or(whole)
    };
    batch.columns().iter().map(bytes).sum::<usize>() / batch.num_rows().max(1)
}

/// arrow-rs panics on some damaged files; a file is the user's, so that is an error of the file.
fn guarded<T>(name: &str, work: impl FnOnce() -> Result<T, FileError>) -> Result<T, FileError> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(work))
        .unwrap_or_else(|_| Err(FileError::new(name, "is damaged: its contents contradict each other")))
}

impl Columnar {
    /// `bytes` counts what is read of an Arrow file; Parquet says how many rows it has.
    pub fn open(
        file: &Named,
        bytes: Arc<AtomicU64>,
        mapping: &Mapping,
        shape: &TargetFields,
    ) -> Result<Self, FileError> {
        guarded(&file.name, || match Format::of(&file.name) {
            Format::Parquet => parquet(file, mapping, shape),
            _ => ipc(file, bytes, mapping, shape),
        })
    }

    /// The key column must be there, and every column must be of a type that is read here.
    pub fn checked(self) -> Result<Self, FileError> {
        let names: Vec<String> = self.schema.fields().iter().map(|f| f.name().clone()).collect();
        self.mapping.check(&self.name, &names)?;
        if names.len() > MAX_COLUMNS {
            return Err(FileError::new(
                &self.name,
                format!("has {} columns; {MAX_COLUMNS} is the most", names.len()),
            ));
        }
        for field in self.schema.fields() {
            if self.mapping.target(field.name()).is_some() && !is_read(field.data_type()) {
                let why = format!(
                    "column \"{}\" is of type {}, which is not read here; convert it, or choose the other columns",
                    field.name(),
                    field.data_type()
                );
                return Err(FileError::new(&self.name, why));
            }
        }
        Ok(self)
    }

    /// The cells of the next row, each by its column's name.
    pub fn values(&mut self) -> Result<Option<Vec<Cell>>, FileError> {
        if !self.refill()? {
            return Ok(None);
        }
        let Some(batch) = &self.now else { return Ok(None) };
        let fields = batch.schema_ref().fields().iter().zip(batch.columns());
        let row = fields.map(|(f, c)| (f.name().clone(), value(c, self.at))).collect();
        self.at += 1;
        self.row += 1;
        Ok(Some(row))
    }

    fn refill(&mut self) -> Result<bool, FileError> {
        while self.now.as_ref().is_none_or(|b| self.at >= b.num_rows()) {
            let row = self.row;
            let name = self.name.clone();
            let next = guarded(&name, || {
                let cut = |e: ArrowError| {
                    FileError::new(&name, format!("after row {row}: {e}; the file is damaged"))
                };
                self.batches.next().transpose().map_err(cut)
            })?;
            let Some(batch) = next else { return Ok(false) };
            let batch = plain(batch).map_err(|e| FileError::new(&name, e.to_string()))?;
            self.row_bytes = row_bytes(&batch);
            (self.now, self.at) = (Some(batch), 0);
        }
        Ok(true)
    }

    fn record(&self, batch: &RecordBatch) -> Result<Record, String> {
        let mut out = Record { key: String::new(), fields: Map::new(), vectors: BTreeMap::new() };
        for (field, column) in batch.schema_ref().fields().iter().zip(batch.columns()) {
            let source = field.name();
            if source == self.mapping.key() {
                out.key = match value(column, self.at)? {
                    Value::String(key) => key,
                    Value::Number(n) if !n.is_f64() => n.to_string(),
                    Value::Null => return Err("its key is null".into()),
                    other => return Err(format!("its key is {other}; a key is a string")),
                };
                continue;
            }
            let Some(target) = self.mapping.target(source) else { continue };
            if self.shape.columns.iter().any(|c| c == target) && !self.shape.fields.contains_key(target) {
                let vector = vector(column, self.at).ok_or_else(|| {
                    format!(
                        "column \"{source}\" is of type {}, and vectors are lists of floats",
                        field.data_type()
                    )
                })?;
                out.vectors.insert(target.to_owned(), vector);
            } else {
                match value(column, self.at).map_err(|why| format!("column \"{source}\" {why}"))? {
                    Value::Null => {}
                    value => put(&mut out.fields, target, value)?,
                }
            }
        }
        Ok(out)
    }
}

impl Source for Columnar {
    fn next(&mut self) -> Option<Result<Row, FileError>> {
        match self.refill() {
            Ok(false) => return None,
            Err(e) => return Some(Err(e)),
            Ok(true) => {}
        }
        let batch = self.now.as_ref()?;
        let record = self.record(batch).map_err(|why| Bad::new(why, ""));
        let row = Row { n: self.row, record, n_bytes: self.row_bytes, text: None };
        self.at += 1;
        self.row += 1;
        Some(Ok(row))
    }

    fn skip(&mut self, rows: u64) -> Result<u64, FileError> {
        let start = self.row;
        while self.row - start < rows && self.refill()? {
            let here = self.now.as_ref().map_or(0, |b| b.num_rows() - self.at) as u64;
            let n = here.min(rows - (self.row - start));
            self.at += n as usize;
            self.row += n;
        }
        Ok(self.row - start)
    }

    fn encoders(&self) -> BTreeMap<String, String> {
        let fields = self.schema.fields().iter();
        fields
            .filter_map(|f| {
                Some((self.mapping.target(f.name())?.to_owned(), f.metadata().get("encoder")?.clone()))
            })
            .collect()
    }
}

fn made(
    file: &Named,
    schema: SchemaRef,
    rows: Option<u64>,
    batches: Box<dyn Iterator<Item = Result<RecordBatch, ArrowError>> + Send>,
    mapping: &Mapping,
    shape: &TargetFields,
) -> Columnar {
    Columnar {
        name: file.name.clone(),
        batches,
        schema,
        rows,
        now: None,
        at: 0,
        row: 0,
        row_bytes: 0,
        mapping: mapping.clone(),
        shape: shape.clone(),
    }
}

fn parquet(file: &Named, mapping: &Mapping, shape: &TargetFields) -> Result<Columnar, FileError> {
    let wrong = |e: &dyn std::fmt::Display| {
        FileError::new(
            &file.name,
            format!("is not a whole Parquet file: {e}; it may be cut off: write or copy it again"),
        )
    };
    let mut opened = open_file(file)?;
    nesting::check(&mut opened).map_err(|e| wrong(&e))?.map_err(|why| FileError::new(&file.name, why))?;
    let builder = ParquetRecordBatchReaderBuilder::try_new(opened).map_err(|e| wrong(&e))?;
    let rows = builder.metadata().file_metadata().num_rows() as u64;
    let schema = builder.schema().clone();
    // Columns that are left out are not even read.
    let taken = schema
        .fields()
        .iter()
        .enumerate()
        .filter(|(_, f)| f.name() == mapping.key() || mapping.target(f.name()).is_some());
    let mask = ProjectionMask::roots(builder.parquet_schema(), taken.map(|(i, _)| i));
    let reader = builder.with_projection(mask).with_batch_size(BATCH).build().map_err(|e| wrong(&e))?;
    Ok(made(file, schema, Some(rows), Box::new(reader), mapping, shape))
}

fn ipc(
    file: &Named,
    bytes: Arc<AtomicU64>,
    mapping: &Mapping,
    shape: &TargetFields,
) -> Result<Columnar, FileError> {
    let wrong = |e: &dyn std::fmt::Display| {
        FileError::new(
            &file.name,
            format!("is not a whole Arrow IPC file: {e}; it may be cut off: write or copy it again"),
        )
    };
    let mut opened = open_file(file)?;
    let mut magic = [0; 6];
    let is_file = opened.read_exact(&mut magic).is_ok() && &magic == b"ARROW1";
    opened.seek(SeekFrom::Start(0)).map_err(|e| wrong(&e))?;
    let reader = BufReader::with_capacity(1 << 20, Counted { inner: opened, bytes });
    if is_file {
        let reader = FileReader::try_new(reader, None).map_err(|e| wrong(&e))?;
        return Ok(made(file, reader.schema(), None, Box::new(reader), mapping, shape));
    }
    let reader = StreamReader::try_new(reader, None).map_err(|e| wrong(&e))?;
    let schema = RecordBatchReader::schema(&reader);
    Ok(made(file, schema, None, Box::new(reader), mapping, shape))
}

/// Dictionaries are unpacked batch by batch, so that a cell is read in one way.
fn plain(batch: RecordBatch) -> Result<RecordBatch, ArrowError> {
    let mut columns = batch.columns().to_vec();
    let mut fields: Vec<Field> = batch.schema_ref().fields().iter().map(|f| Field::clone(f)).collect();
    for (column, field) in columns.iter_mut().zip(&mut fields) {
        if let DataType::Dictionary(_, values) = column.data_type().clone() {
            let coded = column.as_any_dictionary();
            *column = take(coded.values(), coded.keys(), None)?;
            *field = Field::new(field.name(), *values, true);
        }
    }
    RecordBatch::try_new(Arc::new(Schema::new(fields)), columns)
}

/// The type of a list's items, when they are floats: a column of vectors.
pub fn vector_items(kind: &DataType) -> Option<&DataType> {
    match kind {
        DataType::List(item) | DataType::LargeList(item) | DataType::FixedSizeList(item, _) => {
            let item = item.data_type();
            matches!(item, DataType::Float16 | DataType::Float32 | DataType::Float64).then_some(item)
        }
        _ => None,
    }
}

fn is_read(kind: &DataType) -> bool {
    use DataType::*;
    match kind {
        Null | Boolean | Utf8 | LargeUtf8 | Utf8View | Date32 | Date64 | Timestamp(..) => true,
        Dictionary(_, values) => is_read(values),
        List(item) | LargeList(item) | FixedSizeList(item, _) => {
            item.data_type().is_numeric() || matches!(item.data_type(), Utf8 | LargeUtf8 | Utf8View)
        }
        Struct(fields) => fields.iter().all(|f| is_read(f.data_type())),
        Decimal32(..) | Decimal64(..) | Decimal128(..) | Decimal256(..) => false,
        other => other.is_numeric(),
    }
}

fn floats(items: &ArrayRef) -> Option<Vec<f32>> {
    // A null inside a vector is no number: it becomes NaN, which the column's check names.
    fn all<T: ArrowPrimitiveType>(items: &ArrayRef, f: impl Fn(T::Native) -> f32) -> Vec<f32> {
        let items = items.as_primitive::<T>();
        match items.null_count() {
            0 => items.values().iter().map(|v| f(*v)).collect(),
            _ => items.iter().map(|v| v.map_or(f32::NAN, &f)).collect(),
        }
    }
    Some(match items.data_type() {
        DataType::Float32 => all::<Float32Type>(items, |v| v),
        DataType::Float64 => all::<Float64Type>(items, |v| v as f32),
        DataType::Float16 => all::<Float16Type>(items, |v| v.to_f32()),
        DataType::UInt8 => all::<UInt8Type>(items, f32::from),
        DataType::Int8 => all::<Int8Type>(items, f32::from),
        _ => return None,
    })
}

fn items_of(column: &ArrayRef, row: usize) -> Option<ArrayRef> {
    fn list<O: OffsetSizeTrait>(column: &ArrayRef, row: usize) -> ArrayRef {
        let list: &GenericListArray<O> = column.as_list();
        list.value(row)
    }
    Some(match column.data_type() {
        DataType::List(_) => list::<i32>(column, row),
        DataType::LargeList(_) => list::<i64>(column, row),
        DataType::FixedSizeList(..) => {
            let list: &FixedSizeListArray = column.as_fixed_size_list();
            list.value(row)
        }
        _ => return None,
    })
}

/// The vector of a row; `None` inside when it is null, outside when the column is no such list.
fn vector(column: &ArrayRef, row: usize) -> Option<Option<Vec<f32>>> {
    if column.is_null(row) {
        return Some(None);
    }
    floats(&items_of(column, row)?).map(Some)
}

fn float(x: f64) -> Result<Value, String> {
    if x.is_finite() { Ok(json!(x)) } else { Err(format!("holds {x}; write null for a missing value")) }
}

/// A cell as JSON. The error completes the sentence `column "x" ...`.
fn value(column: &ArrayRef, row: usize) -> Result<Value, String> {
    use DataType::{
        Boolean, Date32, Date64, FixedSizeList, Float16, Float32, Float64, Int8, Int16, Int32, Int64,
        LargeList, LargeUtf8, List, Null, Struct, Timestamp, UInt8, UInt16, UInt32, UInt64, Utf8, Utf8View,
    };
    if column.is_null(row) {
        return Ok(Value::Null);
    }
    macro_rules! cell {
        ($kind:ty) => {
            column.as_primitive::<$kind>().value(row)
        };
    }
    Ok(match column.data_type() {
        Null => Value::Null,
        Boolean => json!(column.as_boolean().value(row)),
        Utf8 => json!(column.as_string::<i32>().value(row)),
        LargeUtf8 => json!(column.as_string::<i64>().value(row)),
        Utf8View => json!(column.as_string_view().value(row)),
        Int8 => json!(cell!(Int8Type)),
        Int16 => json!(cell!(Int16Type)),
        Int32 => json!(cell!(Int32Type)),
        Int64 => json!(cell!(Int64Type)),
        UInt8 => json!(cell!(UInt8Type)),
        UInt16 => json!(cell!(UInt16Type)),
        UInt32 => json!(cell!(UInt32Type)),
        UInt64 => json!(cell!(UInt64Type)),
        Float16 => float(cell!(Float16Type).to_f64())?,
        // Through its shortest decimal form, so that 0.1 stays 0.1.
        Float32 => {
            let x = cell!(Float32Type);
            float(x.to_string().parse().unwrap_or(f64::from(x)))?
        }
        Float64 => float(cell!(Float64Type))?,
        Date32 => date(i64::from(cell!(Date32Type)))?,
        Date64 => date(cell!(Date64Type).div_euclid(86_400_000))?,
        Timestamp(unit, _) => {
            let micros = match unit {
                TimeUnit::Second => cell!(TimestampSecondType).checked_mul(1_000_000),
                TimeUnit::Millisecond => cell!(TimestampMillisecondType).checked_mul(1000),
                TimeUnit::Microsecond => Some(cell!(TimestampMicrosecondType)),
                TimeUnit::Nanosecond => Some(cell!(TimestampNanosecondType).div_euclid(1000)),
            };
            let at =
                micros.and_then(DateTime::from_timestamp_micros).ok_or("holds a time beyond the calendar")?;
            json!(at.to_rfc3339_opts(SecondsFormat::AutoSi, true))
        }
        List(_) | LargeList(_) | FixedSizeList(..) => {
            let items = items_of(column, row).ok_or("is not a list")?;
            Value::Array((0..items.len()).map(|i| value(&items, i)).collect::<Result<_, _>>()?)
        }
        Struct(fields) => {
            let inner = column.as_struct();
            let mut object = Map::new();
            for (field, column) in fields.iter().zip(inner.columns()) {
                match value(column, row)? {
                    Value::Null => {}
                    value => drop(object.insert(field.name().clone(), value)),
                }
            }
            Value::Object(object)
        }
        other => return Err(format!("is of type {other}, which is not read here")),
    })
}

fn date(days: i64) -> Result<Value, String> {
    let start = NaiveDate::default();
    let moved = match u64::try_from(days) {
        Ok(days) => start.checked_add_days(Days::new(days)),
        Err(_) => start.checked_sub_days(Days::new(days.unsigned_abs())),
    };
    moved.map(|d| json!(d.to_string())).ok_or_else(|| "holds a date beyond the calendar".into())
}
