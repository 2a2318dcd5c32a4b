//! What a feed expects of its files.

use hypodoke_core::layout::{Otherwise, UnusualValues};

/// What a feed expects.
#[derive(Clone, Debug, PartialEq)]
pub struct Expectations {
    /// The fewest records of a file.
    pub min_rows: Option<u64>,
    /// The most records of a file.
    pub max_rows: Option<u64>,
    /// How far a count may be from the usual, as a share of it.
    pub usual_rows: Option<f64>,
    /// What the numbers of the control line are, in order; empty where there is none.
    pub control: Vec<Control>,
    /// The companion file that holds them, `{file}` for the file's name; without it, the file's trailer.
    pub control_file: Option<String>,
    /// What becomes of a file that does not meet these.
    pub otherwise: Otherwise,
    /// What becomes of a file whose values are unusual.
    pub values: UnusualValues,
    /// What becomes of a file whose last record breaks off; it is held if nothing is said.
    pub cut_short: Otherwise,
    /// How many rejects are too many.
    pub rejected_rows: Option<RejectLimit>,
    /// A person has decided to load the file whatever is wrong with it.
    pub waived: bool,
}

impl Default for Expectations {
    fn default() -> Expectations {
        Expectations {
            min_rows: None,
            max_rows: None,
            usual_rows: None,
            control: Vec::new(),
            control_file: None,
            otherwise: Otherwise::default(),
            values: UnusualValues::default(),
            cut_short: Otherwise::Hold,
            rejected_rows: None,
            waived: false,
        }
    }
}

impl Expectations {
    /// No expectations at all: for files that were taken in before.
    pub fn none() -> Expectations {
        Expectations { values: UnusualValues::Off, waived: true, ..Expectations::default() }
    }

    /// What becomes of a file that should be treated in this way: where a person has waived all
    /// expectations, nothing but a warning.
    pub fn weighed(&self, otherwise: Otherwise) -> Otherwise {
        if self.waived { Otherwise::Warn } else { otherwise }
    }
}

/// What a number of a control line says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Control {
    /// How many records there are.
    Rows,
    /// The sum of a column, by its name in the file or the table.
    Sum(String),
    /// The digest of the file as it was sent. It is no number of the line, and stands anywhere in
    /// the companion file.
    Digest,
}

/// How many rejects of a file are too many.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RejectLimit {
    /// More than this are too many.
    pub most: RejectMaximum,
    /// What becomes of the file: it is held, or it fails.
    pub otherwise: Otherwise,
}

/// The most rejects that a file may have.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum RejectMaximum {
    /// So many rows.
    Rows(u64),
    /// A share of the records read, 0 to 1.
    Share(f64),
}
