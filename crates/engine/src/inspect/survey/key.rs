//! Which column could be a key: unique and never null over all files of a layout.

use std::collections::HashSet;
use std::hash::BuildHasher;

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

/// The first column that is unique and never null, if there is one: those that the estimate
/// allows are counted exactly.
pub fn find_key(group: &Group, files: &[Candidate], feed: &Feed) -> Option<String> {
    let likely = |column: &&ColumnReport| {
        let close = column.distinct as f64 >= group.rows as f64 * 0.93;
        let fits = matches!(column.ty, Type::Integer | Type::Text | Type::Uuid) && column.max_length <= 64;
        close && fits && column.nulls == 0 && column.rows == group.rows
    };
    if group.rows == 0 || group.rows > MOST_ROWS {
        return None;
    }
    group
        .columns
        .iter()
        .filter(likely)
        .find(|column| isolated(|| is_unique(column, group, files, feed)).unwrap_or(false))
        .map(|c| c.name.clone())
}

fn is_unique(column: &ColumnReport, group: &Group, files: &[Candidate], feed: &Feed) -> bool {
    let key = match_key(&column.source);
    let hasher = std::hash::RandomState::new();
    let mut seen = HashSet::with_capacity(group.rows as usize);
    let (mut batch, mut text) = (Vec::new(), Vec::new());
    for file in &group.files {
        let Ok(mut source) = Source::open(&files[*file], feed, false, &[], &Silent) else { return false };
        while let Ok(true) = source.reader.next(&mut batch) {
            let heads = source.reader.tables();
            let table = heads.iter().position(|head| head.path == group.path).unwrap_or(0);
            let Some(at) = heads[table].names.iter().position(|name| match_key(name) == key) else {
                continue;
            };
            let records = &batch[table];
            for row in 0..records.len() {
                let Some((value, _)) = records.text(row, at, &mut text) else { continue };
                // Two values of one hash would only hide a key, not invent one.
                if !seen.insert(hasher.hash_one(value)) {
                    return false;
                }
            }
        }
    }
    true
}
