//! Values as people write them, in the configuration and on the command line.

use std::collections::HashSet;
use std::time::Duration;

use hypodoke_core::evidence::Forced;
use hypodoke_core::names::{RESERVED, is_reserved_table, match_key};
use hypodoke_core::record::Field;
use hypodoke_core::spelling::{DateOrder, NumberStyle};
use hypodoke_formats::json::{Nested, PlainLists};
use hypodoke_formats::text::{Delimiter, FixedField, Marks};
use hypodoke_formats::workbook::{ErrorCells, SheetPick};

/// What may become of nested objects.
pub const NESTED: [(&str, Nested); 2] = [("tables", Nested::Tables), ("json", Nested::Json)];

/// What may become of lists of plain values.
pub const LISTS: [(&str, PlainLists); 2] = [("json", PlainLists::Json), ("tables", PlainLists::Tables)];

/// What strings may be taken for.
pub const STRINGS: [(&str, bool); 2] = [("typed", false), ("text", true)];

/// What may become of cells that hold an error.
pub const ERROR_CELLS: [(&str, ErrorCells); 2] = [("null", ErrorCells::Null), ("reject", ErrorCells::Reject)];

/// Whether a table of people's may have this name.
pub fn free_table(name: &str) -> Result<(), String> {
    if name.trim().is_empty() {
        return Err("the name is blank".to_owned());
    }
    match is_reserved_table(name) {
        true => {
            Err(format!("`{name}` is a name of the ledger's, which keeps all that begin with `{RESERVED}`"))
        }
        false => Ok(()),
    }
}

/// How long a record may be, in bytes.
pub fn record_size(bytes: u64) -> Result<usize, String> {
    let size = usize::try_from(bytes).ok().filter(|bytes| *bytes <= Field::MAX_LENGTH);
    size.ok_or_else(|| format!("a record has at most {} bytes", Field::MAX_LENGTH))
}

/// Which sheets these words name.
pub fn sheets(names: Vec<String>) -> SheetPick {
    if names == ["all"] { SheetPick::All } else { SheetPick::Named(names) }
}

/// A delimiter as people write it: a character, or one of some words.
pub fn delimiter(text: &str) -> Result<Delimiter, String> {
    let mut chars = text.chars();
    Ok(match (text, chars.next(), chars.next()) {
        ("comma", ..) => Delimiter::Char(','),
        ("semicolon", ..) => Delimiter::Char(';'),
        ("tab" | "\\t", ..) => Delimiter::Char('\t'),
        ("pipe", ..) => Delimiter::Char('|'),
        ("space", ..) => Delimiter::Char(' '),
        ("blanks", ..) => Delimiter::Blanks,
        (_, Some(c), None) if !matches!(c, '\n' | '\r' | '"') => Delimiter::Char(c),
        _ => {
            let marks = Marks::new(&text.replace("\\t", "\t"));
            let marks = marks.filter(|_| !text.contains(['\n', '\r', '"']));
            return marks.map(Delimiter::Several).ok_or_else(|| {
                format!(
                    "`{text}` is not a delimiter; write one to eight characters, or comma, semicolon, tab, pipe, space or blanks"
                )
            });
        }
    })
}

/// How a column is written: a number as an example (`1.234,5`), or an order of dates.
pub fn format(text: &str) -> Result<Forced, String> {
    if let Some(style) = NumberStyle::ALL.into_iter().find(|style| style.example() == text) {
        return Ok(Forced { style: Some(style), ..Forced::default() });
    }
    if let Some(order) = DateOrder::ALL.into_iter().find(|order| order.words() == text) {
        return Ok(Forced { order: Some(order), ..Forced::default() });
    }
    let styles = NumberStyle::ALL.map(NumberStyle::example).join(", ");
    let orders = DateOrder::ALL.map(DateOrder::words).join(", ");
    Err(format!("`{text}` is not a format; write numbers as one of {styles}; dates as one of {orders}"))
}

/// Fields of fixed width: `name:width`.
pub fn fixed_fields(list: &[String]) -> Result<Vec<FixedField>, String> {
    let field = |text: &String| {
        let (name, width) = text.rsplit_once(':')?;
        let width: usize = width.trim().parse().ok().filter(|width| *width > 0)?;
        Some(FixedField { name: name.trim().to_owned(), width })
    };
    let read = |text: &String| {
        field(text).ok_or_else(|| format!("`{text}` is not a field; write its name and width, berth:4"))
    };
    list.iter().map(read).collect()
}

/// A quote or comment mark: one ASCII character, or `none`.
pub fn mark(text: &str) -> Result<Option<u8>, String> {
    match text.as_bytes() {
        b"none" => Ok(None),
        [byte] if byte.is_ascii() => Ok(Some(*byte)),
        _ => Err(format!("`{text}` is not a mark; write one character, or none")),
    }
}

/// The names of columns of files without a header.
pub fn column_names(names: &[String]) -> Result<(), String> {
    if names.iter().any(|name| name.trim().is_empty()) {
        return Err("a name is blank".to_owned());
    }
    let mut met = HashSet::new();
    match names.iter().find(|name| !met.insert(match_key(name))) {
        Some(twice) => Err(format!("`{twice}` stands twice in it")),
        None => Ok(()),
    }
}

/// Reads `10s`, `5m`, `2h` or `1d`.
pub fn duration(text: &str) -> Option<Duration> {
    let (number, unit) = text.split_at(text.find(|c: char| !c.is_ascii_digit())?);
    let number: u64 = number.parse().ok()?;
    let millis = match unit {
        "ms" => 1,
        "s" => 1000,
        "m" => 60_000,
        "h" => 3_600_000,
        "d" => 86_400_000,
        _ => return None,
    };
    Some(Duration::from_millis(number.checked_mul(millis)?))
}
