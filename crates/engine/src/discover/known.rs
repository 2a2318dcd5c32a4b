//! What the ledger knows: whether a file is new, and which rows its rows replace.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::outcome::Outcome;
use hypodoke_stores::{DecisionEntry, FileEntry};

use crate::decide::{LedgerMatch, Settlement};
use crate::error::EngineError;
use crate::job::Candidate;
use crate::plan::named_parts;
use crate::profile::content_hash;

/// How many files are enough to know what is usual.
const MOST_USUAL: usize = 30;

/// Place, path and table: one file may go to several tables, and is known to each apart.
type Path = (String, String, String);

fn path_of(arrival: &Arrival, table: &str) -> Path {
    (arrival.place.clone(), arrival.path.clone(), table.to_owned())
}

/// What a person decided, of an entry of the ledger.
///
/// # Errors
///
/// The entry does not hold a decision.
pub fn settlement_of(entry: &DecisionEntry) -> Result<Settlement, EngineError> {
    Settlement::parse(&entry.decision)
        .map_err(|why| EngineError::ledger("decision", &entry.arrival.path, why))
}

/// Of entries of the same content the one that is most like a file: of its path, else of a path whose
/// named parts hold the same, else the newest; and whether these do.
fn same_content<'e>(file: &Candidate, entries: &'e [Arc<FileEntry>]) -> Option<(&'e FileEntry, bool)> {
    let parts = named_parts(file);
    let same_parts = |entry: &&Arc<FileEntry>| {
        // What was loaded before that was recorded, is told by its content alone.
        entry.rules.as_ref().is_none_or(|rules| rules.parts == parts)
    };
    let own = entries.iter().rfind(|entry| entry.arrival.path == file.seen.arrival.path);
    let like = || entries.iter().rfind(same_parts);
    let entry = own.or_else(like).or_else(|| entries.last())?;
    Some((entry, same_parts(&entry)))
}

/// What is known of one path and table.
#[derive(Clone, Debug, Default)]
struct KnownPath {
    /// The newest entry, as a look at the file would find it.
    entry: Option<Arc<FileEntry>>,
    /// Versions whose content was that of the one loaded before, since then.
    same_as_loaded: Vec<Arrival>,
    /// The entries whose rows are in the table, the newest last: each with the file as it was then.
    rows_of: Vec<Arc<FileEntry>>,
    /// Something was learnt of it that came to be during the batch.
    has_learnt: bool,
    /// The number of the newest entry.
    newest: i64,
}

/// What takes back one entry that was learnt.
#[derive(Clone, Debug)]
struct Undo {
    path: Path,
    before: Option<KnownPath>,
    entry: Option<Arc<FileEntry>>,
}

/// What is known of each path of a place.
type KnownPaths = HashMap<String, KnownPath>;

/// The files whose rows are in the tables now, found by path and by content.
#[derive(Clone, Debug, Default)]
pub struct KnownFiles {
    /// By table, place and path.
    paths: HashMap<String, HashMap<String, KnownPaths>>,
    /// Loaded content, of all tables: the newest last.
    by_hash: HashMap<String, Vec<Arc<FileEntry>>>,
    sizes: HashMap<u64, u32>,
    /// How many records each file had that is in a table, the oldest first.
    rows: HashMap<String, Vec<u64>>,
    /// What people decided about held files: the arrival it was made for, and the decision.
    settlements: HashMap<Path, (Arrival, Settlement)>,
    /// Content that is about to be loaded on another connection, per table.
    claimed: HashSet<(String, String)>,
    /// What takes back what was learnt since [`KnownFiles::begin_undoable`].
    undo: Option<Vec<Undo>>,
}

impl KnownFiles {
    /// What the ledger's entries say.
    pub fn of(entries: Vec<FileEntry>) -> KnownFiles {
        let mut known = KnownFiles::default();
        entries.into_iter().for_each(|entry| known.learn(entry));
        known
    }

    /// Takes in what people decided. The latest decision about a file stands.
    ///
    /// # Errors
    ///
    /// An entry does not hold a decision.
    pub fn settled(mut self, entries: Vec<DecisionEntry>) -> Result<KnownFiles, EngineError> {
        for entry in entries {
            let settlement = settlement_of(&entry)?;
            self.settlements.insert(path_of(&entry.arrival, &entry.table), (entry.arrival, settlement));
        }
        Ok(self)
    }

    /// What was decided about a file as it is now.
    pub fn settlement(&self, arrival: &Arrival, table: &str) -> Option<&Settlement> {
        let (settled, settlement) = self.settlements.get(&path_of(arrival, table))?;
        settled.looks_like(arrival).then_some(settlement)
    }

