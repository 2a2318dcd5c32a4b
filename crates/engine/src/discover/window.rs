//! Windows of modified time.

use crate::job::Candidate;

/// Files modified within it are meant: from a moment to another, both within it, in microseconds since
/// 1970.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Window {
    /// The first moment.
    pub from: i64,
    /// The last moment.
    pub to: i64,
}

impl Default for Window {
    fn default() -> Window {
        Window { from: i64::MIN, to: i64::MAX }
    }
}

impl Window {
    /// Whether a file was modified within it.
    pub fn contains(&self, file: &Candidate) -> bool {
        (self.from..=self.to).contains(&file.seen.arrival.modified)
    }

    /// Whether it leaves anything out.
    pub fn is_limited(&self) -> bool {
        *self != Window::default()
    }
}
