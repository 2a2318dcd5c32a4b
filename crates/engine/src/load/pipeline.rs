//! The pipeline of one file: reading, casting and sending, each on a thread of its own, casting on several
//! where there are cores for them, over batches that go round and are filled again.

use std::collections::HashMap;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use hypodoke_core::cast::{Caster, Reject, RejectedRow, Rows, Unmet, note_rejected, settle};
use hypodoke_core::figures::ColumnSummary;
use hypodoke_core::record::Records;
use hypodoke_core::types::Digits;
use hypodoke_formats::{ReadError, RecordReader, TableHead};
use hypodoke_stores::{StoreError, Writer};

use super::greatest::Greatest;
use super::portions::Portions;
use super::reject_reasons::RejectReasons;
use super::sums;
use crate::isolate::helping;
use crate::profile::threads;

/// So many threads cast at the most: then the store or the reader is the slowest.
const MOST_CASTING: usize = 4;

/// How many batches go round: one being read, cast and sent each, and one waiting.
const BATCHES: usize = 4;

/// Files smaller than this are result on one thread, which is quicker than starting two.
const SMALL: u64 = 1 << 20;

/// What was result into one table.
#[derive(Clone, Debug, Default)]
pub struct TableResult {
    /// Records read.
    pub read: u64,
    /// Rows loaded.
    pub loaded: u64,
    /// The digits that the numbers of each column needed.
    pub digits: Vec<Digits>,
    /// The sums asked for, of the rows loaded.
    pub sums: Vec<i128>,
    /// Records that the feed does not keep.
    pub left_out: u64,
    /// What values did not meet in rows that were loaded all the same.
    pub unmet: Vec<Unmet>,
    /// Columns whose numbers lost digits, since the user says so, and how many did.
    pub rounded: Vec<(String, u64)>,
    /// Rejected rows whose keys cannot be read, where keys vanish that the file does not hold.
    pub unreadable_keys: u64,
    /// Of each column that comes from the file, what its values come to, where that was wanted.
    pub figures: Vec<Option<ColumnSummary>>,
}

/// What was result.
#[derive(Clone, Debug, Default)]
pub struct PipelineResult {
    /// Per table.
    pub tables: Vec<TableResult>,
    /// Records rejected.
    pub rejected: u64,
    /// Why.
    pub reasons: RejectReasons,
    /// The greatest value of the column that says where the file stands.
    pub greatest: Greatest,
    /// Records some part of which the database refused, by their lines, with the reason.
    pub refused: RefusedRecords,
}

/// Records that the database refuses for what is nested in them, by their lines, with the reason.
pub type RefusedRecords = HashMap<u64, String>;

/// Why the pipeline stopped.
#[derive(Debug)]
pub enum Interrupted {
    /// The file could not be read to its end.
    Read(ReadError),
    /// The database did not take it.
    Store(StoreError),
    /// A value does not fit a type that might be widened, or a column or list came that nobody
    /// has seen: evidence is wanted first.
    Surprise,
}

/// The stages that a file's records go through.
pub struct Stages<'a> {
    /// Casts the records of each table.
    pub casters: Vec<Caster>,
    /// The tables as far as they are known: more than these are a surprise.
    pub heads: Vec<TableHead>,
    /// For each table, the columns whose sums are wanted.
    pub sums: Vec<Vec<usize>>,
    /// For each table, the columns of its key, where keys vanish that the file does not hold.
    pub keys: Vec<Vec<usize>>,
    /// The column of the main table that says where the file stands.
    pub order: Option<usize>,
    /// Records that are rejected for what the database refused of them before.
    pub refused: &'a RefusedRecords,
    /// The first surprise stops it.
    pub stops_at_surprise: bool,
    /// Whether it is known by now that the rows will not be kept.
    pub is_refuted: &'a (dyn Fn() -> bool + Sync),
    /// Notes where in the file a reject of a table stands, and at which byte.
    pub locate: &'a (dyn Fn(usize, &mut Reject, Option<u64>) + Sync),
}

