//! Which columns could be a key: unique and never null over all files of a layout, and by what they are
//! called and hold such that a person would take them for one.

use std::collections::HashSet;
use std::hash::{BuildHasher, Hasher, RandomState};

use hypodoke_core::evidence::ColumnReport;
use hypodoke_core::names::match_key;
use hypodoke_core::types::Type;

use super::group::Group;
use crate::event::Silent;
use crate::isolate::isolated;
use crate::job::{Candidate, Feed};
use crate::profile::Source;

/// The most rows over which uniqueness is proved: each costs some bytes of memory.
const MOST_ROWS: u64 = 5_000_000;

/// The most rows over which combinations of columns are tried, and how many of them.
const MOST_ROWS_COMBINED: u64 = 400_000;
const MOST_COMBINED: usize = 40;

/// With fewer rows than these anything may differ by chance.
const ENOUGH_ROWS: u64 = 10;

/// The most columns that are combined.
const MOST_COLUMNS: usize = 3;

/// How many columns, from the first on, may be parts of a key.
const FIRST_COLUMNS: usize = 10;

/// The words of names that keys have, in a few languages.
const KEY_WORDS: [&str; 22] = [
    "id",
    "ids",
    "no",
    "nr",
    "num",
    "number",
    "nummer",
    "key",
    "code",
    "ref",
    "reference",
    "uuid",
    "guid",
    "pk",
    "seq",
    "sequence",
    "serial",
    "ident",
    "identifier",
    "numero",
    "numéro",
    "kennung",
];

/// Words at the end of names that are written in one: `movementid`, `BelegNr`.
const KEY_ENDINGS: [&str; 3] = ["id", "nr", "no"];

/// The columns that tell the rows of a layout apart, if there are such: a column that is called or behaves
/// like a key, or the smallest combination of what identifies (days, places, names). The estimates are
/// proved on all rows.
pub fn find_key(group: &Group, files: &[Candidate], feed: &Feed) -> Vec<String> {
    if group.rows == 0 || group.rows > MOST_ROWS {
        return Vec::new();
    }
    let named = |at: &usize| group.columns.get(*at).map(|column| column.name.clone());
    let candidates = candidates(group);
    let unique = isolated(|| first_unique(&candidates, group, files, feed)).ok().flatten();
    let key = unique.and_then(|at| candidates.get(at).cloned());
    key.map(|columns| columns.iter().filter_map(named).collect()).unwrap_or_default()
}

/// Sets of columns that may be a key, the likeliest first.
fn candidates(group: &Group) -> Vec<Vec<usize>> {
    let is_whole = |column: &ColumnReport| column.nulls == 0 && column.rows == group.rows;
    let identifies = |column: &ColumnReport| {
        let fits = matches!(
            column.ty,
            Type::Integer | Type::Text | Type::Uuid | Type::Date | Type::Timestamp | Type::TimestampTz
        );
        fits && is_whole(column) && column.max_length <= 64
    };
    let rows = group.rows as f64;
    let columns = group.columns.iter().enumerate().filter(|(_, column)| identifies(column));
    let (mut single, mut parts) = (Vec::new(), Vec::new());
    for (at, column) in columns {
        if column.distinct as f64 >= rows * 0.93 && is_like_key(column, at, group.rows) {
            single.push(at);
        }
        // What all rows have in common tells none of them apart, and what differs in each by chance says
        // nothing.
        let is_by_chance = column.distinct as f64 >= rows * 0.93 && !is_temporal(column.ty);
        if at < FIRST_COLUMNS && column.distinct > 1 && !is_measure(column) && !is_by_chance {
            parts.push(at);
        }
    }
    single.sort_by_key(|at| (!group.columns.get(*at).is_some_and(|column| has_key_name(&column.name)), *at));
    let mut all: Vec<Vec<usize>> = single.into_iter().map(|at| vec![at]).collect();
    if (ENOUGH_ROWS..=MOST_ROWS_COMBINED).contains(&group.rows) {
        all.extend(combined(group, &parts));
    }
    all
}

/// Combinations of two and three columns that have enough values between them: those with a day first.
fn combined(group: &Group, parts: &[usize]) -> Vec<Vec<usize>> {
    let is_day = |at: &usize| group.columns.get(*at).is_some_and(|column| is_temporal(column.ty));
    let distinct = |at: &usize| group.columns.get(*at).map_or(1, |column| column.distinct) as f64;
    let is_enough = |set: &Vec<usize>| set.iter().map(distinct).product::<f64>() >= group.rows as f64;
    let mut sets: Vec<Vec<usize>> = Vec::new();
    for (nth, first) in parts.iter().enumerate() {
        for (mth, second) in parts.iter().enumerate().skip(nth + 1) {
            sets.push(vec![*first, *second]);
            sets.extend(parts.iter().skip(mth + 1).map(|third| vec![*first, *second, *third]));
        }
    }
    sets.retain(|set| set.len() <= MOST_COLUMNS && is_enough(set));
    sets.sort_by_key(|set| (set.len(), !set.iter().any(is_day), set.clone()));
    sets.truncate(MOST_COMBINED);
    sets
}

