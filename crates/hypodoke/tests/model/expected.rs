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
        let key = |row: &Row| match shape {
            Shape::Sheets if row.legs.len() % 2 == 1 => row.key + SECOND_SHEET,
            _ => row.key,
        };
        self.rows.iter().filter_map(|row| Some((key(row), format!("{}{}", value(row)?, legs(row))))).collect()
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
        // What each file says of the key: of one file the last row.
        let said: Vec<(u8, Option<String>)> = files
            .iter()
            .map(|file| {
                let own = file.counted(kind.shape).into_iter().rfind(|(known, _)| *known == key);
                (file.day, own.map(|(_, value)| value))
            })
            .collect();
        shown.extend(of_key(kind, &said).into_iter().map(|text| format!("{key} {text}")));
    }
    shown
}

fn of_key(kind: Kind, said: &[(u8, Option<String>)]) -> Vec<String> {
    let is_kept = kind.vanished == Vanished::Keep;
    match kind.mode {
        Mode::InsertNew => said.iter().find_map(|(_, value)| value.clone()).into_iter().collect(),
        Mode::Upsert => {
            let last = said.iter().rev().find_map(|(_, value)| value.clone());
            let is_gone = !is_kept && said.last().is_some_and(|(_, value)| value.is_none());
            match (last, is_gone) {
                (Some(value), false) => vec![value],
                (Some(value), true) if kind.vanished == Vanished::Mark => vec![format!("{value} gone")],
                _ => Vec::new(),
            }
        }
        _ => versions(kind, said),
    }
}

fn versions(kind: Kind, said: &[(u8, Option<String>)]) -> Vec<String> {
    // Of one day the last word stands; without days each file is a moment of its own.
    let mut by_moment: BTreeMap<usize, Option<String>> = BTreeMap::new();
    for (at, (day, value)) in said.iter().enumerate() {
        let moment = if kind.dated { usize::from(*day) } else { at };
        if value.is_some() || kind.vanished == Vanished::Close {
            by_moment.insert(moment, value.clone());
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
