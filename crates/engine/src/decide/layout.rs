//! Decisions about a file by how it is written and how its columns fit its tables.

use hypodoke_core::drift::{
    Action, Change, Drift, HeaderPolicy, HeldChange, MissingSheet, NewColumn, Policy, RenamedColumn,
};
use hypodoke_core::types::Type;

use super::{FailReason, FileDecision, HoldReason};
use crate::file_format::FileFormat;

/// Decides about a file without the header it used to have, or with one it had not, and about one
/// without a header that has another number of columns. `before` is the file loaded last.
pub fn on_header(now: &FileFormat, before: &FileFormat, policy: &Policy) -> FileDecision {
    if policy.header == HeaderPolicy::ByPlace {
        return FileDecision::load();
    }
    let reason = match now.has_header() {
        Some(false) if is_out_of_step(now, before) => HoldReason::HeaderGone,
        _ if is_out_of_step(now, before) => HoldReason::HeaderAppeared,
        Some(false) if before.names.len() != now.names.len() => {
            HoldReason::OtherWidth { now: now.names.len(), before: before.names.len() }
        }
        _ => return FileDecision::load(),
    };
    FileDecision::Hold(vec![reason])
}

/// Whether columns are to be matched with those of the table by their place: a header is gone
/// or has appeared, and the policy says so.
pub fn goes_by_place(now: &FileFormat, before: &FileFormat, policy: &Policy) -> bool {
    policy.header == HeaderPolicy::ByPlace && is_out_of_step(now, before)
}

/// Whether columns cannot be matched by name with those of the file before: a header is gone, or has
/// appeared.
fn is_out_of_step(now: &FileFormat, before: &FileFormat) -> bool {
    let same = || before.names == now.names;
    match (before.has_header(), now.has_header()) {
        (Some(_), Some(false)) => before.names.iter().any(|name| !name.is_empty()),
        (Some(false), Some(true)) => !same(),
        (Some(true), Some(true)) => before.by_place && !same(),
        _ => false,
    }
}

/// A sheet or a nested list that the tables know nothing of.
#[derive(Clone, Copy, Debug)]
pub struct PartFacts<'a> {
    /// Its path in the file.
    pub path: &'a str,
    /// The table that it would go to.
    pub table: &'a str,
    /// Its rows are parts of the main table's records.
    pub is_child: bool,
    /// A part that is gone and had the same columns.
    pub like: Option<&'a str>,
    /// It was an object until now, with columns in the main table.
    pub was_object: bool,
    /// The feed's policy.
    pub policy: &'a Policy,
}

/// What is done about a new sheet or list, or one that is missing.
#[derive(Clone, Debug, PartialEq)]
pub struct PartDecision {
    /// The change, with what is done about it.
    pub drift: Drift,
    /// Why the file is held for it, if it is.
    pub hold: Option<HoldReason>,
}

/// Decides about a new sheet or list.
pub fn new_part(facts: PartFacts<'_>) -> PartDecision {
    let change = Change::Part { column: facts.path.to_owned(), to: facts.table.to_owned() };
    let path = facts.path.to_owned();
    let hold = match facts.like {
        Some(gone) if facts.policy.renamed_column == RenamedColumn::Hold && !facts.is_child => {
            Some(HoldReason::RenamedPart { gone: gone.to_owned(), new: path })
        }
        _ if facts.policy.new_column == NewColumn::Hold => {
            Some(HoldReason::NewPart { path, was_object: facts.was_object })
        }
        _ => None,
    };
    let action = if hold.is_some() { Action::Held } else { Action::Added };
    PartDecision { drift: Drift::of(change, action), hold }
}

/// What is done about a sheet that the tables know and a file lacks.
pub fn missing_sheet(path: &str, policy: &Policy) -> PartDecision {
    let path = path.to_owned();
    let is_held = policy.missing_sheet == MissingSheet::Hold;
    let action = if is_held { Action::Held } else { Action::Noted };
    let drift = Drift::of(Change::MissingSheet { column: path.clone() }, action);
    PartDecision { drift, hold: is_held.then_some(HoldReason::MissingSheet { path }) }
}

