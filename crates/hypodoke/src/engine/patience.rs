//! Patience with a database: what failed in passing is tried again, with pauses that grow, and
//! not for ever.

use std::time::Duration;

use hypodoke_stores::{Store, StoreError};

/// How often something is tried again.
const MOST_TRIES: u32 = 6;

/// The first pause; each is twice as long as the one before.
const FIRST_PAUSE: Duration = Duration::from_millis(250);

/// How much patience is left.
pub struct Patience {
    tries: u32,
}

impl Patience {
    /// All of it.
    pub fn new() -> Patience {
        Patience { tries: 0 }
    }

    /// Whether to try again after this error.
    pub fn has_more(&self, error: &StoreError) -> bool {
        error.is_passing() && self.tries < MOST_TRIES
    }

    /// Pauses, longer each time. A table that somebody else changed needs no pause.
    pub fn wait(&mut self, error: &StoreError) {
        if !matches!(error, StoreError::Changed { .. }) {
            std::thread::sleep(FIRST_PAUSE * 2u32.pow(self.tries));
        }
        self.tries += 1;
    }

    /// Connects anew, as often as patience lasts.
    pub fn reconnect(&mut self, store: &mut dyn Store) -> Result<(), StoreError> {
        loop {
            match store.reconnect() {
                Ok(()) => return Ok(()),
                Err(error) if self.tries >= MOST_TRIES => return Err(error),
                Err(error) => self.wait(&error),
            }
        }
    }
}

/// Does what may be done twice, over a connection made anew where it was lost.
pub fn patiently<T>(
    store: &mut dyn Store,
    mut work: impl FnMut(&mut dyn Store) -> Result<T, StoreError>,
) -> Result<T, StoreError> {
    let mut patience = Patience::new();
    loop {
        match work(store) {
            Err(error @ StoreError::Lost { .. }) if patience.has_more(&error) => {
                patience.wait(&error);
                patience.reconnect(store)?;
            }
            ended => return ended,
        }
    }
}
