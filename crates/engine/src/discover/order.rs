//! In which order a feed's files are loaded, and which of them together.
//!
//! Where rows are only added the order is that of their paths. Where later rows take the place of
//! earlier ones, the oldest file comes first: by the day in its name, then by when it was modified.

use hypodoke_stores::Mode;

use crate::job::{Candidate, Feed};
use crate::plan::named_moment;

/// What is loaded at a time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LoadUnit {
    /// One file by itself, by its place in the list.
    Single(usize),
    /// The files of one delivery, all or none, by their places in the list.
    Delivery(Vec<usize>),
}

impl LoadUnit {
    /// Its files, by their places in the list.
    pub fn files(&self) -> &[usize] {
        match self {
            LoadUnit::Single(at) => std::slice::from_ref(at),
            LoadUnit::Delivery(files) => files,
        }
    }
}

/// The units in which the new files of a feed are loaded.
pub fn load_units(feed: &Feed, new: &[&Candidate]) -> Vec<LoadUnit> {
    let mut order: Vec<usize> = (0..new.len()).collect();
    if feed.mode == Mode::Append {
        return order.into_iter().map(LoadUnit::Single).collect();
    }
    order.sort_by_cached_key(|at| age(new[*at]));
    let Some(delivery) = feed.delivery.as_ref().filter(|_| feed.mode == Mode::Replace) else {
        return order.into_iter().map(LoadUnit::Single).collect();
    };
    let mut units: Vec<(String, Vec<usize>)> = Vec::new();
    for at in order {
        let delivery = delivery.fill(&new[at].parts);
        match units.iter_mut().find(|(known, _)| *known == delivery) {
            Some((_, files)) => files.push(at),
            None => units.push((delivery, vec![at])),
        }
    }
    units.into_iter().map(|(_, files)| LoadUnit::Delivery(files)).collect()
}

/// The moment in a file's name, if there is one, then when it was modified, then its path.
fn age(file: &Candidate) -> (i64, i64, String) {
    (named_moment(file).unwrap_or(i64::MIN), file.seen.arrival.modified, file.seen.arrival.path.clone())
}
