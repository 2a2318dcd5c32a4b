//! Whether a file's beginning shows what all of it holds: found out by one thread, waited for by
//! another.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Condvar, Mutex, PoisonError};

use hypodoke_core::layout::Layout;

use crate::profile::FileProfile;

/// What the profile of all values has come to, for whoever waits for it.
#[derive(Debug, Default)]
pub struct Verification {
    outcome: Mutex<Option<Option<Layout>>>,
    known: Condvar,
    refuted: AtomicBool,
}

impl Verification {
    /// Tells the layout of all the values, or that it is another than the sample showed.
    pub fn conclude(&self, layout: Option<Layout>) {
        self.refuted.store(layout.is_none(), Ordering::Relaxed);
        *self.outcome.lock().unwrap_or_else(PoisonError::into_inner) = Some(layout);
        self.known.notify_all();
    }

    /// Whether it is known by now that the sample was misleading.
    pub fn is_refuted(&self) -> bool {
        self.refuted.load(Ordering::Relaxed)
    }

    /// Waits for the outcome: the layout that all the values have, if it is the one that the sample
    /// showed.
    pub fn confirmed(&self) -> Option<Layout> {
        let outcome = self.outcome.lock().unwrap_or_else(PoisonError::into_inner);
        let outcome = self.known.wait_while(outcome, |outcome| outcome.is_none());
        outcome.unwrap_or_else(PoisonError::into_inner).clone().flatten()
    }
}

/// Concludes that nothing is confirmed, should the profile end by a panic: somebody waits for it.
pub struct ConcludeOnDrop<'a>(pub &'a Verification);

impl Drop for ConcludeOnDrop<'_> {
    fn drop(&mut self) {
        let is_concluded = self.0.outcome.lock().is_ok_and(|outcome| outcome.is_some());
        if !is_concluded {
            self.0.conclude(None);
        }
    }
}

/// Whether all the values come to the layout that the first of them have: every column of the same
/// name, type and format, written in the same way.
pub fn agree(sample: &FileProfile, all: &FileProfile) -> bool {
    let (first, whole) = match (&sample.tables[..], &all.tables[..]) {
        ([first], [whole]) => (first, whole),
        _ => return false,
    };
    let mut columns = first.layout.columns.iter().zip(&whole.layout.columns);
    first.head == whole.head
        && first.header == whole.header
        && sample.encoding == all.encoding
        && sample.kind == all.kind
        && first.layout.columns.len() == whole.layout.columns.len()
        && columns.all(|(a, b)| {
            (&a.name, &a.source, a.ty(), a.format, a.pinned)
                == (&b.name, &b.source, b.ty(), b.format, b.pinned)
        })
}

/// A layout with what all the values show of its columns.
pub fn with_all_values(mut layout: Layout, all: &Layout) -> Layout {
    for column in &mut layout.columns {
        if let Some(seen) = all.columns.iter().find(|seen| seen.name == column.name) {
            (column.nullable, column.domain, column.reading) = (seen.nullable, seen.domain, seen.reading);
        }
    }
    layout
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_waits_learns_the_outcome_and_a_profile_that_breaks_off_confirms_nothing() {
        let verification = Verification::default();
        let waited = std::thread::scope(|scope| {
            let waiting = scope.spawn(|| verification.confirmed());
            verification.conclude(Some(Layout::default()));
            waiting.join().expect("no panic")
        });
        assert_eq!(waited, Some(Layout::default()));
        let broken = Verification::default();
        drop(ConcludeOnDrop(&broken));
        assert!(broken.is_refuted() && broken.confirmed().is_none());
    }
}
