//! A database in memory: a ledger, an outbox, a catalog and a sink without SQL, for tests of the engine.

use std::collections::{BTreeMap, HashSet};

use hypodoke_core::arrival::Arrival;
use hypodoke_core::cast::{Reject, Rows};
use hypodoke_core::drift::Drift;
use hypodoke_core::names::Lineage;
use hypodoke_core::outcome::Outcome;
use hypodoke_core::types::Type;
use hypodoke_stores::{
    About, BatchEntry, Capabilities, Catalog, ColumnSample, Comparison, Counts, DecisionEntry, DriftEntry,
    FileEntry, FileFigures, FileQuery, FileSummary, Finished, LayoutEntry, Ledger, LoadPlan, LoadRules, Mode,
    NoticeEntry, Outbox, PartEntry, RejectEntry, RowsLoaded, SampleRows, StoreError, TableColumn, TablePlan,
    TableShape, Tables, Takes, Writer,
};

/// A database in memory. It does the modes `append` and `replace`.
#[derive(Debug, Default)]
pub struct MemoryStore {
    /// The ledger's files, by their numbers from 1.
    pub files: Vec<FileEntry>,
    /// Rows by their tables: the file, the line, and the values as texts.
    pub rows: BTreeMap<String, Vec<(i64, u64, Vec<String>)>>,
    /// Rows that were rejected.
    pub rejects: Vec<RejectEntry>,
    /// What was decided.
    pub decisions: Vec<DecisionEntry>,
    /// Rows are counted, and not kept.
    pub counts_only: bool,
    /// So many commits are lost with the connection, from the next on.
    pub lost_commits: u32,
    /// How often it was connected to anew.
    pub reconnected: u32,
    batches: Vec<BatchEntry>,
    layouts: BTreeMap<String, Vec<LayoutEntry>>,
    lineages: BTreeMap<String, Lineage>,
    drift: Vec<DriftEntry>,
}

impl MemoryStore {
    /// The rows of a table, each as its values with commas between them, in their order.
    pub fn table_rows(&self, table: &str) -> Vec<String> {
        self.rows.get(table).into_iter().flatten().map(|(_, _, values)| values.join(",")).collect()
    }

    fn add(&mut self, entry: &FileEntry) -> i64 {
        let file = self.files.len() as i64 + 1;
        self.files.push(FileEntry { file, ..entry.clone() });
        file
    }

    fn add_rejects(&mut self, file: i64, rejects: Vec<Reject>) {
        for reject in rejects {
            self.rejects.push(RejectEntry {
                reject: self.rejects.len() as i64 + 1,
                file,
                line: reject.line,
                place: reject.place,
                sheet: reject.sheet,
                column: reject.column,
                value: reject.value,
                reason: reject.reason,
                more: reject.more,
                raw: reject.raw,
                corrected: None,
            });
        }
    }

    fn current(&self) -> impl Iterator<Item = &FileEntry> {
        use Outcome::{Discarded, Held, Loaded, Retracted, Same};
        let is_known =
            |entry: &&FileEntry| matches!(entry.outcome, Loaded | Same | Held | Discarded | Retracted);
        self.files.iter().filter(is_known).filter(|entry| entry.replaced_by.is_none())
    }
}

impl Ledger for MemoryStore {
    fn ledger_shown(&self) -> String {
        "memory:".to_owned()
    }

    fn open_ledger(&mut self) -> Result<(), StoreError> {
        Ok(())
    }

    fn has_ledger(&mut self) -> Result<bool, StoreError> {
        Ok(true)
    }

    fn layout(&mut self, table: &str) -> Result<Option<LayoutEntry>, StoreError> {
        Ok(self.layouts.get(table).and_then(|versions| versions.last().cloned()))
    }

    fn layouts(&mut self, table: &str) -> Result<Vec<LayoutEntry>, StoreError> {
        Ok(self.layouts.get(table).cloned().unwrap_or_default())
    }

    fn loaded_files(&mut self) -> Result<Vec<FileEntry>, StoreError> {
        Ok(self.current().cloned().collect())
    }

