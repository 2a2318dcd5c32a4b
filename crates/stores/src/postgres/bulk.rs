//! The short way of small files: rows of a file that is added to a known table are put together in memory,
//! and sent by a COPY that goes on from one file to the next. What the ledger has to say of them is written
//! once for all files of the group. Nothing is asked of the server for a single file.
//!
//! What the server refuses on this way ends the group. Its files are loaded again one by one, and the table
//! is not filled this way any more on this connection.

use bytes::{Bytes, BytesMut};
use futures_util::SinkExt;
use hypodoke_core::cast::{Reject, Rows};
use hypodoke_core::drift::Drift;
use hypodoke_core::layout::Layout;
use hypodoke_core::names::Lineage;

use super::bulk_loads::{BulkCopy, BulkLoads, BulkTable};
use super::connection::PostgresStore;
use super::copy::{HEADER, RowOrigin, TRAILER, put_row};
use super::unstorable::refuse_unstorable;
use crate::error::StoreError;
use crate::ledger::joined_layouts::join_layout;
use crate::ledger::loaded_files::{LoadedFile, add_loaded};
use crate::ledger::{FileEntry, write};
use crate::load_plan::Counts;
use crate::load_plan::Mode;
use crate::load_plan::file_order::FileOrder;
use crate::load_plan::{FileSummary, Finished, LoadPlan, PartSummary, TablePlan};
use crate::sql::{SqlConnection, quote};
use crate::tables::{Writer, claims};

/// So many bytes are put together before they are sent.
const CHUNK: usize = 64 * 1024;

/// A file with more bytes of rows than this sends them before it has come to its end.
const MOST_HELD: usize = 1 << 20;

/// So many numbers are drawn at a time.
const DRAWN: usize = 32;

/// A file with more bytes of rejects than this does not go the short way.
const MOST_REJECTED: usize = 1 << 20;

impl PostgresStore {
    /// Whether the file of a plan goes the short way: its rows are added to tables that are as they are to
    /// be, and all that the ledger knows of it was asked for when it was claimed.
    pub(super) fn goes_short(&self, plan: &LoadPlan) -> bool {
        let is_plain = |table: &TablePlan| {
            table.mode == Mode::Append
                && table.changes.is_empty()
                && !self.refusing.contains(&table.table)
                && (table.is_virtual || !table.keeps_layout || table.based_on.is_some_and(|at| at > 0))
        };
        let has_work_of_its_own = plan.careful
            || plan.retracts
            || plan.resubmits.is_some()
            || plan.keeps_for.is_some()
            || plan.replaces.is_some()
            || plan.restore.is_wanted()
            || plan.known_until.is_some_and(|newest| newest > 0)
            || !plan.sql_before.is_empty()
            || !plan.sql_after.is_empty();
        !has_work_of_its_own
            && plan.mode() == Mode::Append
            && plan.tables.iter().all(is_plain)
            && self.may_draw == Some(true)
            && !self.link.is_elsewhere()
            && claims::is_claimed(self.link.group.as_ref(), plan)
    }

    /// Whether numbers for entries may be drawn ahead; asked for once.
    pub(super) fn may_draw(&mut self) -> Result<bool, StoreError> {
        if let Some(known) = self.may_draw {
            return Ok(known);
        }
        let sequence = format!("{}.hd_files", quote(&self.schema));
        let sql = "SELECT has_sequence_privilege(pg_get_serial_sequence($1, 'file'), 'USAGE')";
        let may: Option<bool> = self.run(self.client.query_one(sql, &[&sequence]))?.get(0);
        Ok(*self.may_draw.insert(may.unwrap_or(false)))
    }

