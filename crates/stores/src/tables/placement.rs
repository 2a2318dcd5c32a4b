//! The route of a file's rows: straight into its tables, where the file comes after all others; or by way of
//! the rows that are kept of all files, where the table is rebuilt.

use hypodoke_core::names::{FILE_COLUMN, GONE_COLUMN};

use crate::error::StoreError;
use crate::ledger::files_in_force;
use crate::load_plan::Counts;
use crate::load_plan::Vanished;
use crate::load_plan::{FileInForce, FileOrder, file_order as order};
use crate::load_plan::{FileSummary, Finished, LoadPlan, TablePlan};
use crate::load_plan::{Mode, Restore};
use crate::sql::{SqlConnection, quote};
use crate::tables::rebuild::{Change, FileRows, RebuildTarget, bring_in, rebuild};

/// The route that rows take.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Route {
    /// Straight into the tables. What they held until now goes, where the mode is to replace it and this
    /// is a new delivery.
    Direct {
        /// See above.
        empties: bool,
    },
    /// Into the ledger, and from there into the tables as far as they count.
    #[default]
    Archive,
}

/// Where a file stands, and which route its rows take.
#[derive(Clone, Debug, Default)]
pub struct Placed {
    /// Where it stands.
    pub order: FileOrder,
    /// The route.
    pub route: Route,
    /// Its rows are kept.
    pub keeps: bool,
}

/// Finds where the file of a plan stands. Nobody else changes the table's files meanwhile.
pub fn place(connection: &mut dyn SqlConnection, plan: &LoadPlan) -> Result<Placed, StoreError> {
    let mode = plan.mode();
    let mut order = inherited(connection, plan)?;
    if mode == Mode::Append {
        return Ok(Placed { order, route: Route::Direct { empties: false }, keeps: false });
    }
    let replaced = plan.replaces.or(plan.resubmits).unwrap_or(0);
    let newest = files_in_force::newest(connection, plan.table(), replaced)?;
    let own = FileInForce {
        file: i64::MAX,
        path: plan.arrival.path.clone(),
        order: order.clone(),
        is_kept: false,
        rows: 0,
    };
    let is_newest = newest.as_ref().is_none_or(|newest| own.is_after(newest, Mode::Upsert));
    if order.effective.is_none() {
        order.effective = Some(effective(connection, plan, &own, newest.as_ref().filter(|_| is_newest))?);
    }
    let route = match mode {
        Mode::Replace => in_replace(plan, &own, newest.as_ref(), is_newest),
        _ => in_keyed(plan, &order, newest.as_ref(), is_newest),
    };
    let keeps = plan.rules.keeps_rows || route == Route::Archive && mode != Mode::Replace;
    Ok(Placed { order, route, keeps: keeps && !plan.retracts })
}

/// Where a file stands of which nothing was loaded before, and whose rows are only added.
pub fn place_new(plan: &LoadPlan) -> Placed {
    let mut order = plan.order.clone();
    if order.modified == 0 {
        order.modified = plan.arrival.modified;
    }
    Placed { order, route: Route::Direct { empties: false }, keeps: false }
}

/// Gives a table of ours the column that marks rows which are gone, where it lacks it.
pub fn mark_gone(connection: &mut dyn SqlConnection, table: &TablePlan) -> Result<(), StoreError> {
    let is_wanted = table.moments() == [GONE_COLUMN] && table.keeps_layout && !table.is_virtual;
    let moment = connection.dialect().moment();
    if is_wanted && connection.has_column(&table.table, GONE_COLUMN)? == Some(false) {
        connection
            .script(&format!("ALTER TABLE {} ADD COLUMN {GONE_COLUMN} {moment}", quote(&table.table)))?;
    }
    Ok(())
}

/// A corrected file stands where its first version stood, and so does one that comes back.
fn inherited(connection: &mut dyn SqlConnection, plan: &LoadPlan) -> Result<FileOrder, StoreError> {
    let mut order = plan.order.clone();
    if order.modified == 0 {
        order.modified = plan.arrival.modified;
    }
    let before = match plan.replaces.or(plan.resubmits) {
        Some(file) => Some(file),
        None => {
            let path = (plan.arrival.place.as_str(), plan.arrival.path.as_str());
            files_in_force::retracted(connection, path, plan.table())?
        }
    };
    let Some(before) = before else { return Ok(order) };
    let Some(known) = files_in_force::order_of_file(connection, before)? else { return Ok(order) };
    if plan.retracts || plan.resubmits.is_some() {
        return Ok(known);
    }
    // Others may have come meanwhile where a file stood that was taken out.
    let effective = order.effective.or(known.effective.filter(|_| plan.replaces.is_some()));
    Ok(FileOrder { modified: known.modified, first: known.first, effective, ..order })
}

