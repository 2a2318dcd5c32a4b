//! Counts with an example: how often something was seen, and where first.

use serde::Serialize;

/// The most of a value that an example keeps, in bytes.
pub const EXAMPLE_BYTES: usize = 80;

/// Where a value stood: the file by its number in the survey, and the line counted from 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize)]
pub struct Spot {
    /// The file's number in what is surveyed together.
    pub file: u32,
    /// The line the record starts on.
    pub line: u64,
}

/// A value as it was met.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Example {
    /// Where it stood.
    pub spot: Spot,
    /// Its text, cut to [`EXAMPLE_BYTES`].
    pub value: Box<str>,
}

/// How often something was seen, and the first place where it was.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Tally {
    /// How often.
    pub count: u64,
    /// The first, by file and line.
    pub first: Option<Example>,
}

impl Tally {
    /// Counts one more.
    #[inline]
    pub fn add(&mut self, spot: impl FnOnce() -> Spot, value: &[u8]) {
        self.count += 1;
        if self.first.is_none() {
            self.first = Some(Example { spot: spot(), value: shorten(value) });
        }
    }

    /// Counts what the other counted; the earlier example stays.
    pub fn merge(&mut self, other: &Tally) {
        self.count += other.count;
        if let Some(theirs) = &other.first
            && self.first.as_ref().is_none_or(|ours| theirs < ours)
        {
            self.first = Some(theirs.clone());
        }
    }
}

/// The text of a value, cut at a character near [`EXAMPLE_BYTES`].
///
/// ```
/// use hypodoke_core::evidence::shorten;
///
/// assert_eq!(&*shorten(b"N1"), "N1");
/// assert!(shorten(&[b'x'; 10_000]).len() < 10_000);
/// ```
#[cold]
pub fn shorten(value: &[u8]) -> Box<str> {
    let text = String::from_utf8_lossy(&value[..value.len().min(EXAMPLE_BYTES + 4)]);
    let mut end = text.len().min(EXAMPLE_BYTES);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    if end < value.len() { format!("{}…", &text[..end]).into() } else { text[..end].into() }
}
