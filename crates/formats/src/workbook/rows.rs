//! Rows of a sheet made into typed records.

use hypodoke_core::record::{Cell, Fault, Field, Records};
use hypodoke_core::spelling::{Recognised, recognise, trim};

use super::ErrorCells;
use super::account::Account;
use super::cell::{self, CellAt, CellFormat, Value};
use super::range::{self, CellRange};
use super::region::Region;
use crate::text::footer;

/// How much makes a batch, in bytes of values and texts.
const BLOCK: usize = 512 * 1024;

/// How many rows are held back while more are to come, so that what stands beneath the table is
/// seen whole.
const HELD_BACK: usize = 24;

/// The most rows that totals are held against.
const MOST_SUMMED: usize = 50_000;

/// A sheet whose rows are read.
pub struct SheetRows<'a> {
    /// Its name.
    pub name: &'a str,
    /// Where its table stands.
    pub region: &'a Region,
    /// For each of the region's columns, where it goes among the table's.
    pub slots: Vec<usize>,
    /// The table's first column says the sheet's name.
    pub is_named: bool,
    /// Cells that show what their first one holds.
    pub merged: Vec<CellRange>,
    /// Days count from 1904.
    pub is_1904: bool,
    /// What becomes of cells that hold an error.
    pub errors: ErrorCells,
}

/// Cells that show what their first one holds.
struct Merged {
    range: CellRange,
    value: Cell,
    /// The text, where it is one.
    text: Vec<u8>,
}

/// Makes records of the rows of one sheet.
pub struct RowMaker<'a> {
    sheet: SheetRows<'a>,
    width: usize,
    merged: Vec<Merged>,
    account: Account,
    /// The row in hand: its number, its values, and the bytes that its texts stand in.
    row: Option<u32>,
    cells: Vec<Cell>,
    text: Vec<u8>,
    filled: usize,
    fault: Option<Fault>,
    /// Errors that the row has null for, and their columns.
    nulled: Vec<(usize, Cell)>,
    /// Some rows were handed out.
    is_begun: bool,
}

