//! Records kept from a first reading, so that what is slow to read is read once.
//!
//! Unpacking a workbook takes longer than all that is done with its rows, and opening a small file and
//! finding its dialect likewise. Where its records fit into memory, the profile of a file that is loaded
//! next keeps them for the load.

use std::sync::Mutex;

use hypodoke_core::record::Records;
use hypodoke_formats::bytes::Encoding;
use hypodoke_formats::reader::clear;
use hypodoke_formats::{FormatFacts, ReadError, RecordReader, TableHead};

/// Batches being kept, up to a number of bytes.
pub struct BatchCache {
    most: u64,
    kept: Mutex<Kept>,
}

#[derive(Default)]
struct Kept {
    batches: Vec<(u64, Vec<Records>)>,
    bytes: u64,
    too_much: bool,
}

impl BatchCache {
    /// Keeps up to so many bytes; more are too many, and none are kept.
    pub fn new(most: u64) -> BatchCache {
        BatchCache { most, kept: Mutex::default() }
    }

    /// Takes a batch, the `number`th of the file, and leaves an empty one.
    pub fn take(&self, number: u64, batch: &mut Vec<Records>) {
        let mut kept = self.kept.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        if kept.too_much {
            return;
        }
        // The buffers of a reader are as large as its blocks, however little is in them.
        batch.iter_mut().for_each(Records::shrink);
        kept.bytes += batch.iter().map(Records::held).sum::<u64>();
        if kept.bytes > self.most {
            *kept = Kept { too_much: true, ..Kept::default() };
            return;
        }
        kept.batches.push((number, std::mem::take(batch)));
    }

    /// What was kept of a file read to its end, and all there is to say of it.
    pub fn finish(self, reader: &dyn RecordReader) -> Option<CachedReader> {
        let mut kept = self.kept.into_inner().unwrap_or_else(|poisoned| poisoned.into_inner());
        if kept.too_much {
            return None;
        }
        kept.batches.sort_by_key(|(number, _)| std::cmp::Reverse(*number));
        let heads = reader.tables().to_vec();
        Some(CachedReader {
            rows_at: (0..heads.len()).map(|table| reader.rows_at(table)).collect(),
            heads,
            batches: kept.batches.into_iter().map(|(_, batch)| batch).collect(),
            facts: reader.facts(),
            encoding: reader.encoding(),
            kind: reader.kind(),
            footer: reader.footer(),
            notes: reader.notes(),
            cut: reader.cut_at(),
        })
    }
}

/// Records read before, read again.
pub struct CachedReader {
    heads: Vec<TableHead>,
    /// The first batch last.
    batches: Vec<Vec<Records>>,
    facts: FormatFacts,
    encoding: Option<Encoding>,
    kind: String,
    rows_at: Vec<Option<String>>,
    footer: Vec<String>,
    notes: Vec<String>,
    cut: Option<u64>,
}

impl RecordReader for CachedReader {
    fn tables(&self) -> &[TableHead] {
        &self.heads
    }

    fn next(&mut self, batch: &mut Vec<Records>) -> Result<bool, ReadError> {
        match self.batches.pop() {
            Some(kept) => {
                *batch = kept;
                Ok(true)
            }
            None => {
                clear(batch, self.heads.len());
                Ok(false)
            }
        }
    }

    fn facts(&self) -> FormatFacts {
        self.facts.clone()
    }

    fn encoding(&self) -> Option<Encoding> {
        self.encoding
    }

    fn kind(&self) -> String {
        self.kind.clone()
    }

    fn rows_at(&self, table: usize) -> Option<String> {
        self.rows_at.get(table).cloned().flatten()
    }

    fn footer(&self) -> Vec<String> {
        self.footer.clone()
    }

    fn notes(&self) -> Vec<String> {
        self.notes.clone()
    }

    fn cut_at(&self) -> Option<u64> {
        self.cut
    }
}
