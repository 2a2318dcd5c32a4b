//! Why a row could not be loaded, in words a person understands.

use std::fmt;

use super::Limit;
use crate::record::Fault;
use crate::types::Type;

/// Why a value or a record would not do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reason {
    /// The value is not of the column's type at all.
    NotA(Type),
    /// It has more digits after the mark than the column keeps.
    TooFine {
        /// Digits after the mark.
        found: u16,
        /// What the column keeps.
        scale: u16,
    },
    /// It has more digits before the mark than the column keeps, or lies beyond 64 bits.
    TooLarge(Type),
    /// The column has held no value until now, and has no type.
    NoTypeYet,
    /// A NUL byte, which no text column holds.
    Nul,
    /// The record has another number of fields than the header.
    FieldCount {
        /// What it has.
        found: usize,
        /// What the header has.
        expected: usize,
    },
    /// The column takes no null.
    Required,
    /// The column holds less than its type.
    Beyond(Limit),
    /// It is not what the feed expects, in words.
    Unexpected(&'static str),
    /// The value came before in the file, and the feed expects each once.
    Again,
    /// The record itself is broken.
    Fault(Fault),
}

impl Reason {
    /// Whether a wider type of the column would take the value.
    pub fn is_of_type(&self) -> bool {
        matches!(self, Reason::NotA(_) | Reason::TooFine { .. } | Reason::TooLarge(_) | Reason::NoTypeYet)
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Reason::NotA(ty) => {
                let article = if matches!(ty, Type::Integer) { "an" } else { "a" };
                write!(f, "not {article} {ty}")
            }
            Reason::TooFine { found, scale } => {
                let s = if *found == 1 { "" } else { "s" };
                write!(f, "{found} digit{s} after the decimal mark, the column keeps {scale}")
            }
            Reason::TooLarge(ty) => write!(f, "too large for {ty}"),
            Reason::NoTypeYet => f.write_str("the column has no type yet, it has been empty until now"),
            Reason::Nul => f.write_str("holds a NUL byte, which text cannot"),
            Reason::FieldCount { found, expected } => {
                let s = if *found == 1 { "" } else { "s" };
                write!(f, "{found} field{s}, the header has {expected}")
            }
            Reason::Required => f.write_str("null, and the column takes none"),
            Reason::Beyond(limit) => limit.fmt(f),
            Reason::Unexpected(what) => f.write_str(what),
            Reason::Again => f.write_str("came before in the file, and the feed expects each value once"),
            Reason::Fault(Fault::UnclosedQuote) => f.write_str("a quote is opened and never closed"),
            Reason::Fault(Fault::NotText { offset }) => {
                write!(f, "bytes that are not text in the file's encoding, at byte {offset}")
            }
            Reason::Fault(Fault::Broken(why)) => f.write_str(why),
        }
    }
}
