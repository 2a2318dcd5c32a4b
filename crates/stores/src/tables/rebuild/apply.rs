//! The difference brought into the tables: what is to go and what is to come is staged beside them.

use super::arena::Arena;
use super::change::Rebuilt;
use super::key_rows::{Differences, KeyRows};
use super::restore::{self, Restored};
use super::stages::{
    ADDED, KNOWN, TAKEN, TOUCHED, children_match, columns, key_of, main_match, of_part, record_columns,
};
use super::table::TableRows;
use super::target::{RebuildTarget, StagedRows};
use super::touched::Staged;
use crate::error::StoreError;
use crate::load_plan::Restore;
use crate::tables::versions::TableRow;

/// What became of a table.
#[derive(Clone, Debug, Default)]
pub struct Applied {
    /// Rows taken out.
    pub deleted: u64,
    /// Keys that somebody else has changed.
    pub touched: u64,
    /// What was to become of their rows, and did not.
    pub left: Rebuilt,
    /// The first of these keys.
    pub named: Vec<String>,
    /// How many rows and keys were restored.
    pub restored: Restored,
}

/// The stages of one table and of what hangs on its rows.
pub struct Stage {
    extra: &'static [&'static str],
    restore: Restore,
}

/// How many rows are sent at a time.
const SENT: usize = 8192;

impl Stage {
    /// Makes the stages.
    pub fn make(
        target: &mut dyn RebuildTarget,
        main: &TableRows<'_>,
        parts: &[TableRows<'_>],
        extra: &'static [&'static str],
        restore: Restore,
    ) -> Result<Stage, StoreError> {
        let key = key_of(main);
        for stage in [TAKEN, ADDED] {
            target.make_stage(stage, &main.plan.table, &columns(main, extra), &key)?;
            for (at, part) in parts.iter().enumerate() {
                let of_part = of_part(stage, at);
                target.make_stage(&of_part, &part.plan.table, &columns(part, &[]), &record_columns())?;
            }
        }
        if restore.is_wanted() {
            restore::make(target, (main, parts))?;
        }
        Ok(Stage { extra, restore })
    }

