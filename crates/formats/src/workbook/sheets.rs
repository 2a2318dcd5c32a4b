//! Which sheets of a workbook are read, and where their tables stand.

use hypodoke_core::names::match_key;

use super::book::Book;
use super::cell;
use super::range::CellRange;
use super::region::{self, Head, Region};
use super::{SheetPick, WorkbookOptions};
use crate::error::ReadError;

/// A sheet that is read.
pub struct ChosenSheet {
    /// Its place in the workbook.
    pub sheet: usize,
    /// Its name.
    pub name: String,
    /// Where its table stands.
    pub region: Region,
    /// Its merged cells.
    pub merged: Vec<CellRange>,
}

/// The sheets that are read, and what there is to say of the others.
pub fn choose(
    book: &mut Book,
    options: &WorkbookOptions,
) -> Result<(Vec<ChosenSheet>, Vec<String>), ReadError> {
    let (of_range, range) = match &options.range {
        Some(wanted) => range_of(book, wanted)?,
        None => (None, None),
    };
    let mut remarks = Vec::new();
    let wanted: Vec<usize> = match (of_range, &options.sheets) {
        (Some(sheet), _) => vec![sheet],
        (None, Some(SheetPick::Named(names))) => picked(book, names)?,
        (None, _) => {
            remarks.extend(hidden(book));
            (0..book.sheets.len()).filter(|at| !book.sheets[*at].hidden).collect()
        }
    };
    let is_named = matches!(options.sheets, Some(SheetPick::Named(_))) || of_range.is_some();
    let (mut chosen, mut without) = (Vec::new(), Vec::new());
    for sheet in wanted {
        let name = book.sheets[sheet].name.clone();
        if !book.sheets[sheet].has_cells {
            without.push(format!("`{name}` (a chart)"));
            continue;
        }
        let head = head_of(book, sheet)?;
        let merged = book.merged(sheet);
        let region = region::find(&head, range, &merged, &options.table);
        if head.is_empty() {
            without.push(format!("`{name}` (empty)"));
        } else if is_named || region.is_table() {
            options.table.check_names(region.columns.len(), Some(&name))?;
            chosen.push(ChosenSheet { sheet, name, region, merged });
        } else {
            let rows = hypodoke_core::count::of(head.filled_rows() as u64, "row", "rows");
            without.push(format!("`{name}` (no table: {rows} of notes)"));
        }
    }
    if chosen.is_empty() {
        let sheets = format!("sheets {}", without.join(", "));
        return Err(ReadError::NoTable(if without.is_empty() {
            "it has no sheets".to_owned()
        } else {
            sheets
        }));
    }
    if !without.is_empty() {
        remarks.push(format!("left out: {}", without.join(", ")));
    }
    remarks.extend(chosen.iter().filter_map(|one| region::others_in_words(&one.region, &one.name)));
    let beneath = chosen
        .iter()
        .flat_map(|one| one.region.remarks.iter().map(|remark| format!("sheet `{}`: {remark}", one.name)));
    remarks.extend(beneath);
    if book.is_1904 {
        remarks.push("its days count from 1904".to_owned());
    }
    Ok((chosen, remarks))
}

/// The sheet and the cells that the user's range stands for; no sheet where it names none.
fn range_of(book: &mut Book, wanted: &str) -> Result<(Option<usize>, Option<CellRange>), ReadError> {
    let (sheet, cells) = wanted.rsplit_once('!').map_or((None, wanted), |(s, c)| (Some(s), c));
    if let Some(range) = CellRange::parse(cells) {
        let sheet = sheet.map(|sheet| find_sheet(book, sheet.trim_matches('\''))).transpose()?;
        return Ok((sheet, Some(range)));
    }
    if let Some((sheet, range)) = book.named(wanted) {
        return Ok((Some(sheet), Some(range)));
    }
    let names = book.names();
    let there = if names.is_empty() { "none".to_owned() } else { names.join(", ") };
    Err(ReadError::NotThere(format!(
        "`{wanted}` is neither a range (B4:H200) nor a name in the workbook; its names: {there}"
    )))
}

/// What there is to say of hidden sheets.
fn hidden(book: &Book) -> Option<String> {
    let hidden = book.sheets.iter().filter(|entry| entry.hidden);
    let names: Vec<String> = hidden.map(|entry| format!("`{}`", entry.name)).collect();
    let s = if names.len() == 1 { "sheet is" } else { "sheets are" };
    (!names.is_empty()).then(|| format!("hidden {s} left out: {}", names.join(", ")))
}

fn find_sheet(book: &Book, name: &str) -> Result<usize, ReadError> {
    let exact = book.sheets.iter().position(|entry| entry.name == name);
    let found =
        exact.or_else(|| book.sheets.iter().position(|entry| match_key(&entry.name) == match_key(name)));
    found.ok_or_else(|| no_sheet(book, name))
}

fn no_sheet(book: &Book, name: &str) -> ReadError {
    let names: Vec<String> = book.sheets.iter().map(|entry| format!("`{}`", entry.name)).collect();
    ReadError::NotThere(format!("the workbook has no sheet `{name}`; it has {}", names.join(", ")))
}

/// The sheets of these names, or that fit these patterns.
fn picked(book: &Book, names: &[String]) -> Result<Vec<usize>, ReadError> {
    let mut found = Vec::new();
    for name in names {
        if !name.contains('*') {
            found.push(find_sheet(book, name)?);
            continue;
        }
        let before = found.len();
        let fits = |at: &usize| !book.sheets[*at].hidden && fits(&book.sheets[*at].name, name);
        found.extend((0..book.sheets.len()).filter(fits));
        if found.len() == before {
            return Err(no_sheet(book, name));
        }
    }
    let mut seen = std::collections::HashSet::new();
    found.retain(|at| seen.insert(*at));
    Ok(found)
}

/// Whether a name fits a pattern in which `*` stands for anything.
fn fits(name: &str, pattern: &str) -> bool {
    let mut parts = pattern.split('*');
    let first = parts.next().unwrap_or_default();
    let Some(mut rest) = name.strip_prefix(first) else { return false };
    let mut last = None;
    for part in parts {
        if let Some(middle) = last.replace(part) {
            let Some(at) = rest.find(middle) else { return false };
            rest = &rest[at + middle.len()..];
        }
    }
    last.map_or(rest.is_empty(), |last: &str| rest.ends_with(last))
}

fn head_of(book: &mut Book, sheet: usize) -> Result<Head, ReadError> {
    let mut head = Head::default();
    let is_1904 = book.is_1904;
    let mut text = Vec::new();
    book.walk(sheet, &mut |found| {
        text.clear();
        cell::write(&found, is_1904, &mut text);
        head.take(found.row, found.column, &String::from_utf8_lossy(&text))
    })?;
    Ok(head)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::fits;

    #[rstest]
    #[case("Dues 2026", "Dues*", true)]
    #[case("Dues 2026", "*2026", true)]
    #[case("Dues 2026", "D*2*6", true)]
    #[case("Dues 2026", "*", true)]
    #[case("Dues 2026", "Fees*", false)]
    #[case("Dues 2026", "Dues*5", false)]
    fn sheets_fit_patterns(#[case] name: &str, #[case] pattern: &str, #[case] expected: bool) {
        assert_eq!(fits(name, pattern), expected);
    }
}
