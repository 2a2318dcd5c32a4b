//! Words with a meaning of their own: nulls and truth values.

mod truth;

use serde::{Deserialize, Serialize};

pub use truth::{ALL_PAIRS, BoolWords, LONGEST_TRUTH, Pairs, may_be_truth, truth};

/// The longest word looked up, in bytes.
pub const LONGEST: usize = 7;

/// The index of the empty value in [`NULL_SPELLINGS`].
pub const EMPTY: u8 = 0;

/// The spellings of null that are recognised. The first [`ALWAYS_NULL`] are null in a column
/// of any type; the others only where the column's values are of a type that could not
/// hold them, because in a column of text they may well be words.
pub const NULL_SPELLINGS: &[&str] = &[
    "", "NULL", "null", "#N/A", "\\N", "(null)", "<null>", "Null", "NA", "na", "N/A", "n/a", "N.A.", "n.a.",
    "-", "--", "---", "NaN", "nan", "NAN", "None", "none", "NONE", "nil", "NaT", "?", ".", "..", "...",
    "n/d", "N/D",
];

/// How many of [`NULL_SPELLINGS`] are null whatever the column's type.
pub const ALWAYS_NULL: usize = 7;

/// A set of the [`NULL_SPELLINGS`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct NullSet(pub u32);

impl NullSet {
    /// The spellings that are null in every column.
    pub const ALWAYS: NullSet = NullSet((1 << ALWAYS_NULL) - 1);

    /// Every spelling.
    pub const ALL: NullSet = NullSet(((1u64 << NULL_SPELLINGS.len()) - 1) as u32);

    /// Whether a spelling is in the set.
    #[inline]
    pub fn holds(self, index: u8) -> bool {
        self.0 >> index & 1 == 1
    }

    /// The union of two sets.
    pub fn or(self, other: NullSet) -> NullSet {
        NullSet(self.0 | other.0)
    }

    /// The spellings in the set.
    pub fn spellings(self) -> impl Iterator<Item = &'static str> {
        NULL_SPELLINGS.iter().enumerate().filter(move |(at, _)| self.holds(*at as u8)).map(|(_, s)| *s)
    }
}

/// A word that was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Word {
    /// A spelling of null.
    Null(u8),
    /// A truth word: the pairs it may belong to, and its value.
    Boolean(Pairs, bool),
}

/// Looks a trimmed value up among the words.
#[inline]
pub fn look_up(bytes: &[u8]) -> Option<Word> {
    if bytes.is_empty() {
        return Some(Word::Null(EMPTY));
    }
    if let Some((pairs, value)) = truth(bytes) {
        return Some(Word::Boolean(pairs, value));
    }
    if bytes.len() > LONGEST {
        return None;
    }
    spelling_of(bytes, NullSet::ALL).map(Word::Null)
}

/// For each byte, the spellings of null that begin with it: most values begin with none of theirs.
const BY_FIRST: [u32; 256] = {
    let mut table = [0; 256];
    let mut at = 0;
    while at < NULL_SPELLINGS.len() {
        if let [first, ..] = NULL_SPELLINGS[at].as_bytes() {
            table[*first as usize] |= 1 << at;
        }
        at += 1;
    }
    table
};

/// The spellings of null as one number each: their bytes, the first one lowest.
const PACKED: [u64; NULL_SPELLINGS.len()] = {
    let mut table = [0; NULL_SPELLINGS.len()];
    let mut at = 0;
    while at < NULL_SPELLINGS.len() {
        table[at] = packed(NULL_SPELLINGS[at].as_bytes());
        at += 1;
    }
    table
};

/// At most [`LONGEST`] bytes as one number; none of them is NUL where two are to be told apart.
#[inline]
const fn packed(bytes: &[u8]) -> u64 {
    let (mut number, mut at) = (0, bytes.len());
    while at > 0 {
        at -= 1;
        number = number << 8 | bytes[at] as u64;
    }
    number
}

/// The index of a value of 1 to [`LONGEST`] bytes among the spellings of a set.
#[inline]
fn spelling_of(bytes: &[u8], set: NullSet) -> Option<u8> {
    let mut left = BY_FIRST[usize::from(*bytes.first()?)] & set.0;
    // NUL bytes at the end would not count.
    if left == 0 || bytes.ends_with(&[0]) {
        return None;
    }
    let word = packed(bytes);
    while left != 0 {
        let at = left.trailing_zeros();
        if PACKED[at as usize] == word {
            return Some(at as u8);
        }
        left &= left - 1;
    }
    None
}

/// The index of a trimmed value among the spellings of null.
#[inline]
pub fn null_index(bytes: &[u8]) -> Option<u8> {
    null_index_in(bytes, NullSet::ALL)
}

/// The index of a trimmed value among the spellings of null of a set.
#[inline]
pub fn null_index_in(bytes: &[u8], set: NullSet) -> Option<u8> {
    match bytes.first() {
        None => set.holds(EMPTY).then_some(EMPTY),
        Some(b'0'..=b'9') => None,
        Some(_) if bytes.len() > LONGEST => None,
        Some(_) => spelling_of(bytes, set),
    }
}

/// Whether the word means an infinite number, with or without a sign.
pub fn is_infinite(bytes: &[u8]) -> bool {
    let bare = match bytes {
        [b'+' | b'-', rest @ ..] => rest,
        _ => bytes,
    };
    [&b"inf"[..], b"infinity"].iter().any(|word| bare.eq_ignore_ascii_case(word))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_spelling_of_null_fits_the_set_and_the_look_up() {
        assert!(NULL_SPELLINGS.len() <= 32);
        for (at, spelling) in NULL_SPELLINGS.iter().enumerate() {
            assert!(spelling.len() <= LONGEST, "{spelling}");
            assert_eq!(null_index(spelling.as_bytes()), Some(at as u8), "{spelling}");
        }
    }

    #[test]
    fn what_is_no_spelling_is_none() {
        for spelling in NULL_SPELLINGS.iter().filter(|spelling| spelling.len() < LONGEST) {
            for other in [format!("{spelling}\0"), format!("{spelling}x"), format!("\0{spelling}")] {
                assert_eq!(null_index(other.as_bytes()), None, "{other:?}");
            }
        }
        assert_eq!(null_index_in(b"NA", NullSet::ALWAYS), None);
        assert_eq!(null_index_in(b"NULL", NullSet::ALWAYS), Some(1));
        assert_eq!(null_index_in(b"", NullSet(0)), None);
    }

    #[test]
    fn no_word_is_both_null_and_true() {
        for spelling in NULL_SPELLINGS {
            assert_eq!(truth(spelling.as_bytes()), None, "{spelling}");
        }
    }
}