    /// The next number for an entry. A few are drawn at a time; those that are left when the group ends are
    /// not used: a later number says that more was known.
    fn next_number(&mut self) -> Result<i64, StoreError> {
        if self.bulk()?.numbers.is_empty() {
            self.settle_copy()?;
            let sequence = format!("{}.hd_files", quote(&self.schema));
            let sql = "SELECT nextval(pg_get_serial_sequence($1, 'file')) FROM generate_series(1, $2)";
            let sql = self.prepared(sql)?;
            let wanted = self.bulk()?.wanted.clamp(1, DRAWN) as i32;
            let rows = self.run(self.client.query(&sql, &[&sequence, &wanted]))?;
            let mut numbers: Vec<i64> = rows.iter().map(|row| row.get(0)).collect();
            // The least is taken first.
            numbers.reverse();
            self.bulk()?.numbers = numbers;
        }
        let bulk = self.bulk()?;
        bulk.wanted = bulk.wanted.saturating_sub(1);
        let number = bulk.numbers.pop();
        let why = || "no number was drawn for a file".to_owned();
        number.ok_or_else(|| StoreError::Aborted { shown: self.shown.clone(), why: why() })
    }

    fn bulk(&mut self) -> Result<&mut BulkLoads, StoreError> {
        let why = || "no transaction is open".to_owned();
        let shown = self.shown.clone();
        self.bulk.as_mut().ok_or_else(|| StoreError::Lost { shown, why: why() })
    }

    /// The number of a table among those filled the short way, once it is as the plan says.
    fn bulk_table(&mut self, table: &TablePlan) -> Result<usize, StoreError> {
        let columns = table.layout.columns.iter().map(|column| column.name.as_str());
        let is_it = |known: &BulkTable| {
            known.name == table.table && known.target.is_of(columns.clone(), table.lineage)
        };
        if let Some(at) = self.bulk()?.tables.iter().position(is_it) {
            let known = self.bulk()?.tables.get(at).and_then(|known| known.based_on);
            return match known == table.based_on {
                true => Ok(at),
                false => Err(StoreError::Changed { table: table.table.clone() }),
            };
        }
        self.settle_copy()?;
        let target = self.ready_table(table, None)?;
        write::check_layout(self, table)?;
        let bulk = self.bulk()?;
        bulk.tables.push(BulkTable {
            name: table.table.clone(),
            based_on: table.based_on,
            target,
            waiting: BytesMut::new(),
            rows: 0,
        });
        Ok(bulk.tables.len() - 1)
    }

    /// Sends rows to a table by the COPY that is open, or a new one.
    fn stream(&mut self, at: usize, rows: BytesMut, count: u64) -> Result<(), StoreError> {
        if self.bulk()?.copying.as_ref().is_some_and(|copying| copying.at != at) {
            self.settle_copy()?;
        }
        if self.bulk()?.copying.is_none() {
            let Some(sql) = self.bulk()?.tables.get(at).map(|table| table.target.form.sql.clone()) else {
                return Ok(());
            };
            let opened = self.run(self.client.copy_in(&sql));
            let sink = opened.inspect_err(|_| self.is_unusable = true)?;
            let mut sink = Box::pin(sink);
            let header = Bytes::from_static(HEADER);
            self.run(sink.feed(header))?;
            self.bulk()?.copying = Some(BulkCopy { at, sink, rows: 0 });
        }
        let (runtime, bulk) = (self.runtime, self.bulk()?);
        let Some(copying) = &mut bulk.copying else { return Ok(()) };
        copying.rows += count;
        match runtime.block_on(copying.sink.feed(rows.freeze())) {
            Ok(()) => Ok(()),
            // The server's own reason comes with its answer.
            Err(error) => Err(self.settle_copy().err().unwrap_or_else(|| self.fail(&error))),
        }
    }

    /// Ends the COPY that is open, so that the connection takes other statements.
    pub(super) fn settle_copy(&mut self) -> Result<(), StoreError> {
        let Some(bulk) = self.bulk.as_mut() else { return Ok(()) };
        if bulk.is_spoiled {
            let why = "a file of the group broke off".to_owned();
            return Err(StoreError::Aborted { shown: self.shown.clone(), why });
        }
        let Some(mut copying) = bulk.copying.take() else { return Ok(()) };
        let table = bulk.tables.get(copying.at).map(|table| table.name.clone()).unwrap_or_default();
        let done = self.runtime.block_on(async {
            copying.sink.feed(Bytes::copy_from_slice(&TRAILER.to_be_bytes())).await?;
            copying.sink.as_mut().finish().await
        });
        let error = match done {
            Ok(taken) if taken == copying.rows => return Ok(()),
            // A trigger put some of them elsewhere: whose they were does not show.
            Ok(_) => {
                let why = "the table did not take all rows".to_owned();
                StoreError::RowRefused { shown: self.shown.clone(), why }
            }
            Err(error) => self.fail(&error),
        };
        self.refusing.insert(table);
        Err(error)
    }

