//! Gathering evidence: all records of a reader, on all cores.

use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::{Mutex, PoisonError};

use hypodoke_core::evidence::{ColumnEvidence, TableEvidence};
use hypodoke_core::record::Records;
use hypodoke_formats::{ReadError, RecordReader, TableHead};

use super::cache::BatchCache;
use crate::isolate::helping;

/// Evidence of nothing yet for a column of a table, with what is known of it beforehand.
pub type Blank<'b> = dyn Fn(&TableHead, usize) -> ColumnEvidence + Sync + 'b;

/// How evidence is gathered.
pub struct GatherOptions<'g> {
    /// Makes the evidence of each column.
    pub blank: &'g Blank<'g>,
    /// What examples in the evidence are marked with.
    pub number: u32,
    /// Only so many batches of records are read.
    pub most_batches: u64,
    /// How many threads look at values.
    pub threads: usize,
    /// Where records are kept for a second reading.
    pub cache: Option<&'g BatchCache>,
}

/// Reads all records and takes their evidence in, one table's after another's. The reader is
/// shared: whoever is free reads the next batch, then looks at its values while another reads on.
///
/// # Errors
///
/// The reader cannot go on.
pub fn gather(
    reader: &mut dyn RecordReader,
    how: &GatherOptions<'_>,
) -> Result<Vec<TableEvidence>, ReadError> {
    let shared = Mutex::new(SharedReader { reader, batches: 0, failed: false });
    let work = || -> Result<Vec<TableEvidence>, ReadError> {
        let mut evidence: Vec<TableEvidence> = Vec::new();
        let mut batch = Vec::new();
        loop {
            let (more, number) = {
                let mut shared = shared.lock().unwrap_or_else(PoisonError::into_inner);
                if shared.failed {
                    return Ok(evidence);
                }
                let more = shared.batches < how.most_batches && shared.next(&mut batch)?;
                widen(&mut evidence, shared.reader.tables(), how.blank);
                shared.batches += 1;
                (more, shared.batches)
            };
            if !more {
                return Ok(evidence);
            }
            for (table, records) in evidence.iter_mut().zip(&batch) {
                table.add(records, how.number);
            }
            if let Some(cache) = how.cache {
                cache.take(number, &mut batch);
            }
        }
    };
    if how.threads <= 1 {
        return work();
    }
    std::thread::scope(|scope| {
        let others: Vec<_> = (1..how.threads).map(|_| scope.spawn(|| helping(work))).collect();
        // A panic here is passed on once the others have ended, too.
        let whole = catch_unwind(AssertUnwindSafe(work));
        let parts: Vec<_> = others.into_iter().map(std::thread::ScopedJoinHandle::join).collect();
        let mut whole = whole.unwrap_or_else(|panic| resume_unwind(panic))?;
        for part in parts {
            let part = part.unwrap_or_else(|panic| resume_unwind(panic))?;
            let tables = whole.len().max(part.len());
            whole.resize_with(tables, TableEvidence::default);
            whole.iter_mut().zip(&part).for_each(|(whole, part)| whole.merge(part));
        }
        Ok(whole)
    })
}

/// The reader, of whoever is free.
struct SharedReader<'r> {
    reader: &'r mut dyn RecordReader,
    batches: u64,
    /// It cannot go on: nobody else asks it.
    failed: bool,
}

impl SharedReader<'_> {
    fn next(&mut self, batch: &mut Vec<Records>) -> Result<bool, ReadError> {
        // Whatever ends the reading, a panic too, ends it for all.
        self.failed = true;
        let more = self.reader.next(batch)?;
        self.failed = false;
        Ok(more)
    }
}

/// Makes room for the tables and columns that are known by now.
fn widen(evidence: &mut Vec<TableEvidence>, heads: &[TableHead], blank: &Blank<'_>) {
    evidence.resize_with(heads.len().max(evidence.len()), TableEvidence::default);
    for (table, head) in evidence.iter_mut().zip(heads) {
        table.widen(head.names.len(), |column| blank(head, column));
    }
}