impl<'a> RowMaker<'a> {
    /// A maker for a sheet.
    pub fn new(mut sheet: SheetRows<'a>) -> RowMaker<'a> {
        let first_row = sheet.region.first_row;
        let is_tall = |range: &CellRange| range.bottom > range.top && range.top >= first_row;
        let tall = std::mem::take(&mut sheet.merged).into_iter().filter(is_tall);
        let merged = tall.map(|range| Merged { range, value: Cell::Null, text: Vec::new() }).collect();
        RowMaker {
            width: sheet.slots.iter().max().map_or(0, |last| last + 1),
            account: Account { errors_rejected: sheet.errors == ErrorCells::Reject, ..Account::default() },
            sheet,
            merged,
            row: None,
            cells: Vec::new(),
            text: Vec::new(),
            filled: 0,
            fault: None,
            nulled: Vec::new(),
            is_begun: false,
        }
    }

    /// Makes a batch ready.
    pub fn begin(&self, records: &mut Records) {
        records.begin_typed(self.width);
        records.open_ended = true;
        if self.sheet.is_named {
            records.bytes.extend_from_slice(self.sheet.name.as_bytes());
        }
    }

    /// Takes a cell; `false` when the table is over.
    pub fn take(&mut self, found: CellAt<'_>, records: &mut Records) -> bool {
        let region = self.sheet.region;
        if found.row < region.first_row {
            return true;
        }
        if region.last_row.is_some_and(|last| found.row > last) {
            return false;
        }
        if self.row != Some(found.row) {
            self.end_row(records);
            self.begin_row(found.row);
        }
        let Ok(at) = region.columns.binary_search(&found.column) else { return true };
        let Some(mut value) = cell::value_of(&found, self.sheet.is_1904, &mut self.text) else { return true };
        self.filled += 1;
        let place = || format!("{}!{}", self.sheet.name, range::cell(found.row, found.column));
        match found.value {
            Value::Error(shown) => {
                if self.sheet.errors == ErrorCells::Reject {
                    let why = || Fault::Broken(format!("cell {} holds the error {shown}", place()));
                    self.fault.get_or_insert_with(why);
                } else {
                    self.nulled.extend(self.sheet.slots.get(at).map(|slot| (*slot, value)));
                    value = Cell::Null;
                }
                self.account.errors.add(place, || shown.to_owned());
            }
            Value::Number(number, CellFormat::Number) if cell::is_rounded(number) => {
                self.account.rounded.add(place, || written(value, &self.text));
            }
            Value::Number(_, CellFormat::Percent) => {
                self.account.percentages.add(place, || written(value, &self.text));
            }
            Value::Number(_, CellFormat::Money) => {
                self.account.money.add(place, || written(value, &self.text));
            }
            Value::Number(_, CellFormat::Moment { .. })
                if matches!(value, Cell::Integer(_) | Cell::Decimal { .. } | Cell::Float(_)) =>
            {
                self.account.no_days.add(place, || written(value, &self.text));
            }
            _ => {}
        }
        let is_first =
            |merged: &&mut Merged| (merged.range.top, merged.range.left) == (found.row, found.column);
        for merged in self.merged.iter_mut().filter(is_first) {
            merged.value = value;
            merged.text = text_of(value, &self.text).to_vec();
        }
        if let Some(slot) = self.sheet.slots.get(at).and_then(|slot| self.cells.get_mut(*slot)) {
            *slot = value;
        }
        true
    }

    fn begin_row(&mut self, row: u32) {
        self.row = Some(row);
        (self.filled, self.fault) = (0, None);
        self.text.clear();
        self.nulled.clear();
        self.cells.clear();
        self.cells.resize(self.width, Cell::Null);
    }

    fn end_row(&mut self, records: &mut Records) {
        let Some(row) = self.row.take().filter(|_| self.filled > 0) else { return };
        self.lend(row);
        let start = records.bytes.len();
        records.bytes.extend_from_slice(&self.text);
        self.cells.iter_mut().for_each(|cell| *cell = moved(*cell, start));
        if self.sheet.is_named
            && let Some(first) = self.cells.first_mut()
        {
            *first = Cell::text(0..self.sheet.name.len());
        }
        records.push_typed(&self.cells, u64::from(row) + 1);
        self.nulled.iter().for_each(|(column, error)| records.show(*column, moved(*error, start)));
        if let Some(fault) = self.fault.take() {
            records.mark_fault(fault);
        }
    }

    /// Gives the row what cells show that were merged with one above them.
    fn lend(&mut self, row: u32) {
        for merged in &self.merged {
            let is_below = row > merged.range.top && row <= merged.range.bottom;
            let Ok(at) = self.sheet.region.columns.binary_search(&merged.range.left) else { continue };
            let slot = self.sheet.slots.get(at).and_then(|slot| self.cells.get_mut(*slot));
            let Some(slot) = slot.filter(|slot| is_below && **slot == Cell::Null) else { continue };
            let start = self.text.len();
            self.text.extend_from_slice(&merged.text);
            *slot = match merged.value {
                Cell::Text { .. } => Cell::text(start..self.text.len()),
                value => value,
            };
        }
    }

    /// Whether a batch is full.
    pub fn is_full(&self, records: &Records) -> bool {
        let values = records.len() * self.width * size_of::<Cell>();
        records.len() > HELD_BACK * 4 && records.bytes.len() + values > BLOCK
    }

    /// Moves the newest rows to the next batch.
    pub fn hold_back(&mut self, full: &mut Records, next: &mut Records) {
        self.is_begun = true;
        let keep = full.len() - HELD_BACK;
        let mut row = Vec::with_capacity(self.width);
        for at in keep..full.len() {
            let Some(typed) = full.typed() else { return };
            row.clear();
            for column in 0..self.width {
                let cell = typed.get(at, column).unwrap_or(Cell::Null);
                // Every batch begins with the name of the sheet.
                let is_shared = column == 0 && self.sheet.is_named;
                row.push(if is_shared { cell } else { copied(cell, &full.bytes, &mut next.bytes) });
            }
            next.push_typed(&row, full.line(at));
            for column in 0..self.width {
                let (value, shown) = (typed.get(at, column), typed.shown(at, column));
                if value == Some(Cell::Null) && shown != Cell::Null {
                    let text = copied(shown, &full.bytes, &mut next.bytes);
                    next.show(column, text);
                }
            }
            if let Some(fault) = full.fault(at) {
                next.mark_fault(fault.clone());
            }
        }
        full.truncate(keep);
    }

    /// Ends the last row, and takes what stands beneath the table out.
    pub fn finish(mut self, records: &mut Records) -> Account {
        self.end_row(records);
        let (beneath, notes) = self.beneath(records);
        let keep = records.len() - beneath;
        self.account.totals = notes;
        let shown = |at: usize| {
            let raw = String::from_utf8_lossy(&records.raw_record(at)).into_owned();
            let own = raw.split('\t').skip(usize::from(self.sheet.is_named));
            own.filter(|text| !text.is_empty()).collect::<Vec<_>>().join(" ")
        };
        self.account.footer = (keep..records.len()).map(shown).collect();
        records.truncate(keep);
        self.account
    }

    /// How many of the last rows are totals or notes: those that a text's would be, and those
    /// that a blank row divides from the table and that fill few of its columns.
    fn beneath(&self, records: &Records) -> (usize, Vec<String>) {
        let columns = self.sheet.region.columns.len();
        let width = self.width.max(1);
        let mut last = as_texts(records, HELD_BACK + 1);
        // Totals are held against all rows, where these are still at hand.
        let is_all = !self.is_begun && records.len() < MOST_SUMMED && footer::may_have_totals(&last, width);
        if is_all {
            last = as_texts(records, records.len());
        }
        let count = last.len();
        let beneath = footer::find(&last, width, &self.sheet.region.names, is_all);
        let (mut found, mut notes) = (beneath.records, beneath.notes);
        if columns < 3 || self.sheet.region.last_row.is_some() {
            return (found, notes);
        }
        let own = |at: usize| last.fields(at).iter().skip(usize::from(self.sheet.is_named));
        let filled = |at: usize| own(at).filter(|field| !field.range().is_empty()).count();
        let is_note = |at: usize| {
            let first = own(at).map(|field| trim(last.value(*field))).find(|value| !value.is_empty());
            filled(at) == 1
                && first.is_some_and(|value| value.len() > 3 && recognise(value) == Recognised::Text)
        };
        for at in (count.saturating_sub(HELD_BACK)..count).rev() {
            let is_divided = at > 0 && last.line(at) > last.line(at - 1) + 1;
            let are_few = (at..count).all(|row| filled(row) <= (columns / 3).max(1));
            if !are_few {
                break;
            }
            // Notes may follow right upon the last row, figures only behind a blank one.
            if is_divided || (at..count).all(is_note) {
                found = found.max(count - at);
            }
        }
        if found == 0 {
            return (0, notes);
        }
        // A total may stand above the notes.
        last.truncate(count - found);
        let above = footer::find(&last, width, &self.sheet.region.names, is_all);
        notes.extend(above.notes);
        (found + above.records, notes)
    }
}

/// The last records, so many at most, as a file of text would have them.
fn as_texts(records: &Records, most: usize) -> Records {
    let mut texts = Records::default();
    let Some(typed) = records.typed() else { return texts };
    for at in records.len().saturating_sub(most)..records.len() {
        let start = texts.bytes.len();
        for column in 0..typed.width() {
            let from = texts.bytes.len();
            let cell = typed.get(at, column).unwrap_or(Cell::Null);
            cell.write(&records.bytes, &typed.wide, &mut texts.bytes);
            texts.push_field(Field::new(from..texts.bytes.len(), false));
            texts.bytes.push(b'\t');
        }
        texts.end_record(start..texts.bytes.len(), records.line(at));
        if let Some(fault) = records.fault(at) {
            texts.mark_fault(fault.clone());
        }
    }
    texts
}

/// A value whose text stands so much further on.
fn moved(cell: Cell, by: usize) -> Cell {
    match cell {
        Cell::Text { start, len } => Cell::text(start as usize + by..(start + len) as usize + by),
        cell => cell,
    }
}

/// A value whose text is copied to another buffer.
fn copied(cell: Cell, from: &[u8], to: &mut Vec<u8>) -> Cell {
    let Cell::Text { .. } = cell else { return cell };
    let start = to.len();
    to.extend_from_slice(text_of(cell, from));
    Cell::text(start..to.len())
}

/// The bytes of a text.
fn text_of(cell: Cell, bytes: &[u8]) -> &[u8] {
    match cell {
        Cell::Text { start, len } => bytes.get(start as usize..(start + len) as usize).unwrap_or_default(),
        _ => &[],
    }
}

fn written(value: Cell, text: &[u8]) -> String {
    let mut out = Vec::new();
    value.write(text, &[], &mut out);
    String::from_utf8_lossy(&out).into_owned()
}
