//! In which order a feed's files are loaded, and which of them together.
//!
//! Where rows are only added the order is that of their paths. Where later rows take the place of
//! earlier ones, the oldest file comes first: by the day in its name, then by when it was modified.

use hypodoke_core::pattern::PartValue;
use hypodoke_stores::Mode;

use crate::job::{Candidate, Feed};

/// What is loaded at a time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LoadUnit {
    /// One file by itself, by its place in the list.
    Single(usize),
    /// The files of one delivery, all or none.
    Delivery {
        /// Their places in the list.
        files: Vec<usize>,
        /// Others of the same delivery were loaded before.
        continues: bool,
    },
}

impl LoadUnit {
    /// Its files, by their places in the list.
    pub fn files(&self) -> &[usize] {
        match self {
            LoadUnit::Single(at) => std::slice::from_ref(at),
            LoadUnit::Delivery { files, .. } => files,
        }
    }
}

/// The units in which the new files of a feed are loaded; `old` are those loaded before.
pub fn load_units(feed: &Feed, old: &[&Candidate], new: &[&Candidate]) -> Vec<LoadUnit> {
    let mut order: Vec<usize> = (0..new.len()).collect();
    if feed.mode == Mode::Append {
        return order.into_iter().map(LoadUnit::Single).collect();
    }
    order.sort_by_cached_key(|at| age(new[*at]));
    let Some(part) = feed.delivery.as_deref().filter(|_| feed.mode == Mode::Replace) else {
        return order.into_iter().map(LoadUnit::Single).collect();
    };
    let mut units: Vec<(Option<String>, Vec<usize>)> = Vec::new();
    for at in order {
        let delivery = delivery_of(new[at], part);
        match units.iter_mut().find(|(known, _)| *known == delivery) {
            Some((_, files)) => files.push(at),
            None => units.push((delivery, vec![at])),
        }
    }
    let together = |(delivery, files): (Option<String>, Vec<usize>)| {
        let continues = old.iter().any(|file| delivery_of(file, part) == delivery);
        LoadUnit::Delivery { files, continues }
    };
    units.into_iter().map(together).collect()
}

/// Whether two files are of one delivery.
pub fn same_delivery(feed: &Feed, a: &Candidate, b: &Candidate) -> bool {
    feed.delivery.as_deref().is_some_and(|part| delivery_of(a, part) == delivery_of(b, part))
}

fn delivery_of(file: &Candidate, part: &str) -> Option<String> {
    file.parts.iter().find(|(known, _)| known.name == part).map(|(_, value)| format!("{value:?}"))
}

/// The moment in a file's name, if there is one, then when it was modified, then its path.
fn age(file: &Candidate) -> (i64, i64, String) {
    (named(file).unwrap_or(i64::MIN), file.seen.arrival.modified, file.seen.arrival.path.clone())
}

fn named(file: &Candidate) -> Option<i64> {
    file.parts.iter().find_map(|(_, value)| match value {
        PartValue::Date(days) => Some(i64::from(*days) * hypodoke_core::spelling::temporal::DAY),
        PartValue::Timestamp(micros) => Some(*micros),
        PartValue::Text(_) => None,
    })
}

/// The file loaded before that is newer than this one, which has come late: by the day in their
/// names, or else by when they were modified.
pub fn overtaken_by<'a>(file: &Candidate, old: &[&'a Candidate]) -> Option<&'a Candidate> {
    let is_newer = |other: &&Candidate| match (named(other), named(file)) {
        (Some(theirs), Some(ours)) => theirs > ours,
        _ => other.seen.arrival.modified > file.seen.arrival.modified,
    };
    old.iter().copied().filter(is_newer).max_by_key(|other| age(other))
}
