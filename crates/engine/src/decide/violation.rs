//! What a file does not meet of that which its feed expects, as data.

use hypodoke_core::cast::Unmet;
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
    /// Keys of rejected rows cannot be read, so that no key of a table vanished.
    UnreadableKeys {
        /// The table.
        table: String,
        /// The rejected rows.
        rows: u64,
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
        /// The companion file they are stated in; without one they are in its trailer.
        companion: Option<String>,
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
        /// The companion file the sum is stated in; without one it is in its trailer.
        companion: Option<String>,
    },
    /// A control figure differs from what the file holds.
    OtherFigure {
        /// The column whose sum it is; without one it is the number of rows.
        column: Option<String>,
        /// The companion file it is stated in; without one it is in its trailer.
        companion: Option<String>,
        /// The figure that is stated.
        stated: Number,
        /// What the file holds.
        found: Number,
        /// How many records were rejected, which may be why.
        rejected: u64,
    },
}
