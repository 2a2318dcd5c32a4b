//! How a delimited text is written.

use serde::{Deserialize, Serialize};

/// What stands between fields.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Delimiter {
    /// One character.
    Char(char),
    /// Several characters.
    Several(Marks),
    /// Any run of spaces and tabs.
    Blanks,
}

impl std::fmt::Display for Delimiter {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let word = match self {
            Delimiter::Char(',') => "comma",
            Delimiter::Char(';') => "semicolon",
            Delimiter::Char('\t') => "tab",
            Delimiter::Char('|') => "pipe",
            Delimiter::Char(' ') => "space",
            Delimiter::Char(other) => return write!(f, "`{}`", other.escape_default()),
            Delimiter::Several(marks) => return write!(f, "`{}`", marks.text().escape_default()),
            Delimiter::Blanks => "blanks",
        };
        f.write_str(word)
    }
}

/// A few characters, in at most [`Marks::MOST`] bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Marks {
    bytes: [u8; Marks::MOST],
    length: u8,
}

impl Marks {
    /// How many bytes there may be.
    pub const MOST: usize = 8;

    /// The marks of a text; `None` where there are none or too many.
    ///
    /// ```
    /// use hypodoke_formats::text::Marks;
    ///
    /// assert_eq!(Marks::new("||").map(|marks| marks.text().to_owned()).as_deref(), Some("||"));
    /// assert_eq!(Marks::new(""), None);
    /// ```
    pub fn new(text: &str) -> Option<Marks> {
        let mut bytes = [0; Marks::MOST];
        bytes.get_mut(..text.len())?.copy_from_slice(text.as_bytes());
        (!text.is_empty()).then_some(Marks { bytes, length: text.len() as u8 })
    }

    /// As text.
    pub fn text(&self) -> &str {
        self.bytes.get(..self.length.into()).and_then(|b| std::str::from_utf8(b).ok()).unwrap_or_default()
    }
}

impl TryFrom<String> for Marks {
    type Error = String;

    fn try_from(text: String) -> Result<Marks, String> {
        Marks::new(&text).ok_or_else(|| format!("`{text}` is not 1 to {} bytes long", Marks::MOST))
    }
}

impl From<Marks> for String {
    fn from(marks: Marks) -> String {
        marks.text().to_owned()
    }
}

/// How a quote is written inside a quoted field.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Escape {
    /// Twice (RFC 4180).
    #[default]
    Doubled,
    /// Behind a backslash.
    Backslash,
}

/// How records and fields are told apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Dialect {
    /// What stands between fields.
    pub delimiter: Delimiter,
    /// What stands around fields that hold delimiters, if anything.
    pub quote: Option<u8>,
    /// How a quote is written inside such a field.
    pub escape: Escape,
    /// A carriage return alone ends a line too.
    pub lone_cr: bool,
    /// Blanks before a field are no part of it.
    #[serde(default)]
    pub blanks_before: bool,
    /// Every record ends in a delimiter that begins no field.
    pub trailing_delimiter: bool,
    /// Lines that begin with this are comments.
    pub comment: Option<u8>,
}

impl Default for Dialect {
    fn default() -> Self {
        Dialect {
            delimiter: Delimiter::Char(','),
            quote: Some(b'"'),
            escape: Escape::Doubled,
            lone_cr: true,
            blanks_before: false,
            trailing_delimiter: false,
            comment: None,
        }
    }
}
