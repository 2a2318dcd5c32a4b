//! Files that are probably of another feed: by how their columns are like those of the files before, and of
//! other tables.

use std::collections::HashSet;

use hypodoke_core::drift::OtherLayout;
use hypodoke_core::layout::Layout;
use hypodoke_core::names::match_key;
use hypodoke_stores::Tables;

use super::request::NotLoaded;
use crate::decide::{HoldReason, is_other_layout, on_likeness};
use crate::job::Feed;
use crate::plan::{TableMapping, TargetState};
use crate::profile::TableProfile;

/// How many of the columns of a file another table has to have, and how few its own, for the file to be taken
/// for one of that table; and how many of that table's columns the file has to have.
const LIKE_OTHER: f64 = 0.9;
const MOST_OF_IT: f64 = 0.7;
const UNLIKE_OWN: f64 = 0.75;

/// Why a file is held that is not like those before it; `None` where it is, or where nobody can tell.
///
/// # Errors
///
/// The database does not answer.
pub fn other_layout(
    store: &mut dyn Tables,
    feed: &Feed,
    target: &TargetState,
    (table, mapping): (&TableProfile, &TableMapping),
) -> Result<Option<HoldReason>, NotLoaded> {
    let (Some(base), Some(last)) = (target.main.layout(), &target.last_format) else { return Ok(None) };
    let is_named = |names: &[String]| names.iter().any(|name| !name.is_empty());
    if feed.policy.other_layout == OtherLayout::Load
        || target.is_new()
        || !is_named(&last.names)
        || !is_named(&table.head.names)
    {
        return Ok(None);
    }
    let before: HashSet<String> = last.names.iter().map(|name| match_key(name)).collect();
    let fields = table.head.names.len();
    // A column that is followed under a new name counts.
    let sources = mapping.fit.sources.iter().take(base.columns.len()).flatten();
    let common = sources.filter(|at| **at < fields).count().min(before.len());
    let is_other = is_other_layout(common, before.len(), fields);
    let is_unlike = common < before.len() && common < fields;
    if !is_other && !is_unlike {
        return Ok(None);
    }
    let own: HashSet<String> = table.head.names.iter().map(|name| match_key(name)).collect();
    // How many of the file's columns a table has, as a share of them.
    let share = |other: &HashSet<String>| own.intersection(other).count() as f64 / own.len().max(1) as f64;
    let to_own = share(&keys(base));
    let mut nearest: Option<(f64, String)> = None;
    for (name, layout) in store.ledger().newest_layouts()?.into_iter().filter(|(name, _)| *name != feed.table)
    {
        let other = keys(&layout);
        let both = own.intersection(&other).count() as f64;
        let is_like = share(&other) >= LIKE_OTHER && both >= MOST_OF_IT * other.len() as f64;
        if is_like && to_own < UNLIKE_OWN && nearest.as_ref().is_none_or(|(known, _)| share(&other) > *known)
        {
            nearest = Some((share(&other), name));
        }
    }
    let nearest = nearest.map(|(_, name)| name);
    Ok(on_likeness(is_other, common, before.len(), nearest))
}

fn keys(layout: &Layout) -> HashSet<String> {
    let columns = layout.columns.iter().filter(|column| !column.holds_extras());
    columns.map(|column| match_key(&column.source)).collect()
}
