//! Records as the readers hand them over: fields with positions, or columns of typed values, in
//! reused buffers.

mod cell;
mod typed;

use std::ops::Range;
use std::sync::Arc;

pub use cell::Cell;
pub use typed::{TypedColumn, TypedColumns};

/// How a field stood in its source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Origin {
    /// Bare, as most fields are.
    Plain,
    /// Between quotes.
    Quoted,
    /// A string of a typed source: in a column of text it is kept as it is, whatever it says.
    Text,
    /// The record has no such field.
    Missing,
}

/// A field: where its bytes stand in its batch's buffer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Field {
    start: u32,
    /// The length, with the origin in the two highest bits.
    packed: u32,
}

const QUOTED: u32 = 1 << 31;
const MISSING: u32 = 1 << 30;
const LENGTH: u32 = MISSING - 1;

impl Field {
    /// The longest field there can be, in bytes (1 GiB less one).
    pub const MAX_LENGTH: usize = LENGTH as usize;

    /// A field that its record does not have.
    pub const ABSENT: Field = Field { start: 0, packed: MISSING };

    /// A field at these bytes of the buffer.
    pub fn new(bytes: Range<usize>, quoted: bool) -> Field {
        let length = Field::length_of(&bytes);
        Field { start: bytes.start as u32, packed: if quoted { length | QUOTED } else { length } }
    }

    /// A string of a typed source at these bytes of the buffer.
    pub fn text(bytes: Range<usize>) -> Field {
        let length = Field::length_of(&bytes);
        Field { start: bytes.start as u32, packed: length | QUOTED | MISSING }
    }

    /// The length of a range that a field can have: readers keep to it, and one that does not costs its file
    /// instead of another field's bytes.
    #[inline]
    fn length_of(bytes: &Range<usize>) -> u32 {
        let length = bytes.end - bytes.start;
        assert!(
            length <= Field::MAX_LENGTH && bytes.end <= u32::MAX as usize,
            "a field is beyond its limits"
        );
        length as u32
    }

    /// Where its bytes stand in the buffer.
    pub fn range(self) -> Range<usize> {
        let start = self.start as usize;
        start..start + (self.packed & LENGTH) as usize
    }

    /// How it stood in its source.
    pub fn origin(self) -> Origin {
        match self.packed & (QUOTED | MISSING) {
            0 => Origin::Plain,
            QUOTED => Origin::Quoted,
            MISSING => Origin::Missing,
            _ => Origin::Text,
        }
    }
}

/// What is wrong with a record before any value is looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fault {
    /// A quote was opened and never closed; the record is its first line alone.
    UnclosedQuote,
    /// Bytes that are not text in the file's encoding, at this byte of the file.
    NotText {
        /// Counted from 0 at the start of the (decompressed) file.
        offset: u64,
    },
    /// The reader's own words: a broken object in a line file, say.
    Broken(String),
}

/// How a record of a child table hangs on its parent.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Link {
    /// The record of the main table that it is part of, by its place in the batch.
    pub owner: u32,
    /// Its own number in its table, counted from 1 through the file.
    pub row: u64,
    /// The number of its parent: a line of the main table, or a row of another child table.
    pub parent: u64,
    /// Its place in its parent's list, counted from 1.
    pub position: u64,
}

/// One record's place in its batch and in its file.
#[derive(Clone, Debug, Default)]
struct Entry {
    fields_end: u32,
    raw: Range<u32>,
    line: u64,
}

/// A batch of records: one buffer of bytes, the fields that point into it, and for every
/// record its line and its raw bytes.
///
/// Readers fill a batch, casters read it, and it comes back to be filled again: its buffers
/// keep their capacity, so a steady run allocates nothing.
#[derive(Debug, Default)]
pub struct Records {
    /// The bytes of the file, followed by fields that had to be unescaped.
    pub bytes: Vec<u8>,
    fields: Vec<Field>,
    entries: Vec<Entry>,
    faults: Vec<(usize, Fault)>,
    /// Some record has another number of fields than the first.
    uneven: bool,
    /// Records may stop short: what they lack of the columns is missing, not wrong.
    pub open_ended: bool,
    /// Where `bytes` begins in the file, where that is worth telling of a record.
    pub offset: Option<u64>,
    /// Of a child table's records, one for each.
    links: Vec<Link>,
    /// Of a typed source: the values, which then are no fields.
    typed: Option<TypedColumns>,
}

