//! How values are spelled: recognising a spelling in any column, and reading it in one
//! whose format is known.
//!
//! Recognising ([`recognise`]) answers "what could this be?" and feeds the evidence;
//! reading (`read` in each module) answers "what is it, given this format?" and feeds the
//! caster. Both stand side by side so that what one accepts, the other reads.

pub mod number;
pub mod temporal;
pub mod words;

mod blanks;
mod class;
mod date_order;
mod exact;
mod fraction;
mod recognised;

pub use blanks::trim;
pub use class::{Class, Family};
pub use fraction::Fraction;
pub use number::{Number, NumberStyle};
pub use recognised::{Recognised, RecognisedNumber, RecognisedTemporal};
pub use temporal::{DateOrder, Orders};
pub use words::{BoolWords, NullSet};

use words::Word;

/// Says what a value could be. Blanks around it are disregarded.
///
/// ```
/// use hypodoke_core::spelling::{Recognised, recognise};
///
/// assert!(matches!(recognise(b" 42 "), Recognised::Integer(42, _)));
/// assert!(matches!(recognise(b"7,50"), Recognised::Number(_)));
/// ```
#[inline]
pub fn recognise(value: &[u8]) -> Recognised {
    let bytes = trim(value);
    let Some(&first) = bytes.first() else { return Recognised::Null(words::EMPTY) };
    match first {
        b'0'..=b'9' => recognise_digits(bytes),
        b'a'..=b'z' | b'A'..=b'Z' => recognise_word(bytes),
        b'{' | b'[' => recognise_bracket(bytes),
        _ => recognise_other(bytes),
    }
}

#[inline]
fn recognise_digits(bytes: &[u8]) -> Recognised {
    // The first byte that is no digit tells numbers, dates and times apart at a glance.
    let Some(mark) = bytes.iter().take(19).position(|b| !b.is_ascii_digit()) else {
        return match number::plain_integer(bytes) {
            Some((value, digits)) => Recognised::Integer(value, digits),
            None => number::recognise(bytes).unwrap_or(Recognised::Text),
        };
    };
    match bytes[mark] {
        b'.' => {
            if let Some(sight) = number::plain_point(bytes, mark) {
                return Recognised::Number(sight);
            }
        }
        b',' | b'%' | b'\'' => return number::recognise(bytes).unwrap_or(Recognised::Text),
        _ => {}
    }
    if let Some(sight) = temporal::recognise(bytes, mark) {
        return sight;
    }
    if let Some(sight) = number::recognise(bytes) {
        return sight;
    }
    if is_uuid(bytes) { Recognised::Uuid } else { Recognised::Text }
}

#[inline]
fn recognise_word(bytes: &[u8]) -> Recognised {
    let initial = bytes[0] | 0x20;
    if bytes.len() <= words::LONGEST_TRUTH && words::may_be_truth(initial) {
        match words::look_up(bytes) {
            Some(Word::Null(index)) => return Recognised::Null(index),
            Some(Word::Boolean(pair, _)) => return Recognised::Boolean(pair),
            None => {}
        }
    }
    if temporal::starts_with_name(bytes)
        && let Some(sight) = temporal::recognise(bytes, 0)
    {
        return sight;
    }
    if bytes.len() == 36 && is_uuid(bytes) {
        return Recognised::Uuid;
    }
    if number::starts_with_currency(bytes) || initial == b'i' && words::is_infinite(bytes) {
        return number::recognise(bytes).unwrap_or(Recognised::Text);
    }
    Recognised::Text
}

fn recognise_bracket(bytes: &[u8]) -> Recognised {
    let closed = matches!((bytes[0], bytes[bytes.len() - 1]), (b'{', b'}') | (b'[', b']'));
    if closed && is_uuid(bytes) {
        return Recognised::Uuid;
    }
    if closed && is_json(bytes) { Recognised::Json } else { Recognised::Text }
}

fn recognise_other(bytes: &[u8]) -> Recognised {
    let may_be_word = bytes.len() <= words::LONGEST || bytes.first().is_some_and(|first| *first > 0x7F);
    if may_be_word {
        match words::look_up(bytes) {
            Some(Word::Null(index)) => return Recognised::Null(index),
            Some(Word::Boolean(pairs, _)) => return Recognised::Boolean(pairs),
            None => {}
        }
    }
    number::recognise(bytes).unwrap_or(Recognised::Text)
}

/// Whether these are the 36 characters of a UUID (RFC 9562), braces around them allowed.
///
/// ```
/// use hypodoke_core::spelling::is_uuid;
///
/// assert!(is_uuid(b"{0f8fad5b-d9cb-469f-a165-70867728950e}"));
/// assert!(!is_uuid(b"0f8fad5bd9cb469fa16570867728950e"));
/// ```
pub fn is_uuid(bytes: &[u8]) -> bool {
    let bytes = match bytes {
        [b'{', inner @ .., b'}'] => inner,
        _ => bytes,
    };
    bytes.len() == 36
        && bytes.iter().enumerate().all(|(at, &b)| match at {
            8 | 13 | 18 | 23 => b == b'-',
            _ => b.is_ascii_hexdigit(),
        })
}

/// Whether these bytes are one JSON text (RFC 8259).
///
/// ```
/// use hypodoke_core::spelling::is_json;
///
/// assert!(is_json(br#"{"berth": "N1"}"#));
/// assert!(!is_json(b"{berth: N1}"));
/// ```
pub fn is_json(bytes: &[u8]) -> bool {
    serde_json::from_slice::<serde::de::IgnoredAny>(bytes).is_ok()
}
