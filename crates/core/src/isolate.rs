//! Threads whose panics are caught and told as the failure of one file.

use std::cell::Cell;

thread_local! {
    static DEPTH: Cell<u32> = const { Cell::new(0) };
}

/// Whether a panic on this thread is caught and told as the failure of one file. A program's panic
/// hook can ask this, and print nothing.
pub fn is_isolated() -> bool {
    DEPTH.get() > 0
}

/// Marks this thread as one whose panics are caught, until it is dropped.
pub struct Mark(());

impl Mark {
    /// Marks it.
    pub fn set() -> Mark {
        DEPTH.set(DEPTH.get() + 1);
        Mark(())
    }
}

impl Drop for Mark {
    fn drop(&mut self) {
        DEPTH.set(DEPTH.get().saturating_sub(1));
    }
}

/// Does the work on a thread that helps isolated work: whoever waits for it passes a panic on, or tells of it.
///
/// ```
/// use hypodoke_core::isolate::{helping, is_isolated};
///
/// assert!(helping(is_isolated) && !is_isolated());
/// ```
pub fn helping<T>(work: impl FnOnce() -> T) -> T {
    let _mark = Mark::set();
    work()
}
