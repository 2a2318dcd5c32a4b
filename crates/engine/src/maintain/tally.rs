//! The proof that the figures agree: of the file, the ledger and the table.

use std::collections::HashMap;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::count;
use hypodoke_core::names::Lineage;
use hypodoke_core::outcome::Reason;
use hypodoke_core::types::Type;
use hypodoke_stores::{
    Comparison, FileEntry, FileFigures, FileQuery, Mode, RowOfFile, TablePlan, Tables, newest_delivery,
};
use serde::Serialize;

use super::retract::planned_tables;
use crate::decide::Settlement;
use crate::discover::settlement_of;
use crate::error::EngineError;
use crate::event::Listener;
use crate::job::Feed;
use crate::load::{Loaded, exact_sum, scale_of};
use crate::plan::{TableState, TargetState};
use crate::sources::{DryRunStore, Finder, read_again};
use crate::stale_rows::is_stale;

/// How many kept rows are gone through where a tally is to be quick.
const QUICKLY: u64 = 200_000;

/// How a file's figures stand to one another.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Agreement {
    /// All that can be compared agrees.
    #[default]
    Agrees,
    /// It differs as it has to, for reasons that are given.
    Explained,
    /// It differs.
    Differs,
}

/// The figures of one file.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct TallyLine {
    /// Its path.
    pub path: String,
    /// Its table.
    pub table: String,
    /// Its number in the ledger.
    pub file: i64,
    /// Records that the source holds now; `None` where it was not read.
    pub in_file: Option<u64>,
    /// Records read, by the ledger.
    pub read: u64,
    /// Rows loaded, by the ledger.
    pub loaded: u64,
    /// Rows rejected, by the ledger.
    pub rejected: u64,
    /// Records left out, by the ledger.
    pub left_out: u64,
    /// Its rows in the table now; `None` where the table does not tell.
    pub in_table: Option<u64>,
    /// Sums of columns of numbers, of the source and of the table.
    pub sums: Vec<SumLine>,
    /// Why the source cannot be read as it was.
    pub unread: Vec<Reason>,
    /// Rows that its files say are not in the table.
    pub rows_missing: bool,
    /// Rows in the table are not as its files say.
    pub rows_changed: bool,
    /// Rows in the table are of files that were replaced or retracted.
    pub rows_stale: bool,
    /// How all that stands.
    pub verdict: Agreement,
    /// What differs and why, or what could not be compared.
    pub remarks: Vec<String>,
}

/// The sum of one column.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct SumLine {
    /// The column.
    pub column: String,
    /// The sum of the source's rows.
    pub in_file: String,
    /// The sum of the table's.
    pub in_table: String,
    /// Whether they are the same.
    pub same: bool,
}

/// Tallies files of a ledger.
pub struct TallyRun<'a> {
    store: &'a mut dyn Tables,
    finder: Finder,
    listener: &'a dyn Listener,
    /// The sources are left unread.
    quick: bool,
    /// What was decided about files, by place, path and table: for the file as it was then.
    settlements: HashMap<(String, String, String), (Arrival, Settlement)>,
    /// Per table, what of each file is in it.
    tables: HashMap<String, Option<Counted>>,
    /// Per main table, what should be in its tables, where that can be worked out.
    expected: HashMap<String, Expected>,
}

/// What should be in the tables of a feed.
#[derive(Default)]
struct Expected {
    mode: Mode,
    /// By the rows that are kept of its files, where they are of all.
    comparison: Option<Comparison>,
    /// Where a table holds one delivery at a time, the files of it.
    newest: Vec<i64>,
    /// Files that were replaced or retracted, until what is there of them is told.
    stale: Vec<i64>,
}

/// What is in a table.
struct Counted {
    sums: Vec<(String, Type)>,
    files: HashMap<i64, FileFigures>,
}

