//! What a table holds of one key, as its files say one after another.

use crate::load_plan::{FoldRules, Mode, Vanished};

/// What one file says of a key.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Version {
    /// The file, by its place in the order.
    pub file: usize,
    /// The row, by its place among those in memory.
    pub row: usize,
    /// From when on it holds.
    pub effective: i64,
}

/// A row of the table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct TableRow {
    /// The row, by its place among those in memory.
    pub row: usize,
    /// In `history`, from when on it holds.
    pub from: Option<i64>,
    /// In `history`, until when; else since when a full delivery no longer holds it, where it is marked.
    pub to: Option<i64>,
}

/// What happens to a key in a file.
#[derive(Clone, Copy)]
enum KeyEvent {
    Holds(usize),
    Gone,
}

/// The rows of one key. `versions` are in the order of files and lines; `takes_out` says for each file, in
/// their order, from when on the key is gone where the file does not hold it: `None` for a file that does
/// not say whether it holds the key. `is_same` tells whether two rows say the same.
pub fn fold(
    rules: FoldRules,
    versions: &[Version],
    takes_out: &[Option<i64>],
    is_same: &dyn Fn(usize, usize) -> bool,
) -> Vec<TableRow> {
    match rules.mode {
        Mode::InsertNew => {
            // Of one file the last row counts, of all files the first.
            let first = versions.first().map(|version| version.file);
            let row = versions.iter().rfind(|version| Some(version.file) == first);
            row.map(|version| TableRow { row: version.row, from: None, to: None }).into_iter().collect()
        }
        Mode::History => history(&events(rules, versions, takes_out), is_same),
        _ => latest(rules, &events(rules, versions, takes_out), is_same).into_iter().collect(),
    }
}

/// What is said of the key, one thing at a time: of one file and moment the last.
fn events(rules: FoldRules, versions: &[Version], takes_out: &[Option<i64>]) -> Vec<(i64, KeyEvent)> {
    let mut events: Vec<((usize, i64), KeyEvent)> = Vec::new();
    for version in versions {
        let at = (version.file, version.effective);
        match events.iter_mut().rfind(|(known, _)| *known == at) {
            Some((_, last)) => *last = KeyEvent::Holds(version.row),
            None => events.push((at, KeyEvent::Holds(version.row))),
        }
    }
    if rules.vanished != Vanished::Keep {
        let holds = |file: usize| versions.iter().any(|version| version.file == file);
        let gone = takes_out.iter().enumerate().filter(|(file, _)| !holds(*file));
        events.extend(gone.filter_map(|(file, moment)| Some(((file, (*moment)?), KeyEvent::Gone))));
        events.sort_by_key(|((file, moment), _)| (*file, *moment));
    }
    events.into_iter().map(|((_, moment), what)| (moment, what)).collect()
}

/// The row that stands, where later ones take the place of earlier ones.
fn latest(
    rules: FoldRules,
    events: &[(i64, KeyEvent)],
    is_same: &dyn Fn(usize, usize) -> bool,
) -> Option<TableRow> {
    let mut current: Option<TableRow> = None;
    for (moment, what) in events {
        current = match (what, current) {
            (KeyEvent::Holds(row), Some(known)) if known.to.is_none() && is_same(known.row, *row) => {
                Some(known)
            }
            (KeyEvent::Holds(row), _) => Some(TableRow { row: *row, from: None, to: None }),
            (KeyEvent::Gone, Some(known)) if rules.vanished == Vanished::Mark => {
                Some(TableRow { to: known.to.or(Some(*moment)), ..known })
            }
            (KeyEvent::Gone, _) => None,
        };
    }
    current
}

