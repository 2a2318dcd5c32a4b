//! Columns whose values are of another kind than the table's: words where numbers were.

use super::{Change, Drift, HeldChange, Judged, OtherKind, Policy};
use crate::drift::Action;
use crate::evidence::Within;
use crate::layout::{Column, Layout};
use crate::reconcile::pair_up;
use crate::types::{Domain, Type};

/// The most values of another kind that are rejected; a file with more is held.
pub const MOST_OF_OTHER_KIND: u64 = 100;

/// The most of them among so many that fit; one is let by in any file.
const ONE_IN: u64 = 100;

/// A column of a file that has values of another kind than its table's column.
#[derive(Clone, Debug, PartialEq)]
pub struct KindChange {
    /// The column's name in the table, and in the file.
    column: String,
    source: String,
    /// The table's type.
    from: Type,
    /// What is to be known of the values; nothing where none fits.
    within: Option<Within>,
    /// The rows with such values are rejected.
    is_rejected: bool,
}

/// Finds the columns of a file whose values are of another kind than those of the table, and leaves those
/// values out of what the file's layout says of the column: they are rejects, or the file is held.
/// `within` tells what is in a column of the file besides them.
pub fn keep_kinds(
    table: &Layout,
    file: &mut Layout,
    policy: &Policy,
    within: impl Fn(usize, &Column) -> Option<Within>,
) -> Vec<KindChange> {
    if policy.other_kind == OtherKind::Widen {
        return Vec::new();
    }
    let mut found = Vec::new();
    for (old, at) in table.columns.iter().zip(pair_up(&table.columns, &file.columns)) {
        let Some(new) = at.and_then(|at| Some((at, file.columns.get(at)?))) else { continue };
        // Where somebody says what a column is, values that are not are rejects, one by one.
        let (at, is_pinned) = (new.0, new.1.pinned.is_some() || old.pinned.is_some());
        if is_pinned || !is_of_other_kind(old, new.1) {
            continue;
        }
        let inside = within(at, old);
        let is_rejected = match policy.other_kind {
            OtherKind::Hold | OtherKind::Widen => false,
            OtherKind::RejectAll => inside.as_ref().is_some_and(|within| within.fitting > 0),
            OtherKind::Reject => inside.as_ref().is_some_and(are_few),
        };
        let column = &mut file.columns[at];
        (column.domain, column.format) = match &inside {
            Some(within) if within.fitting > 0 => (within.domain, within.format),
            _ => (old.domain, old.format),
        };
        found.push(KindChange {
            column: old.name.clone(),
            source: column.source.clone(),
            from: old.ty(),
            within: inside,
            is_rejected,
        });
    }
    found
}

/// Whether a table's column would have to become text for a file's.
fn is_of_other_kind(old: &Column, new: &Column) -> bool {
    let is_known = !matches!(old.ty(), Type::Unknown | Type::Text) && new.domain != Domain::Unknown;
    is_known && old.domain.join(new.domain).ty() == Type::Text
}

fn are_few(within: &Within) -> bool {
    let most = (within.fitting / ONE_IN).clamp(1, MOST_OF_OTHER_KIND);
    within.outside <= most && within.fitting > within.outside
}

impl Judged {
    /// Says what becomes of values of another kind.
    pub fn note_kinds(&mut self, kinds: Vec<KindChange>) {
        for kind in kinds {
            let first = kind.within.as_ref().and_then(|within| within.first.clone());
            let change = Change::OtherKind { column: kind.column.clone(), from: kind.from };
            let action = if kind.is_rejected { Action::Rejected } else { Action::Held };
            self.drift.push(Drift { change, action, cause: first.map(Into::into) });
            self.firm.push(kind.column.clone());
            if !kind.is_rejected {
                let fitting = kind.within.as_ref().filter(|within| within.fitting > 0);
                self.held.push(HeldChange::OtherKind {
                    column: kind.source,
                    from: kind.from,
                    values: fitting.map(|within| (within.outside, within.outside + within.fitting)),
                    first: kind.within.and_then(|within| within.first),
                });
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::evidence::{ColumnEvidence, Forced, Spot};
    use crate::format::Reading;

    fn layout(domain: Domain) -> Layout {
        let column = Column {
            name: "teu".into(),
            source: "TEU".into(),
            domain,
            format: Default::default(),
            reading: Reading::Shown,
            nullable: false,
            pinned: None,
        };
        Layout { columns: vec![column], parts: Vec::new() }
    }

    #[rstest]
    #[case::one_of_few(9, 1, OtherKind::Reject, Some(true))]
    #[case::two_of_few(9, 2, OtherKind::Reject, Some(false))]
    #[case::one_in_a_hundred(10_000, 100, OtherKind::Reject, Some(true))]
    #[case::more(10_000, 101, OtherKind::Reject, Some(false))]
    #[case::all_rejected(9, 5, OtherKind::RejectAll, Some(true))]
    #[case::held(10_000, 1, OtherKind::Hold, Some(false))]
    #[case::none_fits(0, 3, OtherKind::Reject, Some(false))]
    #[case::widened(9, 1, OtherKind::Widen, None)]
    fn few_values_of_another_kind_are_rejected_and_many_hold_the_file(
        #[case] numbers: usize,
        #[case] words: usize,
        #[case] other_kind: OtherKind,
        #[case] rejected: Option<bool>,
    ) {
        let (table, mut file) = (layout(Domain::of(Type::Integer)), layout(Domain::Text));
        let mut evidence = ColumnEvidence::default();
        let values = (0..numbers).map(|at| at.to_string()).chain((0..words).map(|at| format!("w{at}")));
        for (at, value) in values.enumerate() {
            evidence.add(value.as_bytes(), || Spot { file: 0, line: at as u64 + 2 });
        }
        let policy = Policy { other_kind, ..Policy::default() };
        let within = |_, old: &Column| evidence.within(old.domain, old.format, Forced::default());
        let kinds = keep_kinds(&table, &mut file, &policy, within);
        let mut judged = Judged::default();
        judged.note_kinds(kinds);
        assert_eq!(judged.drift.first().map(|drift| drift.action == Action::Rejected), rejected);
        assert_eq!(judged.held.is_empty(), rejected != Some(false));
        assert_eq!(file.columns[0].ty() == Type::Text, rejected.is_none());
    }
}
