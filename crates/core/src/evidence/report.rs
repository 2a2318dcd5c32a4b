//! What there is to say of a column, in a form to be shown.

use std::fmt;

use super::decide::Chosen;
use super::{Against, Ambiguity, ColumnEvidence, Decision};
use crate::spelling::words::{NULL_SPELLINGS, NullSet};
use crate::spelling::{Class, Number, number, temporal};
use crate::types::{Domain, MAX_DIGITS, Type, Unit};

/// What there is to say of a column.
#[derive(Clone, Debug, PartialEq)]
pub struct ColumnReport {
    /// Its name in the table.
    pub name: String,
    /// Its name in the file.
    pub source: String,
    /// Its type.
    pub ty: Type,
    /// Some record has no value.
    pub nullable: bool,
    /// Records without a value.
    pub nulls: u64,
    /// Records in all.
    pub rows: u64,
    /// The spellings of null that were met, with how often.
    pub null_spellings: Vec<(String, u64)>,
    /// Distinct values.
    pub distinct: u64,
    /// Whether that is exact or estimated.
    pub distinct_exact: bool,
    /// The least value.
    pub min: Option<String>,
    /// The greatest value.
    pub max: Option<String>,
    /// The longest value, in characters.
    pub max_length: u64,
    /// How the values are written, where there is more than one way.
    pub format: Option<String>,
    /// What the values leave open, in words.
    pub ambiguity: Option<String>,
    /// The format that was chosen for what they leave open, as a user would say it.
    pub open_format: Option<String>,
    /// How many values are digits with a leading zero.
    pub leading_zeros: u64,
    /// Words that are null here and would not be in a column of text.
    pub null_words: Vec<String>,
    /// What stood against a narrower type.
    pub against: Vec<Against>,
    /// What else is worth a look.
    pub remarks: Vec<String>,
}

impl ColumnReport {
    /// Puts together what evidence and decision say of a column.
    pub fn of(name: &str, source: &str, column: &ColumnEvidence, decision: &Decision) -> ColumnReport {
        let (distinct, distinct_exact) = column.distinct();
        let (min, max) = range(column, decision).unzip();
        let spelled = column.nulls().filter(|(at, _)| decision.format.nulls.holds(*at));
        ColumnReport {
            name: name.to_owned(),
            source: source.to_owned(),
            ty: decision.domain.ty(),
            nullable: decision.nullable,
            nulls: decision.nulls,
            rows: column.present + column.missing,
            null_spellings: spelled
                .map(|(at, t)| (NULL_SPELLINGS[at as usize].to_owned(), t.count))
                .collect(),
            // An estimate may lie a little above what there can be.
            distinct: distinct.min(column.values()),
            distinct_exact,
            min,
            max,
            max_length: column.max_length,
            format: format_words(column, decision),
            ambiguity: decision.ambiguity.map(|open| open.to_string()),
            open_format: decision.ambiguity.map(|open| match open {
                Ambiguity::Mark { chosen, .. } => chosen.example().to_owned(),
                Ambiguity::DateOrder { chosen, .. } => chosen.words().to_owned(),
            }),
            leading_zeros: column.class(Class::LeadingZero).count,
            null_words: column
                .nulls()
                .filter(|(at, _)| decision.format.nulls.holds(*at) && !NullSet::ALWAYS.holds(*at))
                .map(|(at, _)| NULL_SPELLINGS[at as usize].to_owned())
                .collect(),
            against: decision.against.clone(),
            remarks: remarks(column, decision),
        }
    }
}

fn range(column: &ColumnEvidence, decision: &Decision) -> Option<(String, String)> {
    let both = |(a, b): (i64, i64), write: &dyn Fn(i64, &mut Vec<u8>)| {
        let text = |value: i64| {
            let mut out = Vec::new();
            write(value, &mut out);
            String::from_utf8_lossy(&out).into_owned()
        };
        (text(a), text(b))
    };
    match decision.domain {
        Domain::Number(_) if decision.domain.ty().is_calendar() => {
            let range = column.whole_range()?;
            let moment = |value: i64| temporal::of_digits(value).map_or(value, |(micros, _)| micros);
            let is_date = decision.domain.ty() == Type::Date;
            let range = (moment(range.0), moment(range.1));
            Some(match is_date {
                true => both(range, &|v, out| temporal::write_date(v.div_euclid(temporal::DAY) as i32, out)),
                false => both(range, &temporal::write_timestamp),
            })
        }
        Domain::Number(_) => {
            column.number_range(decision.format.number).map(|(a, b)| (number_text(a), number_text(b)))
        }
        Domain::Date => column.instant_range(decision.format.date).map(|range| {
            both(range, &|v, out| temporal::write_date(v.div_euclid(temporal::DAY) as i32, out))
        }),
        Domain::Timestamp => {
            column.instant_range(decision.format.date).map(|range| both(range, &temporal::write_timestamp))
        }
        Domain::TimestampTz => column.instant_range(decision.format.date).map(|range| {
            let (a, b) = both(range, &temporal::write_timestamp);
            (a + "+00:00", b + "+00:00")
        }),
        Domain::Time => column.time_range().map(|range| both(range, &temporal::write_time)),
        Domain::Unknown => None,
        _ => column.text_range().map(|(a, b)| {
            let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).trim_end_matches('\u{FFFD}').to_owned();
            (text(a), text(b))
        }),
    }
}

