//! Rows of a sheet made into records, and the account of what was met on the way.

use hypodoke_core::record::{Fault, Field, Records};
use hypodoke_core::spelling::{Sight, recognise, trim};

use super::ErrorCells;
use super::book::{CellAt, Value};
use super::cell::{self, Look};
use super::range::{self, CellRange};
use super::region::Region;
use crate::text::table;

/// How much text makes a batch, in bytes.
const BLOCK: usize = 256 * 1024;

/// How many rows are held back while more are to come, so that what stands beneath the table is
/// seen whole.
const HELD_BACK: usize = 24;

/// What was met on the way.
#[derive(Clone, Debug, Default)]
pub struct Account {
    /// Rows beneath the table that are left out of it.
    pub footer: Vec<String>,
    errors: Tally,
    rounded: Tally,
    errors_rejected: bool,
}

/// How often something was met, and where first.
#[derive(Clone, Debug, Default)]
struct Tally {
    count: u64,
    first: Option<(String, String)>,
}

impl Tally {
    fn add(&mut self, place: impl FnOnce() -> String, shown: impl FnOnce() -> String) {
        self.count += 1;
        if self.first.is_none() {
            self.first = Some((place(), shown()));
        }
    }

    fn merge(&mut self, other: Tally) {
        self.count += other.count;
        self.first = self.first.take().or(other.first);
    }
}

impl Account {
    /// The account in sentences.
    pub fn in_words(&self) -> Vec<String> {
        let mut words = Vec::new();
        let of = |tally: &Tally, one: &str, many: &str| {
            let (place, shown) = tally.first.clone()?;
            let what = if tally.count == 1 { format!("1 {one}") } else { format!("{} {many}", tally.count) };
            Some((what, place, shown))
        };
        if let Some((what, place, shown)) = of(&self.errors, "cell holds an error", "cells hold errors") {
            let fate = match (self.errors_rejected, self.errors.count) {
                (true, 1) => "its row is a reject",
                (true, _) => "their rows are rejects",
                _ => "taken as null",
            };
            words.push(format!("{what}, {fate}; first {place} with {shown}"));
        }
        if let Some((what, place, shown)) = of(&self.rounded, "number has", "numbers have") {
            words.push(format!("{what} more than 15 digits, the last of which the spreadsheet program has rounded; first {place} with {shown}"));
        }
        words
    }
}

/// Cells that show the text of their first one.
struct Merged {
    range: CellRange,
    text: Vec<u8>,
}

/// Makes records of the rows of one sheet.
pub struct RowMaker<'a> {
    sheet: &'a str,
    region: &'a Region,
    /// Where the region's columns go among the table's.
    slots: Vec<usize>,
    width: usize,
    /// The sheet's name, where a column says it.
    named: Option<&'a str>,
    merged: Vec<Merged>,
    is_1904: bool,
    errors: ErrorCells,
    account: Account,
    /// The row in hand.
    row: Option<u32>,
    start: usize,
    written: usize,
    filled: usize,
    fields: Vec<Field>,
    fault: Option<Fault>,
}

