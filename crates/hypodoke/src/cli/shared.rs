//! Arguments that several commands take.

use clap::Args;

use crate::values::record_size;

/// Which database, where no configuration says it.
#[derive(Clone, Debug, Default, Args)]
pub struct DatabaseArguments {
    /// The database: sqlite:FILE, postgres://USER@HOST/DATABASE or mysql://USER@HOST/DATABASE (unsaid, sqlite:hypodoke.db)
    #[arg(long, value_name = "URL")]
    pub into: Option<String>,
    /// The database of the ledger, where it is another
    #[arg(long, value_name = "URL", requires = "into")]
    pub ledger: Option<String>,
}

/// How files are written, where the guess is to be overruled.
#[derive(Clone, Debug, Default, Args)]
#[command(next_help_heading = "How the files are written (found out unless said)")]
pub struct ReadingArguments {
    /// What stands between fields: a character, or comma, semicolon, tab, pipe, space, blanks
    #[arg(long, value_name = "MARK")]
    pub delimiter: Option<String>,
    /// What stands around fields: a character, or none
    #[arg(long, value_name = "MARK")]
    pub quote: Option<String>,
    /// How a quote is written inside a quoted field: doubled or backslash
    #[arg(long, value_name = "WAY")]
    pub escape: Option<String>,
    /// What begins a comment line: a character, or none
    #[arg(long, value_name = "MARK")]
    pub comment: Option<String>,
    /// Fields of fixed width instead of delimiters, in order: --fields id:8,vessel:20
    #[arg(long, value_name = "NAME:WIDTH", value_delimiter = ',')]
    pub fields: Vec<String>,
    /// The type of a column: --type draught=decimal(5,2)
    #[arg(long = "type", value_name = "COLUMN=TYPE")]
    pub types: Vec<String>,
    /// How a column is written: --format fee=1.234,5 or --format day=month-day-year
    #[arg(long = "format", value_name = "COLUMN=FORMAT")]
    pub formats: Vec<String>,
    /// Rows that end early: null fills them up, reject rejects them
    #[arg(long, value_name = "WHAT")]
    pub short_rows: Option<String>,
    /// How many times its size a compressed file may expand to
    #[arg(long, value_name = "TIMES")]
    pub max_expansion: Option<u64>,
    /// The longest record allowed, in bytes
    #[arg(long, value_name = "BYTES", value_parser = record_size_of)]
    pub max_record: Option<usize>,
    /// The encoding, by its usual name
    #[arg(long, value_name = "NAME")]
    pub encoding: Option<String>,
    /// How many lines the header has; 0 if there is none
    #[arg(long, value_name = "N")]
    pub header_lines: Option<usize>,
    /// The names of the columns of files without a header: --header first,last,pay
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub header: Vec<String>,
    /// How many lines to skip before the header
    #[arg(long, value_name = "N")]
    pub skip_lines: Option<u64>,
    /// The sheets of a workbook, by name or pattern (Dues*), or all: --sheets Dues,Fees
    #[arg(long, value_name = "NAME", value_delimiter = ',', help_heading = "Workbooks")]
    pub sheets: Vec<String>,
    /// Put all sheets into one table, with a column that names the sheet
    #[arg(long, help_heading = "Workbooks")]
    pub one_table: bool,
    /// Where the table stands: B4:H200, B4 (from there on), a named range or a table
    #[arg(long, value_name = "RANGE", help_heading = "Workbooks")]
    pub range: Option<String>,
    /// Cells that hold an error (#N/A): null makes them null, reject rejects their rows
    #[arg(long, value_name = "WHAT", help_heading = "Workbooks")]
    pub error_cells: Option<String>,
    /// Where the rows of a JSON document are, as a JSONPath: $.result.logs[*]
    #[arg(long, value_name = "PATH", help_heading = "JSON")]
    pub rows_at: Option<String>,
    /// Nested objects: tables makes columns and child tables of them, json keeps them as JSON
    #[arg(long, value_name = "WHAT", help_heading = "JSON")]
    pub nested: Option<String>,
    /// Lists of plain values: json keeps them as JSON, tables makes child tables of them
    #[arg(long, value_name = "WHAT", help_heading = "JSON")]
    pub lists: Option<String>,
    /// Strings: typed asks their values what they are, text leaves them text
    #[arg(long, value_name = "WHAT", help_heading = "JSON")]
    pub strings: Option<String>,
    /// Keep the whole record too, in a column `raw`
    #[arg(long, help_heading = "JSON")]
    pub raw: bool,
}

fn record_size_of(text: &str) -> Result<usize, String> {
    let bytes = text.parse().map_err(|_| format!("`{text}` is not a number of bytes"))?;
    record_size(bytes)
}
