//! What a batch has to work with: connections, somebody who is told, and a way to be stopped.

use std::sync::atomic::{AtomicBool, Ordering};

use hypodoke_core::event::Listener;
use hypodoke_stores::{Store, StoreError};

/// More connections to the database.
pub struct Connections<'a> {
    /// Opens one more.
    pub open: &'a (dyn Fn() -> Result<Box<dyn Store>, StoreError> + Sync),
    /// How many there may be in all.
    pub most: usize,
}

/// What a batch has to work with.
pub struct Means<'a> {
    /// More connections, where the database takes that.
    pub more: Option<&'a Connections<'a>>,
    /// Who is told.
    pub listener: &'a dyn Listener,
    /// Whether to go on.
    pub stop: &'a Stop,
}

impl<'a> Means<'a> {
    /// One connection, to the end.
    pub fn alone(listener: &'a dyn Listener) -> Means<'a> {
        static NEVER: Stop = Stop(AtomicBool::new(false));
        Means { more: None, listener, stop: &NEVER }
    }
}

/// A wish to stop: the file in hand is finished, and the next is not begun.
#[derive(Debug, Default)]
pub struct Stop(AtomicBool);

impl Stop {
    /// One that nobody will want.
    pub fn never() -> Stop {
        Stop::default()
    }

    /// Stop.
    pub fn want(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether it is wanted.
    pub fn is_wanted(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}