    /// The entry of a file that is held as it is now.
    pub fn held(&self, arrival: &Arrival, table: &str) -> Option<&FileEntry> {
        let entry = self.entry(arrival, table)?;
        (entry.outcome == Outcome::Held && arrival.looks_like(&entry.arrival)).then_some(entry)
    }

    /// How many records the latest files of a table had.
    pub fn rows_before(&self, table: &str) -> Vec<u64> {
        let all = self.rows.get(table).map(Vec::as_slice).unwrap_or_default();
        all.iter().skip(all.len().saturating_sub(MOST_USUAL)).copied().collect()
    }

    /// The newest entry of a file's path that is known; 0 where there is none.
    pub fn newest(&self, arrival: &Arrival, table: &str) -> i64 {
        self.path(arrival, table).map_or(0, |path| path.newest)
    }

    /// Whether more was learnt of a file after the batch had begun.
    pub fn has_learnt(&self, arrival: &Arrival, table: &str) -> bool {
        self.path(arrival, table).is_some_and(|path| path.has_learnt)
    }

    /// Takes in those entries of a file's path that were not known yet.
    pub fn learn_newer(&mut self, entries: Vec<FileEntry>, arrival: &Arrival) {
        let is_of_path = |entry: &FileEntry| {
            (&entry.arrival.place, &entry.arrival.path) == (&arrival.place, &arrival.path)
        };
        for entry in entries.into_iter().filter(is_of_path) {
            let table = entry.table.clone().unwrap_or_default();
            if entry.file > self.newest(arrival, &table) {
                let path = self.path_mut(arrival, &table);
                path.has_learnt = true;
                if entry.outcome == Outcome::Retracted {
                    // Whatever of it was in the table is not any more.
                    path.rows_of.clear();
                }
                self.learn(entry);
            }
        }
    }

    /// Takes in one more entry.
    pub fn learn(&mut self, entry: FileEntry) {
        let entry = Arc::new(entry);
        let table = entry.table.as_deref().unwrap_or_default();
        if self.undo.is_some() {
            let before = self.path(&entry.arrival, table).cloned();
            let (path, counted) =
                (path_of(&entry.arrival, table), entry.outcome.counts().then(|| entry.clone()));
            self.undo.get_or_insert_default().push(Undo { path, before, entry: counted });
        }
        if entry.outcome.counts() {
            match self.rows.get_mut(table) {
                Some(rows) => rows.push(entry.read),
                None => drop(self.rows.insert(table.to_owned(), vec![entry.read])),
            }
            if let Some(hash) = &entry.hash {
                *self.sizes.entry(entry.arrival.bytes).or_default() += 1;
                self.by_hash.entry(hash.clone()).or_default().push(entry.clone());
            }
        }
        let known = self.path_mut(&entry.arrival, table);
        known.newest = entry.file.max(known.newest);
        if entry.outcome == Outcome::Same {
            known.same_as_loaded.push(entry.arrival.clone());
        }
        if entry.outcome.counts() {
            known.same_as_loaded.clear();
            known.rows_of.retain(|version| !entry.arrival.looks_like(&version.arrival));
            known.rows_of.push(entry.clone());
        }
        known.entry = Some(entry);
    }

    /// From now on, what is learnt can be taken back.
    pub fn begin_undoable(&mut self) {
        self.undo = Some(Vec::new());
    }

    /// Keeps what was learnt, or takes it back.
    pub fn end_undoable(&mut self, keep: bool) {
        for Undo { path, before, entry } in self.undo.take().into_iter().flatten().rev().filter(|_| !keep) {
            let (place, name, table) = path;
            if let Some(entry) = entry {
                self.forget_content(&table, &entry);
            }
            let Some(paths) = self.paths.get_mut(&table).and_then(|places| places.get_mut(&place)) else {
                continue;
            };
            match before {
                Some(before) => paths.insert(name, before),
                None => paths.remove(&name),
            };
        }
    }

    fn forget_content(&mut self, table: &str, entry: &FileEntry) {
        self.rows.get_mut(table).map(Vec::pop);
        let Some(hash) = &entry.hash else { return };
        self.by_hash.get_mut(hash).map(Vec::pop);
        if let Some(count) = self.sizes.get_mut(&entry.arrival.bytes) {
            *count = count.saturating_sub(1);
        }
    }

    fn path(&self, arrival: &Arrival, table: &str) -> Option<&KnownPath> {
        self.paths.get(table)?.get(&arrival.place)?.get(&arrival.path)
    }

