//! How a delimited text is written.

use serde::{Deserialize, Serialize};

/// What stands between fields.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Delimiter {
    /// One character.
    Char(char),
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
            Delimiter::Blanks => "blanks",
        };
        f.write_str(word)
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
    /// Lines end in a carriage return alone.
    pub lone_cr: bool,
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
            lone_cr: false,
            trailing_delimiter: false,
            comment: None,
        }
    }
}