/// The versions of a key: each holds until the next begins.
fn history(events: &[(i64, KeyEvent)], is_same: &dyn Fn(usize, usize) -> bool) -> Vec<TableRow> {
    let mut by_moment: Vec<(i64, KeyEvent)> = events.to_vec();
    by_moment.sort_by_key(|(moment, _)| *moment);
    let mut rows: Vec<TableRow> = Vec::new();
    for (at, (moment, what)) in by_moment.iter().enumerate() {
        // What is said later of the same moment stands.
        if by_moment.get(at + 1).is_some_and(|(next, _)| next == moment) {
            continue;
        }
        let current = rows.last_mut().filter(|row| row.to.is_none());
        match (what, current) {
            (KeyEvent::Holds(row), Some(current)) if is_same(current.row, *row) => {}
            (KeyEvent::Holds(row), current) => {
                if let Some(current) = current {
                    current.to = Some(*moment);
                }
                rows.push(TableRow { row: *row, from: Some(*moment), to: None });
            }
            (KeyEvent::Gone, Some(current)) => current.to = Some(*moment),
            (KeyEvent::Gone, None) => {}
        }
    }
    rows
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// A week of one key: in each file the value that it has there, `-` where it is not held, `?` where that is
    /// not known.
    fn week(rules: FoldRules, files: &str) -> String {
        let values: Vec<char> = files.chars().collect();
        let held = values.iter().enumerate().filter(|(_, value)| !"-?".contains(**value));
        let versions: Vec<Version> =
            held.map(|(at, _)| Version { file: at, row: at, effective: at as i64 }).collect();
        let moment = |(at, value): (usize, &char)| (*value != '?').then_some(at as i64);
        let takes_out: Vec<Option<i64>> = values.iter().enumerate().map(moment).collect();
        let rows = fold(rules, &versions, &takes_out, &|a, b| values[a] == values[b]);
        let shown = |row: &TableRow| {
            let moment = |moment: Option<i64>| moment.map_or(String::new(), |moment| moment.to_string());
            format!("{}{}[{},{})", values[row.row], row.row, moment(row.from), moment(row.to))
        };
        rows.iter().map(shown).collect::<Vec<_>>().join(" ")
    }

    #[rstest]
    #[case::first_stays(Mode::InsertNew, Vanished::Keep, "abc", "a0[,)")]
    #[case::last_wins(Mode::Upsert, Vanished::Keep, "abc", "c2[,)")]
    #[case::same_again_changes_nothing(Mode::Upsert, Vanished::Keep, "abb-", "b1[,)")]
    #[case::back_again(Mode::Upsert, Vanished::Keep, "aba", "a2[,)")]
    #[case::deleted(Mode::Upsert, Vanished::Delete, "ab-", "")]
    #[case::marked(Mode::Upsert, Vanished::Mark, "ab--", "b1[,2)")]
    #[case::returned(Mode::Upsert, Vanished::Mark, "ab-b", "b3[,)")]
    #[case::versions(Mode::History, Vanished::Keep, "abbc", "a0[0,1) b1[1,3) c3[3,)")]
    #[case::gaps_are_no_end(Mode::History, Vanished::Keep, "a-a-b", "a0[0,4) b4[4,)")]
    #[case::closed(Mode::History, Vanished::Close, "ab-b", "a0[0,1) b1[1,2) b3[3,)")]
    #[case::deleted_or_not(Mode::Upsert, Vanished::Delete, "ab?", "b1[,)")]
    #[case::deleted_before(Mode::Upsert, Vanished::Delete, "a-?", "")]
    #[case::marked_before(Mode::Upsert, Vanished::Mark, "a-?", "a0[,1)")]
    #[case::marked_or_not(Mode::Upsert, Vanished::Mark, "ab?-", "b1[,3)")]
    #[case::closed_or_not(Mode::History, Vanished::Close, "a?-", "a0[0,2)")]
    #[case::never_there(Mode::History, Vanished::Close, "---", "")]
    fn a_key_is_what_its_files_say(
        #[case] mode: Mode,
        #[case] vanished: Vanished,
        #[case] files: &str,
        #[case] expected: &str,
    ) {
        assert_eq!(week(FoldRules { mode, vanished }, files), expected);
    }

    #[test]
    fn versions_of_one_moment_are_one_and_those_of_a_column_stand_by_their_own() {
        let rules = FoldRules { mode: Mode::History, ..FoldRules::default() };
        let version = |file: usize, row: usize, effective: i64| Version { file, row, effective };
        let versions = [version(0, 0, 5), version(0, 1, 2), version(1, 2, 5), version(1, 3, 2)];
        let rows = fold(rules, &versions, &[None, None], &|a, b| a == b);
        let expected =
            [TableRow { row: 3, from: Some(2), to: Some(5) }, TableRow { row: 2, from: Some(5), to: None }];
        assert_eq!(rows, expected);
    }
}
