//! A large file for a table that is not there yet: loaded by what its beginning shows, while all of
//! its values are looked at beside it.
//!
//! Its types come from all the values all the same. What is loaded is only kept once the look at all
//! of them has come to the very layout that was ventured; where it comes to another, the load is
//! broken off and undone as soon as that is known, and begun again with what was found. That costs
//! less than a look before each load: the look is several times as quick as the database.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Condvar, Mutex};

use hypodoke_core::event::{Event, Silent, Step};
use hypodoke_core::layout::Layout;
use hypodoke_formats::Shape;
use hypodoke_stores::StoreError;

use super::{Attempt, FileLoad, Loaded, Manner, Trouble};
use crate::engine::ground::Ground;
use crate::engine::look::{Looked, Way, look, threads};
use crate::engine::prior::Prior;

/// Files smaller than this are looked at first: it takes no time.
pub const LARGE: u64 = 16 << 20;

/// How a venture ended.
pub(super) enum Ventured {
    /// It was not made.
    Not,
    /// The file is loaded, unless another process did so meanwhile.
    Loaded(Box<Option<Loaded>>),
    /// It was undone; this is what the file holds.
    Undone(Box<Looked>),
}

/// What the look at all values has come to, for whoever waits for it.
#[derive(Default)]
pub(super) struct Hearing {
    verdict: Mutex<Option<Option<Layout>>>,
    told: Condvar,
    refuted: AtomicBool,
}

impl Hearing {
    /// Tells the layout of all the values, or that it is another than was ventured.
    fn tell(&self, layout: Option<Layout>) {
        self.refuted.store(layout.is_none(), Ordering::Relaxed);
        *self.verdict.lock().unwrap_or_else(|poisoned| poisoned.into_inner()) = Some(layout);
        self.told.notify_all();
    }

    /// Whether it is known by now that the venture is lost.
    pub(super) fn is_refuted(&self) -> bool {
        self.refuted.load(Ordering::Relaxed)
    }

    /// Waits for the verdict: the layout that all the values have, if it is the one ventured.
    pub(super) fn confirmed(&self) -> Option<Layout> {
        let mut verdict = self.verdict.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        loop {
            match &*verdict {
                Some(layout) => return layout.clone(),
                None => verdict = self.told.wait(verdict).unwrap_or_else(|poisoned| poisoned.into_inner()),
            }
        }
    }
}

/// Tells that nothing is confirmed if the look ends by a panic: somebody waits for it.
struct Telling<'a>(&'a Hearing);

impl Drop for Telling<'_> {
    fn drop(&mut self) {
        let is_told = self.0.verdict.lock().is_ok_and(|verdict| verdict.is_some());
        if !is_told {
            self.0.tell(None);
        }
    }
}

impl FileLoad<'_> {
    /// Ventures a load, where the file is large and its table new.
    pub(super) fn venture(&mut self, ground: &mut Ground) -> Result<Ventured, Trouble> {
        let (file, feed) = (self.file, self.feed);
        if !ground.is_new() || file.seen.arrival.bytes < LARGE || threads() < 2 || self.sum_all {
            return Ok(Ventured::Not);
        }
        // Whatever is the matter with its beginning, the look at all of it tells better.
        let Ok(mut head) = look(file, feed, Way::beginning(), &Prior::default(), &Silent) else {
            return Ok(Ventured::Not);
        };
        if !matches!(head.shape, Shape::Text(_)) || head.tables.len() != 1 || head.is_virtual {
            return Ok(Ventured::Not);
        }
        // What the beginning leaves open is a guess; the rest of the values may well tell.
        if head.tables[0].decisions.iter().any(|decision| decision.ambiguity.is_some()) {
            return Ok(Ventured::Not);
        }
        let mut guessed = ground.clone();
        guessed.expect(self.store, feed, std::iter::once(&head))?;
        let Ok(approach) = self.informed(&mut guessed, &mut head) else { return Ok(Ventured::Not) };
        self.check_width(&approach)?;
        let source = self.open(std::slice::from_ref(&approach[0].head))?;
        let (path, bytes) = (file.shown.clone(), file.seen.arrival.bytes);
        self.listener.on(Event::FileBegan { path, step: Step::Loading, bytes });
        let hearing = Hearing::default();
        let (looked, done) = std::thread::scope(|scope| {
            let looking = scope.spawn(|| {
                let telling = Telling(&hearing);
                let looked = look(file, feed, Way::beside(), &Prior::default(), &Silent);
                let layout = looked.as_ref().ok().filter(|looked| agree(&head, looked));
                telling.0.tell(layout.map(|looked| looked.tables[0].layout.clone()));
                looked
            });
            let done = self.attempt(&mut guessed, &approach, source, Manner::Ventured(&hearing));
            (looking.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)), done)
        });
        match done {
            Ok(Attempt::Done(loaded)) => {
                *ground = guessed;
                Ok(Ventured::Loaded(loaded))
            }
            // What is wrong with a file that was understood is wrong with it however it is loaded.
            Err(Trouble::File(failure)) if !hearing.is_refuted() => Err(failure.into()),
            // A look at the values tells more than the database does.
            Ok(Attempt::Surprised)
            | Err(Trouble::Store(StoreError::RowRefused { .. }) | Trouble::File(_)) => {
                Ok(Ventured::Undone(Box::new(looked?)))
            }
            Err(trouble) => Err(trouble),
        }
    }
}

/// Whether all the values come to the layout that the first of them have: every column of the same
/// name, type and format, written in the same way.
fn agree(head: &Looked, all: &Looked) -> bool {
    let (first, whole) = match (&head.tables[..], &all.tables[..]) {
        ([first], [whole]) => (first, whole),
        _ => return false,
    };
    let columns = first.layout.columns.iter().zip(&whole.layout.columns);
    first.head == whole.head
        && first.header == whole.header
        && head.encoding == all.encoding
        && head.kind == all.kind
        && first.layout.columns.len() == whole.layout.columns.len()
        && columns.clone().all(|(a, b)| {
            (&a.name, &a.source, a.ty(), a.format, a.pinned)
                == (&b.name, &b.source, b.ty(), b.format, b.pinned)
        })
}

/// A layout with what all the values show of its columns.
pub(super) fn with_all_values(mut layout: Layout, all: &Layout) -> Layout {
    for column in &mut layout.columns {
        if let Some(seen) = all.columns.iter().find(|seen| seen.name == column.name) {
            (column.nullable, column.domain, column.reading) = (seen.nullable, seen.domain, seen.reading);
        }
    }
    layout
}