/// From when on the rows of a file hold that says nothing of it.
fn effective(
    connection: &mut dyn SqlConnection,
    plan: &LoadPlan,
    own: &FileInForce,
    newest: Option<&FileInForce>,
) -> Result<i64, StoreError> {
    let moment = |file: Option<&FileInForce>| file.and_then(|file| file.order.effective);
    if newest.is_some()
        || files_in_force::newest(connection, plan.table(), plan.replaces.unwrap_or(0))?.is_none()
    {
        return Ok(order::effective_at(plan.began, own.order.modified, moment(newest), None));
    }
    let mut files = files_in_force::in_force(connection, plan.table())?;
    files.retain(|file| Some(file.file) != plan.replaces);
    order::sort(&mut files, Mode::Upsert);
    let at = files.iter().position(|file| file.is_after(own, Mode::Upsert)).unwrap_or(files.len());
    let before = at.checked_sub(1).and_then(|at| files.get(at));
    Ok(order::effective_at(plan.began, own.order.modified, moment(before), moment(files.get(at))))
}

fn in_replace(plan: &LoadPlan, own: &FileInForce, newest: Option<&FileInForce>, is_newest: bool) -> Route {
    let is_known = plan.rules.order.is_none() || plan.resubmits.is_some();
    match newest {
        _ if plan.retracts || !is_known => Route::Archive,
        // The file whose corrected rejects come.
        _ if plan.resubmits.is_some() && is_newest => Route::Direct { empties: false },
        None => Route::Direct { empties: true },
        Some(newest) if newest.delivery() == own.delivery() => Route::Direct { empties: false },
        Some(_) if is_newest => Route::Direct { empties: true },
        Some(_) => Route::Archive,
    }
}

fn in_keyed(plan: &LoadPlan, order: &FileOrder, newest: Option<&FileInForce>, is_newest: bool) -> Route {
    let changes_others = plan.retracts
        || plan.replaces.is_some()
        || plan.resubmits.is_some()
        || plan.restore != Restore::Nothing;
    let is_nested = plan.tables.iter().any(TablePlan::is_part);
    let rules = &plan.rules;
    // Of a table of others only what files gave may vanish.
    let is_of_others = |table: &TablePlan| table.mode.has_key() && !table.is_virtual && !table.keeps_layout;
    let is_shared = rules.vanished != Vanished::Keep && plan.tables.iter().any(is_of_others);
    if changes_others || is_nested || is_shared || rules.valid_from.is_some() {
        return Route::Archive;
    }
    let follows = newest.is_none_or(|newest| newest.order.effective < order.effective);
    match plan.mode() {
        // What comes back stands where it came first.
        Mode::InsertNew if order.first == 0 => Route::Direct { empties: false },
        Mode::InsertNew => Route::Archive,
        Mode::History if !follows => Route::Archive,
        _ if is_newest || rules.order.is_some() => Route::Direct { empties: false },
        _ => Route::Archive,
    }
}

/// Whether a file that took the direct route, and whose order is known only by its rows, stands behind
/// all others.
pub fn still_direct(
    connection: &mut dyn SqlConnection,
    plan: &LoadPlan,
    file: i64,
    order: &FileOrder,
) -> Result<bool, StoreError> {
    let newest = files_in_force::newest(connection, plan.table(), file)?;
    let own =
        FileInForce { file, path: plan.arrival.path.clone(), order: order.clone(), is_kept: true, rows: 0 };
    Ok(newest.is_none_or(|newest| own.is_after(&newest, Mode::Upsert)))
}

/// A file whose rows are kept: its number, and the first of its blocks.
#[derive(Clone, Copy, Debug)]
pub struct KeptFile {
    /// Its number.
    pub file: i64,
    /// The first of its blocks; those before it are of an earlier load.
    pub since: i64,
}

