//! A table with what hangs on its rows, rebuilt.

use std::borrow::Cow;
use std::collections::HashSet;

use hypodoke_core::cast::Cell;
use hypodoke_core::cast::packed::PackedColumns;

use super::apply::Stage;
use super::arena::{Arena, KeyHash, Wanted, columns_of};
use super::ask_forms::{ask_forms, find_forms};
use super::change::{Change, FileRows, Rebuilt};
use super::key_rows::{Differences, KeyRows};
use super::rejected_keys::RejectedRows;
use super::table::TableRows;
use super::target::RebuildTarget;
use crate::error::StoreError;
use crate::load_plan::{Mode, Restore, TablePlan, Vanished};
use crate::tables::row_archive::blocks_of;
use crate::tables::versions::{TableRow, Version, fold};

/// How much is held in memory at a time, in bytes; what is more is worked through in parts.
const MOST_HELD: usize = 64 << 20;

/// A table with what hangs on its rows.
pub struct Group<'c, 'p> {
    /// The change.
    pub change: &'c Change<'c>,
    /// The table.
    pub main: TableRows<'p>,
    /// The tables of what hangs on its rows.
    pub parts: Vec<TableRows<'p>>,
    /// The files that are read, each with its place before and after.
    sources: Vec<Source>,
    hash: KeyHash,
}

/// A file that is read, with its place among those before and those after.
struct Source {
    rows: FileRows,
    before: Option<usize>,
    after: Option<usize>,
    rejected: RejectedRows,
}

impl Source {
    fn of(rows: &FileRows, before: Option<usize>, after: Option<usize>) -> Source {
        Source { rows: rows.clone(), before, after, rejected: RejectedRows::default() }
    }
}

