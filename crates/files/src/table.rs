//! A small table of texts and numbers, as CSV or Parquet.

use arrow_array::{ArrayRef, Float64Array, RecordBatch, StringArray};
use parquet::arrow::ArrowWriter;
use std::io;
use std::sync::Arc;

/// The cells of a column. A number may be missing.
pub enum Cells {
    Texts(Vec<String>),
    Numbers(Vec<Option<f64>>),
}

/// Columns with their names, equally long.
pub struct Sheet(pub Vec<(&'static str, Cells)>);

impl Sheet {
    fn n_rows(&self) -> usize {
        self.0.first().map_or(0, |(_, cells)| match cells {
            Cells::Texts(all) => all.len(),
            Cells::Numbers(all) => all.len(),
        })
    }

    /// With a first line of names; a missing number is empty.
    pub fn csv(&self) -> io::Result<Vec<u8>> {
        let mut out = csv::Writer::from_writer(Vec::new());
        out.write_record(self.0.iter().map(|(name, _)| *name))?;
        for row in 0..self.n_rows() {
            out.write_record(self.0.iter().map(|(_, cells)| match cells {
                Cells::Texts(all) => all[row].clone(),
                Cells::Numbers(all) => all[row].map_or_else(String::new, |n| n.to_string()),
            }))?;
        }
        out.into_inner().map_err(|e| io::Error::other(e.to_string()))
    }

    /// Texts as UTF-8, numbers as doubles; a missing number is null.
    pub fn parquet(&self) -> io::Result<Vec<u8>> {
        let columns = self.0.iter().map(|(name, cells)| {
            let array: ArrayRef = match cells {
                Cells::Texts(all) => Arc::new(StringArray::from_iter_values(all)),
                Cells::Numbers(all) => Arc::new(Float64Array::from(all.clone())),
            };
            (*name, array, true)
        });
        let wrong = |e: &dyn std::error::Error| io::Error::other(e.to_string());
        let batch = RecordBatch::try_from_iter_with_nullable(columns).map_err(|e| wrong(&e))?;
        let mut out = Vec::new();
        let mut writer = ArrowWriter::try_new(&mut out, batch.schema(), None).map_err(|e| wrong(&e))?;
        writer.write(&batch).map_err(|e| wrong(&e))?;
        writer.close().map_err(|e| wrong(&e))?;
        Ok(out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_forms_hold_the_same_cells() {
        let sheet = Sheet(vec![
            ("name", Cells::Texts(vec!["a, \"b\"".into(), "c".into()])),
            ("n", Cells::Numbers(vec![Some(0.1), None])),
        ]);
        let text = String::from_utf8(sheet.csv().unwrap()).unwrap();
        assert_eq!(text, "name,n\n\"a, \"\"b\"\"\",0.1\nc,\n");
        let bytes = bytes_of(sheet.parquet().unwrap());
        let mut reader = parquet::arrow::arrow_reader::ParquetRecordBatchReader::try_new(bytes, 10).unwrap();
        let batch = reader.next().unwrap().unwrap();
        assert_eq!((batch.num_rows(), batch.num_columns()), (2, 2));
        let numbers = batch.column(1).as_any().downcast_ref::<Float64Array>().unwrap().clone();
        assert_eq!(numbers, Float64Array::from(vec![Some(0.1), None]));
    }

    fn bytes_of(all: Vec<u8>) -> std::fs::File {
        use std::io::{Seek, Write};
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(&all).unwrap();
        file.rewind().unwrap();
        file
    }
}