/// Rebuilds the tables once the file's entry and rows are in the ledger; tells whether a newer delivery
/// is in them. What files become that it supersedes, or does not any more, is added to `outcomes`.
pub fn rebuild_tables(
    target: &mut dyn RebuildTarget,
    plan: &LoadPlan,
    kept: KeptFile,
    summary: &FileSummary,
    outcomes: &mut Vec<(i64, String)>,
) -> Result<Finished, StoreError> {
    let KeptFile { file, since } = kept;
    let (before, after) = files_of(target, plan, file, since)?;
    if plan.mode() == Mode::Replace {
        return replace(target, plan, file, (&before, &after), outcomes);
    }
    let missing = |rows: &&FileRows| !rows.file.is_kept && rows.file.file != file;
    let missing: Vec<String> =
        before.iter().chain(&after).filter(missing).map(|rows| rows.file.path.clone()).collect();
    if !missing.is_empty() {
        return Err(not_kept(plan, missing));
    }
    let changed: Vec<FileRows> = before
        .iter()
        .filter(|rows| Some(rows.file.file) == plan.replaces)
        .chain(after.iter().filter(|rows| rows.file.file == file))
        .cloned()
        .collect();
    let rebuilt = rebuild(
        target,
        &Change {
            tables: &plan.tables,
            rules: plan.rules.fold(),
            valid_from: plan.rules.valid_from.as_deref(),
            before,
            after,
            changed,
            by: file,
            vanished_at_most: plan.rules.vanished_at_most,
            restore: plan.restore,
        },
    )?;
    let rest = summary.loaded.saturating_sub(
        rebuilt.inserted + rebuilt.updated + rebuilt.overtaken + rebuilt.doubles + rebuilt.left,
    );
    let is_insert_new = plan.mode() == Mode::InsertNew;
    let counts = Counts {
        inserted: rebuilt.inserted,
        updated: rebuilt.updated,
        deleted: rebuilt.deleted,
        unchanged: if is_insert_new { 0 } else { rest },
        left_out: rebuilt.doubles + if is_insert_new { rest } else { 0 },
        overtaken: rebuilt.overtaken,
        restored: rebuilt.restored,
        touched: rebuilt.touched,
        overwritten: rebuilt.overwritten,
        put_back: rebuilt.put_back,
        vanished: rebuilt.vanished,
        ..Counts::default()
    };
    Ok(Finished { file, counts, superseded: false, left_keys: rebuilt.left_keys })
}

fn not_kept(plan: &LoadPlan, mut files: Vec<String>) -> StoreError {
    files.sort();
    files.dedup();
    StoreError::NotKept { table: plan.table().to_owned(), files }
}

/// The files that counted before the change, and those that count from now on, in order.
fn files_of(
    target: &mut dyn RebuildTarget,
    plan: &LoadPlan,
    file: i64,
    since: i64,
) -> Result<(Vec<FileRows>, Vec<FileRows>), StoreError> {
    let mode = plan.mode();
    let mut files = files_in_force::in_force(target.ledger(), plan.table())?;
    let mut replaced = match plan.replaces {
        Some(replaced) => files_in_force::file(target.ledger(), replaced)?.into_iter().collect(),
        None => Vec::new(),
    };
    let whole = |file: &FileInForce| FileRows { file: file.clone(), until: None };
    order::sort(&mut files, mode);
    let after: Vec<FileRows> = files.iter().map(whole).collect();
    let is_own = |one: &FileInForce| one.file == file;
    if plan.resubmits.is_some() {
        let until = |one: &FileInForce| FileRows { until: is_own(one).then_some(since), file: one.clone() };
        return Ok((files.iter().map(until).collect(), after));
    }
    files.retain(|one| !is_own(one));
    files.append(&mut replaced);
    order::sort(&mut files, mode);
    Ok((files.iter().map(whole).collect(), after))
}

