//! A store that changes no table: what a load would do, found out by doing it; or the rows of a file of
//! the ledger, kept there anew.

use std::collections::HashSet;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::cast::Rows;
use hypodoke_core::drift::Drift;
use hypodoke_core::layout::Layout;
use hypodoke_core::types::Type;
use hypodoke_stores::{
    About, BatchEntry, Capabilities, Catalog, ColumnSample, Comparison, Counts, DecisionEntry, DriftEntry,
    FileEntry, FileFigures, FileQuery, FileSummary, Finished, LayoutEntry, Ledger, LoadPlan, LoadRules, Mode,
    NoticeEntry, Outbox, PartEntry, RejectEntry, RowsLoaded, SampleRows, StoreError, TablePlan, TableShape,
    Tables, Writer,
};

/// Reads from a store and writes nothing to it, or only the rows of a file that are to be kept.
pub struct DryRunStore<'a> {
    store: &'a mut dyn Tables,
    /// The file of the ledger whose rows are kept.
    keeps_for: Option<i64>,
    /// The plan by which they are.
    plan: Option<LoadPlan>,
}

impl<'a> DryRunStore<'a> {
    /// A dry run on what is in a store.
    pub fn on(store: &'a mut dyn Tables) -> DryRunStore<'a> {
        DryRunStore { store, keeps_for: None, plan: None }
    }

    /// The rows of a file of the ledger are kept in it, and nothing else is done.
    pub fn keeping(store: &'a mut dyn Tables, file: i64) -> DryRunStore<'a> {
        DryRunStore { store, keeps_for: Some(file), plan: None }
    }
}

/// Takes rows and keeps none.
struct Discard;

impl Writer for Discard {
    fn write(&mut self, _: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        Ok(rows.len() as u64)
    }

    fn commit(self: Box<Self>, summary: &FileSummary) -> Result<Finished, StoreError> {
        let counts = Counts { inserted: summary.loaded, ..Counts::default() };
        Ok(Finished { counts, ..Finished::default() })
    }
}

impl Tables for DryRunStore<'_> {
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
        self.store.capabilities()
    }

    fn begin<'b>(&'b mut self, plan: &'b LoadPlan) -> Result<Option<Box<dyn Writer + 'b>>, StoreError> {
        if self.keeps_for.is_none() {
            return Ok(Some(Box::new(Discard)));
        }
        let plan = self.plan.insert(LoadPlan { keeps_for: self.keeps_for, ..plan.clone() });
        self.store.begin(plan)
    }

    fn begin_group(&mut self) -> Result<(), StoreError> {
        Ok(())
    }

    fn end_group(&mut self, _: bool) -> Result<(), StoreError> {
        Ok(())
    }

    fn compare(
        &mut self,
        tables: &[TablePlan],
        rules: &LoadRules,
        most: Option<u64>,
    ) -> Result<Option<Comparison>, StoreError> {
        self.store.compare(tables, rules, most)
    }

    fn delete_rows_of(&mut self, _: &str, _: &[i64]) -> Result<u64, StoreError> {
        Ok(0)
    }

    fn count_current_rows(&mut self, table: &str) -> Result<u64, StoreError> {
        self.store.count_current_rows(table)
    }

    fn reconnect(&mut self) -> Result<(), StoreError> {
        self.store.reconnect()
    }
}

impl Outbox for DryRunStore<'_> {
    fn new_events(&mut self, _: &str, _: &[String]) -> Result<HashSet<String>, StoreError> {
        Ok(HashSet::new())
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

impl Ledger for DryRunStore<'_> {
    fn ledger_shown(&self) -> String {
        self.store.shown()
    }

    fn open_ledger(&mut self) -> Result<(), StoreError> {
        Ok(())
    }

    fn begin_batch(&mut self, _: i64) -> Result<i64, StoreError> {
        Ok(0)
    }

    fn end_batch(&mut self, _: i64, _: i64) -> Result<(), StoreError> {
        Ok(())
    }

    fn note_file(&mut self, _: &FileEntry, _: &[(String, Drift)]) -> Result<(), StoreError> {
        Ok(())
    }

    fn note_decision(&mut self, _: &DecisionEntry) -> Result<(), StoreError> {
        Ok(())
    }

    fn forget_rows(&mut self, _: &str, _: i64) -> Result<(), StoreError> {
        Ok(())
    }

    fn has_ledger(&mut self) -> Result<bool, StoreError> {
        self.store.ledger().has_ledger()
    }

    fn layout(&mut self, table: &str) -> Result<Option<LayoutEntry>, StoreError> {
        self.store.ledger().layout(table)
    }

    fn layouts(&mut self, table: &str) -> Result<Vec<LayoutEntry>, StoreError> {
        self.store.ledger().layouts(table)
    }

    fn loaded_files(&mut self) -> Result<Vec<FileEntry>, StoreError> {
        self.store.ledger().loaded_files()
    }

    fn files_like(&mut self, arrivals: &[&Arrival]) -> Result<Vec<FileEntry>, StoreError> {
        self.store.ledger().files_like(arrivals)
    }

    fn files(&mut self, query: &FileQuery) -> Result<Vec<FileEntry>, StoreError> {
        self.store.ledger().files(query)
    }

    fn batches(&mut self, most: usize) -> Result<Vec<BatchEntry>, StoreError> {
        self.store.ledger().batches(most)
    }

    fn parts(&mut self, file: i64) -> Result<Vec<PartEntry>, StoreError> {
        self.store.ledger().parts(file)
    }

    fn rejects(&mut self, file: i64, most: usize) -> Result<Vec<RejectEntry>, StoreError> {
        self.store.ledger().rejects(file, most)
    }

    fn rows_loaded(&mut self, table: &str) -> Result<RowsLoaded, StoreError> {
        self.store.ledger().rows_loaded(table)
    }

    fn newest_layouts(&mut self) -> Result<Vec<(String, Layout)>, StoreError> {
        self.store.ledger().newest_layouts()
    }

    fn figures(&mut self, table: &str, most: usize) -> Result<Vec<String>, StoreError> {
        self.store.ledger().figures(table, most)
    }

    fn drift(&mut self) -> Result<Vec<DriftEntry>, StoreError> {
        self.store.ledger().drift()
    }

    fn decisions(&mut self) -> Result<Vec<DecisionEntry>, StoreError> {
        self.store.ledger().decisions()
    }
}

impl Catalog for DryRunStore<'_> {
    fn shown(&self) -> String {
        self.store.shown()
    }

    fn about(&mut self) -> Result<About, StoreError> {
        self.store.about()
    }

    fn table(&mut self, name: &str) -> Result<Option<TableShape>, StoreError> {
        self.store.table(name)
    }

    fn ddl(&mut self, plan: &LoadPlan) -> Result<Vec<String>, StoreError> {
        self.store.ddl(plan)
    }

    fn missing_rights(&mut self, tables: &[(String, Mode)]) -> Result<Vec<String>, StoreError> {
        self.store.missing_rights(tables)
    }

    fn column_sample(&mut self, table: &str, column: &str) -> Result<ColumnSample, StoreError> {
        self.store.column_sample(table, column)
    }

    fn file_figures(&mut self, table: &str, sums: &[(String, Type)]) -> Result<Vec<FileFigures>, StoreError> {
        self.store.file_figures(table, sums)
    }

    fn count_rows(&mut self, table: &str) -> Result<u64, StoreError> {
        self.store.count_rows(table)
    }

    fn first_rows(&mut self, table: &str, most: usize) -> Result<SampleRows, StoreError> {
        self.store.first_rows(table, most)
    }
}
