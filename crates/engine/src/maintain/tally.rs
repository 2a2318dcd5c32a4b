//! The proof that the figures agree: of the file, the ledger and the table.

use std::collections::HashMap;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::count;
use hypodoke_core::names::Lineage;
use hypodoke_core::types::Type;
use hypodoke_stores::{FileEntry, FileFigures, Mode, Store};
use serde::Serialize;

use super::dry_run::DryRunStore;
use super::find::{Finder, FoundFile};
use crate::decide::Settlement;
use crate::discover::settlement_of;
use crate::error::EngineError;
use crate::event::Listener;
use crate::file_format::FileFormat;
use crate::job::{Candidate, Feed};
use crate::load::{FileRequest, Loaded, NotLoaded, exact_sum, load_file, scale_of};
use crate::plan::{TableState, TargetState};

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
    store: &'a mut dyn Store,
    finder: Finder,
    listener: &'a dyn Listener,
    /// The sources are left unread.
    quick: bool,
    /// What was decided about files, by place, path and table: for the file as it was then.
    settlements: HashMap<(String, String, String), (Arrival, Settlement)>,
    /// Per table, what of each file is in it.
    tables: HashMap<String, Option<Counted>>,
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
        store: &'a mut dyn Store,
        finder: Finder,
        listener: &'a dyn Listener,
        quick: bool,
    ) -> Result<TallyRun<'a>, EngineError> {
        let mut settlements = HashMap::new();
        for entry in store.decisions()? {
            let settlement = settlement_of(&entry)?;
            let key = (entry.arrival.place.clone(), entry.arrival.path.clone(), entry.table);
            settlements.insert(key, (entry.arrival, settlement));
        }
        Ok(TallyRun { store, finder, listener, quick, settlements, tables: HashMap::new() })
    }

    /// The figures of one file whose rows are in a table.
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
        self.against_table(entry, mode, &mut line)?;
        if !self.quick {
            self.against_source(entry, &mut line)?;
        }
        Ok(line)
    }

    fn count_table(&mut self, table: &str) -> Result<(), EngineError> {
        if self.tables.contains_key(table) {
            return Ok(());
        }
        let counted = match (TableState::of(self.store, table)?, self.store.table(table)?) {
            (TableState::Managed { layout, lineage }, Some(_)) if lineage != Lineage::None => {
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
    fn against_table(
        &mut self,
        entry: &FileEntry,
        mode: Mode,
        line: &mut TallyLine,
    ) -> Result<(), EngineError> {
        let parts = self.store.parts(entry.file)?;
        let Some(Some(counted)) = self.tables.get(&line.table) else {
            if parts.is_empty() {
                line.remark("the table has no column that leads back to files, so its rows are not counted");
            } else {
                line.in_table = Some(self.against_parts(&parts, line)?);
            }
            return Ok(());
        };
        let found = counted.files.get(&entry.file).map_or(0, |figures| figures.rows);
        line.in_table = Some(found);
        let expected = match mode {
            Mode::Append | Mode::Replace => entry.loaded,
            _ => entry.counts.inserted + entry.counts.updated,
        };
        if found < expected && mode.has_key() {
            line.explained(format!("{} taken over by later files", count::rows(expected - found)));
        } else if found == 0 && expected > 0 && mode == Mode::Replace {
            line.explained("a newer delivery took its place".to_owned());
        } else if found != expected {
            let (word, by) =
                if found < expected { ("fewer", expected - found) } else { ("more", found - expected) };
            line.differs(format!("{} {word} in the table than were loaded", count::rows(by)));
        } else if expected != entry.loaded {
            line.explained(format!(
                "{} were there just so",
                count::rows(entry.loaded.saturating_sub(expected))
            ));
        }
        self.against_parts(&parts, line).map(|_| ())
    }

    /// The rows of sheets and lists, each in a table of its own; gives how many there are.
    fn against_parts(
        &mut self,
        parts: &[hypodoke_stores::PartEntry],
        line: &mut TallyLine,
    ) -> Result<u64, EngineError> {
        let mut all = 0;
        for part in parts {
            self.count_table(&part.table)?;
            let Some(Some(counted)) = self.tables.get(&part.table) else { continue };
            let found = counted.files.get(&part.file).map_or(0, |figures| figures.rows);
            all += found;
            if found != part.loaded {
                line.differs(format!(
                    "{}: {} in the table, {} loaded",
                    part.table,
                    count::rows(found),
                    count::number(part.loaded)
                ));
            }
        }
        Ok(all)
    }

    /// Reads the source again, where it still is what was loaded.
    fn against_source(&mut self, entry: &FileEntry, line: &mut TallyLine) -> Result<(), EngineError> {
        let Some(FoundFile { feed, file }) = self.finder.find(entry)? else {
            line.remark("the source is not there any more, or in no place of the configuration");
            return Ok(());
        };
        if !file.seen.arrival.looks_like(&entry.arrival) {
            line.remark("the source has changed since; the next load takes it in");
            return Ok(());
        }
        let corrected = self.store.rejects(entry.file, usize::MAX >> 1)?;
        let corrected = corrected.iter().filter(|reject| reject.corrected.is_some()).count() as u64;
        let loaded = match self.read_again(entry, &feed, &file)? {
            Ok(loaded) => loaded,
            Err(why) => {
                line.differs(format!("the source cannot be read as it was: {why}"));
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
        let whole = line.in_table == Some(entry.loaded) && feed.mode != Mode::InsertNew;
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

    /// The source cast once more, and nothing of it kept.
    fn read_again(
        &mut self,
        entry: &FileEntry,
        feed: &Feed,
        file: &Candidate,
    ) -> Result<Result<Loaded, String>, EngineError> {
        let mut store = DryRunStore::on(self.store);
        let mut target = TargetState::of(&mut store, feed)?;
        let key = (entry.arrival.place.clone(), entry.arrival.path.clone(), feed.table.clone());
        let settled = self.settlements.get(&key).filter(|(arrival, _)| arrival.looks_like(&entry.arrival));
        let mut feed = match settled {
            Some((_, settlement)) => settlement.applied(feed, target.main.layout()),
            None => feed.clone(),
        };
        // What was taken in then is no question now.
        feed.policy = feed.policy.letting_all_through();
        feed.expect = Default::default();
        target.last_format = FileFormat::of_entry(entry)
            .map_err(|why| EngineError::ledger("format", &entry.arrival.path, why))?;
        let request = FileRequest { sum_all: true, ..FileRequest::of(&feed, file, 0, self.listener) };
        Ok(match load_file(&mut store, &request, &mut target, None) {
            Ok(loaded) => Ok(loaded),
            Err(NotLoaded::Skipped(reason)) => Err(reason.sentence().unwrap_or_default()),
            Err(NotLoaded::Failed(error)) => Err(error.to_string()),
            Err(NotLoaded::Held(held)) => {
                Err(held.reasons.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))
            }
            Err(NotLoaded::Store(error)) => return Err(error.into()),
        })
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
