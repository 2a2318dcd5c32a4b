//! What a table holds by the law: its files in force, in order, loaded into an empty table.

use std::collections::BTreeMap;

use hypodoke_stores::{Mode, Vanished};

use crate::life::Row;

/// A file as the model knows it.
#[derive(Clone)]
pub struct ModelFile {
    pub name: String,
    pub day: u8,
    /// When its first version was modified.
    pub modified: u64,
    /// When it came, among all.
    pub arrived: usize,
    pub rows: Vec<Row>,
    /// Its rejects were corrected.
    pub mended: bool,
    /// The contents whose rejects were corrected: where one comes again, its corrections come along.
    pub corrected: Vec<Vec<Row>>,
    pub in_force: bool,
    /// When the version was modified that was taken in last.
    pub seen: u64,
}

impl ModelFile {
    /// Its rows count from now on, and are these.
    pub fn load(&mut self, rows: &[Row]) {
        self.rows = rows.to_vec();
        (self.mended, self.in_force) = (self.corrected.contains(&self.rows), true);
    }
}

/// What a corrected reject says.
pub const MENDED: u8 = 9;

/// A kind of feed.
#[derive(Clone, Copy, Debug)]
pub struct Kind {
    pub mode: Mode,
    pub vanished: Vanished,
    /// Files have the day in their names.
    pub dated: bool,
    pub shape: Shape,
}

/// What files are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    /// Delimited text.
    Flat,
    /// JSON lines with a list in each record.
    Nested,
    /// Workbooks of two sheets: rows with an even number of legs stand in the first.
    Sheets,
}

/// What keys of the second sheet count from.
pub const SECOND_SHEET: u8 = 10;

impl std::fmt::Debug for ModelFile {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let rows: Vec<String> =
            self.rows.iter().map(|row| format!("{}={:?}{:?}", row.key, row.value, row.legs)).collect();
        let ModelFile { name, modified, arrived, mended, in_force, .. } = self;
        write!(
            out,
            "{name} at {modified} arrived {arrived} mended {mended} in force {in_force}: {}",
            rows.join(" ")
        )
    }
}

impl ModelFile {
    /// The rows that count: each with its value.
    fn counted(&self, shape: Shape) -> Vec<(u8, String)> {
        let legs =
            |row: &Row| if shape == Shape::Nested { format!(" {:?}", row.legs) } else { String::new() };
        let value = |row: &Row| row.value.or(self.mended.then_some(MENDED));
        let counted = |row: &Row| Some((key_of(row, shape), format!("{}{}", value(row)?, legs(row))));
        self.rows.iter().filter_map(counted).collect()
    }

    /// What it says of a key: of one file the last row.
    fn says(&self, shape: Shape, key: u8) -> Said {
        if let Some((_, value)) = self.counted(shape).into_iter().rfind(|(known, _)| *known == key) {
            return Said::Value(value);
        }
        let has_key = self.rows.iter().any(|row| key_of(row, shape) == key);
        if has_key { Said::Rejected } else { Said::Absent }
    }
}

/// What a file says of a key.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Said {
    /// It has a row of it.
    Value(String),
    /// It has a row of it that is rejected: the key is in the file, and has not vanished.
    Rejected,
    /// It does not hold it.
    Absent,
}

fn key_of(row: &Row, shape: Shape) -> u8 {
    match shape {
        Shape::Sheets if row.legs.len() % 2 == 1 => row.key + SECOND_SHEET,
        _ => row.key,
    }
}

/// The rows of the table, sorted.
pub fn table(kind: Kind, files: &[ModelFile]) -> Vec<String> {
    let mut files: Vec<&ModelFile> = files.iter().filter(|file| file.in_force).collect();
    match kind.mode {
        Mode::InsertNew => files.sort_by_key(|file| file.arrived),
        _ if kind.dated => files.sort_by_key(|file| (file.day, file.modified, file.name.clone())),
        _ => files.sort_by_key(|file| (file.modified, file.name.clone())),
    }
    let mut rows = match kind.mode {
        Mode::Append => all(kind, &files),
        Mode::Replace => all(kind, files.last().map(std::slice::from_ref).unwrap_or_default()),
        _ => keyed(kind, &files),
    };
    rows.sort();
    rows
}

fn all(kind: Kind, files: &[&ModelFile]) -> Vec<String> {
    let shown = |(key, value): (u8, String)| format!("{key} {value}");
    files.iter().flat_map(|file| file.counted(kind.shape)).map(shown).collect()
}

fn keyed(kind: Kind, files: &[&ModelFile]) -> Vec<String> {
    let mut shown = Vec::new();
    for key in 0..SECOND_SHEET + 5 {
        let said: Vec<(u8, Said)> = files.iter().map(|file| (file.day, file.says(kind.shape, key))).collect();
        shown.extend(of_key(kind, &said).into_iter().map(|text| format!("{key} {text}")));
    }
    shown
}

fn of_key(kind: Kind, said: &[(u8, Said)]) -> Vec<String> {
    match kind.mode {
        Mode::InsertNew => {
            let first = said.iter().find_map(|(_, said)| match said {
                Said::Value(value) => Some(value.clone()),
                _ => None,
            });
            first.into_iter().collect()
        }
        Mode::Upsert => latest(kind, said).into_iter().collect(),
        _ => versions(kind, said),
    }
}

fn latest(kind: Kind, said: &[(u8, Said)]) -> Option<String> {
    let mut current: Option<(String, bool)> = None;
    for (_, said) in said {
        current = match (said, kind.vanished) {
            (Said::Value(value), _) => Some((value.clone(), false)),
            (Said::Rejected, _) | (Said::Absent, Vanished::Keep) => current,
            (Said::Absent, Vanished::Mark) => current.map(|(value, _)| (value, true)),
            (Said::Absent, _) => None,
        };
    }
    current.map(|(value, is_gone)| if is_gone { format!("{value} gone") } else { value })
}

fn versions(kind: Kind, said: &[(u8, Said)]) -> Vec<String> {
    // Of one day the last word stands; without days each file is a moment of its own.
    let mut by_moment: BTreeMap<usize, Option<String>> = BTreeMap::new();
    for (at, (day, said)) in said.iter().enumerate() {
        let moment = if kind.dated { usize::from(*day) } else { at };
        match said {
            Said::Value(value) => drop(by_moment.insert(moment, Some(value.clone()))),
            Said::Absent if kind.vanished == Vanished::Close => drop(by_moment.insert(moment, None)),
            _ => {}
        }
    }
    let mut versions: Vec<(String, usize, Option<usize>)> = Vec::new();
    for (moment, value) in by_moment {
        let current = versions.last_mut().filter(|(_, _, to)| to.is_none());
        match (value, current) {
            (Some(value), Some((known, _, _))) if *known == value => {}
            (value, current) => {
                if let Some((_, _, to)) = current {
                    *to = Some(moment);
                }
                versions.extend(value.map(|value| (value, moment, None)));
            }
        }
    }
    let day = |moment: usize| if kind.dated { format!("2026-03-{:02}", moment + 1) } else { String::new() };
    let shown = |(value, from, to): (String, usize, Option<usize>)| {
        format!("{value} [{}, {})", day(from), to.map_or("now".to_owned(), day))
    };
    versions.into_iter().map(shown).collect()
}
