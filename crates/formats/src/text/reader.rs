//! Reading a delimited text: batches of records, in bounded memory.

use std::io::Read;

use hypodoke_core::record::{Fault, Field, Records};

use super::detect::{self, DialectOptions};
use super::fixed::{FixedField, FixedSplitter};
use super::footer;
use super::table::{self, TableOptions, TableStart};
use super::tokenise::{End, Tokeniser};
use crate::bytes::{Encoding, Utf8Source};
use crate::dialect::Dialect;
use crate::error::ReadError;
use crate::facts::{FormatFacts, TextFacts};
use crate::reader::{RecordReader, TableHead};

/// How much text makes a batch, in bytes.
const BLOCK: usize = 128 * 1024;

/// How much text is held back while more is to come, so that a footer is seen whole.
const HELD_BACK: usize = 16 * 1024;

/// How much of the text is looked at to find dialect and header.
const LOOK: usize = 256 * 1024;

/// What the user says of a text file; the rest is found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TextOptions {
    /// The encoding.
    pub encoding: Option<Encoding>,
    /// The dialect, as far as it is said.
    pub dialect: DialectOptions,
    /// The table's beginning, as far as it is said.
    pub table: TableOptions,
    /// Fields of fixed width, instead of a dialect.
    pub fields: Option<Vec<FixedField>>,
    /// How many times its size a compressed file may expand to.
    pub max_expansion: Option<u64>,
    /// The longest record allowed, in bytes; [`DEFAULT_RECORD_LIMIT`] if unsaid.
    pub max_record: Option<usize>,
}

/// The longest record allowed unless said otherwise, in bytes.
pub const DEFAULT_RECORD_LIMIT: usize = 64 << 20;

/// The most fields of a record, and of one that may be a header.
const MOST_FIELDS: usize = 1 << 20;
const MOST_NAMES: usize = 1 << 15;

/// The longest record that is taken, in bytes: as long as is asked for, and no longer than a field can be.
pub fn record_limit(asked: Option<usize>) -> usize {
    asked.unwrap_or(DEFAULT_RECORD_LIMIT).min(Field::MAX_LENGTH)
}

/// What tells records and fields apart.
enum Splitter {
    Delimited(Tokeniser),
    Fixed(FixedSplitter),
}

impl Splitter {
    fn run(&mut self, records: &mut Records, end: End) -> usize {
        match self {
            Splitter::Delimited(tokeniser) => tokeniser.run(records, end),
            Splitter::Fixed(splitter) => splitter.run(records, end),
        }
    }

    fn line(&self) -> u64 {
        match self {
            Splitter::Delimited(tokeniser) => tokeniser.line(),
            Splitter::Fixed(splitter) => splitter.line(),
        }
    }

    fn left_open(&self) -> usize {
        match self {
            Splitter::Delimited(tokeniser) => tokeniser.left_open(),
            Splitter::Fixed(_) => 0,
        }
    }

    fn ends_line(&self, bytes: &[u8]) -> bool {
        match self {
            Splitter::Delimited(tokeniser) => tokeniser.ends_line(bytes),
            Splitter::Fixed(_) => memchr::memchr(b'\n', bytes).is_some(),
        }
    }
}

/// Reads the records of a text.
pub struct TextReader<'a> {
    heads: Vec<TableHead>,
    source: Utf8Source<'a>,
    tokeniser: Splitter,
    facts: TextFacts,
    /// Text read and not yet handed out.
    carry: Vec<u8>,
    /// Where the carried text begins, in bytes of text.
    offset: u64,
    more: bool,
    done: bool,
    /// Some records were handed out.
    is_begun: bool,
    record_limit: usize,
    /// What there is to say of totals.
    notes: Vec<String>,
    /// The line of the last record, where the text ends within it.
    cut: Option<u64>,
}