    /// Sends all rows that wait, and takes the tables for unknown: somebody may change them now.
    pub(super) fn settle_bulk(&mut self) -> Result<(), StoreError> {
        if self.bulk.is_none() {
            return Ok(());
        }
        self.settle_copy()?;
        for at in 0..self.bulk()?.tables.len() {
            let Some(table) = self.bulk()?.tables.get_mut(at).filter(|table| table.rows > 0) else {
                continue;
            };
            let (rows, count) = (std::mem::take(&mut table.waiting), std::mem::take(&mut table.rows));
            self.stream(at, rows, count)?;
        }
        self.settle_copy()?;
        self.bulk()?.tables.clear();
        Ok(())
    }

    /// Sends what waits, and writes the files into the ledger.
    pub(super) fn finish_bulk(&mut self) -> Result<(), StoreError> {
        self.settle_bulk()?;
        let files = std::mem::take(&mut self.bulk()?.files);
        add_loaded(self, &files)?;
        // The server answers a COMMIT of what it has given up already as if all were well.
        self.script("SELECT 1")
    }
}

/// A file on the short way.
pub struct BulkWriter<'a> {
    store: &'a mut PostgresStore,
    plan: &'a LoadPlan,
    file: i64,
    /// The tables of the plan; a virtual one takes no rows.
    parts: Vec<Option<BulkPart>>,
    rejects: Vec<Reject>,
    rejected_bytes: usize,
    /// Some of its rows are sent.
    is_sent: bool,
    is_done: bool,
}

/// The rows of a file for one table.
struct BulkPart {
    at: usize,
    rows: BytesMut,
    /// How many rows are in it, and how many there were in all.
    count: u64,
    sent: u64,
}

impl<'a> BulkWriter<'a> {
    /// Begins. The file is claimed.
    pub fn begin(store: &'a mut PostgresStore, plan: &'a LoadPlan) -> Result<BulkWriter<'a>, StoreError> {
        let mut parts = Vec::with_capacity(plan.tables.len());
        for table in &plan.tables {
            let part = match table.is_virtual {
                true => None,
                false => {
                    let at = store.bulk_table(table)?;
                    Some(BulkPart { at, rows: BytesMut::new(), count: 0, sent: 0 })
                }
            };
            parts.push(part);
        }
        let file = store.next_number()?;
        let rejects = Vec::new();
        Ok(BulkWriter {
            store,
            plan,
            file,
            parts,
            rejects,
            rejected_bytes: 0,
            is_sent: false,
            is_done: false,
        })
    }

    fn entry(&self, summary: &FileSummary, counts: Counts) -> FileEntry {
        let order = FileOrder { modified: self.plan.arrival.modified, ..self.plan.order.clone() };
        FileEntry {
            file: self.file,
            hash: Some(summary.hash.clone()),
            read: summary.read,
            loaded: summary.loaded,
            rejected: summary.rejected,
            left_out: summary.left_out,
            counts,
            ended: summary.ended,
            figures: summary.figures.clone(),
            message: summary.message_with(&counts),
            reasons: summary.reasons.clone(),
            order: FileOrder { key: summary.order.clone().unwrap_or(order.key.clone()), ..order },
            ..write::entry_of(self.plan)
        }
    }

    /// What the rows came to: parts of records do not count.
    fn counts(&self) -> Counts {
        let own =
            self.plan.tables.iter().zip(&self.parts).filter(|(table, _)| table.lineage != Lineage::Children);
        let inserted = own.filter_map(|(_, part)| part.as_ref()).map(|part| part.sent).sum();
        Counts { inserted, ..Counts::default() }
    }

    /// Hands the rows over to the group.
    fn hand_over(&mut self) -> Result<(), StoreError> {
        for part in self.parts.iter_mut().flatten() {
            let Some(table) = self.store.bulk()?.tables.get_mut(part.at) else { continue };
            table.rows += part.count;
            if table.waiting.is_empty() {
                table.waiting = std::mem::take(&mut part.rows);
            } else {
                table.waiting.extend_from_slice(&part.rows);
            }
            if table.waiting.len() >= CHUNK {
                let (rows, count) = (std::mem::take(&mut table.waiting), std::mem::take(&mut table.rows));
                self.is_sent = true;
                self.store.stream(part.at, rows, count)?;
            }
        }
        Ok(())
    }

    fn keep_layouts(&mut self, summary: &FileSummary) -> Result<(), StoreError> {
        let Some(group) = &mut self.store.link.group else { return Ok(()) };
        for (table, found) in self.plan.tables.iter().zip(&summary.parts).filter(|(t, _)| t.keeps_layout) {
            join_layout(&mut group.layouts, self.file, table, found);
        }
        Ok(())
    }
}

