//! What a feed says of its JSON files and workbooks.

use hypodoke_formats::json::{JsonOptions, JsonPath};
use hypodoke_formats::workbook::WorkbookOptions;

use super::reader::Section;
use crate::failure::Failure;
use crate::values::{ERROR_CELLS, LISTS, NESTED, STRINGS, sheets};

/// Reads what is said of JSON.
pub fn json_options(section: &mut Section<'_>) -> Result<JsonOptions, Failure> {
    let rows_at = match section.text("rows_at")? {
        Some(path) => Some(JsonPath::parse(&path.value).map_err(|why| section.wrong(&path, why))?),
        None => None,
    };
    Ok(JsonOptions {
        rows_at,
        nested: section.word("nested", &NESTED)?.unwrap_or_default(),
        plain_lists: section.word("lists", &LISTS)?.unwrap_or_default(),
        raw: section.truth("raw")?.unwrap_or_default(),
        strings_are_text: section.word("strings", &STRINGS)?.unwrap_or_default(),
    })
}

/// Reads what is said of workbooks.
pub fn workbook_options(section: &mut Section<'_>) -> Result<WorkbookOptions, Failure> {
    Ok(WorkbookOptions {
        sheets: section.texts("sheets")?.map(|names| sheets(names.value)),
        one_table: one_table(section)?.unwrap_or_default(),
        range: section.text("range")?.map(|range| range.value),
        errors: section.word("error_cells", &ERROR_CELLS)?.unwrap_or_default(),
        ..WorkbookOptions::default()
    })
}

/// Whether all sheets go to one table. The setting had another name once.
fn one_table(section: &mut Section<'_>) -> Result<Option<bool>, Failure> {
    if let Some(found) = section.scalar("stitched")? {
        let what = format!("`stitched` is called `one_table` now: one_table = {}", found.value);
        return Err(section.wrong(&found, what));
    }
    section.truth("one_table")
}