impl<'a> TextReader<'a> {
    /// Opens a text: finds its encoding, its dialect and its header.
    pub fn open(
        reader: Box<dyn Read + Send + 'a>,
        options: &TextOptions,
    ) -> Result<TextReader<'a>, ReadError> {
        TextReader::open_knowing(reader, options, 0)
    }

    /// Opens a text whose like had so many columns before; 0 where that is not known.
    pub fn open_knowing(
        reader: Box<dyn Read + Send + 'a>,
        options: &TextOptions,
        width_before: usize,
    ) -> Result<TextReader<'a>, ReadError> {
        let mut source = Utf8Source::new(reader, options.encoding)?;
        let mut carry = Vec::with_capacity(BLOCK + HELD_BACK);
        let more = source.read_into(&mut carry, LOOK)?;
        if carry.is_empty() || !more && carry.trim_ascii().is_empty() {
            return Err(ReadError::Empty);
        }
        refuse_binary(&carry, options.encoding.is_some())?;
        let record_limit = record_limit(options.max_record);
        if let Some(fields) = &options.fields {
            return Ok(TextReader::fixed(source, carry, more, fields, options));
        }
        let mut dialect = detect::detect(&carry, !more, options.dialect);
        let records = first_records(&carry, dialect, more);
        let width_before = options.table.names.as_ref().map_or(width_before, Vec::len);
        let mut start = table::find(&records, &options.table, width_before);
        if !records.is_empty() {
            options.table.check_names(start.width, None)?;
        }
        if start.width.max(start.names.len()) > MOST_NAMES {
            let line = if start.preamble < records.len() { records.line(start.preamble) } else { 1 };
            return Err(ReadError::TooManyFields { line, limit: MOST_NAMES });
        }
        dialect.trailing_delimiter = start.trailing_delimiter;
        let (taken, line) = first_row(&records, &start, carry.len());
        let notes = remarks_beneath(&records, &start);
        if start.header == 0
            && options.table.names.is_none()
            && let Some(names) = commented_names(&carry[..taken], &dialect, start.width)
        {
            (start.names, start.header) = (names, 1);
        }
        let facts = TextFacts {
            dialect,
            names: start.names.clone(),
            skipped_lines: lines_before(&records, start.preamble),
            header_lines: start.header,
            footer: Vec::new(),
            marked: source.has_mark(),
            short_rows: start.short_rows,
            is_fixed: false,
        };
        carry.drain(..taken);
        let tokeniser = Tokeniser::new(dialect, line).filling(if start.short_rows { start.width } else { 0 });
        Ok(TextReader {
            heads: heads(&facts, width_before),
            source,
            tokeniser: Splitter::Delimited(tokeniser),
            facts,
            carry,
            offset: taken as u64,
            more,
            done: false,
            is_begun: false,
            record_limit,
            notes,
            cut: None,
        })
    }

    /// A text whose fields stand at fixed places: nothing is left to find but its encoding.
    fn fixed(
        source: Utf8Source<'a>,
        carry: Vec<u8>,
        more: bool,
        fields: &[FixedField],
        options: &TextOptions,
    ) -> TextReader<'a> {
        let header_lines = options.table.header_lines.unwrap_or(0);
        let skipped_lines = options.table.skip_lines.unwrap_or(0);
        let facts = TextFacts {
            dialect: Dialect::default(),
            names: fields.iter().map(|field| field.name.clone()).collect(),
            skipped_lines,
            header_lines,
            footer: Vec::new(),
            marked: source.has_mark(),
            short_rows: false,
            is_fixed: true,
        };
        let widths = fields.iter().map(|field| field.width).collect();
        let splitter = FixedSplitter::new(widths, skipped_lines + header_lines as u64);
        let record_limit = record_limit(options.max_record);
        TextReader {
            heads: heads(&facts, 0),
            source,
            tokeniser: Splitter::Fixed(splitter),
            facts,
            carry,
            offset: 0,
            more,
            done: false,
            is_begun: false,
            record_limit,
            notes: Vec::new(),
            cut: None,
        }
    }

    /// Fills a batch with the next records; `false` when there are no more.
    pub fn next_records(&mut self, records: &mut Records) -> Result<bool, ReadError> {
        records.clear();
        if self.done {
            return Ok(false);
        }
        records.bytes.append(&mut self.carry);
        let mut want = BLOCK.saturating_sub(records.bytes.len()).max(BLOCK / 4);
        let mut is_wanted = records.bytes.len() < BLOCK;
        loop {
            if self.more && is_wanted {
                self.more = self.source.read_into(&mut records.bytes, want)?;
            }
            let (length, end) = if !self.more {
                (records.bytes.len(), End::Last)
            } else if records.bytes.len() > self.record_limit {
                if !self.tokeniser.ends_line(&records.bytes) {
                    return Err(ReadError::LongLine {
                        line: self.tokeniser.line(),
                        limit: self.record_limit,
                    });
                }
                (records.bytes.len(), End::TooLong)
            } else {
                (records.bytes.len().saturating_sub(HELD_BACK), End::More)
            };
            self.carry.extend_from_slice(&records.bytes[length..]);
            records.bytes.truncate(length);
            let taken = self.tokeniser.run(records, end);
            if taken > 0 || !self.more {
                self.finish(records, taken, length);
                self.is_begun = true;
                self.done = !self.more && taken >= length;
                return Ok(!records.is_empty() || !self.done);
            }
            // One record longer than all that was read: read as much again.
            is_wanted = true;
            if self.tokeniser.left_open() > MOST_FIELDS {
                return Err(ReadError::TooManyFields { line: self.tokeniser.line(), limit: MOST_FIELDS });
            }
            records.bytes.truncate(length);
            records.bytes.append(&mut self.carry);
            records.forget_records();
            want =
                records.bytes.len().min(self.record_limit + 1 - records.bytes.len().min(self.record_limit));
            records.bytes.reserve_exact(want);
        }
    }

    /// Keeps what was not taken, checks what was, and cuts the footer off at the end.
    fn finish(&mut self, records: &mut Records, taken: usize, length: usize) {
        self.carry.splice(..0, records.bytes[taken..length].iter().copied());
        if self.source.wants_check() {
            self.check(records, taken);
        }
        while let Some((at, in_file)) = self.source.next_break(self.offset + taken as u64) {
            if let Some(record) = records.record_at((at - self.offset.min(at)) as usize) {
                records.set_fault(record, Fault::NotText { offset: in_file });
            }
        }
        self.offset += taken as u64;
        if !self.more && taken >= length {
            self.cut = self.cut_record(records, taken);
            let names = &self.facts.names;
            let found = footer::find(records, names.len(), names, !self.is_begun);
            let keep = records.len() - found.records;
            self.notes.extend(found.notes);
            let raw = |at: usize| String::from_utf8_lossy(records.raw(at)).into_owned();
            self.facts.footer = (keep..records.len()).map(raw).collect();
            // A line beneath the table is no record.
            self.cut = self.cut.filter(|_| found.records == 0);
            records.truncate(keep);
        }
    }

    /// The line of the last record, where the text ends within it: without a line end, and with fields too few
    /// or a quote that is open.
    fn cut_record(&self, records: &Records, taken: usize) -> Option<u64> {
        let last = records.len().checked_sub(1)?;
        let is_whole_line = matches!(records.bytes.get(..taken)?.last(), Some(b'\n' | b'\r') | None);
        let is_odd = self.facts.is_fixed || self.facts.short_rows || !self.is_begun && last == 0;
        if is_whole_line || is_odd {
            return None;
        }
        let is_short = records.fields(last).len() < self.facts.names.len();
        let is_open = matches!(records.fault(last), Some(Fault::UnclosedQuote));
        (is_short || is_open).then(|| records.line(last))
    }

    /// Marks the records that hold bytes that are not UTF-8.
    fn check(&self, records: &mut Records, taken: usize) {
        let mut from = 0;
        while let Err(error) = simdutf8::compat::from_utf8(&records.bytes[from..taken]) {
            let at = from + error.valid_up_to();
            let Some(record) = records.record_at(at) else { return };
            let offset = self.source.start() + self.offset + at as u64;
            records.set_fault(record, Fault::NotText { offset });
            from = records.raw_range(record).end.max(at + error.error_len().unwrap_or(1));
            if from >= taken {
                return;
            }
        }
    }
}