    fn path_mut(&mut self, arrival: &Arrival, table: &str) -> &mut KnownPath {
        let places = self.paths.entry(table.to_owned()).or_default();
        places.entry(arrival.place.clone()).or_default().entry(arrival.path.clone()).or_default()
    }

    /// The newest entry of a path.
    fn entry(&self, arrival: &Arrival, table: &str) -> Option<&FileEntry> {
        self.path(arrival, table)?.entry.as_deref()
    }

    /// Whether the ledger knows a file by its path, size and time: nothing is read for this.
    pub fn is_known(&self, arrival: &Arrival, table: &str) -> bool {
        let Some(path) = self.path(arrival, table) else { return false };
        // Where the place tells versions apart and the ledger does not, the content decides.
        let is_it =
            |known: &Arrival| arrival.looks_like(known) && (known.token.is_some() || arrival.token.is_none());
        let settled = path.entry.as_ref().filter(|entry| entry.outcome != Outcome::Held);
        // A file that was only touched and whose rows were taken out then is still that file.
        settled.is_some_and(|entry| is_it(&entry.arrival)) || path.same_as_loaded.iter().any(is_it)
    }

    /// Whether something of that size was loaded before.
    pub fn has_size(&self, bytes: u64) -> bool {
        self.sizes.get(&bytes).is_some_and(|count| *count > 0)
    }

    /// Whether a file's content is new: not loaded before, and not asked for before. It is read
    /// for this, unless its `hash` is known.
    pub fn claim_content(&mut self, file: &Candidate, table: &str, hash: Option<&str>) -> bool {
        let hash = hash.map_or_else(|| content_hash(file), |hash| Ok(hash.to_owned()));
        let Ok(hash) = hash else { return false };
        self.loaded_as(&hash, table).is_empty() && self.claimed.insert((table.to_owned(), hash))
    }

    /// The entries of a table whose content has this hash.
    fn loaded_as(&self, hash: &str, table: &str) -> Vec<Arc<FileEntry>> {
        let all = self.by_hash.get(hash).into_iter().flatten();
        all.filter(|entry| entry.table.as_deref() == Some(table)).cloned().collect()
    }

    /// The entry whose rows a file's replace: its own, or else the newest of its path.
    fn rows_of(&self, arrival: &Arrival, table: &str) -> Option<i64> {
        let versions = &self.path(arrival, table)?.rows_of;
        let own = versions.iter().find(|known| arrival.looks_like(&known.arrival));
        own.or_else(|| versions.last()).map(|known| known.file)
    }

    /// What a file is to the ledger that is to be loaded again: its rows are replaced, or it comes back.
    ///
    /// # Errors
    ///
    /// The file cannot be read.
    pub fn matched_again(&self, file: &Candidate, table: &str) -> Result<LedgerMatch, EngineError> {
        let arrival = &file.seen.arrival;
        let rows_of = self.rows_of(arrival, table);
        match (rows_of, self.entry(arrival, table).map(|entry| entry.outcome)) {
            (Some(entry), _) => Ok(LedgerMatch::Changed(entry)),
            (None, Some(Outcome::Retracted | Outcome::Discarded)) => Ok(LedgerMatch::New),
            _ => self.matched(file, table, None),
        }
    }

    /// What a file is to the ledger. It is read only where something of its size was loaded before, and its
    /// `hash` is not known.
    ///
    /// # Errors
    ///
    /// The file cannot be read.
    pub fn matched(
        &self,
        file: &Candidate,
        table: &str,
        hash: Option<&str>,
    ) -> Result<LedgerMatch, EngineError> {
        let arrival = &file.seen.arrival;
        if self.is_known(arrival, table) {
            return Ok(LedgerMatch::Known);
        }
        if self.has_size(arrival.bytes) {
            let hash = hash.map_or_else(|| content_hash(file), |hash| Ok(hash.to_owned()))?;
            let known = self.loaded_as(&hash, table);
            let same = same_content(file, &known);
            // A file whose content is another than it was is changed, whoever else has that content.
            let is_changed = |path: &str| path != arrival.path && self.rows_of(arrival, table).is_some();
            if let Some((entry, same_parts)) = same.filter(|(entry, _)| !is_changed(&entry.arrival.path)) {
                let path = entry.arrival.path.clone();
                return Ok(LedgerMatch::Same { batch: entry.batch, path, hash, same_parts });
            }
        }
        Ok(self.rows_of(arrival, table).map_or(LedgerMatch::New, LedgerMatch::Changed))
    }
}
