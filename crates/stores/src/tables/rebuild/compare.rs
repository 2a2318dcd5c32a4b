//! Tables held against what their files say.

use std::collections::BTreeMap;

use hypodoke_core::names::{FILE_COLUMN, LINE_COLUMN, Lineage};

use super::apply::Stage;
use super::change::{Change, FileRows};
use super::group::{Group, without};
use super::key_rows::{Differences, KeyRows};
use super::stages::{ADDED, compared, is_absent, key_of, of_part, pairs, same};
use super::table::TableRows;
use super::target::RebuildTarget;
use crate::error::StoreError;
use crate::ledger::files_in_force;
use crate::load_plan::file_order as order;
use crate::load_plan::{LoadRules, Restore, TablePlan};
use crate::sql::{Misread, SqlRow, quote};
use crate::tables::versions::{Version, fold};

/// How many rows are named.
const MOST_NAMED: usize = 20;

/// A row by where it came from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RowOfFile {
    /// Its table.
    pub table: String,
    /// Its file's number in the ledger.
    pub file: i64,
    /// Its line there.
    pub line: u64,
}

/// What tables have, beside what their files say.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Comparison {
    /// How many rows of each file should be in each table.
    pub expected: BTreeMap<(String, i64), u64>,
    /// The first rows that should be in a table and are not, or are otherwise.
    pub missing: Vec<RowOfFile>,
    /// The first rows that are in a table of ours and should not be, or should be otherwise.
    pub strange: Vec<RowOfFile>,
}

/// Holds tables of a keyed mode against what their files say; `None` where rows are not kept of all, or are
/// more than `most`.
pub fn compare(
    target: &mut dyn RebuildTarget,
    tables: &[TablePlan],
    rules: &LoadRules,
    most: Option<u64>,
) -> Result<Option<Comparison>, StoreError> {
    let Some(main) = tables.first() else { return Ok(None) };
    let mut files = files_in_force::in_force(target.ledger(), &main.table)?;
    if !rules.mode.has_key() || files.iter().any(|file| !file.is_kept) {
        return Ok(None);
    }
    if most.is_some_and(|most| most < files.iter().map(|file| file.rows).sum()) {
        return Ok(None);
    }
    order::sort(&mut files, rules.mode);
    let after: Vec<FileRows> = files.into_iter().map(|file| FileRows { file, until: None }).collect();
    let change = Change {
        tables,
        rules: rules.fold(),
        valid_from: rules.valid_from.as_deref(),
        before: Vec::new(),
        after,
        changed: Vec::new(),
        by: 0,
        vanished_at_most: None,
        restore: Restore::Nothing,
    };
    let mut comparison = Comparison::default();
    for (main, parts) in change.groups() {
        Group::of(target, &change, main, &parts)?.compare(target, &mut comparison)?;
    }
    Ok(Some(comparison))
}

impl<'p> Group<'_, 'p> {
    fn compare(&self, target: &mut dyn RebuildTarget, found: &mut Comparison) -> Result<(), StoreError> {
        let stage = Stage::make(target, &self.main, &self.parts, self.extra_columns(), Restore::Nothing)?;
        let mut work: Vec<(u64, u64)> = vec![(1, 0)];
        while let Some((modulus, rest)) = work.pop() {
            match self.read_keys(target, &|number| number % modulus == rest, modulus < 1 << 20)? {
                Some(key_rows) => self.expect(target, &stage, &key_rows, found)?,
                None => work.extend([(2 * modulus, rest), (2 * modulus, rest + modulus)]),
            }
        }
        let key = key_of(&self.main);
        target.index_stage(ADDED, &key)?;
        self.name_differing(target, &self.main, ADDED, (&key, self.extra_columns()), found)?;
        for (at, part) in self.parts.iter().enumerate() {
            let lineage: Vec<String> = Lineage::Children.columns().iter().map(|name| quote(name)).collect();
            self.name_differing(target, part, &of_part(ADDED, at), (&lineage, &[]), found)?;
        }
        stage.drop_all(target, self.parts.len())
    }

    /// Counts and stages what should be there of some keys.
    fn expect(
        &self,
        target: &mut dyn RebuildTarget,
        stage: &Stage,
        key_rows: &KeyRows,
        found: &mut Comparison,
    ) -> Result<(), StoreError> {
        let moments = self.moments_after();
        let is_same = |a: usize, b: usize| self.is_same(key_rows, a, b);
        let mut expected = Differences::default();
        for (key, (_, after)) in &key_rows.keys {
            let mut versions: Vec<Version> = after.clone();
            versions.sort_by_key(|version| version.file);
            let takes_out = without(&moments, key_rows.files_of_rejects(key).1);
            expected.added.extend(fold(self.change.rules, &versions, &takes_out, &is_same));
        }
        for row in &expected.added {
            let (file, line) = self.record(key_rows, row.row);
            *found.expected.entry((self.main.plan.table.clone(), file)).or_default() += 1;
            for (part, (_, by_record)) in self.parts.iter().zip(&key_rows.children.tables) {
                let many = by_record.get(&(file, line)).map_or(0, Vec::len) as u64;
                *found.expected.entry((part.plan.table.clone(), file)).or_default() += many;
            }
        }
        stage.fill(target, (&self.main, &self.parts), key_rows, &expected)
    }

    /// Names rows that are on one side only.
    fn name_differing(
        &self,
        target: &mut dyn RebuildTarget,
        table: &TableRows<'p>,
        stage: &str,
        (key, extra): (&[String], &[&str]),
        found: &mut Comparison,
    ) -> Result<(), StoreError> {
        if !table.plan.lineage.is_kept() {
            return Ok(());
        }
        let name = target.table_sql(&table.plan.table);
        let rest: Vec<String> = compared(table, extra).filter(|name| !key.contains(name)).collect();
        let dialect = target.dialect();
        let (matches, whole) =
            (format!("{} AND {}", pairs(key, "t", "s"), same(dialect, &rest, "t", "s")), dialect.whole);
        let mut named = |from: &str, a: &str, other: &str, b: &str| {
            let sql = format!(
                "SELECT CAST({a}.{FILE_COLUMN} AS {whole}), CAST({a}.{LINE_COLUMN} AS {whole}) FROM {from} {a}
                 LEFT JOIN {other} {b} ON {matches} WHERE {} ORDER BY 1, 2 LIMIT {MOST_NAMED}",
                is_absent(b, key)
            );
            let row = |row: &SqlRow| {
                Ok(RowOfFile { table: table.plan.table.clone(), file: row.integer(0)?, line: row.count(1)? })
            };
            let rows: Result<Vec<RowOfFile>, Misread> =
                target.moment_entries(&sql)?.iter().map(row).collect();
            rows.map_err(|misread| StoreError::Damaged { shown: target.shown(), what: misread.0 })
        };
        found.missing.extend(named(stage, "s", &name, "t")?);
        if table.plan.keeps_layout {
            found.strange.extend(named(&name, "t", stage, "s")?);
        }
        Ok(())
    }
}
