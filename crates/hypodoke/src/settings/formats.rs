//! What a feed says of its JSON files and workbooks.

use hypodoke_formats::json::{JsonPath, JsonWishes, Nested, PlainLists};
use hypodoke_formats::workbook::{ErrorCells, SheetPick, WorkbookWishes};

use super::reader::Section;
use crate::failure::Failure;

/// What may become of nested objects.
pub const NESTED: [(&str, Nested); 2] = [("tables", Nested::Tables), ("json", Nested::Json)];

/// What may become of lists of plain values.
pub const LISTS: [(&str, PlainLists); 2] = [("json", PlainLists::Json), ("tables", PlainLists::Tables)];

/// What strings may be taken for.
pub const STRINGS: [(&str, bool); 2] = [("typed", false), ("text", true)];

/// What may become of cells that hold an error.
pub const ERROR_CELLS: [(&str, ErrorCells); 2] = [("null", ErrorCells::Null), ("reject", ErrorCells::Reject)];

/// Which sheets these words name.
pub fn sheets(names: Vec<String>) -> SheetPick {
    if names == ["all"] { SheetPick::All } else { SheetPick::Named(names) }
}

pub fn json_wishes(section: &mut Section<'_>) -> Result<JsonWishes, Failure> {
    let rows_at = match section.text("rows_at")? {
        Some(path) => Some(JsonPath::parse(&path.value).map_err(|why| section.wrong(&path, why))?),
        None => None,
    };
    Ok(JsonWishes {
        rows_at,
        nested: section.word("nested", &NESTED)?.unwrap_or_default(),
        plain_lists: section.word("lists", &LISTS)?.unwrap_or_default(),
        raw: section.truth("raw")?.unwrap_or_default(),
        strings_are_text: section.word("strings", &STRINGS)?.unwrap_or_default(),
    })
}

pub fn workbook_wishes(section: &mut Section<'_>) -> Result<WorkbookWishes, Failure> {
    Ok(WorkbookWishes {
        sheets: section.texts("sheets")?.map(|names| sheets(names.value)),
        stitched: section.truth("stitched")?.unwrap_or_default(),
        range: section.text("range")?.map(|range| range.value),
        errors: section.word("error_cells", &ERROR_CELLS)?.unwrap_or_default(),
        ..WorkbookWishes::default()
    })
}