fn number_text(number: Number) -> String {
    match number.mantissa {
        i128::MAX => "inf".to_owned(),
        i128::MIN => "-inf".to_owned(),
        // A float beyond 38 digits is only known to be beyond them.
        mantissa if mantissa.unsigned_abs() == number::BEYOND.unsigned_abs() => {
            if mantissa < 0 { "below -1e38" } else { "above 1e38" }.to_owned()
        }
        _ if number.scale > MAX_DIGITS => format!("{:e}", number.to_f64()),
        _ => number.to_string(),
    }
}

/// How the values are written, where it is not the plain way.
fn format_words(column: &ColumnEvidence, decision: &Decision) -> Option<String> {
    let format = decision.format;
    let mut words = Vec::new();
    match decision.domain {
        Domain::Number(_) if decision.domain.ty().is_calendar() => {
            let is_date = decision.domain.ty() == Type::Date;
            words.push(if is_date { "yyyymmdd" } else { "yyyymmddhhmmss" }.to_owned());
        }
        Domain::Number(digits) => {
            if format.number != Default::default() {
                words.push(format.number.example().to_owned());
            }
            match digits.unit {
                Unit::Bare => {}
                Unit::Percent => words.push("percent sign taken off".to_owned()),
                Unit::Currency(sign) => words.push(format!("{sign} taken off")),
            }
            if column.accounting > 0 {
                words.push("negatives in parentheses or with the minus behind".to_owned());
            }
        }
        Domain::Date | Domain::Timestamp | Domain::TimestampTz => {
            words.push(format.date.words().to_owned());
            if column.short_years > 0 {
                words.push("years of two digits: 69-99 are the 1900s".to_owned());
            }
        }
        Domain::Boolean => {
            let (yes, no) = format.truth.words();
            words.push(format!("{yes}/{no}"));
        }
        _ => {}
    }
    (!words.is_empty()).then(|| words.join(", "))
}

impl fmt::Display for Ambiguity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Ambiguity::Mark { chosen, hinted } => {
                let why = if *hinted { "as the rest of the file suggests" } else { "the likelier reading" };
                write!(f, "every mark is followed by three digits; read as in {}, {why}", chosen.example())
            }
            Ambiguity::DateOrder { chosen, by, is_marked_anew } => {
                let why = match by {
                    Chosen::AnotherColumn => "as another column shows",
                    Chosen::FileName => "which lies near the day in the file's name",
                    Chosen::WhatVaries => {
                        "because that number changes from row to row and the other hardly does"
                    }
                    Chosen::Custom => "the commoner order",
                };
                let words = chosen.words();
                write!(f, "no day is above 12, so the order is open; read as {words}, {why}")?;
                if *is_marked_anew {
                    f.write_str(" (its dates are marked in another way than in the files before)")?;
                }
                Ok(())
            }
        }
    }
}

/// What there is to do about timestamps with more digits of a second than are kept.
pub const FINE: &str =
    "its seconds have more than six digits; with fraction = \"round\" or \"cut\" it is a timestamp";

fn remarks(column: &ColumnEvidence, decision: &Decision) -> Vec<String> {
    let mut remarks = Vec::new();
    if let Some((dmy, mdy)) = column.orders_at_odds()
        && let (Some(a), Some(b)) = (&dmy.first, &mdy.first)
    {
        remarks.push(format!(
            "mixed date orders: line {} holds `{}`, line {} holds `{}`",
            a.spot.line, a.value, b.spot.line, b.value
        ));
    }
    let kept_words: Vec<String> = column
        .nulls()
        .filter(|(at, _)| !decision.format.nulls.holds(*at))
        .map(|(at, tally)| format!("`{}` ({})", NULL_SPELLINGS[at as usize], tally.count))
        .collect();
    if !kept_words.is_empty() {
        remarks.push(format!("kept as text, not null: {}", kept_words.join(", ")));
    }
    if column.padded > 0 && decision.domain == Domain::Text {
        let values = if column.padded == 1 { "value has" } else { "values have" };
        remarks.push(format!("{} {values} blanks around, which are kept", column.padded));
    }
    if column.long > 0 && matches!(decision.domain.ty(), Type::Decimal { .. }) {
        let values = if column.long == 1 { "value has" } else { "values have" };
        remarks.push(format!("{} {values} more than 15 digits, the most that a float keeps", column.long));
    }
    if decision.is_too_fine {
        remarks.push(FINE.to_owned());
    }
    if column.with_unit() > 0 && decision.domain == Domain::Text {
        remarks.push(format!(
            "{} values carry a percent or currency sign, the others none or another",
            column.with_unit()
        ));
    }
    remarks
}