/// Makes the table what the newest delivery says.
fn replace(
    target: &mut dyn RebuildTarget,
    plan: &LoadPlan,
    file: i64,
    (before, after): (&[FileRows], &[FileRows]),
    outcomes: &mut Vec<(i64, String)>,
) -> Result<Finished, StoreError> {
    let newest = |rows: &[FileRows]| {
        let files: Vec<FileInForce> = rows.iter().map(|rows| rows.file.clone()).collect();
        (order::newest_delivery(&files), files)
    };
    let ((was, _), (is, files)) = (newest(before), newest(after));
    let mut added: Vec<i64> = is.iter().filter(|file| !was.contains(file)).copied().collect();
    let taken: Vec<i64> = was.iter().filter(|file| !is.contains(file)).copied().collect();
    let mut counts = Counts::default();
    let has_lineage = plan.tables.iter().all(|table| table.is_virtual || table.lineage.is_kept());
    // The first delivery takes the place of whatever is there.
    let whole = match was.is_empty() {
        true => !is.is_empty(),
        false => taken.len() == was.len() || !has_lineage && !taken.is_empty(),
    };
    if whole {
        added.clone_from(&is);
    }
    let missing: Vec<String> = files
        .iter()
        .filter(|one| added.contains(&one.file) && !one.is_kept && one.file != file)
        .map(|one| one.path.clone())
        .collect();
    if !missing.is_empty() {
        return Err(not_kept(plan, missing));
    }
    for table in plan.tables.iter().filter(|table| !table.is_virtual) {
        let name = target.table_sql(&table.table);
        if whole {
            counts.deleted += target.statement(&format!("DELETE FROM {name}"))?;
            continue;
        }
        for file in &taken {
            counts.deleted +=
                target.statement(&format!("DELETE FROM {name} WHERE {FILE_COLUMN} = {file}"))?;
        }
    }
    let own: Vec<i64> = added.iter().filter(|one| **one == file).copied().collect();
    let others: Vec<i64> = added.iter().filter(|one| **one != file).copied().collect();
    counts.inserted = bring_in(target, &plan.tables, &own)?;
    counts.restored = bring_in(target, &plan.tables, &others)?;
    *outcomes = files_in_force::set_superseded(target.ledger(), &files, &is)?;
    Ok(Finished { file, counts, superseded: !is.contains(&file), left_keys: Vec::new() })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::testing::{NOON, database, load, plan};

    /// A plan whose file stands at a day.
    fn of_day(path: &str, mode: Mode, day: &str) -> LoadPlan {
        let mut plan = plan(path, mode);
        plan.order.key = day.into();
        plan.order.effective = Some(NOON + i64::from(day.as_bytes().last().copied().unwrap_or_default()));
        plan
    }

    #[rstest]
    #[case::only_added(Mode::Append, "3", Route::Direct { empties: false })]
    #[case::in_order(Mode::Upsert, "7", Route::Direct { empties: false })]
    #[case::late(Mode::Upsert, "3", Route::Archive)]
    #[case::a_new_delivery(Mode::Replace, "7", Route::Direct { empties: true })]
    #[case::a_late_delivery(Mode::Replace, "3", Route::Archive)]
    #[case::versions_in_order(Mode::History, "7", Route::Direct { empties: false })]
    #[case::versions_late(Mode::History, "3", Route::Archive)]
    #[case::the_first_stays(Mode::InsertNew, "3", Route::Direct { empties: false })]
    fn rows_go_straight_into_their_table_where_the_file_comes_after_all_others(
        #[case] mode: Mode,
        #[case] day: &str,
        #[case] expected: Route,
    ) {
        let mut store = database();
        load(&mut store, &of_day("f_5.csv", mode, "5"), &[("1", "N1")]);
        let placed = place(&mut store, &of_day("f.csv", mode, day)).expect("placed");
        assert_eq!(placed.route, expected);
        assert_eq!(placed.keeps, expected == Route::Archive && mode != Mode::Replace);
    }

    #[rstest]
    #[case::upsert(Mode::Upsert)]
    #[case::insert_new(Mode::InsertNew)]
    #[case::history(Mode::History)]
    fn what_takes_the_place_of_another_goes_by_the_archive(#[case] mode: Mode) {
        let mut store = database();
        let (file, _) = load(&mut store, &of_day("f_5.csv", mode, "5"), &[("1", "N1")]);
        let mut again = of_day("f_5.csv", mode, "5");
        again.replaces = Some(file);
        assert_eq!(place(&mut store, &again).expect("placed").route, Route::Archive);
        again.retracts = true;
        let placed = place(&mut store, &again).expect("placed");
        assert_eq!((placed.route, placed.keeps), (Route::Archive, false));
    }

    #[test]
    fn a_file_whose_moment_is_not_said_holds_from_its_load_and_a_corrected_one_from_where_it_stood() {
        let mut store = database();
        let (file, _) = load(&mut store, &plan("a.csv", Mode::Upsert), &[("1", "N1")]);
        let first = place(&mut store, &plan("b.csv", Mode::Upsert)).expect("placed").order;
        assert_eq!(first.effective, Some(NOON + 1), "after the one before it");
        let mut again = plan("a.csv", Mode::Upsert);
        (again.replaces, again.arrival.modified, again.began) = (Some(file), NOON + 50, NOON + 90);
        let order = place(&mut store, &again).expect("placed").order;
        assert_eq!((order.modified, order.first, order.effective), (NOON, file, Some(NOON)));
    }

    #[test]
    fn a_table_gets_the_column_that_marks_keys_that_are_gone_once() {
        let mut store = database();
        load(&mut store, &plan("a.csv", Mode::Upsert), &[("1", "N1")]);
        let mut table = plan("a.csv", Mode::Upsert).tables.remove(0);
        table.marks_gone = true;
        for _ in 0..2 {
            mark_gone(&mut store, &table).expect("there");
            assert_eq!(store.has_column("moves", GONE_COLUMN).expect("a look"), Some(true));
        }
    }
}