    fn files_like(&mut self, arrivals: &[&Arrival]) -> Result<Vec<FileEntry>, StoreError> {
        let is_like = |entry: &&FileEntry| {
            let known = &entry.arrival;
            arrivals
                .iter()
                .any(|a| (&a.place, &a.path) == (&known.place, &known.path) || a.bytes == known.bytes)
        };
        Ok(self.current().filter(is_like).cloned().collect())
    }

    fn files(&mut self, query: &FileQuery) -> Result<Vec<FileEntry>, StoreError> {
        let is_asked = |entry: &&FileEntry| {
            query.batch.is_none_or(|batch| entry.batch == batch)
                && query.file.is_none_or(|file| entry.file == file)
                && query
                    .path
                    .as_ref()
                    .is_none_or(|(place, path)| (place, path) == (&entry.arrival.place, &entry.arrival.path))
                && query.outcome.is_none_or(|outcome| entry.outcome == outcome)
                && query.table.as_ref().is_none_or(|table| entry.table.as_ref() == Some(table))
                && query.feed.as_ref().is_none_or(|feed| entry.feed.as_ref() == Some(feed))
                && query.since.is_none_or(|since| entry.ended >= since)
        };
        let newest_first = self.files.iter().rev().filter(is_asked);
        Ok(newest_first.take(query.most.unwrap_or(usize::MAX)).cloned().collect())
    }

    fn batches(&mut self, most: usize) -> Result<Vec<BatchEntry>, StoreError> {
        Ok(self.batches.iter().rev().take(most).cloned().collect())
    }

    fn parts(&mut self, _: i64) -> Result<Vec<PartEntry>, StoreError> {
        Ok(Vec::new())
    }

    fn rejects(&mut self, file: i64, most: usize) -> Result<Vec<RejectEntry>, StoreError> {
        Ok(self.rejects.iter().filter(|reject| reject.file == file).take(most).cloned().collect())
    }

    fn rows_loaded(&mut self, table: &str) -> Result<RowsLoaded, StoreError> {
        let is_of = |entry: &&FileEntry| {
            entry.table.as_deref() == Some(table)
                && entry.outcome == Outcome::Loaded
                && entry.replaced_by.is_none()
        };
        let loaded = self.files.iter().filter(is_of);
        Ok(loaded.fold(RowsLoaded::default(), |all, entry| RowsLoaded {
            files: all.files + 1,
            rows: all.rows + entry.loaded,
            inserted: all.inserted + entry.counts.inserted,
        }))
    }

    fn figures(&mut self, table: &str, most: usize) -> Result<Vec<String>, StoreError> {
        let is_of = |entry: &&FileEntry| {
            entry.table.as_deref() == Some(table)
                && entry.outcome == Outcome::Loaded
                && entry.replaced_by.is_none()
        };
        let newest = self.files.iter().rev().filter(is_of).filter_map(|entry| entry.figures.clone());
        Ok(newest.take(most).collect())
    }

    fn drift(&mut self) -> Result<Vec<DriftEntry>, StoreError> {
        Ok(self.drift.clone())
    }

    fn decisions(&mut self) -> Result<Vec<DecisionEntry>, StoreError> {
        Ok(self.decisions.clone())
    }

    fn begin_batch(&mut self, at: i64) -> Result<i64, StoreError> {
        let batch = self.batches.len() as i64 + 1;
        self.batches.push(BatchEntry { batch, began: at, ..BatchEntry::default() });
        Ok(batch)
    }

    fn end_batch(&mut self, batch: i64, at: i64) -> Result<(), StoreError> {
        self.batches.iter_mut().filter(|entry| entry.batch == batch).for_each(|entry| entry.ended = Some(at));
        Ok(())
    }

    fn note_file(&mut self, entry: &FileEntry, _: &[(String, Drift)]) -> Result<(), StoreError> {
        self.add(entry);
        Ok(())
    }