/// The reasons of changes that the policy does not let through.
pub fn on_changes(held: impl IntoIterator<Item = HeldChange>) -> impl Iterator<Item = HoldReason> {
    held.into_iter().map(HoldReason::Change)
}

/// Decides about a file that has so many (`common`) of the `columns` of the files before it, by whether that
/// makes it one of another layout, and by the table that has most of its columns, where there is one.
pub fn on_likeness(
    is_other: bool,
    common: usize,
    columns: usize,
    nearest: Option<String>,
) -> Option<HoldReason> {
    (is_other || nearest.is_some()).then_some(HoldReason::OtherLayout { common, columns, nearest })
}

/// Whether a file that has so many of the columns of the files before it, which have so many, is of another
/// layout altogether: it has none of them, or lacks most and has as many others.
///
/// ```
/// use hypodoke_engine::decide::is_other_layout;
///
/// // One column in common of the five that the files before had, and five others.
/// assert!(is_other_layout(1, 5, 6));
/// assert!(!is_other_layout(4, 5, 6));
/// ```
pub fn is_other_layout(common: usize, columns: usize, own: usize) -> bool {
    common == 0 && columns > 0 && own > 0 || common * 2 < columns && common * 2 <= own
}

/// What is known of how a file's columns fit its tables.
#[derive(Clone, Debug)]
pub struct LayoutFacts<'a> {
    /// What the policy does not let through, of all its tables.
    pub held: Vec<HoldReason>,
    /// How its main table differs, with what is done about it.
    pub drift: &'a [Drift],
    /// How it is written.
    pub now: &'a FileFormat,
    /// The feed's policy.
    pub policy: &'a Policy,
}

/// Decides by how the columns fit.
pub fn on_layout(facts: LayoutFacts<'_>) -> FileDecision {
    let mut reasons = facts.held;
    if let Some(reason) = columns_changed_places(facts.drift, facts.now, facts.policy) {
        // It says why their values are of another kind.
        reasons.retain(|held| !matches!(held, HoldReason::Change(HeldChange::OtherKind { .. })));
        reasons.insert(0, reason);
    }
    if reasons.is_empty() { FileDecision::load() } else { FileDecision::Hold(reasons) }
}

/// A file without a header two or more of whose columns no longer hold what they held.
fn columns_changed_places(drift: &[Drift], now: &FileFormat, policy: &Policy) -> Option<HoldReason> {
    if now.has_header() != Some(false) || policy.header == HeaderPolicy::ByPlace {
        return None;
    }
    let other_kind = |drift: &Drift| match &drift.change {
        Change::Widened { column, from, .. } if *from != Type::Unknown => Some(column.clone()),
        Change::OtherKind { column, .. } if drift.action == Action::Held => Some(column.clone()),
        _ => None,
    };
    let columns: Vec<String> = drift.iter().filter_map(other_kind).collect();
    (columns.len() > 1).then_some(HoldReason::ColumnsChangedPlaces(columns))
}