/// Whether a column that is unique is called like a key, or counts the rows, or is made to be unique.
fn is_like_key(column: &ColumnReport, at: usize, rows: u64) -> bool {
    let bound = |text: &Option<String>| text.as_deref().and_then(|text| text.parse::<i128>().ok());
    let counts = match (column.ty, bound(&column.min), bound(&column.max)) {
        (Type::Integer, Some(least), Some(greatest)) => greatest - least < i128::from(rows) * 3,
        _ => false,
    };
    let is_counted = at == 0 && counts || is_temporal(column.ty);
    column.ty == Type::Uuid || has_key_name(&column.name) || is_counted && rows >= ENOUGH_ROWS
}

fn is_temporal(ty: Type) -> bool {
    matches!(ty, Type::Date | Type::Timestamp | Type::TimestampTz)
}

/// Whether a name says that it is a key.
fn has_key_name(name: &str) -> bool {
    let lower = name.to_lowercase();
    let mut words = lower.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty());
    let is_word = words.any(|word| KEY_WORDS.contains(&word));
    is_word
        || KEY_ENDINGS.iter().any(|ending| lower.len() > ending.len() + 2 && name.ends_with(&capital(ending)))
}

/// `id` as `Id`, as it stands at the end of a name written in one.
fn capital(word: &str) -> String {
    let mut chars = word.chars();
    chars.next().map(|first| first.to_uppercase().chain(chars).collect()).unwrap_or_default()
}

/// Whether a column counts or measures: whole numbers with many values, which are no day and no code.
fn is_measure(column: &ColumnReport) -> bool {
    column.ty == Type::Integer && !has_key_name(&column.name) && column.distinct > 50
}

/// The first of these sets of columns of which no two rows have the same values.
fn first_unique(candidates: &[Vec<usize>], group: &Group, files: &[Candidate], feed: &Feed) -> Option<usize> {
    let hasher = RandomState::new();
    let mut seen: Vec<Option<HashSet<u64>>> = candidates.iter().map(|_| Some(HashSet::new())).collect();
    let (mut batch, mut text) = (Vec::new(), Vec::new());
    for file in &group.files {
        let mut source = Source::open(files.get(*file)?, feed, false, &[], &Silent).ok()?;
        while source.reader.next(&mut batch).ok()? {
            let heads = source.reader.tables();
            let table = heads.iter().position(|head| head.path == group.path).unwrap_or(0);
            let (Some(head), Some(records)) = (heads.get(table), batch.get(table)) else { continue };
            let places = places(group, &head.names);
            for (set, seen) in candidates.iter().zip(&mut seen) {
                let Some(values) = seen else { continue };
                let at: Option<Vec<usize>> = set.iter().map(|column| *places.get(*column)?).collect();
                let Some(at) = at else {
                    *seen = None;
                    continue;
                };
                let is_new = |row: usize| {
                    if records.fault(row).is_some() || records.fields(row).len() < head.names.len() {
                        return true;
                    }
                    let mut state = hasher.build_hasher();
                    for column in &at {
                        let value = records.text(row, *column, &mut text).map(|(value, _)| value);
                        state.write(value.unwrap_or_default());
                        state.write_u8(0xff);
                    }
                    // Two values of one hash would only hide a key, not invent one.
                    values.insert(state.finish())
                };
                if !(0..records.len()).all(is_new) {
                    *seen = None;
                }
            }
            if seen.iter().all(Option::is_none) {
                return None;
            }
        }
    }
    seen.iter().position(Option::is_some)
}

/// Where in a file's records the columns of the layout stand: by their names, or by their places where
/// the file has none.
fn places(group: &Group, names: &[String]) -> Vec<Option<usize>> {
    let place = |(at, column): (usize, &ColumnReport)| {
        let key = match_key(&column.source);
        let by_name = names.iter().position(|name| !name.is_empty() && match_key(name) == key);
        by_name.or_else(|| names.get(at).filter(|name| name.is_empty()).map(|_| at))
    };
    group.columns.iter().enumerate().map(place).collect()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("movement_id", true)]
    #[case("Beleg Nr", true)]
    #[case("belegNr", true)]
    #[case("imo no", true)]
    #[case("paid", false)]
    #[case("draught", false)]
    #[case("voided", false)]
    fn names_of_keys_are_told(#[case] name: &str, #[case] expected: bool) {
        assert_eq!(has_key_name(name), expected);
    }
}
