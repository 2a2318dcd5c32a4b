//! What a feed expects of its files.

use hypodoke_core::layout::Otherwise;

/// What a feed expects.
#[derive(Clone, Debug, Default, PartialEq)]
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
    /// How many rejects are too many.
    pub rejected_rows: Option<RejectLimit>,
    /// A person has decided to load the file whatever is wrong with it.
    pub waived: bool,
}

impl Expectations {
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
