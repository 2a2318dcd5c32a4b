//! Why a file could not be read.

use std::io;

use hypodoke_core::count;

/// Why a file, or the rest of it, could not be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ReadError {
    /// The system's own reason.
    #[error("{0}")]
    Io(#[source] io::Error),
    /// Nothing in it.
    #[error("the file is empty")]
    Empty,
    /// A file of another kind, which holds no table.
    #[error("it is {0}, and holds no table that can be read")]
    Foreign(String),
    /// Bytes that are no text and no kind of file that is known.
    #[error("not a text file: {what}")]
    Binary {
        /// What it looks like, or where the first such byte stands.
        what: String,
    },
    /// A compressed file that breaks off or is damaged.
    #[error("the {compression} data is damaged or cut short after {expanded} expanded bytes: {error}")]
    Compressed {
        /// How it is compressed.
        compression: &'static str,
        /// How far it could be read.
        expanded: u64,
        /// The decoder's own words.
        error: String,
    },
    /// A compressed file that expands beyond measure.
    #[error("expands to more than {ratio} times its size ({expanded} bytes so far)")]
    Expansion {
        /// Bytes so far.
        expanded: u64,
        /// The limit that was passed.
        ratio: u64,
    },
    /// A line longer than is allowed.
    #[error("line {line} is longer than {limit} bytes")]
    LongLine {
        /// The line.
        line: u64,
        /// The limit.
        limit: usize,
    },
    /// A record of more fields than are told apart.
    #[error("line {line} has more than {limit} fields")]
    TooManyFields {
        /// The line.
        line: u64,
        /// The limit.
        limit: usize,
    },
    /// The user names another number of columns than there are.
    #[error("it has {}{}, and `header` names {named}", count::of(*columns as u64, "column", "columns"), on_sheet(sheet))]
    OtherNames {
        /// The names given.
        named: usize,
        /// The columns found.
        columns: usize,
        /// The sheet, where it is one of a workbook.
        sheet: Option<String>,
    },
    /// A cell longer than is allowed.
    #[error("`{member}` in it has a cell longer than {limit} bytes")]
    LongCell {
        /// The part of the workbook.
        member: String,
        /// The limit.
        limit: usize,
    },
    /// More than is unpacked or held as one text.
    #[error("it holds more than {} GiB, the most that is unpacked or read as one text", limit >> 30)]
    TooLarge {
        /// The most bytes there may be.
        limit: u64,
    },
    /// An archive that cannot be read.
    #[error("the zip archive cannot be read: {0}")]
    Archive(String),
    /// A member of an archive is encrypted.
    #[error("`{member}` in the zip archive is protected by a password")]
    Locked {
        /// The member.
        member: String,
    },
    /// JSON whose brackets or commas are broken.
    #[error("no JSON at byte {byte}, line {line}, at {path}: {what}; {records} records were read before it")]
    Json {
        /// Where it broke, in bytes.
        byte: u64,
        /// On which line.
        line: u64,
        /// Where in the document, as a JSONPath.
        path: String,
        /// What is wrong.
        what: String,
        /// Records before it.
        records: u64,
    },
    /// Objects with so many different keys, each of them in few objects, that the keys must be data.
    #[error("the objects at {path} have too many different keys for columns: the keys are data")]
    KeysAreData {
        /// Where.
        path: String,
    },
    /// A workbook that cannot be read.
    #[error("the workbook cannot be read: {0}")]
    Workbook(String),
    /// A columnar file that is damaged.
    #[error("the {what} file cannot be read: {error}")]
    Columnar {
        /// Its format.
        what: &'static str,
        /// What is wrong with it.
        error: String,
    },
    /// A columnar file that is encrypted.
    #[error("the {what} file is encrypted, and cannot be read without its key")]
    Encrypted {
        /// Its format.
        what: &'static str,
    },
    /// A value longer than is allowed.
    #[error("row {row} has a value longer than {limit} bytes")]
    LongValue {
        /// The row.
        row: u64,
        /// The limit.
        limit: usize,
    },
    /// A format that this program can be built to read, and was not.
    #[error("it is {what}, which this build does not read")]
    NotBuilt {
        /// What it is.
        what: &'static str,
    },
    /// A workbook with a password.
    #[error("the workbook is protected by a password")]
    Password,
    /// A workbook that holds no table.
    #[error("the workbook holds no table: {0}")]
    NoTable(String),
    /// Something was asked for that the file does not have.
    #[error("{0}")]
    NotThere(String),
    /// No encoding has that name.
    #[error("no encoding is called `{0}`")]
    Encoding(String),
}

/// ` on the sheet `Fees``, where it is one of a workbook.
fn on_sheet(sheet: &Option<String>) -> String {
    sheet.as_ref().map(|sheet| format!(" on the sheet `{sheet}`")).unwrap_or_default()
}

impl ReadError {
    /// The case in a word, which programs may compare.
    ///
    /// ```
    /// use hypodoke_formats::ReadError;
    ///
    /// assert_eq!(ReadError::Empty.code(), "empty");
    /// ```
    pub fn code(&self) -> &'static str {
        match self {
            ReadError::Io(_) => "unreadable",
            ReadError::NotThere(_) => "no_part",
            ReadError::Encoding(_) => "encoding",
            ReadError::Empty => "empty",
            ReadError::Foreign(_) => "unknown_format",
            ReadError::Binary { .. } => "not_text",
            ReadError::Compressed { .. } => "compression",
            ReadError::Expansion { .. } => "expansion",
            ReadError::LongLine { .. } => "long_line",
            ReadError::TooManyFields { .. } => "too_many_fields",
            ReadError::OtherNames { .. } => "header_setting",
            ReadError::LongCell { .. } => "long_cell",
            ReadError::TooLarge { .. } => "too_large",
            ReadError::Archive(_) => "archive",
            ReadError::Locked { .. } | ReadError::Password => "password",
            ReadError::Json { .. } => "invalid_json",
            ReadError::KeysAreData { .. } => "keys_are_data",
            ReadError::Workbook(_) => "workbook",
            ReadError::Columnar { .. } => "columnar",
            ReadError::Encrypted { .. } => "encrypted",
            ReadError::LongValue { .. } => "long_value",
            ReadError::NotBuilt { .. } => "not_built",
            ReadError::NoTable(_) => "no_table",
        }
    }

    /// The same, where rows are counted from behind so many.
    #[cfg(feature = "columnar")]
    pub(crate) fn after_rows(self, rows: u64) -> ReadError {
        match self {
            ReadError::LongValue { row, limit } => ReadError::LongValue { row: row + rows, limit },
            other => other,
        }
    }

    /// The error that a reader below hid in an I/O error, or the I/O error itself.
    pub fn from_io(error: io::Error) -> ReadError {
        match error.downcast::<ReadError>() {
            Ok(inner) => inner,
            Err(error) => ReadError::Io(error),
        }
    }
}
