//! What becomes of digits that a type does not keep.

use serde::{Deserialize, Serialize};

/// What becomes of digits behind the last one that a type keeps: those of a second beyond its millionths, and
/// those of a number beyond the digits of a type that was given.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Fraction {
    /// The value is rounded, halves away from zero.
    Round,
    /// They are cut off.
    Cut,
    /// The column is text, and a number a reject.
    Text,
}

impl Fraction {
    /// The words of the choices in the configuration.
    pub const WORDS: [(&str, Fraction); 3] =
        [("round", Fraction::Round), ("cut", Fraction::Cut), ("text", Fraction::Text)];
}
