//! What differs between two layouts, for people to read.

use serde::Serialize;

use crate::layout::{Column, Layout};
use crate::reconcile::pair_up;

/// One column of two layouts.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// Its name in the one, or else in the other.
    pub column: String,
    /// Its type in the first; `None` where that has no such column.
    pub first: Option<String>,
    /// Its type in the second.
    pub second: Option<String>,
    /// The difference in a few words; empty where there is none.
    pub what: String,
}

/// Puts two layouts side by side, all columns of the first and then those that only the second has.
pub fn between(first: &Layout, second: &Layout) -> Vec<Difference> {
    let partners = pair_up(&first.columns, &second.columns);
    let mut last = None;
    let mut all = Vec::new();
    for (column, partner) in first.columns.iter().zip(&partners) {
        let Some(at) = partner else {
            all.push(only(column, true));
            continue;
        };
        let other = &second.columns[*at];
        let mut what = words(column, other);
        if last.is_some_and(|last| *at < last) {
            what.push("stands elsewhere".to_owned());
        }
        last = last.max(Some(*at));
        all.push(Difference {
            column: column.source.clone(),
            first: Some(column.ty().to_string()),
            second: Some(other.ty().to_string()),
            what: what.join(", "),
        });
    }
    let fresh = second.columns.iter().enumerate().filter(|(at, _)| !partners.contains(&Some(*at)));
    all.extend(fresh.map(|(_, column)| only(column, false)));
    all
}

fn only(column: &Column, in_first: bool) -> Difference {
    let ty = Some(column.ty().to_string());
    let (first, second, what) = if in_first { (ty, None, "gone") } else { (None, ty, "new") };
    Difference { column: column.source.clone(), first, second, what: what.to_owned() }
}

fn words(first: &Column, second: &Column) -> Vec<String> {
    let mut what = Vec::new();
    if first.source != second.source {
        what.push(format!("is called `{}`", second.source));
    }
    if first.ty() != second.ty() {
        let word = match (first.domain.fits(second.domain), second.domain.fits(first.domain)) {
            (true, _) => "wider",
            (_, true) => "narrower",
            _ => "of another kind",
        };
        what.push(word.to_owned());
    }
    let (old, new) = (first.format, second.format);
    if first.ty() == second.ty() && old.date != new.date {
        what.push(format!("written {} instead of {}", new.date.words(), old.date.words()));
    }
    if first.ty() == second.ty() && old.number != new.number {
        what.push(format!("written like {} instead of {}", new.number.example(), old.number.example()));
    }
    if !first.nullable && second.nullable {
        what.push("has nulls".to_owned());
    }
    what
}