impl<'a> TallyRun<'a> {
    /// Tallies a store's figures; `quick` leaves the sources unread.
    ///
    /// # Errors
    ///
    /// The ledger cannot be read.
    pub fn new(
        store: &'a mut dyn Tables,
        finder: Finder,
        listener: &'a dyn Listener,
        quick: bool,
    ) -> Result<TallyRun<'a>, EngineError> {
        let mut settlements = HashMap::new();
        for entry in store.ledger().decisions()? {
            let settlement = settlement_of(&entry)?;
            let key = (entry.arrival.place.clone(), entry.arrival.path.clone(), entry.table);
            settlements.insert(key, (entry.arrival, settlement));
        }
        Ok(TallyRun {
            store,
            finder,
            listener,
            quick,
            settlements,
            tables: HashMap::new(),
            expected: HashMap::new(),
        })
    }

    /// The figures of one file whose rows are in a table, or would be without a newer delivery; `mode` is
    /// that of its feed, where the ledger does not say it.
    pub fn tally(&mut self, entry: &FileEntry, mode: Mode) -> Result<TallyLine, EngineError> {
        let table = entry.table.clone().unwrap_or_default();
        let mut line = TallyLine {
            path: entry.arrival.path.clone(),
            table: table.clone(),
            file: entry.file,
            read: entry.read,
            loaded: entry.loaded,
            rejected: entry.rejected,
            left_out: entry.left_out,
            ..TallyLine::default()
        };
        let accounted = entry.loaded + entry.rejected + entry.left_out;
        if accounted != entry.read {
            line.differs(format!(
                "the ledger accounts for {} of {} read",
                count::number(accounted),
                count::rows(entry.read)
            ));
        }
        self.count_table(&table)?;
        self.work_out(&table, entry, mode)?;
        self.against_table(entry, &mut line)?;
        self.name_differing(entry, &mut line);
        self.name_stale(entry, &mut line)?;
        if !self.quick {
            self.against_source(entry, &mut line)?;
        }
        Ok(line)
    }

    /// Works out what should be in the tables that a file's main table stands for.
    fn work_out(&mut self, table: &str, entry: &FileEntry, mode: Mode) -> Result<(), EngineError> {
        if self.expected.contains_key(table) {
            return Ok(());
        }
        let query = FileQuery { table: Some(table.to_owned()), ..FileQuery::default() };
        let mut entries = self.store.ledger().files(&query)?;
        let is_stale = |entry: &&FileEntry| is_stale(entry, Mode::Append);
        let stale = entries.iter().filter(is_stale).map(|entry| entry.file).collect();
        entries.retain(|entry| entry.outcome.counts() && entry.replaced_by.is_none());
        let rules = entries.iter().find_map(|entry| entry.rules.clone()).or_else(|| entry.rules.clone());
        let mode = rules.as_ref().map_or(mode, |rules| rules.mode);
        let mut expected = Expected { mode, stale, ..Expected::default() };
        if mode == Mode::Replace {
            expected.newest = newest_delivery(&entries);
        }
        if let (Some(rules), true) = (rules, mode.has_key()) {
            let feed = Feed { table: table.to_owned(), mode, ..Feed::default() };
            let target = TargetState::of(self.store, &feed)?;
            let tables = planned_tables(self.store, &feed, &target, &rules)?;
            if self.are_there(&tables)? {
                expected.comparison = self.store.compare(&tables, &rules, self.quick.then_some(QUICKLY))?;
            }
        }
        self.expected.insert(table.to_owned(), expected);
        Ok(())
    }

    /// Whether all tables are there that have rows of their own.
    fn are_there(&mut self, tables: &[TablePlan]) -> Result<bool, EngineError> {
        for table in tables.iter().filter(|table| !table.is_virtual) {
            if self.store.table(&table.table)?.is_none() {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// How many rows of a file should be in one of its tables, and whether that is known for sure;
    /// `loaded` is how many were loaded into it.
    fn expected(&self, entry: &FileEntry, table: &str, loaded: u64) -> (u64, bool) {
        let main = entry.table.as_deref().unwrap_or_default();
        let Some(expected) = self.expected.get(main) else { return (loaded, true) };
        if let Some(comparison) = &expected.comparison {
            let rows = comparison.expected.get(&(table.to_owned(), entry.file));
            return (rows.copied().unwrap_or_default(), true);
        }
        match expected.mode {
            Mode::Append => (loaded, true),
            Mode::Replace if expected.newest.contains(&entry.file) => (loaded, true),
            Mode::Replace => (0, true),
            _ if table == main => (entry.counts.inserted + entry.counts.updated, false),
            _ => (loaded, false),
        }
    }

    /// Names the rows of a file that are not as its files say.
    fn name_differing(&self, entry: &FileEntry, line: &mut TallyLine) {
        let comparison = self.expected.get(&line.table).and_then(|expected| expected.comparison.as_ref());
        let Some(comparison) = comparison else { return };
        let named = |rows: &[RowOfFile]| {
            let own = rows.iter().filter(|row| row.file == entry.file);
            own.map(|row| format!("{} of {}", row.line, row.table)).collect::<Vec<_>>()
        };
        let (missing, strange) = (named(&comparison.missing), named(&comparison.strange));
        if !missing.is_empty() {
            line.differs(format!("not in the table as the files say: line {}", missing.join(", line ")));
        }
        if !strange.is_empty() {
            line.differs(format!("changed or added by somebody else: line {}", strange.join(", line ")));
        }
        line.rows_missing |= !missing.is_empty();
        line.rows_changed |= !strange.is_empty();
    }

    /// Says how many rows of files that were replaced or retracted are in the tables that a file's rows are in: with the
    /// first file of a table.
    fn name_stale(&mut self, entry: &FileEntry, line: &mut TallyLine) -> Result<(), EngineError> {
        let Some(expected) = self.expected.get_mut(&line.table) else { return Ok(()) };
        let (stale, has_key) = (std::mem::take(&mut expected.stale), expected.mode.has_key());
        let parts = self.store.ledger().parts(entry.file)?;
        for table in std::iter::once(&line.table.clone()).chain(parts.iter().map(|part| &part.table)) {
            let Some(Some(counted)) = self.tables.get(table) else { continue };
            let rows =
                stale.iter().filter_map(|file| counted.files.get(file)).map(|figures| figures.rows).sum();
            if rows > 0 {
                // In a mode with a key, somebody else may have changed them.
                (line.rows_stale, line.rows_changed) = (true, line.rows_changed || has_key);
                let rows = count::rows(rows);
                line.differs(format!(
                    "{rows} of files that were replaced or retracted are in the table {table}"
                ));
            }
        }
        Ok(())
    }

    /// How many rows there are in all the tables of the files that were tallied, whoever put them there.
    ///
    /// # Errors
    ///
    /// The database does not answer.
    pub fn rows_in_tables(&mut self) -> Result<u64, EngineError> {
        let mut all = 0;
        for table in self.tables.keys() {
            // What is nested in records is part of their rows.
            let shape = self.store.table(table)?;
            if shape.is_some_and(|shape| shape.lineage != Lineage::Children) {
                all += self.store.count_rows(table)?;
            }
        }
        Ok(all)
    }

    fn count_table(&mut self, table: &str) -> Result<(), EngineError> {
        if self.tables.contains_key(table) {
            return Ok(());
        }
        let counted = match (TableState::of(self.store, table)?, self.store.table(table)?) {
            (TableState::Managed { layout, lineage, .. }, Some(_)) if lineage != Lineage::None => {
                let summed = layout.columns.iter().filter(|column| scale_of(column.ty()).is_some());
                let summed: Vec<(String, Type)> = summed.map(|c| (c.name.clone(), c.ty())).collect();
                let files = self.store.file_figures(table, &summed)?;
                Some(Counted { sums: summed, files: files.into_iter().map(|one| (one.file, one)).collect() })
            }
            (TableState::External(shape), _) if shape.lineage.is_kept() => {
                let files = self.store.file_figures(table, &[])?;
                Some(Counted {
                    sums: Vec::new(),
                    files: files.into_iter().map(|one| (one.file, one)).collect(),
                })
            }
            _ => None,
        };
        self.tables.insert(table.to_owned(), counted);
        Ok(())
    }

    /// Holds the ledger's figures against the table's.
    fn against_table(&mut self, entry: &FileEntry, line: &mut TallyLine) -> Result<(), EngineError> {
        let parts = self.store.ledger().parts(entry.file)?;
        let Some(Some(counted)) = self.tables.get(&line.table) else {
            if parts.is_empty() && self.store.table(&line.table)?.is_none() {
                line.in_table = Some(0);
                line.rows_missing = true;
                line.differs("the table is gone".to_owned());
            } else if parts.is_empty() {
                line.remark("the table has no column that leads back to files, so its rows are not counted");
            } else {
                line.in_table = Some(self.against_parts(entry, &parts, line)?);
            }
            return Ok(());
        };
        let found = counted.files.get(&entry.file).map_or(0, |figures| figures.rows);
        line.in_table = Some(found);
        let (expected, is_sure) = self.expected(entry, &line.table, entry.loaded);
        let is_delivery = self.expected.get(&line.table).is_some_and(|known| known.mode == Mode::Replace);
        if found < expected && !is_sure {
            line.explained(format!("{} taken over by later files", count::rows(expected - found)));
        } else if found != expected {
            let (word, by) =
                if found < expected { ("fewer", expected - found) } else { ("more", found - expected) };
            line.rows_missing |= found < expected;
            line.differs(format!("{} {word} in the table than were loaded", count::rows(by)));
        } else if is_delivery && expected == 0 && entry.loaded > 0 {
            line.explained("a newer delivery took its place".to_owned());
        } else if expected < entry.loaded {
            let others = entry.loaded - expected;
            let same = others.min(entry.counts.unchanged);
            if same > 0 {
                line.explained(format!("{} were there just so", count::rows(same)));
            }
            if others > same {
                line.explained(format!("{} taken over by later files", count::rows(others - same)));
            }
        }
        self.against_parts(entry, &parts, line).map(|_| ())
    }

    /// The rows of sheets and lists, each in a table of its own; gives how many there are.
    fn against_parts(
        &mut self,
        entry: &FileEntry,
        parts: &[hypodoke_stores::PartEntry],
        line: &mut TallyLine,
    ) -> Result<u64, EngineError> {
        let mut all = 0;
        for part in parts {
            self.count_table(&part.table)?;
            let Some(Some(counted)) = self.tables.get(&part.table) else {
                if part.loaded > 0 && self.store.table(&part.table)?.is_none() {
                    line.rows_missing = true;
                    line.differs(format!("the table {} is gone", part.table));
                }
                continue;
            };
            let found = counted.files.get(&part.file).map_or(0, |figures| figures.rows);
            all += found;
            let (expected, is_sure) = self.expected(entry, &part.table, part.loaded);
            let (found, shown) = (found, count::rows(found));
            if found != expected && is_sure {
                let expected = count::number(expected);
                line.differs(format!("{}: {shown} in the table, {expected} by its files", part.table));
            } else if found != part.loaded {
                let loaded = count::number(part.loaded);
                line.explained(format!("{}: {shown} in the table, {loaded} loaded", part.table));
            }
        }
        Ok(all)
    }

    /// Reads the source again, where it still is what was loaded.
    fn against_source(&mut self, entry: &FileEntry, line: &mut TallyLine) -> Result<(), EngineError> {
        let Some(found) = self.finder.find(entry)? else {
            line.remark("the source is not there any more, or in no place of the configuration");
            return Ok(());
        };
        if !found.file.seen.arrival.looks_like(&entry.arrival) {
            line.remark("the source has changed since; the next load takes it in");
            return Ok(());
        }
        let corrected = self.store.ledger().rejects(entry.file, usize::MAX >> 1)?;
        let corrected = corrected.iter().filter(|reject| reject.corrected.is_some()).count() as u64;
        let key = (entry.arrival.place.clone(), entry.arrival.path.clone(), found.feed.table.clone());
        let settled = self.settlements.get(&key).filter(|(arrival, _)| arrival.looks_like(&entry.arrival));
        let settlement = settled.map(|(_, settlement)| settlement);
        let dry = DryRunStore::on(self.store);
        let loaded = match read_again(dry, entry, &found, settlement, self.listener)? {
            Ok(loaded) => loaded,
            Err(reasons) => {
                line.verdict = Agreement::Differs;
                line.unread = reasons;
                return Ok(());
            }
        };
        line.in_file = Some(loaded.read);
        if loaded.read != entry.read {
            line.differs(format!(
                "{} in the source, {} were read",
                count::rows(loaded.read),
                count::number(entry.read)
            ));
        }
        if loaded.rejected != entry.rejected + corrected {
            let now = count::number(loaded.rejected);
            line.explained(format!(
                "{now} would be rejected today, {} were",
                count::number(entry.rejected + corrected)
            ));
        }
        if corrected > 0 {
            line.remark(&format!(
                "{} corrected after the load; sums are not compared",
                count::rows(corrected)
            ));
            return Ok(());
        }
        let whole = line.in_table == Some(entry.loaded) && found.feed.mode != Mode::InsertNew;
        if whole && loaded.loaded == entry.loaded {
            self.compare_sums(entry, &loaded, line);
        }
        Ok(())
    }

    fn compare_sums(&self, entry: &FileEntry, loaded: &Loaded, line: &mut TallyLine) {
        let Some(Some(counted)) = self.tables.get(&line.table) else { return };
        let Some(figures) = counted.files.get(&entry.file) else { return };
        for ((column, ty), sum) in counted.sums.iter().zip(&figures.sums) {
            let Some((_, own_ty, own)) = loaded.sums.iter().find(|(name, ..)| name == column) else {
                continue;
            };
            let (Some(sum), Some(in_file)) = (sum, exact_sum(*own, *own_ty)) else { continue };
            let Some(in_table) = exact_sum(*sum, *ty) else { continue };
            let same = in_file == in_table;
            if !same {
                line.differs(format!(
                    "the sum of `{column}` is {in_table} in the table, {in_file} in the source"
                ));
            }
            let column = column.clone();
            line.sums.push(SumLine {
                column,
                in_file: in_file.to_string(),
                in_table: in_table.to_string(),
                same,
            });
        }
    }
}

impl TallyLine {
    fn differs(&mut self, what: String) {
        self.verdict = Agreement::Differs;
        self.remarks.push(what);
    }

    fn explained(&mut self, what: String) {
        if self.verdict == Agreement::Agrees {
            self.verdict = Agreement::Explained;
        }
        self.remarks.push(what);
    }

    fn remark(&mut self, what: &str) {
        self.remarks.push(what.to_owned());
    }
}