impl Writer for BulkWriter<'_> {
    fn write(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        refuse_unstorable(rows);
        self.rejected_bytes += rows.rejects.iter().map(|reject| reject.raw.len()).sum::<usize>();
        if self.rejected_bytes > MOST_REJECTED {
            let why = "a file has too many rejects to be loaded with others".to_owned();
            return Err(StoreError::Aborted { shown: self.store.shown.clone(), why });
        }
        self.rejects.extend(rows.rejects.iter().cloned());
        let (Some(Some(part)), Some(plan)) = (self.parts.get_mut(table), self.plan.tables.get(table)) else {
            return Ok(0);
        };
        let Some(target) = self.store.bulk.as_ref().and_then(|bulk| bulk.tables.get(part.at)) else {
            return Ok(0);
        };
        let origin = RowOrigin { file: self.file, lineage: plan.lineage, sequence: None };
        for index in 0..rows.len() {
            put_row(&mut part.rows, rows, index, &target.target.form.wires, origin);
        }
        let count = rows.len() as u64;
        part.count += count;
        part.sent += count;
        if part.rows.len() >= MOST_HELD {
            let (at, waiting) = (part.at, std::mem::take(&mut part.rows));
            let count = std::mem::take(&mut part.count);
            self.is_sent = true;
            self.store.stream(at, waiting, count)?;
        }
        Ok(count)
    }

    fn commit(mut self: Box<Self>, summary: &FileSummary) -> Result<Finished, StoreError> {
        self.hand_over()?;
        let counts = self.counts();
        let entry = self.entry(summary, counts);
        let drift = |(table, part): (&TablePlan, &PartSummary)| {
            let own = if table.keeps_layout { table.drift.as_slice() } else { &[] };
            let all: Vec<Drift> = own.iter().chain(&part.drift).cloned().collect();
            (!all.is_empty()).then(|| (table.table.clone(), all))
        };
        let drift = self.plan.tables.iter().zip(&summary.parts).filter_map(drift).collect();
        let others = self.plan.tables.iter().zip(&summary.parts).skip(1);
        let named = |(table, part): (&TablePlan, &PartSummary)| {
            let part = PartSummary { layout: Layout::default(), ..part.clone() };
            (TablePlan { layout: Layout::default(), ..table.clone() }, part)
        };
        let parts = others.map(named).collect();
        self.keep_layouts(summary)?;
        let rejects = std::mem::take(&mut self.rejects);
        self.store.bulk()?.files.push(LoadedFile { entry, rejects, parts, drift });
        self.is_done = true;
        Ok(Finished { file: self.file, counts, ..Finished::default() })
    }
}

impl Drop for BulkWriter<'_> {
    fn drop(&mut self) {
        if self.is_done {
            return;
        }
        if !self.is_sent {
            // It was not used.
            if let Some(bulk) = &mut self.store.bulk {
                bulk.numbers.push(self.file);
            }
        } else if let Some(bulk) = &mut self.store.bulk {
            bulk.is_spoiled = true;
        }
    }
}
