//! Where a file stands among those of its table, and how the table follows from them.

use hypodoke_core::layout::Layout;
use hypodoke_core::names::Lineage;
use hypodoke_core::pattern::PartValue;
use hypodoke_core::spelling::temporal;
use hypodoke_stores::sql::moment_text;
use hypodoke_stores::{FileOrder, LoadRules, Mode, TablePlan, Vanished};

use super::mapping::TableMapping;
use super::target::{TableState, TargetState};
use crate::decide::{FailReason, moment_column, order_column};
use crate::job::{Candidate, Feed};

/// The moment that a part of a file's name tells: microseconds since 1970.
fn moment_of(value: &PartValue) -> Option<i64> {
    match value {
        PartValue::Date(days) => Some(i64::from(*days) * temporal::DAY),
        PartValue::Timestamp(micros) => Some(*micros),
        PartValue::Text(_) => None,
    }
}

/// The first moment in a file's name, if there is one: microseconds since 1970.
pub fn named_moment(file: &Candidate) -> Option<i64> {
    file.parts.iter().find_map(|(_, value)| moment_of(value))
}

/// Where a file stands, as far as its name and time tell.
pub fn file_order(feed: &Feed, file: &Candidate) -> FileOrder {
    let part = |name: &String| file.parts.iter().find(|(part, _)| part.name == *name).map(|(_, value)| value);
    let of_feed = feed.valid_from.as_ref().and_then(part).and_then(moment_of);
    let named = named_moment(file);
    FileOrder {
        key: named.filter(|_| feed.order.is_none()).map(moment_text).unwrap_or_default(),
        modified: file.seen.arrival.modified,
        first: 0,
        effective: of_feed.or(named),
        delivery: feed.delivery.as_ref().map(|delivery| delivery.fill(&file.parts)),
    }
}

/// What the parts of a file's name hold.
pub fn named_parts(file: &Candidate) -> Vec<(String, String)> {
    file.parts.iter().map(|(part, value)| (part.name.clone(), value.text())).collect()
}

/// How the tables of a feed follow from its files.
///
/// # Errors
///
/// A column that the feed names for it is not there, or tells no moment.
pub fn load_rules(feed: &Feed, file: &Candidate, mappings: &[TableMapping]) -> Result<LoadRules, FailReason> {
    let none = Layout::default();
    let main = mappings.first().map(|main| &main.fit.layout);
    let columns = main.unwrap_or(&none);
    let is_part = |name: &&String| file.parts.iter().any(|(part, _)| part.name == **name);
    let valid_from = feed.valid_from.as_ref().filter(|name| !is_part(name));
    let valid_from = valid_from.map(|name| moment_column(columns, name)).transpose()?;
    let order = feed.order.as_ref().map(|name| order_column(columns, name)).transpose()?;
    Ok(LoadRules {
        mode: feed.mode,
        order: order.map(|column| column.name.clone()),
        valid_from: valid_from.map(|column| column.name.clone()),
        vanished: if feed.mode.has_key() { feed.vanished } else { Vanished::Keep },
        vanished_at_most: feed.vanished_at_most.filter(|_| !feed.expect.waived),
        keeps_rows: feed.keep_superseded != Some(0) && feed.mode != Mode::Append,
        parts: named_parts(file),
        tables: Vec::new(),
    })
}

/// The tables of a plan: those that the file fills, and behind them those that other files of the feed
/// have filled, where what becomes of the file's rows becomes of theirs.
pub fn table_plans(feed: &Feed, target: &TargetState, mappings: &[TableMapping]) -> Vec<TablePlan> {
    let state_of = |path: &str| match path {
        "" => Some(&target.main),
        path => target.parts.iter().find(|(part, _)| part.path == path).map(|(_, state)| state),
    };
    let plan = |mapping: &TableMapping| TablePlan {
        based_on: state_of(&mapping.head.path).and_then(TableState::version),
        ..mapping.plan(feed)
    };
    let mut tables: Vec<TablePlan> = mappings.iter().map(plan).collect();
    if feed.mode == Mode::Append {
        return tables;
    }
    for (part, state) in &target.parts {
        let is_filled = tables.iter().any(|table| table.table == part.table);
        if let (TableState::Managed { layout, lineage, version }, false) = (state, is_filled) {
            let is_child = *lineage == Lineage::Children;
            let (mode, key) = (feed.mode_of(&part.path, is_child), feed.key_of(&part.path, is_child));
            let found = key.iter().filter_map(|name| {
                let column = layout.columns.get(layout.find_as_in_files(name)?)?;
                Some(column.name.clone())
            });
            tables.push(TablePlan {
                table: part.table.clone(),
                path: part.path.clone(),
                key: if mode.has_key() { found.collect() } else { Vec::new() },
                layout: layout.clone(),
                based_on: Some(*version),
                changes: Vec::new(),
                drift: Vec::new(),
                lineage: *lineage,
                keeps_layout: true,
                is_virtual: false,
                mode,
                of_file: Vec::new(),
                marks_gone: feed.vanished == Vanished::Mark && !is_child,
            });
        }
    }
    tables
}