    fn forget_rows(&mut self, _: &str, _: i64) -> Result<(), StoreError> {
        Ok(())
    }

    fn note_decision(&mut self, entry: &DecisionEntry) -> Result<(), StoreError> {
        self.decisions.push(entry.clone());
        Ok(())
    }
}

impl Outbox for MemoryStore {
    fn new_events(&mut self, _: &str, events: &[String]) -> Result<HashSet<String>, StoreError> {
        Ok(events.iter().cloned().collect())
    }

    fn add_notice(&mut self, _: &NoticeEntry, _: &[String]) -> Result<bool, StoreError> {
        Ok(true)
    }

    fn take_notices(&mut self, _: i64, _: i64, _: i64) -> Result<Vec<NoticeEntry>, StoreError> {
        Ok(Vec::new())
    }

    fn finish_notice(&mut self, _: i64, _: i64, _: Option<&str>) -> Result<(), StoreError> {
        Ok(())
    }
}

impl Catalog for MemoryStore {
    fn shown(&self) -> String {
        "memory:".to_owned()
    }

    fn about(&mut self) -> Result<About, StoreError> {
        Ok(About::default())
    }

    fn table(&mut self, name: &str) -> Result<Option<TableShape>, StoreError> {
        let Some(lineage) = self.lineages.get(name).copied() else { return Ok(None) };
        let newest = self.layouts.get(name).and_then(|versions| versions.last());
        let columns =
            newest.map(|newest| &newest.layout.columns).into_iter().flatten().map(|column| TableColumn {
                name: column.name.clone(),
                ty: column.ty(),
                required: false,
                filled: false,
                generated: false,
                limit: None,
            });
        let (name, takes) = (name.to_owned(), Takes::Rows);
        Ok(Some(TableShape { name, columns: columns.collect(), lineage, takes }))
    }

    fn ddl(&mut self, _: &LoadPlan) -> Result<Vec<String>, StoreError> {
        Ok(Vec::new())
    }

    fn missing_rights(&mut self, _: &[(String, Mode)]) -> Result<Vec<String>, StoreError> {
        Ok(Vec::new())
    }

    fn column_sample(&mut self, _: &str, _: &str) -> Result<ColumnSample, StoreError> {
        Ok(ColumnSample::default())
    }

    fn file_figures(&mut self, _: &str, _: &[(String, Type)]) -> Result<Vec<FileFigures>, StoreError> {
        Ok(Vec::new())
    }

    fn count_rows(&mut self, table: &str) -> Result<u64, StoreError> {
        Ok(self.rows.get(table).map_or(0, |rows| rows.len() as u64))
    }

    fn first_rows(&mut self, _: &str, _: usize) -> Result<SampleRows, StoreError> {
        Ok(SampleRows::default())
    }
}

impl Tables for MemoryStore {
    fn ledger(&mut self) -> &mut dyn Ledger {
        self
    }

    fn prepare(&mut self) -> Result<(), StoreError> {
        Ok(())
    }

    fn recover(&mut self) -> Result<(), StoreError> {
        Ok(())
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            ledger_with_rows: true,
            table_changes_with_rows: true,
            groups: false,
            many_writers: false,
            modes: &[Mode::Append, Mode::Replace],
            takes_nul: false,
            most_columns: 1000,
        }
    }

    fn begin<'a>(&'a mut self, plan: &'a LoadPlan) -> Result<Option<Box<dyn Writer + 'a>>, StoreError> {
        let is_it = |entry: &FileEntry| {
            let known = (&entry.arrival.place, &entry.arrival.path);
            entry.outcome == Outcome::Loaded
                && known == (&plan.arrival.place, &plan.arrival.path)
                && plan.arrival.looks_like(&entry.arrival)
                && Some(entry.file) != plan.replaces
        };
        if self.current().any(is_it) {
            return Ok(None);
        }
        let rows = vec![Vec::new(); plan.tables.len()];
        Ok(Some(Box::new(MemoryWriter { store: self, plan, rows, rejects: Vec::new() })))
    }

    fn begin_group(&mut self) -> Result<(), StoreError> {
        Ok(())
    }

    fn end_group(&mut self, _: bool) -> Result<(), StoreError> {
        Ok(())
    }

    fn compare(
        &mut self,
        _: &[TablePlan],
        _: &LoadRules,
        _: Option<u64>,
    ) -> Result<Option<Comparison>, StoreError> {
        Ok(None)
    }

    fn delete_rows_of(&mut self, _: &str, _: &[i64]) -> Result<u64, StoreError> {
        Ok(0)
    }

    fn reconnect(&mut self) -> Result<(), StoreError> {
        self.reconnected += 1;
        Ok(())
    }
}