impl Records {
    /// Forgets the records and keeps the buffers.
    pub fn clear(&mut self) {
        self.bytes.clear();
        self.forget_records();
    }

    /// Forgets the records and keeps their bytes: for a reader that starts over.
    pub fn forget_records(&mut self) {
        self.fields.clear();
        self.entries.clear();
        self.faults.clear();
        self.links.clear();
        self.uneven = false;
        if let Some(typed) = &mut self.typed {
            typed.clear();
        }
    }

    /// Makes this a batch of typed records with so many columns, and nothing in it yet.
    pub fn begin_typed(&mut self, width: usize) {
        self.clear();
        if self.typed.as_ref().is_none_or(|typed| typed.width() != width) {
            self.typed = Some(TypedColumns::new(width));
        }
    }

    /// Makes this a batch of typed records of a file that declares their types, and nothing in it yet.
    /// `keys` say where each column stands in a record that is shown as JSON.
    pub fn begin_declared(&mut self, keys: &Arc<[Vec<String>]>) {
        self.clear();
        if self.typed.as_ref().is_none_or(|typed| !typed.is_declared() || typed.width() != keys.len()) {
            self.typed = Some(TypedColumns::declared(keys.clone()));
        }
    }

    /// One column of typed records, to be filled for all of them before
    /// [`end_typed`](Records::end_typed); `None` where there is no such column.
    pub fn fill_column(&mut self, at: usize) -> Option<TypedColumn<'_>> {
        self.typed.as_mut()?.fill(at, &mut self.bytes)
    }

    /// Says on which lines of the file the records stand whose columns were filled.
    pub fn end_typed(&mut self, lines: impl Iterator<Item = u64>) {
        self.entries.extend(lines.map(|line| Entry { fields_end: 0, raw: 0..0, line }));
    }

    /// Says how the records of a child table hang on their parents whose columns were filled, and on which
    /// lines of the file these stand.
    pub fn end_typed_children(&mut self, children: impl Iterator<Item = (u64, Link)>) {
        for (line, link) in children {
            self.entries.push(Entry { fields_end: 0, raw: 0..0, line });
            self.links.push(link);
        }
    }

    /// The values of a batch of typed records.
    pub fn typed(&self) -> Option<&TypedColumns> {
        self.typed.as_ref()
    }

    /// The values of a batch of typed records, with the bytes that what is written out goes behind.
    pub fn typed_with_bytes(&mut self) -> Option<(&TypedColumns, &mut Vec<u8>)> {
        Some((self.typed.as_ref()?, &mut self.bytes))
    }

    /// Adds a typed record; texts in `row` stand in `bytes`. `line` is where it stands in its file.
    pub fn push_typed(&mut self, row: &[Cell], line: u64) {
        let typed = self.typed.get_or_insert_with(|| TypedColumns::new(row.len()));
        typed.push(row);
        self.entries.push(Entry { fields_end: 0, raw: 0..0, line });
    }

    /// Says which text stands in the file where the newest typed record has null in a column.
    pub fn show(&mut self, column: usize, text: Cell) {
        if let Some(typed) = &mut self.typed {
            typed.show(column, text);
        }
    }

    /// A value as text, and how it stood in its source; `None` where the record has no such field.
    /// What has no text of its own is written to `out`.
    pub fn text<'t>(
        &'t self,
        record: usize,
        column: usize,
        out: &'t mut Vec<u8>,
    ) -> Option<(&'t [u8], Origin)> {
        let Some(typed) = &self.typed else {
            let field = self.fields(record).get(column)?;
            return Some((self.value(*field), field.origin()));
        };
        let cell = typed.get(record, column)?;
        out.clear();
        cell.write(&self.bytes, &typed.wide, out);
        let is_text = typed.is_declared() && matches!(cell, Cell::Text { .. });
        Some((out, if is_text { Origin::Text } else { Origin::Plain }))
    }

    /// A record as it stands in its file, without its line end; a typed one as its values with tabs
    /// between them, or as JSON where the file declares its types.
    pub fn raw_record(&self, record: usize) -> Vec<u8> {
        let Some(typed) = &self.typed else { return self.raw(record).to_vec() };
        if let Some(json) = typed.json(record, &self.bytes) {
            return json;
        }
        let mut raw = Vec::new();
        let mut end = 0;
        for column in 0..typed.width() {
            if column > 0 {
                raw.push(b'\t');
            }
            let start = raw.len();
            typed.shown(record, column).write(&self.bytes, &typed.wide, &mut raw);
            if raw.len() > start {
                end = raw.len();
            }
        }
        // Blanks at the end say nothing.
        raw.truncate(end);
        raw
    }

    /// Closes the open record of a child table; `line` is that of the main table's record.
    pub fn end_child(&mut self, raw: Range<usize>, line: u64, link: Link) {
        self.end_record(raw, line);
        self.links.push(link);
    }

    /// How a child table's records hang on their parents; empty for a main table.
    pub fn links(&self) -> &[Link] {
        &self.links
    }

    /// Drops the newest records, down to so many.
    pub fn take_back(&mut self, keep: usize) {
        self.truncate(keep);
        self.links.truncate(keep);
    }

    /// The byte of the file at which record `index` begins, where the reader tells it.
    pub fn offset_of(&self, index: usize) -> Option<u64> {
        Some(self.offset? + u64::from(self.entries[index].raw.start))
    }

    /// Adds a field to the record that [`Records::end_record`] will close.
    #[inline]
    pub fn push_field(&mut self, field: Field) {
        self.fields.push(field);
    }

    /// How many bytes of memory the batch holds.
    pub fn held(&self) -> u64 {
        let fields = self.fields.capacity() * size_of::<Field>();
        let typed = self.typed.as_ref().map_or(0, TypedColumns::held);
        (self.bytes.capacity() + typed + fields + self.entries.capacity() * size_of::<Entry>()) as u64
    }

    /// Gives memory back that the batch does not need.
    pub fn shrink(&mut self) {
        self.bytes.shrink_to_fit();
        self.fields.shrink_to_fit();
        self.entries.shrink_to_fit();
    }

    /// How many fields all records have together.
    pub fn field_count(&self) -> usize {
        self.fields.len()
    }

    /// How many fields the open record has so far.
    pub fn open_fields(&self) -> usize {
        self.fields.len() - self.entries.last().map_or(0, |e| e.fields_end as usize)
    }

    /// Drops the fields of the open record.
    pub fn drop_open_fields(&mut self) {
        self.fields.truncate(self.entries.last().map_or(0, |e| e.fields_end as usize));
    }

    /// Takes back the newest field of the open record.
    pub fn pop_open_field(&mut self) -> Option<Field> {
        if self.open_fields() == 0 { None } else { self.fields.pop() }
    }

    /// Closes the open record. `raw` is where it stands in `bytes`, without its line end;
    /// `line` is its first line in the file, counted from 1.
    #[inline]
    pub fn end_record(&mut self, raw: Range<usize>, line: u64) {
        let width = self.entries.first().map_or(0, |first| first.fields_end as usize);
        self.uneven |= !self.entries.is_empty() && self.open_fields() != width;
        self.entries.push(Entry {
            fields_end: self.fields.len() as u32,
            raw: raw.start as u32..raw.end as u32,
            line,
        });
    }

    /// Says what is wrong with the record closed last.
    pub fn mark_fault(&mut self, fault: Fault) {
        self.faults.push((self.entries.len() - 1, fault));
    }

    /// Says what is wrong with a record, unless something is already known to be.
    pub fn set_fault(&mut self, index: usize, fault: Fault) {
        if let Err(at) = self.faults.binary_search_by_key(&index, |(at, _)| *at) {
            self.faults.insert(at, (index, fault));
        }
    }

    /// The record that holds this byte of the buffer, or the last one before it.
    pub fn record_at(&self, byte: usize) -> Option<usize> {
        self.entries.partition_point(|entry| entry.raw.start as usize <= byte).checked_sub(1)
    }

    /// Where record `index` stands in `bytes`, without its line end.
    pub fn raw_range(&self, index: usize) -> Range<usize> {
        let raw = &self.entries[index].raw;
        raw.start as usize..raw.end as usize
    }

    /// Says on which line of its file a record stands: of one that comes by another way.
    pub fn set_line(&mut self, index: usize, line: u64) {
        if let Some(entry) = self.entries.get_mut(index) {
            entry.line = line;
        }
    }

    /// How many records there are.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// How many fields every record has; `None` where they differ, or there are none.
    pub fn even_width(&self) -> Option<usize> {
        let first = self.entries.first().filter(|_| self.typed.is_none())?;
        (!self.uneven).then_some(first.fields_end as usize)
    }

    /// One column of records that all have `width` fields, as [`Records::even_width`] says.
    #[inline]
    pub fn column(&self, column: usize, width: usize) -> impl Iterator<Item = Field> + '_ {
        self.fields.iter().skip(column).step_by(width.max(1)).copied()
    }

    /// One field of record `index`, if it has so many. `even` is [`Records::even_width`]: where it is
    /// known the field is found without asking where the record begins.
    #[inline(always)]
    pub fn field(&self, index: usize, column: usize, even: Option<usize>) -> Option<Field> {
        match even {
            Some(width) if column < width => self.fields.get(index * width + column).copied(),
            Some(_) => None,
            None => self.fields(index).get(column).copied(),
        }
    }

    /// The fields of record `index`.
    #[inline]
    pub fn fields(&self, index: usize) -> &[Field] {
        let start = if index == 0 { 0 } else { self.entries[index - 1].fields_end as usize };
        &self.fields[start..self.entries[index].fields_end as usize]
    }

    /// The bytes of a field.
    #[inline]
    pub fn value(&self, field: Field) -> &[u8] {
        &self.bytes[field.range()]
    }

    /// The line of record `index`, counted from 1.
    #[inline]
    pub fn line(&self, index: usize) -> u64 {
        self.entries[index].line
    }

    /// The bytes of record `index` as they stand in the file, without the line end.
    pub fn raw(&self, index: usize) -> &[u8] {
        let raw = &self.entries[index].raw;
        &self.bytes[raw.start as usize..raw.end as usize]
    }

    /// The records with something wrong, in order.
    pub fn faults(&self) -> &[(usize, Fault)] {
        &self.faults
    }

    /// What is wrong with record `index`, if anything is.
    pub fn fault(&self, index: usize) -> Option<&Fault> {
        let at = self.faults.binary_search_by_key(&index, |(at, _)| *at).ok()?;
        Some(&self.faults[at].1)
    }

    /// Makes `into` a batch of these records alone. `owners` is how many records of the main table come before those
    /// that the ones of a child table are parts of.
    pub fn copy_portion(&self, records: Range<usize>, owners: usize, into: &mut Records) {
        into.clear();
        let entries = self.entries.get(records.clone()).unwrap_or_default();
        let end_of = |index: usize| self.entries.get(index).map_or(0, |entry| entry.fields_end);
        let first = records.start.checked_sub(1).map_or(0, end_of);
        let last = entries.last().map_or(first, |entry| entry.fields_end);
        into.bytes.extend_from_slice(&self.bytes);
        into.fields.extend_from_slice(self.fields.get(first as usize..last as usize).unwrap_or_default());
        let moved = |entry: &Entry| Entry { fields_end: entry.fields_end - first, ..entry.clone() };
        into.entries.extend(entries.iter().map(moved));
        let own = self.faults.iter().filter(|(at, _)| records.contains(at));
        into.faults.extend(own.map(|(at, fault)| (at - records.start, fault.clone())));
        let links = self.links.get(records.clone()).unwrap_or_default();
        let moved =
            |link: &Link| Link { owner: (link.owner as usize).saturating_sub(owners) as u32, ..*link };
        into.links.extend(links.iter().map(moved));
        (into.uneven, into.open_ended, into.offset) = (self.uneven, self.open_ended, self.offset);
        into.typed = self.typed.as_ref().map(|typed| typed.portion(records));
    }

    /// Drops the records from `keep` on: those that turned out to be a footer.
    pub fn truncate(&mut self, keep: usize) {
        if keep >= self.len() {
            return;
        }
        let fields = if keep == 0 { 0 } else { self.entries[keep - 1].fields_end as usize };
        self.fields.truncate(fields);
        self.entries.truncate(keep);
        if let Some(typed) = &mut self.typed {
            typed.truncate(keep);
        }
        self.faults.retain(|(at, _)| *at < keep);
    }
}
