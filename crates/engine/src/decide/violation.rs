//! What a file does not meet of that which its feed expects, as data. `Display` gives each in one sentence.

use std::fmt;

use hypodoke_core::cast::Unmet;
use hypodoke_core::count;
use hypodoke_core::figures::Unusual;
use hypodoke_core::spelling::Number;

/// One thing that a file does not meet.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Violation {
    /// It has fewer records than it must have.
    TooFewRows {
        /// Its records.
        read: u64,
        /// The fewest.
        least: u64,
    },
    /// It has more records than it may have.
    TooManyRows {
        /// Its records.
        read: u64,
        /// The most.
        most: u64,
    },
    /// It has far more or fewer records than is usual.
    UnusualRows {
        /// Its records.
        read: u64,
        /// The median of the files before.
        usual: u64,
        /// How many files that is the median of.
        files: usize,
    },
    /// Values of a column do not meet a rule.
    Values(Unmet),
    /// Its last record breaks off.
    CutShort {
        /// The line of that record.
        line: u64,
    },
    /// Figures of its values are far outside what is usual.
    Unusual(Unusual),
    /// Too many of its records are rejected.
    TooManyRejects {
        /// Records rejected.
        rejected: u64,
        /// Its records.
        read: u64,
        /// The most, in words: a number or a percentage.
        most: String,
    },
    /// Its companion file cannot be read.
    CompanionUnreadable {
        /// The companion's path.
        companion: String,
        /// Why.
        why: String,
    },
    /// Its companion file states no digest of it.
    NoDigest {
        /// The companion's path.
        companion: String,
    },
    /// Its content has another digest than its companion states.
    OtherDigest {
        /// The companion's path.
        companion: String,
        /// The digest that is stated.
        stated: String,
        /// The digest of its content.
        found: String,
    },
    /// It has no trailer, where its control figures are expected.
    NoTrailer,
    /// There are fewer control figures than are expected.
    TooFewFigures {
        /// Where they stand: `its trailer`, or `its companion NAME`.
        source: String,
        /// How many there are.
        found: usize,
        /// How many are expected.
        expected: usize,
        /// The line they stand on.
        line: String,
    },
    /// A column whose sum is stated holds no numbers.
    NoSum {
        /// The column.
        column: String,
        /// Where the sum is stated.
        source: String,
    },
    /// A control figure differs from what the file holds.
    OtherFigure {
        /// The column whose sum it is; without one it is the number of rows.
        column: Option<String>,
        /// Where it is stated.
        source: String,
        /// The figure that is stated.
        stated: Number,
        /// What the file holds.
        found: Number,
        /// How many records were rejected, which may be why.
        rejected: u64,
    },
}

impl fmt::Display for Violation {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (rows, number) = (count::rows, count::number);
        match self {
            Violation::TooFewRows { read, least } => {
                write!(out, "{}, at least {} expected", rows(*read), number(*least))
            }
            Violation::TooManyRows { read, most } => {
                write!(out, "{}, at most {} expected", rows(*read), number(*most))
            }
            Violation::UnusualRows { read, usual, files } => write!(
                out,
                "{}, where this feed usually brings {} (the middle of the last {files})",
                rows(*read),
                number(*usual)
            ),
            Violation::Values(unmet) => {
                let Unmet { column, what, rows: many, line } = unmet;
                write!(out, "`{column}`: {what} in {}, first on line {line}", rows(*many))
            }
            Violation::CutShort { line } => {
                write!(out, "it breaks off within its last record, on line {}", number(*line))
            }
            Violation::Unusual(unusual) => unusual.fmt(out),
            Violation::TooManyRejects { rejected, read, most } => {
                write!(out, "{} of {} rejected, at most {most} allowed", number(*rejected), rows(*read))
            }
            Violation::CompanionUnreadable { companion, why } => {
                write!(out, "its companion {companion}: {why}")
            }
            Violation::NoDigest { companion } => {
                write!(out, "its companion {companion} states no digest of it")
            }
            Violation::OtherDigest { companion, stated, found } => {
                write!(out, "its companion {companion} says {stated}, its content has {found}")
            }
            Violation::NoTrailer => {
                out.write_str("it has no trailer, where its control figures are expected")
            }
            Violation::TooFewFigures { source, found, expected, line } => {
                let found = count::of(*found as u64, "number", "numbers");
                write!(out, "{source} has {found} (`{}`), {expected} expected", line.trim())
            }
            Violation::NoSum { column, source } => {
                write!(out, "`{column}` is not a column of numbers in it, and {source} gives its sum")
            }
            Violation::OtherFigure { column, source, stated, found, rejected } => {
                match column {
                    Some(column) => write!(out, "the sum of `{column}`")?,
                    None => out.write_str("rows")?,
                }
                write!(out, ": {source} says {stated}, the file holds {found}")?;
                if *rejected > 0 { write!(out, "; {} rejected", rows(*rejected)) } else { Ok(()) }
            }
        }
    }
}