/// A file being loaded into memory. Nothing is seen of it before it is finished.
struct MemoryWriter<'a> {
    store: &'a mut MemoryStore,
    plan: &'a LoadPlan,
    rows: Vec<Vec<(u64, Vec<String>)>>,
    rejects: Vec<Reject>,
}

impl Writer for MemoryWriter<'_> {
    fn write(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        for index in 0..if self.store.counts_only { 0 } else { rows.len() } {
            let text = |cell: &hypodoke_core::cast::Cell| {
                let mut out = Vec::new();
                cell.write(&rows.records.bytes, &rows.wide, &mut out);
                String::from_utf8_lossy(&out).into_owned()
            };
            self.rows[table].push((rows.line(index), rows.row(index).iter().map(text).collect()));
        }
        if !self.store.counts_only {
            self.rejects.extend(rows.rejects.iter().cloned());
        }
        Ok(rows.len() as u64)
    }

    fn commit(self: Box<Self>, summary: &FileSummary) -> Result<Finished, StoreError> {
        let MemoryWriter { store, plan, rows, rejects } = *self;
        if store.lost_commits > 0 {
            store.lost_commits -= 1;
            let (shown, why) = (store.shown(), "the line was cut".to_owned());
            return Err(StoreError::Lost { shown, why });
        }
        let kept = rows.iter().map(|rows| rows.len() as u64).sum();
        let inserted = if store.counts_only { summary.loaded } else { kept };
        let counts = Counts { inserted, ..Counts::default() };
        let file = store.add(&FileEntry {
            file: 0,
            batch: plan.batch,
            arrival: plan.arrival.clone(),
            hash: Some(summary.hash.clone()),
            figures: summary.figures.clone(),
            feed: plan.feed.clone(),
            table: Some(plan.table().to_owned()),
            kind: Some(plan.kind.clone()),
            outcome: if plan.retracts { Outcome::Retracted } else { Outcome::Loaded },
            read: summary.read,
            loaded: summary.loaded,
            rejected: summary.rejected,
            left_out: summary.left_out,
            counts,
            began: plan.began,
            ended: summary.ended,
            message: summary.message.clone(),
            reasons: summary.reasons.clone(),
            replaced_by: None,
            shape: plan.shape.clone(),
            order: plan.order.clone(),
            rules: Some(plan.rules.with_tables(&plan.tables)),
            rows_kept: false,
        });
        store.add_rejects(file, rejects);
        for ((table, rows), part) in plan.tables.iter().zip(rows).zip(&summary.parts) {
            store.lineages.insert(table.table.clone(), table.lineage);
            let kept = store.rows.entry(table.table.clone()).or_default();
            kept.retain(|(of, _, _)| Some(*of) != plan.replaces && table.mode != Mode::Replace);
            kept.extend(rows.into_iter().map(|(line, values)| (file, line, values)));
            let versions = store.layouts.entry(table.table.clone()).or_default();
            if versions.last().is_none_or(|newest| newest.layout != part.layout) {
                let version = versions.len() as i64 + 1;
                versions.push(LayoutEntry { version, layout: part.layout.clone(), file });
            }
        }
        for entry in store.files.iter_mut().filter(|entry| Some(entry.file) == plan.replaces) {
            entry.replaced_by = Some(file);
        }
        Ok(Finished { file, counts, ..Finished::default() })
    }
}
