//! Formats that are not of this crate: whoever uses it adds them.

use std::fmt;
use std::sync::Arc;

use crate::bytes::ByteSource;
use crate::error::ReadError;
use crate::reader::RecordReader;

/// A format that is not of this crate: how it is told, and how its records are read.
///
/// It is asked before the formats of this crate. Bytes come as they are in the file, its compression taken off.
/// A panic of its reader fails the file, and nothing else.
///
/// ```
/// use hypodoke_formats::{ByteSource, Format, FormatOptions, ReadError, RecordReader};
///
/// #[derive(Debug)]
/// struct Logbook;
///
/// impl Format for Logbook {
///     fn name(&self) -> &str {
///         "a logbook"
///     }
///
///     fn recognises(&self, head: &[u8], _name: &str) -> bool {
///         head.starts_with(b"LOGBOOK 1\n")
///     }
///
///     fn open<'a>(&self, _bytes: ByteSource<'a>) -> Result<Box<dyn RecordReader + 'a>, ReadError> {
///         Err(ReadError::NoTable("it has no entries".into()))
///     }
/// }
///
/// let mut options = FormatOptions::default();
/// options.others.add(Logbook);
/// assert_eq!(options.others.len(), 1);
/// ```
pub trait Format: fmt::Debug + Send + Sync {
    /// The format in a few words: `a logbook`.
    fn name(&self) -> &str;

    /// Whether a file has it: by its first bytes (up to some kilobytes, as many as there are) and its name.
    fn recognises(&self, head: &[u8], name: &str) -> bool;

    /// Opens a file.
    ///
    /// # Errors
    ///
    /// It cannot be read.
    fn open<'a>(&self, bytes: ByteSource<'a>) -> Result<Box<dyn RecordReader + 'a>, ReadError>;
}

/// Formats that are asked before those of this crate, in their order. Two lists are equal if they hold the same
/// formats, not formats that are alike.
#[derive(Clone, Debug, Default)]
pub struct OtherFormats(Vec<Arc<dyn Format>>);

impl OtherFormats {
    /// Adds a format.
    pub fn add(&mut self, format: impl Format + 'static) {
        self.0.push(Arc::new(format));
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether there are none.
    ///
    /// ```
    /// use hypodoke_formats::FormatOptions;
    ///
    /// assert!(FormatOptions::default().others.is_empty());
    /// ```
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The first that a file has.
    pub(crate) fn find(&self, head: &[u8], name: &str) -> Option<&dyn Format> {
        self.0.iter().map(Arc::as_ref).find(|format| format.recognises(head, name))
    }
}

impl PartialEq for OtherFormats {
    fn eq(&self, other: &OtherFormats) -> bool {
        self.0.len() == other.0.len() && self.0.iter().zip(&other.0).all(|(a, b)| Arc::ptr_eq(a, b))
    }
}

impl Eq for OtherFormats {}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug)]
    struct Marked(&'static str);

    impl Format for Marked {
        fn name(&self) -> &str {
            self.0
        }

        fn recognises(&self, head: &[u8], _: &str) -> bool {
            head.starts_with(self.0.as_bytes())
        }

        fn open<'a>(&self, _: ByteSource<'a>) -> Result<Box<dyn RecordReader + 'a>, ReadError> {
            Err(ReadError::Empty)
        }
    }

    #[test]
    fn the_first_format_that_knows_a_file_has_it() {
        let mut formats = OtherFormats::default();
        assert!(formats.is_empty() && formats.find(b"AB", "a").is_none());
        formats.add(Marked("AB"));
        formats.add(Marked("A"));
        assert_eq!(formats.find(b"ABC", "a").map(Format::name), Some("AB"));
        assert_eq!(formats.find(b"AC", "a").map(Format::name), Some("A"));
        assert!(formats.find(b"BA", "a").is_none());
        assert_eq!(formats, formats.clone());
        let mut alike = OtherFormats::default();
        alike.add(Marked("AB"));
        alike.add(Marked("A"));
        assert_ne!(formats, alike);
    }
}