/// A batch on its way: what was read of each table, and the rows made of it.
#[derive(Default)]
struct Batch {
    records: Vec<Records>,
    rows: Vec<Rows>,
    /// For each table, the columns whose sums are wanted.
    sums: Vec<Vec<usize>>,
    /// The column of the main table that says where the file stands.
    order: Option<usize>,
    /// Which of the tables hold what is nested in records.
    is_child: Vec<bool>,
    /// Which of the tables have a key whose values vanish where the file does not hold them.
    has_key: Vec<bool>,
    /// A table or column came that was not known.
    strange: bool,
}

impl Batch {
    fn fill(&mut self, reader: &mut Portions<'_>, heads: &[TableHead]) -> Result<bool, ReadError> {
        // The buffers of the last round come back to be filled again.
        for (records, rows) in self.records.iter_mut().zip(&mut self.rows) {
            std::mem::swap(records, &mut rows.records);
        }
        let more = reader.next(&mut self.records)?;
        let tables = reader.tables();
        self.strange = tables.len() > heads.len()
            || tables.iter().zip(heads).any(|(now, known)| now.names.len() > known.names.len());
        Ok(more)
    }

    fn cast(&mut self, stages: &mut Stages<'_>) -> Result<(), Interrupted> {
        if self.strange {
            return Err(Interrupted::Surprise);
        }
        self.rows.resize_with(self.records.len(), Rows::default);
        if self.sums.len() != stages.sums.len() {
            self.sums.clone_from(&stages.sums);
        }
        self.order = stages.order;
        if self.is_child.len() != stages.heads.len() {
            // Rows of a list that hangs on no record are rows by themselves.
            let hang = stages.heads.first().is_some_and(|main| !main.names.is_empty());
            self.has_key = stages.keys.iter().map(|key| !key.is_empty()).collect();
            self.is_child = stages.heads.iter().map(|head| head.is_child && hang).collect();
        }
        for ((caster, rows), records) in stages.casters.iter_mut().zip(&mut self.rows).zip(&mut self.records)
        {
            std::mem::swap(&mut rows.records, records);
            caster.cast(rows);
        }
        if (stages.stops_at_surprise && stages.casters.iter().any(|caster| caster.surprises() > 0))
            || (stages.is_refuted)()
        {
            return Err(Interrupted::Surprise);
        }
        if self.rows.len() > 1 {
            let paths: Vec<String> = stages.heads.iter().map(|head| head.path.clone()).collect();
            settle(&mut self.rows, &paths);
            self.refuse(stages.refused);
        }
        if stages.keys.iter().any(|key| !key.is_empty()) {
            let is_list: Vec<bool> = stages.heads.iter().map(|head| head.is_child).collect();
            note_rejected(&mut self.rows, &is_list);
            for ((caster, rows), key) in stages.casters.iter().zip(&mut self.rows).zip(&stages.keys) {
                caster.read_rejected_keys(rows, key);
            }
        }
        for (table, rows) in self.rows.iter_mut().enumerate() {
            for reject in &mut rows.rejects {
                let offset = rows.records.offset_of(reject.record as usize);
                (stages.locate)(table, reject, offset);
            }
        }
        Ok(())
    }

    fn send(&mut self, loader: &mut dyn Writer, result: &mut PipelineResult) -> Result<(), Interrupted> {
        result.tables.resize_with(self.rows.len().max(result.tables.len()), TableResult::default);
        for at in 0..self.rows.len() {
            let rows = &mut self.rows[at];
            let figures = &mut result.tables[at];
            figures.read += rows.records.len() as u64;
            let rejects = rows.rejects.len();
            if self.has_key.get(at).copied().unwrap_or_default() {
                let unreadable = rows.rejected.iter().filter(|row| row.record.is_none());
                figures.unreadable_keys += unreadable.count() as u64;
            }
            figures.loaded += loader.write(at, rows).map_err(Interrupted::Store)?;
            if let Some(columns) = self.sums.get(at).filter(|columns| !columns.is_empty()) {
                figures.sums.resize(columns.len(), 0);
                sums::add(rows, columns, &mut figures.sums);
            }
            if let Some(column) = self.order.filter(|_| at == 0) {
                result.greatest.add(rows, column);
            }
            result.rejected += rows.rejects.len() as u64;
            result.reasons.add(&rows.rejects);
            let is_child = self.is_child.get(at).copied().unwrap_or_default();
            if is_child {
                let reason = |reject: &Reject| format!("in what is nested in it: {}", reject.reason);
                let parts = rows.rejects.iter().skip(rejects).map(|reject| (reject.line, reason(reject)));
                result.refused.extend(parts);
            }
            if at == 0 && rows.rejects.len() > rejects && self.rows.len() > 1 {
                self.drop_refused(rejects);
            }
        }
        Ok(())
    }

