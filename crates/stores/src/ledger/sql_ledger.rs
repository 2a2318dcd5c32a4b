//! The ledger and the outbox of every database that speaks SQL.

use std::collections::HashSet;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::drift::Drift;
use hypodoke_core::layout::Layout;

use super::{
    BatchEntry, DecisionEntry, DriftEntry, FileEntry, FileQuery, LayoutEntry, Ledger, LedgerConnection,
    NoticeEntry, Outbox, PartEntry, PendingCorrection, RejectEntry, RowsLoaded, corrections, files_in_force,
    outbox, read, schema, write,
};
use crate::error::StoreError;
use crate::sql::SqlDatabase;

impl<D: SqlDatabase + Send> LedgerConnection for D {
    fn reconnect_ledger(&mut self) -> Result<(), StoreError> {
        self.connect_anew()
    }

    fn missing_ledger_grants(
        &mut self,
        on: &[(String, &'static [&'static str])],
    ) -> Result<Vec<String>, StoreError> {
        self.missing_grants(on)
    }
}

impl<D: SqlDatabase> Ledger for D {
    fn ledger_shown(&self) -> String {
        self.shown()
    }

    fn is_alive(&mut self) -> bool {
        SqlDatabase::is_alive(self)
    }

    fn open_ledger(&mut self) -> Result<(), StoreError> {
        if !*self.ledger_seen() && !schema::exists(self)? {
            schema::make(self)?;
        }
        *self.ledger_seen() = true;
        Ok(())
    }

    fn has_ledger(&mut self) -> Result<bool, StoreError> {
        let found = *self.ledger_seen() || schema::exists(self)?;
        *self.ledger_seen() = found;
        Ok(found)
    }

    fn layout(&mut self, table: &str) -> Result<Option<LayoutEntry>, StoreError> {
        if self.has_ledger()? { read::layout(self, table) } else { Ok(None) }
    }

    fn layouts(&mut self, table: &str) -> Result<Vec<LayoutEntry>, StoreError> {
        read::layouts(self, table)
    }

    fn loaded_files(&mut self) -> Result<Vec<FileEntry>, StoreError> {
        read::loaded_files(self)
    }

    fn known_files(&mut self) -> Result<Vec<FileEntry>, StoreError> {
        read::known_files(self)
    }

    fn files_like(&mut self, arrivals: &[&Arrival]) -> Result<Vec<FileEntry>, StoreError> {
        read::files_like(self, arrivals)
    }

    fn files(&mut self, query: &FileQuery) -> Result<Vec<FileEntry>, StoreError> {
        read::files(self, query)
    }

    fn batches(&mut self, most: usize) -> Result<Vec<BatchEntry>, StoreError> {
        read::batches(self, most)
    }

    fn parts(&mut self, file: i64) -> Result<Vec<PartEntry>, StoreError> {
        read::parts(self, file)
    }

    fn rejects(&mut self, file: i64, most: usize) -> Result<Vec<RejectEntry>, StoreError> {
        read::rejects(self, file, most)
    }

    fn pending_corrections(&mut self) -> Result<Vec<PendingCorrection>, StoreError> {
        corrections::pending(self)
    }

    fn refuse_correction(&mut self, reject: i64, why: &str) -> Result<bool, StoreError> {
        corrections::refuse(self, reject, why)
    }

    fn rows_loaded(&mut self, table: &str) -> Result<RowsLoaded, StoreError> {
        read::rows_loaded(self, table)
    }

    fn newest_layouts(&mut self) -> Result<Vec<(String, Layout)>, StoreError> {
        read::newest_layouts(self)
    }

    fn figures(&mut self, table: &str, most: usize) -> Result<Vec<String>, StoreError> {
        read::figures(self, table, most)
    }

    fn drift(&mut self) -> Result<Vec<DriftEntry>, StoreError> {
        read::drift(self)
    }

    fn rereads(&mut self) -> Result<Vec<(String, i64)>, StoreError> {
        read::rereads(self)
    }

    fn end_reread(&mut self, table: &str, newest: i64) -> Result<(), StoreError> {
        write::end_reread(self, table, newest)
    }

    fn decisions(&mut self) -> Result<Vec<DecisionEntry>, StoreError> {
        read::decisions(self)
    }

    fn begin_batch(&mut self, at: i64) -> Result<i64, StoreError> {
        write::begin_batch(self, at)
    }

    fn end_batch(&mut self, batch: i64, at: i64) -> Result<(), StoreError> {
        write::end_batch(self, batch, at)
    }

    fn note_file(&mut self, entry: &FileEntry, drift: &[(String, Drift)]) -> Result<(), StoreError> {
        write::note_file(self, entry, drift)
    }

    fn note_decision(&mut self, entry: &DecisionEntry) -> Result<(), StoreError> {
        write::note_decision(self, entry)
    }

    fn forget_rows(&mut self, table: &str, before: i64) -> Result<(), StoreError> {
        files_in_force::forget_before(self, table, before)
    }
}

impl<D: SqlDatabase> Outbox for D {
    fn new_events(&mut self, to: &str, events: &[String]) -> Result<HashSet<String>, StoreError> {
        outbox::new_events(self, to, events)
    }

    fn add_notice(&mut self, entry: &NoticeEntry, events: &[String]) -> Result<bool, StoreError> {
        outbox::add(self, entry, events)
    }

    fn take_notices(
        &mut self,
        at: i64,
        tried_before: i64,
        from: i64,
    ) -> Result<Vec<NoticeEntry>, StoreError> {
        outbox::take_pending(self, at, tried_before, from)
    }

    fn finish_notice(&mut self, notice: i64, at: i64, trouble: Option<&str>) -> Result<(), StoreError> {
        outbox::finish(self, notice, at, trouble)
    }
}
