//! The XML that older spreadsheet programs write and call a workbook: one file of sheets, rows
//! and cells, each with its type.

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

use super::book::Grid;
use crate::error::ReadError;

/// The widest row that a cell's own index may make.
const WIDEST: usize = 16_384;

/// The most blank rows that a row's own index may make.
const LONGEST: usize = 1_048_576;

/// Whether a text is such XML.
pub fn looks_like_sheet_markup(head: &[u8]) -> bool {
    let head = head.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(head).trim_ascii_start();
    head.starts_with(b"<?xml")
        && memchr::memmem::find(head, b"urn:schemas-microsoft-com:office:spreadsheet").is_some()
}

/// The sheets of such a text.
pub fn sheets(text: &str) -> Result<Vec<(String, Grid)>, ReadError> {
    let mut reader = Reader::from_str(text);
    let wrong = |error: quick_xml::Error| ReadError::Workbook(error.to_string());
    let mut sheets: Vec<(String, Grid)> = Vec::new();
    let (mut row, mut column) = (0, 0);
    let mut data: Option<String> = None;
    loop {
        match reader.read_event().map_err(wrong)? {
            Event::Eof => return Ok(sheets),
            Event::Start(tag) | Event::Empty(tag) => match tag.local_name().as_ref() {
                "Worksheet" => {
                    sheets.push((attribute(&tag, "Name").unwrap_or_default(), Grid::new()));
                    row = 0;
                }
                "Row" => {
                    row = index(&tag).unwrap_or(row + 1).min(LONGEST);
                    column = 0;
                }
                "Cell" => column = index(&tag).unwrap_or(column + 1).min(WIDEST),
                "Data" => data = Some(String::new()),
                _ => {}
            },
            Event::Text(found) => {
                if let Some(data) = &mut data {
                    data.push_str(&found.xml10_content());
                }
            }
            Event::GeneralRef(found) => {
                if let Some(data) = &mut data {
                    let name = found.xml10_content();
                    match found.resolve_char_ref() {
                        Ok(Some(c)) => data.push(c),
                        _ => data.push_str(
                            quick_xml::escape::resolve_predefined_entity(&name).unwrap_or_default(),
                        ),
                    }
                }
            }
            Event::End(tag) if tag.local_name().as_ref() == "Data" => {
                if let (Some(text), Some((_, grid))) = (data.take(), sheets.last_mut()) {
                    put(grid, row, column, text);
                }
            }
            _ => {}
        }
    }
}

fn put(grid: &mut Grid, row: usize, column: usize, text: String) {
    let (row, column) = (row.max(1) - 1, column.max(1) - 1);
    if grid.len() <= row {
        grid.resize(row + 1, Vec::new());
    }
    let cells = &mut grid[row];
    if cells.len() <= column {
        cells.resize(column + 1, String::new());
    }
    // A day and time as ISO 8601 has it; a whole day where the time is midnight's.
    cells[column] = text.strip_suffix("T00:00:00.000").map(str::to_owned).unwrap_or(text);
}

fn attribute(tag: &BytesStart<'_>, wanted: &str) -> Option<String> {
    let found = tag.attributes().flatten().find(|attribute| attribute.key.local_name().as_ref() == wanted)?;
    Some(found.normalized_value(quick_xml::XmlVersion::Implicit1_0).ok()?.into_owned())
}

fn index(tag: &BytesStart<'_>) -> Option<usize> {
    attribute(tag, "Index")?.parse().ok()
}
