//! What a file's values come to, in figures, and what is unusual about them.

use std::collections::VecDeque;

use hypodoke_core::drift::{Action, Change, Drift};
use hypodoke_core::figures::{FileFigures, Unusual, far_fewer_rows, unusual};
use hypodoke_core::layout::UnusualValues;

use super::pipeline::TableResult;
use crate::decide::Violation;
use crate::job::Feed;
use crate::plan::TableMapping;

/// The figures of a file, where the feed wants them to be taken.
pub fn figures_of(feed: &Feed, read: u64, tables: &[(&TableMapping, &TableResult)]) -> Option<FileFigures> {
    let named = |(mapping, table): &(&TableMapping, &TableResult)| {
        let columns = mapping.fit.layout.columns.iter().zip(&table.figures);
        let own = columns.filter_map(|(column, figures)| Some((column.name.clone(), figures.clone()?)));
        (mapping.table.clone(), own.collect())
    };
    feed.looks_at_values().then(|| FileFigures { rows: read, tables: tables.iter().map(named).collect() })
}

/// What is unusual about a file against those before it, the newest first, and what is to become of it.
pub fn unusual_in(
    feed: &Feed,
    now: &FileFigures,
    before: &VecDeque<FileFigures>,
    mappings: &[TableMapping],
) -> Vec<(Unusual, UnusualValues)> {
    let rows: Vec<u64> = before.iter().map(|file| file.rows).collect();
    // Where the feed says what is usual, that counts.
    let says_rows = feed.expect.usual_rows.is_some() || feed.expect.min_rows.is_some();
    let fewer = far_fewer_rows(now.rows, &rows).filter(|_| !says_rows);
    let mut found: Vec<(Unusual, UnusualValues)> =
        fewer.into_iter().map(|fewer| (fewer, feed.expect.values)).collect();
    for mapping in mappings {
        for column in &mapping.fit.layout.columns {
            let Some(own) = now.column(&mapping.table, &column.name) else { continue };
            let known = before.iter().filter_map(|file| file.column(&mapping.table, &column.name));
            let all = unusual(&column.name, own, known);
            if all.is_empty() {
                continue;
            }
            let fate = feed.unusual_values(&mapping.head.path, &column.source);
            found.extend(all.into_iter().filter(|_| fate != UnusualValues::Off).map(|one| (one, fate)));
        }
    }
    found
}

/// What is unusual, as drift of a file that is loaded all the same.
pub fn as_drift(violation: &Violation) -> Option<Drift> {
    let Violation::Unusual(unusual) = violation else { return None };
    let (column, what) = (unusual.column.clone(), unusual.to_string());
    Some(Drift::of(Change::Unusual { column, what }, Action::Noted))
}