impl<'c, 'p: 'c> Group<'c, 'p> {
    /// A table with what hangs on its rows, of a change.
    pub fn of(
        target: &mut dyn RebuildTarget,
        change: &'c Change<'c>,
        main: &'p TablePlan,
        parts: &[&'p TablePlan],
    ) -> Result<Group<'c, 'p>, StoreError> {
        let mut sources: Vec<Source> = Vec::new();
        for (at, rows) in change.before.iter().enumerate() {
            sources.push(Source::of(rows, Some(at), None));
        }
        for (at, rows) in change.after.iter().enumerate() {
            match sources.iter_mut().find(|source| source.rows == *rows) {
                Some(source) => source.after = Some(at),
                None => sources.push(Source::of(rows, None, Some(at))),
            }
        }
        let files: Vec<i64> = sources.iter().map(|source| source.rows.file.file).collect();
        let mut rows = |plan: &'p TablePlan| -> Result<TableRows<'p>, StoreError> {
            let columns: PackedColumns = columns_of(target.archive(), plan, &files)?;
            Ok(TableRows::of(plan, columns))
        };
        let main = rows(main)?;
        let parts = parts.iter().map(|part| rows(part)).collect::<Result<_, _>>()?;
        find_forms(target, &main)?;
        if change.rules.vanished != Vanished::Keep {
            for source in &mut sources {
                source.rejected = RejectedRows::of(target.archive(), &main, &source.rows)?;
            }
        }
        Ok(Group { change, main, parts, sources, hash: KeyHash::default() })
    }

    /// Works it out, and brings the difference into the database.
    pub fn run(&self, target: &mut dyn RebuildTarget) -> Result<Rebuilt, StoreError> {
        let affected = self.affected(target)?;
        let restored = self.restored(target)?;
        let stage = Stage::make(target, &self.main, &self.parts, self.extra_columns(), self.change.restore)?;
        let mut counted = Rebuilt::default();
        let mut parts = self.parts_of(affected.as_ref().map_or(0, HashSet::len));
        while let Some((modulus, rest)) = parts.pop() {
            let is_meant = |number: u64| {
                number % modulus == rest && affected.as_ref().is_none_or(|all| all.contains(&number))
            };
            match self.read_keys(target, &is_meant, modulus < 1 << 20)? {
                Some(key_rows) => self.stage(target, (&stage, &restored), &key_rows, &mut counted)?,
                None => parts.extend([(2 * modulus, rest), (2 * modulus, rest + modulus)]),
            }
        }
        if let Some(most) = self.change.vanished_at_most
            && counted.vanished as f64 > most * counted.there as f64
        {
            let Rebuilt { vanished, there, .. } = counted;
            return Err(StoreError::TooManyVanished { table: self.main.plan.table.clone(), vanished, there });
        }
        target.make_ready(&self.main)?;
        let files = (self.change.by, self.change.replaced());
        let applied = stage.apply(target, (&self.main, &self.parts), files)?;
        counted.leave(&applied.left);
        counted.put_back(&applied.restored);
        let deleted = counted.deleted.min(applied.deleted);
        Ok(Rebuilt { deleted, touched: applied.touched, left_keys: applied.named, ..counted })
    }

    /// Parts in which so many keys are worked out one after another: about as much of each as may be held.
    fn parts_of(&self, keys: usize) -> Vec<(u64, u64)> {
        const TEXTS: usize = 64;
        let row = self.main.columns.len() * size_of::<Cell>() + TEXTS;
        let all = keys.saturating_mul(row).saturating_mul(self.sources.len().min(3));
        let parts = (all / MOST_HELD + 1).next_power_of_two() as u64;
        (0..parts).map(|rest| (parts, rest)).collect()
    }

    /// The columns of ours that say since when and until when a row holds.
    pub fn extra_columns(&self) -> &'static [&'static str] {
        self.main.plan.moments()
    }

    /// The keys that the change concerns, by their numbers; `None` for all.
    fn affected(&self, target: &mut dyn RebuildTarget) -> Result<Option<HashSet<u64>>, StoreError> {
        if self.change.rules.vanished != Vanished::Keep {
            return Ok(None);
        }
        self.changed_keys(target).map(Some)
    }

    /// The keys whose rows are restored, by their numbers.
    fn restored(&self, target: &mut dyn RebuildTarget) -> Result<HashSet<u64>, StoreError> {
        match self.change.restore {
            Restore::Nothing => Ok(HashSet::new()),
            Restore::Missing | Restore::Everything => self.changed_keys(target),
        }
    }

    /// The keys of the files that change, by their numbers.
    fn changed_keys(&self, target: &mut dyn RebuildTarget) -> Result<HashSet<u64>, StoreError> {
        let mut affected = HashSet::new();
        for rows in &self.change.changed {
            let mut takes = |key: &[u8], _: u64| {
                affected.insert(self.hash.of(key));
                false
            };
            self.take(target, &mut Arena::default(), rows, &mut takes, usize::MAX)?;
        }
        Ok(affected)
    }

    /// Takes up rows of a file, as [`Arena::take`] does. Where the database is asked how keys compare, one block after
    /// another.
    fn take(
        &self,
        target: &mut dyn RebuildTarget,
        arena: &mut Arena,
        rows: &FileRows,
        takes: &mut dyn FnMut(&[u8], u64) -> bool,
        most: usize,
    ) -> Result<Vec<Box<[u8]>>, StoreError> {
        let file = rows.file.file;
        if !self.main.forms.borrow().are_asked() {
            let wanted = Wanted { file, blocks: rows.blocks(), takes, most };
            return arena.take(target.archive(), &self.main, wanted);
        }
        let from = (file, self.main.plan.table.as_str(), self.main.is_child());
        let mut taken = Vec::new();
        for block in blocks_of(target.archive(), file, from.1, &rows.blocks())? {
            ask_forms(target, &self.main, from, block)?;
            let wanted = Wanted { file, blocks: block..block.saturating_add(1), takes, most };
            taken.extend(arena.take(target.archive(), &self.main, wanted)?);
            if arena.held() > most {
                break;
            }
        }
        Ok(taken)
    }

    /// What all files say of some keys; `None` where that is more than may be held.
    pub fn read_keys(
        &self,
        target: &mut dyn RebuildTarget,
        is_meant: &dyn Fn(u64) -> bool,
        is_limited: bool,
    ) -> Result<Option<KeyRows>, StoreError> {
        let mut key_rows = KeyRows::default();
        let at = self.change.valid_from.and_then(|name| self.main.column(name));
        for source in &self.sources {
            let file = &source.rows.file;
            let first = key_rows.main.len();
            let mut takes = |key: &[u8], _: u64| is_meant(self.hash.of(key));
            let most = if is_limited { MOST_HELD } else { usize::MAX };
            let keys = self.take(target, &mut key_rows.main, &source.rows, &mut takes, most)?;
            if is_limited && key_rows.main.held() > MOST_HELD {
                return Ok(None);
            }
            let mut in_file: Vec<(Box<[u8]>, usize)> = keys.into_iter().zip(first..).collect();
            // Rows that were corrected stand where their lines stand.
            in_file.sort_by_key(|(_, row)| key_rows.main.rows.line(*row));
            for (key, row) in in_file {
                let own = at.map(|at| key_rows.main.cell(row, at)).and_then(moment_of);
                let effective = own.or(file.order.effective).unwrap_or_default();
                let (before, after) = key_rows.keys.entry(key).or_default();
                before.extend(source.before.map(|file| Version { file, row, effective }));
                after.extend(source.after.map(|file| Version { file, row, effective }));
            }
            if !self.parts.is_empty() {
                let lines = (first..key_rows.main.len()).map(|row| key_rows.main.rows.line(row)).collect();
                key_rows.children.take(target.archive(), &self.parts, &source.rows, &lines)?;
            }
            if is_limited && key_rows.main.held() + key_rows.children.held() > MOST_HELD {
                return Ok(None);
            }
        }
        self.read_rejected_keys(target, &mut key_rows)?;
        Ok(Some(key_rows))
    }

    /// Finds which of the keys at hand rejected rows have.
    fn read_rejected_keys(
        &self,
        target: &mut dyn RebuildTarget,
        key_rows: &mut KeyRows,
    ) -> Result<(), StoreError> {
        let KeyRows { keys, in_rejects, .. } = key_rows;
        for source in &self.sources {
            let file = source.rows.file.file;
            source.rejected.for_each_key(target, &self.main, file, &mut |key| {
                if !keys.contains_key(key) {
                    return;
                }
                let (before, after) = in_rejects.entry(key.into()).or_default();
                before.extend(source.before);
                after.extend(source.after);
            })?;
        }
        Ok(())
    }

    /// See [`Group::moments`], for the files after the change.
    pub fn moments_after(&self) -> Vec<Option<i64>> {
        self.moments(&self.change.after, |source| source.after)
    }

    /// For each file, from when on a key is gone that it does not hold: `None` where the key of a rejected row
    /// cannot be read. `place` is where a file stands among them.
    fn moments(&self, files: &[FileRows], place: fn(&Source) -> Option<usize>) -> Vec<Option<i64>> {
        let mut moments: Vec<Option<i64>> =
            files.iter().map(|rows| Some(rows.file.order.effective.unwrap_or_default())).collect();
        for at in self.sources.iter().filter(|source| source.rejected.is_unreadable).filter_map(place) {
            if let Some(moment) = moments.get_mut(at) {
                *moment = None;
            }
        }
        moments
    }

    /// Puts the difference of some keys into the stages, and all rows of those that are restored.
    fn stage(
        &self,
        target: &mut dyn RebuildTarget,
        (stage, restored): (&Stage, &HashSet<u64>),
        key_rows: &KeyRows,
        counted: &mut Rebuilt,
    ) -> Result<(), StoreError> {
        let mut differences = Differences::default();
        let is_same = |a: usize, b: usize| self.is_same(key_rows, a, b);
        let moments_before = self.moments(&self.change.before, |source| source.before);
        let moments_after = self.moments_after();
        for (key, versions) in &key_rows.keys {
            let (before, after) = versions;
            let in_order = |versions: &[Version]| {
                let mut versions = versions.to_vec();
                versions.sort_by_key(|version| version.file);
                versions
            };
            let (rejects_before, rejects_after) = key_rows.files_of_rejects(key);
            let took_out = without(&moments_before, rejects_before);
            let takes_out = without(&moments_after, rejects_after);
            let was = fold(self.change.rules, &in_order(before), &took_out, &is_same);
            let is = fold(self.change.rules, &in_order(after), &takes_out, &is_same);
            if restored.contains(&self.hash.of(key)) {
                Differences::default().add(&key_rows.main, (&was, &is), self.change, counted);
                differences.restore(versions, &is);
            } else {
                differences.add(&key_rows.main, (&was, &is), self.change, counted);
            }
            self.count(&in_order(after), &is, &takes_out, key_rows, counted);
        }
        stage.fill(target, (&self.main, &self.parts), key_rows, &differences)
    }

    /// Counts what became of the rows of the file that brings the change.
    fn count(
        &self,
        versions: &[Version],
        rows: &[TableRow],
        takes_out: &[Option<i64>],
        key_rows: &KeyRows,
        counted: &mut Rebuilt,
    ) {
        let by = self.change.by;
        let Some(place) = self.change.after.iter().position(|rows| rows.file.file == by) else { return };
        let own: Vec<&Version> = versions.iter().filter(|version| version.file == place).collect();
        let file_of = |row: &TableRow| key_rows.main.files.get(row.row) == Some(&by);
        if own.is_empty() {
            let earlier: Vec<Version> = versions.iter().filter(|v| v.file < place).copied().collect();
            let earlier_files = takes_out.get(..place).unwrap_or_default();
            let there = fold(self.change.rules, &earlier, earlier_files, &|_, _| false);
            let is_there = there.last().is_some_and(|row| row.to.is_none());
            counted.there += u64::from(is_there);
            let vanishes = self.change.rules.vanished != Vanished::Keep
                && takes_out.get(place).is_some_and(Option::is_some);
            counted.vanished += u64::from(is_there && vanishes);
            return;
        }
        counted.there += u64::from(versions.iter().any(|version| version.file < place));
        let moments: HashSet<i64> = own.iter().map(|version| version.effective).collect();
        counted.doubles += (own.len() - moments.len()) as u64;
        let stands = |row: &TableRow| versions.iter().find(|v| v.row == row.row).map(|v| v.file);
        let is_overtaken = !rows.iter().any(file_of) && rows.last().and_then(stands) > Some(place);
        counted.overtaken += u64::from(is_overtaken && self.change.rules.mode == Mode::Upsert);
    }

    /// Whether two rows say the same, and the same hangs on them.
    pub fn is_same(&self, key_rows: &KeyRows, a: usize, b: usize) -> bool {
        key_rows.main.is_same(&self.main, a, b)
            && key_rows.children.is_same(&self.parts, self.record(key_rows, a), self.record(key_rows, b))
    }

    /// The file and line that a row came from.
    pub fn record(&self, key_rows: &KeyRows, row: usize) -> (i64, u64) {
        (key_rows.main.files.get(row).copied().unwrap_or_default(), key_rows.main.rows.line(row))
    }
}

/// The moments of files but for those that have a key in a rejected row, by their places: it is not gone with them.
pub fn without<'m>(moments: &'m [Option<i64>], with_rejects: &[usize]) -> Cow<'m, [Option<i64>]> {
    if with_rejects.is_empty() {
        return Cow::Borrowed(moments);
    }
    let is_known = |(at, moment): (usize, &Option<i64>)| moment.filter(|_| !with_rejects.contains(&at));
    moments.iter().enumerate().map(is_known).collect()
}

/// The moment that a cell tells.
fn moment_of(cell: Cell) -> Option<i64> {
    match cell {
        Cell::Date(days) => Some(i64::from(days) * hypodoke_core::spelling::temporal::DAY),
        Cell::Timestamp(micros) | Cell::TimestampTz(micros) => Some(micros),
        _ => None,
    }
}
