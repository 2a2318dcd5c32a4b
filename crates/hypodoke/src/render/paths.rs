//! Paths as people see them: from where they stand.

use std::path::Path;

use hypodoke_core::sanitize::clean;

/// A path of the ledger, without the part that leads to the current folder, and with nothing in it that a
/// terminal would obey.
pub fn shown(path: &str) -> String {
    let here = std::env::current_dir().ok();
    let inside = here.as_deref().and_then(|here| Path::new(path).strip_prefix(here).ok());
    match inside.and_then(Path::to_str).filter(|inside| !inside.is_empty()) {
        Some(inside) => clean(inside),
        None => clean(path),
    }
}

/// Some of many paths in a few words: `a.csv, b.csv and 10 more`.
pub fn some<'p>(paths: impl ExactSizeIterator<Item = &'p str>, most: usize) -> String {
    let all = paths.len();
    let first: Vec<String> = paths.take(most).map(shown).collect();
    match all.saturating_sub(first.len()) {
        0 => hypodoke_core::count::list(&first),
        more => format!("{} and {} more", first.join(", "), hypodoke_core::count::number(more as u64)),
    }
}
