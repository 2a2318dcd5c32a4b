//! What a column of a table takes, and where from.

use super::value::{Reader, SeenValues};
use super::{Demand, Limit};
use crate::layout::Format;
use crate::pattern::PartValue;
use crate::spelling::Fraction;
use crate::types::{Digits, Domain, Type};

/// Where a table column's values come from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Source {
    /// A field of the record.
    Field(usize),
    /// The same for every record of the file: a part of its name.
    Constant(PartValue),
    /// Several fields, put together as one JSON object: their names and places.
    Extras(Vec<(String, usize)>),
    /// Nowhere: null.
    Nothing,
}

/// What is to become of one column of the table.
#[derive(Clone, Debug, PartialEq)]
pub struct Target {
    /// The column's name in the file, for rejects.
    pub source_name: String,
    /// Its type in the table.
    pub ty: Type,
    /// The digits that its numbers needed until now, and the sign they carry.
    pub digits: Digits,
    /// Where its values come from.
    pub source: Source,
    /// How they are written.
    pub format: Format,
    /// The day that the file is of, by its name, in days since 1970.
    pub day: Option<i32>,
    /// What becomes of digits that are not kept.
    pub fraction: Option<Fraction>,
    /// Words that are null because the user says so.
    pub also_null: Vec<String>,
    /// Strings of a typed source are texts, whatever they say.
    pub strings_are_text: bool,
    /// A value that does not fit is a reject by the user's will, not a surprise.
    pub pinned: bool,
    /// It takes no null.
    pub required: bool,
    /// What the column holds is narrower than its type.
    pub limit: Option<Limit>,
    /// Blanks around texts are cut off.
    pub trim: bool,
    /// What stands for null, as a file would write it.
    pub default: Option<String>,
    /// What is asked of its values.
    pub demand: Demand,
}

impl Target {
    /// A reader of the column's values, of which this much was met before; mantissas too wide for a
    /// cell go to `wide`.
    pub(super) fn reader<'a>(&'a self, met: SeenValues, wide: &'a mut Vec<i128>) -> Reader<'a> {
        Reader {
            also_null: &self.also_null,
            strings_are_text: self.strings_are_text,
            ty: self.ty,
            trim: self.trim,
            format: self.format,
            known: self.digits,
            day: self.day,
            fraction: self.fraction,
            rounds: self.fraction.filter(|_| self.pinned),
            wide,
            met,
        }
    }

    /// The digits that the numbers of a domain need.
    pub fn digits_of(domain: Domain) -> Digits {
        match domain {
            Domain::Number(digits) => digits,
            _ => Digits { not_days: true, not_moments: true, ..Digits::default() },
        }
    }
}
