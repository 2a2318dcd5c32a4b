//! A change among the files of a table, and what becomes of the table.

use std::ops::Range;

use super::restore::Restored;
use crate::load_plan::file_order::FileInForce;
use crate::load_plan::{FoldRules, Restore, TablePlan};

/// A file, as far as its rows count.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileRows {
    /// The file.
    pub file: FileInForce,
    /// The block from which on its rows do not count.
    pub until: Option<i64>,
}

impl FileRows {
    /// The blocks of its rows that count.
    pub fn blocks(&self) -> Range<i64> {
        0..self.until.unwrap_or(i64::MAX)
    }
}

/// A change among the files of a table.
pub struct Change<'c> {
    /// The tables that its files fill.
    pub tables: &'c [TablePlan],
    /// How they follow from their files.
    pub rules: FoldRules,
    /// The column that says from when on a row holds.
    pub valid_from: Option<&'c str>,
    /// The files that counted until now, in order.
    pub before: Vec<FileRows>,
    /// The files that count from now on, in order.
    pub after: Vec<FileRows>,
    /// The files whose rows count otherwise than before.
    pub changed: Vec<FileRows>,
    /// The file that brings the change.
    pub by: i64,
    /// The most keys that may vanish with it, as a share of those there are.
    pub vanished_at_most: Option<f64>,
    /// How rows of its keys that differ from the files are treated.
    pub restore: Restore,
}

impl<'c> Change<'c> {
    /// The file whose rows are taken out, or come otherwise.
    pub fn replaced(&self) -> Option<i64> {
        self.changed.iter().map(|rows| rows.file.file).find(|file| *file != self.by)
    }

    /// The tables whose rows have keys, each with those whose rows are parts of its records.
    pub fn groups(&self) -> Vec<(&'c TablePlan, Vec<&'c TablePlan>)> {
        let parts: Vec<&TablePlan> = self.tables.iter().filter(|table| table.is_part()).collect();
        let is_keyed = |table: &TablePlan| !table.is_virtual && !table.is_part() && table.mode.has_key();
        let tables = self.tables.iter().enumerate().filter(|(_, table)| is_keyed(table));
        tables.map(|(at, main)| (main, if at == 0 { parts.clone() } else { Vec::new() })).collect()
    }
}

/// What became of the tables.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rebuilt {
    /// Rows of the file that brought the change that were added under a key that was not there.
    pub inserted: u64,
    /// Rows of it that took the place of others.
    pub updated: u64,
    /// Rows taken out of the file that is replaced or taken out, and of keys that are gone.
    pub deleted: u64,
    /// Rows of other files that came back.
    pub restored: u64,
    /// Keys that somebody else has changed, left as they are.
    pub touched: u64,
    /// Keys that somebody else had changed, and that were overwritten.
    pub overwritten: u64,
    /// Missing rows that were inserted again.
    pub put_back: u64,
    /// Rows of the file that brought the change that have such a key, and were neither added nor took the
    /// place of others.
    pub left: u64,
    /// Rows of the file under whose key a later file's stands.
    pub overtaken: u64,
    /// Rows of the file that a later one of its own takes the place of.
    pub doubles: u64,
    /// Keys that the file no longer holds, of those there were.
    pub vanished: u64,
    /// Keys that there were before the file.
    pub there: u64,
    /// The first of the keys that somebody else has changed, each as its columns and their values.
    pub left_keys: Vec<String>,
}

impl Rebuilt {
    /// Adds what became of others.
    pub fn add(&mut self, other: &Rebuilt) {
        self.inserted += other.inserted;
        self.updated += other.updated;
        self.deleted += other.deleted;
        self.restored += other.restored;
        self.touched += other.touched;
        self.overwritten += other.overwritten;
        self.put_back += other.put_back;
        self.left += other.left;
        self.overtaken += other.overtaken;
        self.doubles += other.doubles;
        self.vanished += other.vanished;
        self.there += other.there;
        self.left_keys.extend(other.left_keys.iter().cloned());
    }

    /// Adds the restored rows. A row of the file that was missing counts as inserted, not as updated.
    pub fn put_back(&mut self, restored: &Restored) {
        let own = restored.own.min(self.updated);
        self.updated -= own;
        self.inserted += own;
        self.restored += restored.of_others;
        self.put_back += restored.own + restored.of_others;
        self.overwritten += restored.overwritten;
    }

    /// Takes off what was counted of keys that are left as they are.
    pub fn leave(&mut self, left: &Rebuilt) {
        self.inserted = self.inserted.saturating_sub(left.inserted);
        self.updated = self.updated.saturating_sub(left.updated);
        self.deleted = self.deleted.saturating_sub(left.deleted);
        self.restored = self.restored.saturating_sub(left.restored);
        self.left += left.inserted + left.updated;
    }
}