    /// Rejects records some part of which the database has refused.
    fn refuse(&mut self, refused: &RefusedRecords) {
        if refused.is_empty() {
            return;
        }
        let Some(main) = self.rows.first_mut() else { return };
        let before = main.rejects.len();
        let is_refused = |index: &usize| refused.contains_key(&main.line(*index));
        let found: Vec<usize> = (0..main.len()).filter(is_refused).collect();
        for index in found.into_iter().rev() {
            let reason = refused.get(&main.line(index)).cloned().unwrap_or_default();
            let reject = main.refuse(index, None, reason);
            main.rejects.push(reject);
            main.kept.remove(index);
        }
        self.drop_refused(before);
    }

    /// What the database refused of the main table takes its children with it.
    fn drop_refused(&mut self, before: usize) {
        let (main, children) = self.rows.split_at_mut(1);
        let refused: Vec<u32> = main[0].rejects[before..].iter().map(|reject| reject.record).collect();
        for rows in children {
            let Rows { kept, records, rejected, .. } = rows;
            let owner = |at: &u32| records.links().get(*at as usize).map(|link| link.owner);
            let is_refused = |at: &u32| owner(at).is_some_and(|owner| refused.contains(&owner));
            let row = |at: u32| RejectedRow { line: records.line(at as usize), record: Some(at) };
            rejected.extend(kept.iter().copied().filter(is_refused).map(row));
            kept.retain(|at| !is_refused(at));
        }
    }
}

/// Sends the records of a file to the loader. `bytes` is the size of the file.
///
/// # Errors
///
/// The file cannot be read to its end, the database does not take its rows, or a value came that the
/// stages were not made for.
pub fn run(
    reader: &mut dyn RecordReader,
    stages: Stages<'_>,
    loader: &mut dyn Writer,
    bytes: u64,
) -> Result<PipelineResult, Interrupted> {
    let widths = stages.casters.iter().map(Caster::width).collect();
    let reader = &mut Portions::new(reader, widths);
    if bytes < SMALL {
        run_in_one_thread(reader, stages, loader)
    } else {
        run_overlapped(reader, stages, loader, casting_threads())
    }
}

fn run_in_one_thread(
    reader: &mut Portions<'_>,
    mut stages: Stages<'_>,
    loader: &mut dyn Writer,
) -> Result<PipelineResult, Interrupted> {
    let mut result = PipelineResult::default();
    let mut batch = Batch::default();
    while batch.fill(reader, &stages.heads).map_err(Interrupted::Read)? {
        batch.cast(&mut stages)?;
        batch.send(loader, &mut result)?;
    }
    if batch.strange {
        return Err(Interrupted::Surprise);
    }
    Ok(with_findings(result, &stages.casters))
}

fn with_findings(mut result: PipelineResult, casters: &[Caster]) -> PipelineResult {
    result.tables.resize_with(casters.len().max(result.tables.len()), TableResult::default);
    for (table, caster) in result.tables.iter_mut().zip(casters) {
        table.digits = caster.digits();
        table.figures = caster.figures();
        table.left_out = caster.left_out();
        table.unmet = caster.unmet().to_vec();
        table.rounded = caster.rounded();
    }
    result
}

/// How many threads cast: the reader and the store have one each.
fn casting_threads() -> usize {
    threads().saturating_sub(2).clamp(1, MOST_CASTING)
}

