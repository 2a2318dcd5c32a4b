//! Files that are probably of another feed: by how their columns are like those of the files before, and of
//! other tables.

use std::collections::HashSet;

use hypodoke_core::drift::OtherLayout;
use hypodoke_core::layout::Layout;
use hypodoke_core::names::match_key;
use hypodoke_stores::Store;

use super::request::NotLoaded;
use crate::decide::{HoldReason, is_other_layout};
use crate::job::Feed;
use crate::plan::{TableMapping, TargetState};
use crate::profile::TableProfile;

/// How alike the columns of a file and another table have to be, and how unlike its own, for the file to be
/// taken for one of that table.
const LIKE_OTHER: f64 = 0.9;
const UNLIKE_OWN: f64 = 0.75;

/// Why a file is held that is not like those before it; `None` where it is, or where nobody can tell.
///
/// # Errors
///
/// The database does not answer.
pub fn other_layout(
    store: &mut dyn Store,
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
    let own = keys(&table.layout);
    let likeness = |layout: &Layout| {
        let other = keys(layout);
        let both = own.intersection(&other).count() as f64;
        both / (own.len() + other.len()).saturating_sub(both as usize).max(1) as f64
    };
    let to_own = likeness(base);
    let others = store.newest_layouts()?.into_iter().filter(|(name, _)| *name != feed.table);
    let nearest = others.map(|(name, layout)| (likeness(&layout), name)).max_by(|a, b| a.0.total_cmp(&b.0));
    let nearest = nearest.filter(|(likeness, _)| *likeness >= LIKE_OTHER && to_own < UNLIKE_OWN);
    let nearest = nearest.map(|(_, name)| name);
    let is_held = is_other || nearest.is_some();
    Ok(is_held.then_some(HoldReason::OtherLayout { common, columns: before.len(), nearest }))
}

fn keys(layout: &Layout) -> HashSet<String> {
    let columns = layout.columns.iter().filter(|column| !column.holds_extras());
    columns.map(|column| match_key(&column.source)).collect()
}