/// Decides by how many columns a table would have: its own (`columns`) and those of lineage. The
/// database takes so many at the `most`.
pub fn on_width(columns: usize, lineage: usize, most: usize, database: &str) -> FileDecision {
    if columns + lineage > most {
        return FileDecision::Fail(FailReason::TooManyColumns {
            columns,
            most,
            database: database.to_owned(),
        });
    }
    FileDecision::load()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn text(names: &[&str], header_lines: usize) -> FileFormat {
        FileFormat {
            format: "text".into(),
            header_lines: Some(header_lines),
            names: names.iter().map(|name| (*name).to_owned()).collect(),
            ..FileFormat::default()
        }
    }

    #[rstest]
    #[case::gone(1, 0, 2, Some(HoldReason::HeaderGone))]
    #[case::appeared(0, 1, 2, Some(HoldReason::HeaderAppeared))]
    #[case::never_any(0, 0, 2, None)]
    #[case::other_width(0, 0, 3, Some(HoldReason::OtherWidth { now: 3, before: 2 }))]
    fn headers_that_come_and_go_hold_a_file(
        #[case] before: usize,
        #[case] now: usize,
        #[case] width: usize,
        #[case] expected: Option<HoldReason>,
    ) {
        let named = |lines: usize, names: [&'static str; 3], width: usize| {
            let names = if lines > 0 { names } else { [""; 3] };
            text(&names[..width], lines)
        };
        let before = named(before, ["a", "b", "c"], 2);
        let now = named(now, ["x", "y", "z"], width);
        let expected = expected.map_or(FileDecision::load(), |reason| FileDecision::Hold(vec![reason]));
        assert_eq!(on_header(&now, &before, &Policy::default()), expected);
        let by_place = Policy { header: HeaderPolicy::ByPlace, ..Policy::default() };
        assert_eq!(on_header(&now, &before, &by_place), FileDecision::load());
    }

    #[rstest]
    #[case::added(NewColumn::Add, RenamedColumn::Hold, None, None)]
    #[case::held(NewColumn::Hold, RenamedColumn::Hold, None, Some(HoldReason::NewPart { path: "north".into(), was_object: false }))]
    #[case::renamed(NewColumn::Add, RenamedColumn::Hold, Some("quay"), Some(HoldReason::RenamedPart { gone: "quay".into(), new: "north".into() }))]
    #[case::apart(NewColumn::Add, RenamedColumn::Apart, Some("quay"), None)]
    fn a_new_sheet_goes_by_policy(
        #[case] new_column: NewColumn,
        #[case] renamed_column: RenamedColumn,
        #[case] like: Option<&str>,
        #[case] hold: Option<HoldReason>,
    ) {
        let policy = &Policy { new_column, renamed_column, ..Policy::default() };
        let facts =
            PartFacts { path: "north", table: "t_north", is_child: false, like, was_object: false, policy };
        let part = new_part(facts);
        assert_eq!(part.drift.action, if hold.is_some() { Action::Held } else { Action::Added });
        assert_eq!(part.hold, hold);
    }

    #[rstest]
    #[case::the_same(5, 5, 5, false)]
    #[case::some_gone(3, 5, 3, false)]
    #[case::most_gone(2, 5, 6, true)]
    #[case::most_gone_and_nothing_else(2, 5, 2, false)]
    #[case::none(0, 5, 4, true)]
    #[case::of_one(0, 1, 1, true)]
    #[case::no_columns_before(0, 0, 3, false)]
    fn a_file_of_another_layout_is_told(
        #[case] common: usize,
        #[case] columns: usize,
        #[case] own: usize,
        #[case] expected: bool,
    ) {
        assert_eq!(is_other_layout(common, columns, own), expected);
    }

    #[rstest]
    #[case(1, false)]
    #[case(2, true)]
    fn columns_that_changed_places_are_told_by_two_of_another_kind(#[case] many: usize, #[case] held: bool) {
        let widened = |at: usize| {
            Drift::noted(Change::Widened { column: format!("c{at}"), from: Type::Integer, to: Type::Text })
        };
        let drift: Vec<Drift> = (0..many).map(widened).collect();
        let (now, policy) = (&text(&["", ""], 0), &Policy::default());
        let decision = on_layout(LayoutFacts { held: Vec::new(), drift: &drift, now, policy });
        assert_eq!(matches!(decision, FileDecision::Hold(_)), held);
    }

    #[rstest]
    #[case(1997, true)]
    #[case(1998, true)]
    #[case(1999, false)]
    fn a_table_is_as_wide_as_the_database_lets_it(#[case] columns: usize, #[case] fits: bool) {
        assert_eq!(on_width(columns, 2, 2000, "sqlite:x.db") == FileDecision::load(), fits);
    }
}