/// Stages for so many threads: fewer where what is made of a record depends on those before it.
fn forked<'a>(stages: Stages<'a>, threads: usize) -> Vec<Stages<'a>> {
    let fork = |stages: &Stages<'a>| {
        let casters = stages.casters.iter().map(Caster::fork).collect::<Option<Vec<_>>>()?;
        let (heads, sums, keys) = (stages.heads.clone(), stages.sums.clone(), stages.keys.clone());
        Some(Stages { casters, heads, sums, keys, ..*stages })
    };
    let mut all = vec![stages];
    for _ in 1..threads {
        match all.first().and_then(fork) {
            Some(another) => all.push(another),
            None => break,
        }
    }
    all
}

/// Batches go to the casting threads in turn, and come back from them in the same turn: in the order of the
/// file.
fn run_overlapped(
    reader: &mut Portions<'_>,
    stages: Stages<'_>,
    loader: &mut dyn Writer,
    casting: usize,
) -> Result<PipelineResult, Interrupted> {
    let heads = stages.heads.clone();
    let all = forked(stages, casting);
    let batches = BATCHES + 2 * (all.len() - 1);
    let (empty_in, empty_out) = sync_channel::<Batch>(batches);
    for _ in 0..batches {
        // The channel holds as many as there are.
        let _ = empty_in.send(Batch::default());
    }
    std::thread::scope(|scope| {
        let (mut to_cast, mut cast, mut casting) = (Vec::new(), Vec::new(), Vec::new());
        for mut stages in all {
            let (read_in, read_out) = sync_channel::<Result<Batch, Interrupted>>(1);
            let (cast_in, cast_out) = sync_channel::<Result<Batch, Interrupted>>(1);
            to_cast.push(read_in);
            cast.push(cast_out);
            casting.push(scope.spawn(move || {
                helping(|| cast_all(&mut stages, &read_out, &cast_in));
                stages.casters
            }));
        }
        let reading = scope.spawn(move || helping(|| read_all(reader, &heads, &empty_out, &to_cast)));
        let result = send_all(&cast, &empty_in, loader);
        // Whoever still waits to hand something over is let go.
        drop((cast, empty_in));
        // A reader that panicked has read half a file: its panic is passed on before anything is kept.
        reading.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        let mut casters: Vec<Caster> = Vec::new();
        for thread in casting {
            let found = thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            match casters.is_empty() {
                true => casters = found,
                false => casters.iter_mut().zip(found).for_each(|(all, found)| all.merge(found)),
            }
        }
        result.map(|result| with_findings(result, &casters))
    })
}

fn read_all(
    reader: &mut Portions<'_>,
    heads: &[TableHead],
    empty: &Receiver<Batch>,
    out: &[SyncSender<Result<Batch, Interrupted>>],
) {
    for out in out.iter().cycle() {
        let Ok(mut batch) = empty.recv() else { return };
        let message = match batch.fill(reader, heads) {
            Ok(true) => Ok(batch),
            // Keys that were only ever null come to light at the end.
            Ok(false) if batch.strange => Err(Interrupted::Surprise),
            Ok(false) => return,
            Err(error) => Err(Interrupted::Read(error)),
        };
        let failed = message.is_err();
        if out.send(message).is_err() || failed {
            return;
        }
    }
}

fn cast_all(
    stages: &mut Stages<'_>,
    read: &Receiver<Result<Batch, Interrupted>>,
    out: &SyncSender<Result<Batch, Interrupted>>,
) {
    while let Ok(message) = read.recv() {
        let message = message.and_then(|mut batch| batch.cast(stages).map(|()| batch));
        let failed = message.is_err();
        if out.send(message).is_err() || failed {
            return;
        }
    }
}

fn send_all(
    cast: &[Receiver<Result<Batch, Interrupted>>],
    empty: &SyncSender<Batch>,
    loader: &mut dyn Writer,
) -> Result<PipelineResult, Interrupted> {
    let mut result = PipelineResult::default();
    for cast in cast.iter().cycle() {
        let Ok(message) = cast.recv() else { break };
        let mut batch = message?;
        batch.send(loader, &mut result)?;
        // The reader may be at its end already.
        let _ = empty.send(batch);
    }
    Ok(result)
}

#[cfg(test)]
#[path = "pipeline_tests.rs"]
mod tests;