impl<'a> RowMaker<'a> {
    /// A maker for a sheet. `slots` says for each of the region's columns where it goes.
    pub fn new(
        sheet: &'a str,
        region: &'a Region,
        slots: Vec<usize>,
        named: Option<&'a str>,
        merged: Vec<CellRange>,
        is_1904: bool,
        errors: ErrorCells,
    ) -> RowMaker<'a> {
        let width = slots.iter().max().map_or(0, |last| last + 1);
        let tall =
            merged.into_iter().filter(|range| range.bottom > range.top && range.top >= region.first_row);
        let merged = tall.map(|range| Merged { range, text: Vec::new() }).collect();
        RowMaker {
            sheet,
            region,
            slots,
            width,
            named,
            merged,
            is_1904,
            errors,
            account: Account { errors_rejected: errors == ErrorCells::Reject, ..Account::default() },
            row: None,
            start: 0,
            written: 0,
            filled: 0,
            fields: Vec::new(),
            fault: None,
        }
    }

    /// Makes an empty batch ready.
    pub fn begin(&self, records: &mut Records) {
        records.open_ended = true;
        if let Some(name) = self.named {
            records.bytes.extend_from_slice(name.as_bytes());
        }
    }

    /// Takes a cell; `false` when the table is over.
    pub fn take(&mut self, found: CellAt<'_>, records: &mut Records) -> bool {
        if found.row < self.region.first_row {
            return true;
        }
        if self.region.last_row.is_some_and(|last| found.row > last) {
            return false;
        }
        if self.row != Some(found.row) {
            self.end_row(records);
            self.begin_row(found.row, records);
        }
        let Ok(at) = self.region.columns.binary_search(&found.column) else { return true };
        while self.written < at {
            records.bytes.push(b'\t');
            self.written += 1;
        }
        let start = records.bytes.len();
        found.write(self.is_1904, &mut records.bytes);
        let range = start..records.bytes.len();
        if range.is_empty() {
            return true;
        }
        self.filled += 1;
        let mut field = Field::new(range.clone(), false);
        match found.value {
            Value::Error(shown) => {
                let place = || format!("{}!{}", self.sheet, range::cell(found.row, found.column));
                if self.errors == ErrorCells::Reject {
                    self.fault.get_or_insert_with(|| {
                        Fault::Broken(format!("cell {} holds the error {shown}", place()))
                    });
                } else {
                    field = Field::new(0..0, false);
                }
                self.account.errors.add(place, || shown.to_owned());
            }
            Value::Number(value, Look::Number) if cell::is_rounded(value) => {
                let place = || format!("{}!{}", self.sheet, range::cell(found.row, found.column));
                self.account
                    .rounded
                    .add(place, || String::from_utf8_lossy(&records.bytes[range.clone()]).into_owned());
            }
            _ => {}
        }
        for merged in
            self.merged.iter_mut().filter(|m| m.range.top == found.row && m.range.left == found.column)
        {
            merged.text = records.bytes[range.clone()].to_vec();
        }
        self.fields[self.slots[at]] = field;
        true
    }

    fn begin_row(&mut self, row: u32, records: &Records) {
        self.row = Some(row);
        self.start = records.bytes.len();
        (self.written, self.filled) = (0, 0);
        self.fault = None;
        self.fields.clear();
        self.fields.resize(self.width, Field::new(0..0, false));
    }

    fn end_row(&mut self, records: &mut Records) {
        let Some(row) = self.row.take() else { return };
        if self.filled == 0 {
            records.bytes.truncate(self.start);
            return;
        }
        let end = records.bytes.len();
        for merged in &self.merged {
            let below = row > merged.range.top && row <= merged.range.bottom;
            if let Ok(at) = self.region.columns.binary_search(&merged.range.left)
                && below
                && self.fields[self.slots[at]].range().is_empty()
            {
                let start = records.bytes.len();
                records.bytes.extend_from_slice(&merged.text);
                self.fields[self.slots[at]] = Field::new(start..records.bytes.len(), false);
            }
        }
        if let Some(name) = self.named {
            self.fields[0] = Field::new(0..name.len(), false);
        }
        self.fields.iter().for_each(|field| records.push_field(*field));
        records.end_record(self.start..end, u64::from(row) + 1);
        if let Some(fault) = self.fault.take() {
            records.mark_fault(fault);
        }
    }

    /// Whether a batch is full, and no row is in hand.
    pub fn is_full(&self, records: &Records) -> bool {
        self.row.is_some() && records.len() > HELD_BACK * 4 && records.bytes.len() > BLOCK
    }

    /// Moves the newest rows, and the one in hand, to the next batch.
    pub fn hold_back(&mut self, full: &mut Records, next: &mut Records) {
        let keep = full.len() - HELD_BACK;
        for at in keep..full.len() {
            copy_record(full, at, next, self.named.map_or(0, str::len));
        }
        let start = next.bytes.len();
        next.bytes.extend_from_slice(&full.bytes[self.start..]);
        for field in &mut self.fields {
            let range = field.range();
            if range.start >= self.start && !range.is_empty() {
                *field = Field::new(range.start - self.start + start..range.end - self.start + start, false);
            }
        }
        full.bytes.truncate(self.start);
        self.start = start;
        full.truncate(keep);
    }

    /// Ends the last row, and takes what stands beneath the table out.
    pub fn finish(mut self, records: &mut Records, account: &mut Account) {
        self.end_row(records);
        let keep = records.len() - self.beneath(records);
        let shown = |at: usize| {
            let raw = String::from_utf8_lossy(records.raw(at)).into_owned();
            raw.split('\t').filter(|text| !text.is_empty()).collect::<Vec<_>>().join(" ")
        };
        account.footer.extend((keep..records.len()).map(shown));
        records.truncate(keep);
        account.errors.merge(self.account.errors);
        account.rounded.merge(self.account.rounded);
        account.errors_rejected |= self.account.errors_rejected;
    }

    /// How many of the last rows are totals or notes: those that a text's would be, and those
    /// that a blank row divides from the table and that fill few of its columns.
    fn beneath(&self, records: &Records) -> usize {
        let width = self.region.columns.len();
        let count = records.len();
        let mut found = table::footer_records(records, self.width.max(1));
        if width < 3 || self.region.last_row.is_some() {
            return found;
        }
        let filled = |at: usize| {
            let named = usize::from(self.named.is_some());
            records.fields(at).iter().skip(named).filter(|field| !field.range().is_empty()).count()
        };
        let is_note = |at: usize| {
            let first = records
                .fields(at)
                .iter()
                .map(|field| trim(records.value(*field)))
                .find(|value| !value.is_empty());
            filled(at) == 1 && first.is_some_and(|value| value.len() > 3 && recognise(value) == Sight::Text)
        };
        for at in (count.saturating_sub(HELD_BACK)..count).rev() {
            let divided = at > 0 && records.line(at) > records.line(at - 1) + 1;
            let few = (at..count).all(|row| filled(row) <= (width / 3).max(1));
            if !few {
                break;
            }
            // Notes may follow right upon the last row, figures only behind a blank one.
            if divided || (at..count).all(is_note) {
                found = found.max(count - at);
            }
        }
        // A total may stand above the notes.
        let mut above = Records::default();
        for at in count.saturating_sub(HELD_BACK)..count - found {
            copy_record(records, at, &mut above, 0);
        }
        found + if found > 0 { table::footer_records(&above, self.width.max(1)) } else { 0 }
    }
}

/// Copies a record with its bytes. Fields before `shared` point at what every batch begins with.
fn copy_record(from: &Records, at: usize, to: &mut Records, shared: usize) {
    let raw = from.raw_range(at);
    let start = to.bytes.len();
    to.bytes.extend_from_slice(&from.bytes[raw.clone()]);
    let end = to.bytes.len();
    for field in from.fields(at) {
        let range = field.range();
        let moved = if range.is_empty() || range.end <= shared && range.start == 0 {
            range
        } else if raw.contains(&range.start) {
            range.start - raw.start + start..range.end - raw.start + start
        } else {
            // What a merged cell lent the row stands behind it.
            let lent = to.bytes.len();
            to.bytes.extend_from_slice(&from.bytes[range]);
            lent..to.bytes.len()
        };
        to.push_field(Field::new(moved, false));
    }
    to.end_record(start..end, from.line(at));
    if let Some(fault) = from.fault(at) {
        to.mark_fault(fault.clone());
    }
}
