//! Trying again what failed for a transient reason: with growing pauses, and a limited number of times.

use std::time::Duration;

use hypodoke_stores::{StoreError, Tables};

use crate::error::EngineError;

/// How often something is tried again.
const MOST_TRIES: u32 = 6;

/// How often a lock is waited for again: each wait is as long as `wait` says.
const MOST_WAITS: u32 = 3;

/// How often another loader may change the table between a plan and its load: each time, that one has got
/// on with its work.
const MOST_OVERTAKEN: u32 = 200;

/// The first pause; each is twice as long as the one before.
const FIRST_PAUSE: Duration = Duration::from_millis(250);

/// How often something was tried again, and may be yet.
#[derive(Debug, Default)]
pub struct RetryPolicy {
    tries: u32,
    /// How often another loader had changed the table in between.
    overtaken: u32,
}

impl RetryPolicy {
    /// Whether to try again after this error.
    pub fn allows(&self, error: &StoreError) -> bool {
        match error {
            StoreError::Changed { .. } => self.overtaken < MOST_OVERTAKEN,
            StoreError::InUse { .. } => self.tries < MOST_WAITS,
            error => error.is_transient() && self.tries < MOST_TRIES,
        }
    }

    /// Pauses, longer each time. A table that somebody else changed needs no pause.
    pub fn wait(&mut self, error: &StoreError) {
        if matches!(error, StoreError::Changed { .. }) {
            self.overtaken += 1;
            return;
        }
        std::thread::sleep(FIRST_PAUSE * 2u32.pow(self.tries));
        self.tries += 1;
    }

    /// Connects anew, as often as the policy allows.
    ///
    /// # Errors
    ///
    /// The database cannot be reached.
    pub fn reconnect(&mut self, store: &mut dyn Tables) -> Result<(), StoreError> {
        loop {
            match store.reconnect() {
                Ok(()) => return Ok(()),
                Err(error) if self.tries >= MOST_TRIES => return Err(error),
                Err(error) => self.wait(&error),
            }
        }
    }
}

/// Does work that may safely be done twice, and reconnects where the connection was lost.
///
/// # Errors
///
/// The work fails for another reason, or the connection stays lost.
pub fn with_retry<T>(
    store: &mut dyn Tables,
    mut work: impl FnMut(&mut dyn Tables) -> Result<T, EngineError>,
) -> Result<T, EngineError> {
    let mut retry = RetryPolicy::default();
    loop {
        match work(store) {
            Err(EngineError::Store(error))
                if matches!(*error, StoreError::Lost { .. }) && retry.allows(&error) =>
            {
                retry.wait(&error);
                retry.reconnect(store)?;
            }
            ended => return ended,
        }
    }
}