impl RecordReader for TextReader<'_> {
    fn tables(&self) -> &[TableHead] {
        &self.heads
    }

    fn next(&mut self, batch: &mut Vec<Records>) -> Result<bool, ReadError> {
        batch.resize_with(1, Records::default);
        self.next_records(&mut batch[0])
    }

    fn facts(&self) -> FormatFacts {
        self.facts.in_general()
    }

    fn encoding(&self) -> Option<Encoding> {
        Some(self.source.encoding())
    }

    fn kind(&self) -> String {
        let dialect = self.facts.dialect;
        let how = if self.facts.is_fixed { "fixed width".to_owned() } else { dialect.delimiter.to_string() };
        format!("text, {how}, {}", self.source.encoding().name())
    }

    fn footer(&self) -> Vec<String> {
        self.facts.footer.clone()
    }

    fn cut_at(&self) -> Option<u64> {
        self.cut
    }

    fn notes(&self) -> Vec<String> {
        self.notes.clone()
    }
}

/// The head of the only table. Whoever reads the text again knows from it what is known now.
fn heads(facts: &TextFacts, width: usize) -> Vec<TableHead> {
    vec![TableHead { names: facts.names.clone(), width, ..TableHead::default() }]
}

/// Control characters that no text has, if there are more than a few, make a file no text.
fn refuse_binary(text: &[u8], wished: bool) -> Result<(), ReadError> {
    let head = &text[..text.len().min(8192)];
    let fine = |b: u8| matches!(b, b'\t' | b'\n' | b'\r' | 0x0C | 0x1A | 0x1B | 0x01 | 0x02 | 0x1C..=0x1F);
    let strange = |b: &u8| *b < 32 && !fine(*b);
    let count = head.iter().filter(|b| strange(b)).count();
    if !wished && count > 3 && count * 50 > head.len() {
        let at = head.iter().position(strange).unwrap_or_default();
        return Err(ReadError::Binary { what: format!("byte {at} is 0x{:02X}", head[at]) });
    }
    Ok(())
}

