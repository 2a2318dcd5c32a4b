//! Columns of a file that seem to be columns of the table under new names.

use hypodoke_core::drift::{Alike, Policy, Rename, likeliest, name_likeness};
use hypodoke_core::evidence::overlap;
use hypodoke_core::layout::{Column, Layout};
use hypodoke_core::names::match_key;
use hypodoke_core::spelling::temporal;
use hypodoke_core::types::Type;
use hypodoke_stores::{ColumnSample, StoreError, Tables};

use crate::profile::TableProfile;

/// A table that a file's columns are held against.
#[derive(Clone, Copy)]
pub struct KnownTable<'a> {
    /// Its name.
    pub name: &'a str,
    /// Its columns.
    pub layout: &'a Layout,
    /// The header of the file before, where it is known.
    pub header: &'a [String],
}

/// Columns of the file that seem to be columns of the table under new names: alike in name, or in
/// what they hold, or in where they stand.
pub fn renames(
    store: &mut dyn Tables,
    known: KnownTable<'_>,
    profile: &TableProfile,
    policy: &Policy,
) -> Result<Vec<Rename>, StoreError> {
    let KnownTable { name, layout: table, header: before } = known;
    let file = &profile.layout;
    let key = |name: &str| match_key(name);
    let is_there =
        |columns: &[Column], name: &str| columns.iter().any(|column| key(&column.name) == key(name));
    let ignored = |source: &str| policy.ignore.iter().any(|name| key(name) == key(source));
    let gone: Vec<usize> =
        (0..table.columns.len()).filter(|at| !is_there(&file.columns, &table.columns[*at].name)).collect();
    let new: Vec<usize> = (0..profile.evidence.columns.len())
        .filter(|at| {
            !is_there(&table.columns, &file.columns[*at].name) && !ignored(&file.columns[*at].source)
        })
        .collect();
    if gone.is_empty() || new.is_empty() {
        return Ok(Vec::new());
    }
    let mut candidates = Vec::new();
    for gone in gone {
        let old = &table.columns[gone];
        let sample = store.column_sample(name, &old.name)?;
        for new in &new {
            let place = is_in_place(before, &profile.head.names, &old.source, *new);
            let alike = Alike { place, ..alike(old, &sample, profile, *new) };
            candidates.push(Rename { gone, new: *new, alike });
        }
    }
    Ok(likeliest(candidates))
}

/// Whether a column of a header stands where one stood that is gone: in the same place of a header of the
/// same length, or between the same neighbours.
fn is_in_place(before: &[String], now: &[String], gone: &str, new: usize) -> bool {
    let Some(at) = before.iter().position(|name| match_key(name) == match_key(gone)) else { return false };
    let same = |a: Option<&String>, b: Option<&String>| match (a, b) {
        (Some(a), Some(b)) => match_key(a) == match_key(b),
        (None, None) => true,
        _ => false,
    };
    let left = |names: &[String], at: usize| at.checked_sub(1).and_then(|at| names.get(at).cloned());
    let by_place = before.len() == now.len() && at == new;
    let by_neighbours = same(left(before, at).as_ref(), left(now, new).as_ref())
        && same(before.get(at + 1), now.get(new + 1));
    by_place || by_neighbours
}

fn alike(old: &Column, sample: &ColumnSample, profile: &TableProfile, at: usize) -> Alike {
    let new = &profile.layout.columns[at];
    let (evidence, decision) = (&profile.evidence.columns[at], &profile.decisions[at]);
    let number = |text: &Option<String>| text.as_deref().and_then(|text| text.parse::<f64>().ok());
    let range = match (number(&sample.least), number(&sample.greatest), evidence.numeric_range(decision)) {
        (Some(least), Some(greatest), Some(range)) => Some(overlap((least, greatest), range)),
        _ => None,
    };
    let is_text = |ty: Type| matches!(ty, Type::Text | Type::Uuid);
    // Numbers and moments are spelled one way in the table and another in the file.
    let values =
        (is_text(old.ty()) && is_text(new.ty())).then(|| evidence.share_of(&sample.values)).flatten();
    let kinds = hypodoke_core::drift::same_kind(old, new) && sample.least.is_some() && evidence.values() > 0;
    let kinds = kinds
        && !(old.ty() == Type::Date && days_apart(sample, evidence.instant_range(decision.format.date)));
    let names = name_likeness(&old.source, &new.source).max(name_likeness(&old.name, &new.name));
    Alike { names, range, values, kinds, place: false }
}

/// Whether a column of days and one of moments lie years apart, as a birthday and an arrival do.
fn days_apart(sample: &ColumnSample, range: Option<(i64, i64)>) -> bool {
    const YEARS: i64 = 5 * 366 * temporal::DAY;
    let moment = |text: &Option<String>| {
        text.as_deref().and_then(|text| temporal::read_date(text.as_bytes(), temporal::DateOrder::Ymd))
    };
    match (moment(&sample.least), moment(&sample.greatest), range) {
        (Some(least), Some(greatest), Some((first, last))) => {
            let (least, greatest) = (i64::from(least) * temporal::DAY, i64::from(greatest) * temporal::DAY);
            first > greatest + YEARS || last < least - YEARS
        }
        _ => false,
    }
}
