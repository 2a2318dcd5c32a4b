//! Reading the records of a columnar file.

use std::panic::{AssertUnwindSafe, catch_unwind};

use arrow_array::RecordBatch;
use hypodoke_core::count;
use hypodoke_core::isolate::helping;
use hypodoke_core::record::Records;

use super::ipc::IpcSource;
use super::parquet::ParquetSource;
use super::rows::{RowFiller, bytes_of_row};
use super::shape::{Shape, shape};
use super::source::{BatchSource, Columnar};
use super::values::Told;
use crate::bytes::{Encoding, SeekableBytes};
use crate::error::ReadError;
use crate::facts::FormatFacts;
use crate::json::JsonOptions;
use crate::reader::{RecordReader, TableHead, clear};

/// How much makes a batch of records, in bytes of values and texts.
const BLOCK: usize = 1 << 20;

/// Reads the records of a columnar file.
pub struct ColumnarReader {
    format: Columnar,
    source: Box<dyn BatchSource>,
    shape: Shape,
    /// The rows in hand, and how many of them were handed out.
    found: Option<RecordBatch>,
    begun: usize,
    /// How many rows were handed out in all.
    rows: u64,
    counted: Vec<u64>,
    told: Vec<Vec<Told>>,
    limit: usize,
    has_ended: bool,
}

impl ColumnarReader {
    /// Opens a file of a format. `limit` is the longest text that is taken, in bytes.
    ///
    /// # Errors
    ///
    /// It is damaged, cut short, encrypted or of no columns.
    pub fn open(
        bytes: SeekableBytes,
        format: Columnar,
        options: &JsonOptions,
        limit: usize,
    ) -> Result<ColumnarReader, ReadError> {
        let source = guarded(|| open(bytes, format))?;
        let shape = shape(source.schema().fields(), options);
        if shape.nodes.is_empty() {
            return Err(ReadError::NoTable("it has no columns".to_owned()));
        }
        let told = shape.heads.iter().map(|head| vec![Told::default(); head.names.len()]).collect();
        let counted = vec![0; shape.heads.len()];
        Ok(ColumnarReader {
            format,
            source,
            shape,
            found: None,
            begun: 0,
            rows: 0,
            counted,
            told,
            limit,
            has_ended: false,
        })
    }

    /// How many of the rows in hand make a batch of records.
    fn rows_at_a_time(&self, found: &RecordBatch) -> usize {
        let cells: usize = self.shape.heads.iter().map(|head| head.names.len() * 16).sum();
        (BLOCK / (cells + bytes_of_row(found.columns(), found.num_rows())).max(1)).max(1)
    }
}

impl RecordReader for ColumnarReader {
    fn tables(&self) -> &[TableHead] {
        &self.shape.heads
    }

    fn next(&mut self, batch: &mut Vec<Records>) -> Result<bool, ReadError> {
        clear(batch, self.shape.heads.len());
        while self.found.as_ref().is_none_or(|found| self.begun >= found.num_rows()) {
            (self.found, self.begun) = (guarded(|| self.source.next())?, 0);
            if self.found.is_none() {
                self.has_ended = true;
                return Ok(false);
            }
        }
        let Some(found) = self.found.take() else { return Ok(false) };
        let end = self.begun.saturating_add(self.rows_at_a_time(&found)).min(found.num_rows());
        let mut filler = RowFiller {
            shape: &self.shape,
            tables: batch,
            counted: &mut self.counted,
            told: &mut self.told,
            limit: self.limit,
        };
        let schema = found.schema();
        let filled = filler.fill(found.columns(), schema.fields(), self.begun..end, self.rows + 1);
        filled.map_err(|error| error.after_rows(self.rows))?;
        self.rows += (end - self.begun) as u64;
        self.begun = end;
        self.found = Some(found);
        Ok(true)
    }

    fn facts(&self) -> FormatFacts {
        FormatFacts {
            family: "columnar",
            kind: self.kind_word().to_owned(),
            remarks: self.source.remarks(),
            is_uniform: true,
            is_declared: true,
            ..FormatFacts::default()
        }
    }

    fn encoding(&self) -> Option<Encoding> {
        None
    }

    fn kind(&self) -> String {
        let mut words = vec![self.kind_word().to_owned()];
        words.extend(self.source.remarks());
        words.join(", ")
    }

    fn rows_at(&self, table: usize) -> Option<String> {
        Some(self.shape.heads.get(table)?.path.clone()).filter(|path| !path.is_empty())
    }

    fn cut_at(&self) -> Option<u64> {
        (self.has_ended && self.source.is_cut()).then_some(self.rows)
    }

    fn notes(&self) -> Vec<String> {
        let mut notes = self.shape.remarks.clone();
        for (head, told) in self.shape.heads.iter().zip(&self.told) {
            for (name, told) in head.names.iter().zip(told) {
                let values = |many| count::of(many, "value", "values");
                if told.not_numbers > 0 {
                    let many = values(told.not_numbers);
                    notes.push(format!("{many} of `{name}` are no number (NaN), which is null here"));
                }
                if told.as_hex > 0 {
                    let many = values(told.as_hex);
                    notes.push(format!(
                        "{many} of `{name}` are bytes that are no text, and are kept as hexadecimal digits"
                    ));
                }
            }
        }
        notes
    }
}

impl ColumnarReader {
    fn kind_word(&self) -> &'static str {
        match self.format {
            Columnar::Parquet => "parquet",
            Columnar::ArrowFile => "arrow",
            Columnar::ArrowStream => "arrow stream",
        }
    }
}

fn open(bytes: SeekableBytes, format: Columnar) -> Result<Box<dyn BatchSource>, ReadError> {
    Ok(match format {
        Columnar::Parquet => Box::new(ParquetSource::open(bytes)?),
        Columnar::ArrowFile => Box::new(IpcSource::of_file(bytes)?),
        Columnar::ArrowStream => Box::new(IpcSource::of_stream(bytes)?),
    })
}

/// Does what the libraries of the formats do. They panic over some files that claim what cannot be: such a
/// file is damaged, and nothing of it is used afterwards.
fn guarded<T>(work: impl FnOnce() -> Result<T, ReadError>) -> Result<T, ReadError> {
    let done = helping(|| catch_unwind(AssertUnwindSafe(work)));
    done.unwrap_or_else(|_| {
        let error = "it claims to hold what it does not hold".to_owned();
        Err(ReadError::Columnar { what: "columnar", error })
    })
}