/// The names in the last comment before the first row.
fn commented_names(before: &[u8], dialect: &Dialect, width: usize) -> Option<Vec<String>> {
    let (mark, super::Delimiter::Char(delimiter)) = (dialect.comment?, dialect.delimiter) else {
        return None;
    };
    let comment = before
        .split(|b| matches!(b, b'\n' | b'\r'))
        .rev()
        .find(|line| line.first() == Some(&mark) && line.len() > 2)?;
    table::names_in_comment(comment, mark, delimiter, width)
}

/// The records at the beginning of a text; `more` says that it goes on.
fn first_records(text: &[u8], dialect: Dialect, more: bool) -> Records {
    let mut records = Records::default();
    records.bytes.extend_from_slice(text);
    let end = if more { End::More } else { End::Last };
    let taken = Tokeniser::new(dialect, 1).run(&mut records, end);
    if more && taken * 2 < text.len() {
        // An early quote is not closed: the rows behind it tell of the table all the same.
        records.clear();
        records.bytes.extend_from_slice(text);
        Tokeniser::new(dialect, 1).run(&mut records, End::Last);
    }
    records
}

/// What is said of the lines beneath a header that are no rows.
fn remarks_beneath(records: &Records, start: &TableStart) -> Vec<String> {
    let first = start.preamble + start.header;
    let remarks = (first..first + start.remarks).filter(|at| *at < records.len());
    let note = |at: usize| {
        let text = String::from_utf8_lossy(records.raw(at)).trim().to_owned();
        format!("line {} beneath the header left out: {text}", records.line(at))
    };
    remarks.map(note).collect()
}

/// Where the first row stands behind the header, and on which line.
fn first_row(records: &Records, start: &TableStart, length: usize) -> (usize, u64) {
    let row = start.preamble + start.header + start.remarks;
    if row < records.len() {
        return (records.raw_range(row).start, records.line(row));
    }
    match records.len().checked_sub(1) {
        Some(last) => {
            let end = records.raw_range(last).end;
            let rest = &records.bytes[end..length];
            let skip = rest.iter().position(|b| *b == b'\n').map_or(rest.len(), |at| at + 1);
            let newlines = records.bytes[..end + skip].iter().filter(|b| **b == b'\n').count() as u64;
            (end + skip, newlines + 1)
        }
        None => (length, 1),
    }
}

/// The lines before the header: titles, comments, blank ones.
fn lines_before(records: &Records, preamble: usize) -> u64 {
    if preamble >= records.len() { preamble as u64 } else { records.line(preamble) - 1 }
}