    /// Puts rows of some keys into the stages.
    pub fn fill(
        &self,
        target: &mut dyn RebuildTarget,
        (main, parts): (&TableRows<'_>, &[TableRows<'_>]),
        key_rows: &KeyRows,
        differences: &Differences,
    ) -> Result<(), StoreError> {
        let origin =
            |row: &TableRow| (key_rows.main.files.get(row.row).copied(), key_rows.main.rows.line(row.row));
        let Differences { taken, added, known } = differences;
        let (none, no_moments): (&Vec<TableRow>, &'static [&str]) = (&Vec::new(), &[]);
        let sides = [
            (TAKEN, taken, added, self.extra),
            (ADDED, added, taken, self.extra),
            (KNOWN, known, none, no_moments),
        ];
        for (stage, rows, others, extra) in sides {
            let mut staged = Arena::default();
            for row in rows {
                if staged.len() >= SENT {
                    self.send(target, (stage, main, extra), &std::mem::take(&mut staged))?;
                }
                let more: Vec<Option<i64>> = match extra.len() {
                    0 => Vec::new(),
                    1 => vec![row.to],
                    _ => vec![row.from, row.to],
                };
                staged.push_row(&key_rows.main, row.row, &more, target.moment_cell());
            }
            self.send(target, (stage, main, extra), &staged)?;
            // What only holds from or until another moment keeps what hangs on it.
            let moved: std::collections::HashSet<_> = others.iter().map(origin).collect();
            for (at, (part, (arena, by_record))) in parts.iter().zip(&key_rows.children.tables).enumerate() {
                let mut staged = Arena::default();
                for row in rows.iter().filter(|row| !moved.contains(&origin(row))) {
                    let (file, line) = origin(row);
                    let children = by_record.get(&(file.unwrap_or_default(), line));
                    if staged.len() >= SENT {
                        self.send(target, (&of_part(stage, at), part, &[]), &std::mem::take(&mut staged))?;
                    }
                    for child in children.into_iter().flatten() {
                        staged.push_row(arena, *child, &[], target.moment_cell());
                    }
                }
                self.send(target, (&of_part(stage, at), part, &[]), &staged)?;
            }
        }
        Ok(())
    }

    fn send(
        &self,
        target: &mut dyn RebuildTarget,
        (stage, table, extra): (&str, &TableRows<'_>, &[&str]),
        staged: &Arena,
    ) -> Result<(), StoreError> {
        if staged.len() == 0 {
            return Ok(());
        }
        let (columns, lineage) = (columns(table, extra), table.plan.lineage);
        let (rows, files) = (&staged.rows, staged.files.as_slice());
        target.fill_stage(&StagedRows { stage, columns: &columns, lineage, rows, files, table })
    }

    /// Brings the difference into the tables, but for keys that somebody else has changed. `by` is the file
    /// that brings it, `replaced` the one whose rows are taken out.
    pub fn apply(
        &self,
        target: &mut dyn RebuildTarget,
        (main, parts): (&TableRows<'_>, &[TableRows<'_>]),
        (by, replaced): (i64, Option<i64>),
    ) -> Result<Applied, StoreError> {
        let (key, lineage) = (key_of(main), record_columns());
        for stage in [TAKEN, ADDED] {
            target.index_stage(stage, &key)?;
            for at in 0..parts.len() {
                target.index_stage(&of_part(stage, at), &lineage)?;
            }
        }
        if self.restore.is_wanted() {
            restore::index(target, (main, parts))?;
        }
        let staged = Staged { main, parts, extra: self.extra, restore: self.restore };
        let touched = staged.find_touched(target)?;
        let (mut left, mut named) = (Rebuilt::default(), Vec::new());
        if touched > 0 {
            left = staged.left_rows(target, (by, replaced))?;
            named = staged.names(target)?;
            staged.leave_touched(target)?;
        }
        let (mut deleted, mut restored) = (0, Restored::default());
        if self.restore.is_wanted() {
            restored = restore::count_missing(target, main, self.extra, by)?;
            if self.restore == Restore::Everything {
                restored.overwritten = restore::count_changed(target, (main, parts))?;
            }
            deleted += restore::take_out(target, (main, parts))?;
        }
        for (at, part) in parts.iter().enumerate() {
            self.take_out(target, part, &of_part(TAKEN, at), &children_match(part))?;
        }
        let main_match = main_match(target.dialect(), main, self.extra);
        deleted += self.take_out(target, main, TAKEN, &main_match)?;
        self.put_in(target, main, ADDED, self.extra)?;
        for (at, part) in parts.iter().enumerate() {
            self.put_in(target, part, &of_part(ADDED, at), &[])?;
        }
        let dropping = target.dialect().drop_stage(TOUCHED);
        target.statement(&dropping)?;
        self.drop_all(target, parts.len())?;
        Ok(Applied { deleted, touched, left, named, restored })
    }

    /// Drops the stages.
    pub fn drop_all(&self, target: &mut dyn RebuildTarget, parts: usize) -> Result<(), StoreError> {
        for stage in [TAKEN, ADDED] {
            let dialect = target.dialect();
            target.statement(&dialect.drop_stage(stage))?;
            for at in 0..parts {
                target.statement(&dialect.drop_stage(&of_part(stage, at)))?;
            }
        }
        if self.restore.is_wanted() { restore::drop_all(target, parts) } else { Ok(()) }
    }

    fn take_out(
        &self,
        target: &mut dyn RebuildTarget,
        table: &TableRows<'_>,
        stage: &str,
        condition: &str,
    ) -> Result<u64, StoreError> {
        let sql = target.delete_matching(table, stage, condition);
        target.statement(&sql)
    }

    fn put_in(
        &self,
        target: &mut dyn RebuildTarget,
        table: &TableRows<'_>,
        stage: &str,
        extra: &[&str],
    ) -> Result<u64, StoreError> {
        let columns = columns(table, extra).join(", ");
        let into = target.table_sql(&table.plan.table);
        target.statement(&format!("INSERT INTO {into} ({columns}) SELECT {columns} FROM {stage}"))
    }
}
