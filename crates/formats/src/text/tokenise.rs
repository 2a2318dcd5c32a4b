//! Bytes to records: where fields begin and end, by a dialect. No I/O and no copying but for
//! fields whose quotes have to be taken out.

use std::ops::Range;

use hypodoke_core::record::{Fault, Field, Records};
use memchr::{memchr, memchr_iter, memchr2, memchr2_iter};

use super::scan::Scanner;
use crate::dialect::{Delimiter, Dialect, Escape, Marks};
use crate::reader::MOST_CELLS;

/// How many unclosed quotes are recovered from, line by line, before the rest of the file is
/// one faulty record: each costs a look ahead to the end.
const MOST_RECOVERIES: u32 = 64;

/// A tokeniser: it knows the dialect and the line it is on, and nothing of where bytes come from.
#[derive(Clone, Debug)]
pub struct Tokeniser {
    dialect: Dialect,
    delimiter: [u8; Marks::MOST],
    delimiter_len: usize,
    /// The line that the next record starts on, counted from 1.
    line: u64,
    recoveries: u32,
    /// How many fields the record had that was left open.
    left_open: usize,
    /// Records of fewer fields are filled up to this many; 0 for none.
    filled_to: usize,
}

/// How a quoted field ended.
enum Quoted {
    /// Closed: the field, and the place of the delimiter or line end behind it.
    Closed { field: Field, next: usize, newlines: u64 },
    /// The bytes end before it is closed.
    Open,
}

/// What a call is to make of the end of its bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum End {
    /// More bytes will come: an unfinished record is left for then.
    More,
    /// These are the last bytes.
    Last,
    /// More would come, but the record in hand, whose quote is not closed, is longer than is
    /// allowed.
    TooLong,
}

impl Tokeniser {
    /// A tokeniser whose first record starts on `line`.
    pub fn new(dialect: Dialect, line: u64) -> Tokeniser {
        let mut delimiter = [0; Marks::MOST];
        let delimiter_len = match dialect.delimiter {
            Delimiter::Char(c) => c.encode_utf8(&mut delimiter).len(),
            Delimiter::Several(marks) => {
                let text = marks.text().as_bytes();
                delimiter.iter_mut().zip(text).for_each(|(byte, mark)| *byte = *mark);
                text.len()
            }
            Delimiter::Blanks => {
                delimiter[0] = b' ';
                1
            }
        };
        Tokeniser { dialect, delimiter, delimiter_len, line, recoveries: 0, left_open: 0, filled_to: 0 }
    }

    /// Fills records of fewer fields up to so many with fields that are not there.
    pub fn filling(mut self, width: usize) -> Tokeniser {
        self.filled_to = width;
        self
    }

    /// Whether a line ends within these bytes.
    pub fn ends_line(&self, bytes: &[u8]) -> bool {
        self.line_end(bytes).is_some()
    }

    /// The line the next record starts on.
    pub fn line(&self) -> u64 {
        self.line
    }

    /// Adds the whole records of `records.bytes[..]` to `records`, or as many as may be held at once, and returns how
    /// many bytes they took. Unescaped fields go behind the bytes.
    pub fn run(&mut self, records: &mut Records, end: End) -> usize {
        let limit = records.bytes.len();
        let mut at = 0;
        let mut end = end;
        while at < limit {
            let taken = match self.dialect.delimiter {
                Delimiter::Blanks => self.blank_run(records, at, limit, end),
                Delimiter::Char(_) | Delimiter::Several(_) => self.plain_run(records, at, limit, end),
            };
            match taken {
                Ok(next) => return next,
                // An unclosed quote: its first line is a fault, and the rest is looked at again.
                Err(start) if end == End::More => return start,
                Err(start) => {
                    at = self.recover(records, start, limit);
                    if end == End::TooLong {
                        // Only the record that was too long is cut off; the rest goes on as ever.
                        end = End::More;
                    }
                }
            }
        }
        limit
    }

    /// How many fields the last record had by the end of the bytes, where it was not taken since there was
    /// more to come.
    pub fn left_open(&self) -> usize {
        self.left_open
    }

    fn recover(&mut self, records: &mut Records, start: usize, limit: usize) -> usize {
        records.drop_open_fields();
        self.recoveries += 1;
        let line_end =
            self.line_end(&records.bytes[start..limit]).filter(|_| self.recoveries <= MOST_RECOVERIES);
        let (stop, next) = line_end.map_or((limit, limit), |(stop, next)| (start + stop, start + next));
        records.end_record(start..trim_cr(&records.bytes, start, stop), self.line);
        records.mark_fault(Fault::UnclosedQuote);
        self.line += self.count_lines(&records.bytes[start..next]).max(1);
        next
    }

    /// Records from `at` on. `Err` gives the start of a record whose quote is not closed.
    fn plain_run(
        &mut self,
        records: &mut Records,
        at: usize,
        limit: usize,
        end: End,
    ) -> Result<usize, usize> {
        // The scanner borrows the bytes while fields are added, so they change hands meanwhile.
        let mut bytes = std::mem::take(&mut records.bytes);
        let mut unescaped = Vec::new();
        let base = bytes.len();
        let result = self.walk(&bytes[..limit], at, end, records, (base, &mut unescaped));
        bytes.extend_from_slice(&unescaped);
        records.bytes = bytes;
        result
    }

    fn walk(
        &mut self,
        bytes: &[u8],
        from: usize,
        end: End,
        records: &mut Records,
        (base, unescaped): (usize, &mut Vec<u8>),
    ) -> Result<usize, usize> {
        let newline = self.newline();
        let first = self.delimiter[0];
        let mut scanner = Scanner::new(bytes, from, [first, newline, b'\n']);
        let (mut start, mut field) = (from, from);
        let mut newlines = 0;
        let quote = self.dialect.quote;
        // Only records that were begun are open: a comment or blank line begins none.
        'fields: loop {
            if field == start {
                match self.begin_record(bytes, start, end, &mut scanner) {
                    Ok(next) => (start, field) = (next, next),
                    Err(over) => return Ok(over),
                }
            }
            while self.dialect.blanks_before && bytes.get(field) == Some(&b' ') {
                field += 1;
            }
            let quoted = quote.is_some_and(|quote| bytes.get(field) == Some(&quote));
            let mut pushed = false;
            if quoted {
                match self.quoted(bytes, field, base, unescaped, end) {
                    Quoted::Open => return Err(start),
                    Quoted::Closed { field: found, next, newlines: inside } => {
                        records.push_field(found);
                        newlines += inside;
                        scanner.skip_to(next);
                        pushed = true;
                    }
                }
            }
            let mut at = scanner.next();
            if !pushed && self.is_plain() {
                // Bare fields one after another, the commonest by far: nothing else is asked of them.
                while let Some(place) = at
                    && bytes[place] == first
                {
                    records.push_field(Field::new(field..place, false));
                    field = place + 1;
                    if quote.is_some() && bytes.get(field).copied() == quote {
                        continue 'fields;
                    }
                    at = scanner.next();
                }
            }
            while self.is_part_of_delimiter(bytes, at) || at.is_some_and(|at| at < field) {
                at = scanner.next();
            }
            if end == End::More && self.may_go_on(bytes, at) {
                self.left_open = records.open_fields();
                records.drop_open_fields();
                return Ok(start);
            }
            let stop = at.unwrap_or(bytes.len());
            let ends_record = at.is_none() || bytes[stop] != first;
            if !pushed {
                let stop = if ends_record { trim_cr(bytes, field, stop) } else { stop };
                records.push_field(Field::new(field..stop, false));
            }
            if !ends_record {
                field = stop + self.delimiter_at(bytes, stop).unwrap_or(self.delimiter_len);
                continue;
            }
            self.close(records, start..trim_cr(bytes, start, stop));
            self.line += 1 + newlines;
            newlines = 0;
            match self.end_record(bytes, at, &mut scanner) {
                Ok(next) => (start, field) = (next, next),
                Err(over) => return Ok(over),
            }
            if self.filled_to > 0 && is_full(records, bytes.len() - start) {
                return Ok(start);
            }
        }
    }

    /// Where the next record begins, behind comments and blank lines; an error where none does.
    #[inline(always)]
    fn begin_record(
        &mut self,
        bytes: &[u8],
        start: usize,
        end: End,
        scanner: &mut Scanner<'_>,
    ) -> Result<usize, usize> {
        let next = self.pass_over(bytes, start, end)?;
        if next == start {
            return Ok(next);
        }
        scanner.skip_to(next);
        if next >= bytes.len() { Err(next) } else { Ok(next) }
    }

    /// Whether what was found begins like a delimiter of several characters, and is none.
    #[inline(always)]
    fn is_part_of_delimiter(&self, bytes: &[u8], at: Option<usize>) -> bool {
        self.delimiter_len > 1
            && at.is_some_and(|place| {
                bytes[place] == self.delimiter[0] && self.delimiter_at(bytes, place).is_none()
            })
    }

    /// How long the delimiter is that stands at a place, if one does. At the end of a line blanks at its
    /// end may be missing.
    #[inline]
    fn delimiter_at(&self, bytes: &[u8], place: usize) -> Option<usize> {
        let (rest, whole) = (bytes.get(place..)?, self.delimiter.get(..self.delimiter_len)?);
        if rest.starts_with(whole) {
            return Some(whole.len());
        }
        let short = whole.trim_ascii_end();
        let follows = rest.strip_prefix(short).filter(|_| !short.is_empty() && short.len() < whole.len())?;
        matches!(follows.first(), None | Some(b'\n' | b'\r')).then_some(short.len())
    }

    /// Whether fields begin right behind a delimiter of one byte.
    #[inline(always)]
    fn is_plain(&self) -> bool {
        self.delimiter_len == 1 && !self.dialect.blanks_before
    }

    /// Whether more of the record may follow: its end was not found, or is a carriage return that a
    /// line feed may belong to.
    #[inline(always)]
    fn may_go_on(&self, bytes: &[u8], at: Option<usize>) -> bool {
        at.is_none_or(|place| {
            bytes[place] != self.delimiter[0] && bytes[place] == b'\r' && place + 1 == bytes.len()
        })
    }

    /// Where what follows a line end begins; an error where nothing does.
    #[inline(always)]
    fn end_record(&self, bytes: &[u8], at: Option<usize>, scanner: &mut Scanner<'_>) -> Result<usize, usize> {
        let next = at.map_or(bytes.len(), |stop| stop + 1);
        if next >= bytes.len() {
            return Err(bytes.len());
        }
        if !self.dialect.lone_cr || bytes[next - 1] != b'\r' || bytes[next] != b'\n' {
            return Ok(next);
        }
        scanner.skip_to(next + 1);
        if next + 1 >= bytes.len() { Err(next + 1) } else { Ok(next + 1) }
    }

    #[inline]
    fn close(&self, records: &mut Records, raw: Range<usize>) {
        if self.dialect.trailing_delimiter
            && records.open_fields() > 1
            && let Some(last) = records.pop_open_field()
            && !last.range().is_empty()
        {
            records.push_field(last);
        }
        if self.filled_to > 0 {
            self.fill(records);
        }
        records.end_record(raw, self.line);
    }

    fn fill(&self, records: &mut Records) {
        // One field alone is no row that ended early but a remark.
        let found = records.open_fields();
        if found > 1 {
            (found..self.filled_to).for_each(|_| records.push_field(Field::ABSENT));
        }
    }

    /// Passes over blank lines and comments at the start of a record: where the record
    /// starts, or (`Err`) where to go on once more bytes have come.
    #[inline]
    fn pass_over(&mut self, bytes: &[u8], mut at: usize, end: End) -> Result<usize, usize> {
        loop {
            match bytes.get(at) {
                Some(b'\n') => at += 1,
                Some(b'\r') if bytes.get(at + 1) == Some(&b'\n') => at += 2,
                Some(b'\r') if at + 1 == bytes.len() && end == End::More => return Err(at),
                Some(b'\r') if self.dialect.lone_cr || at + 1 == bytes.len() => at += 1,
                Some(byte) if self.dialect.comment == Some(*byte) => {
                    match self.line_end(&bytes[at..]) {
                        // A line feed may follow.
                        Some((stop, next))
                            if at + next == bytes.len() && bytes[at + stop] == b'\r' && end == End::More =>
                        {
                            return Err(at);
                        }
                        Some((_, next)) => at += next,
                        None if end == End::More => return Err(at),
                        None => return Ok(bytes.len()),
                    }
                }
                _ => return Ok(at),
            }
            self.line += 1;
        }
    }

    /// The byte that ends lines, a carriage return before it aside.
    #[inline]
    fn newline(&self) -> u8 {
        if self.dialect.lone_cr { b'\r' } else { b'\n' }
    }

    /// Where the first line of some bytes ends, and where the next one begins.
    #[inline]
    fn line_end(&self, bytes: &[u8]) -> Option<(usize, usize)> {
        let stop = match self.dialect.lone_cr {
            true => memchr2(b'\r', b'\n', bytes)?,
            false => memchr(b'\n', bytes)?,
        };
        let is_pair = bytes.get(stop..stop + 2) == Some(b"\r\n");
        Some((stop, stop + 1 + usize::from(is_pair)))
    }

    /// How many lines end within some bytes.
    #[inline]
    fn count_lines(&self, bytes: &[u8]) -> u64 {
        if !self.dialect.lone_cr {
            return memchr_iter(b'\n', bytes).count() as u64;
        }
        let is_end = |at: &usize| bytes.get(*at) == Some(&b'\n') || bytes.get(at + 1) != Some(&b'\n');
        memchr2_iter(b'\r', b'\n', bytes).filter(is_end).count() as u64
    }

    /// A quoted field that begins at `open`. `base` is where unescaped bytes will stand.
    fn quoted(&self, bytes: &[u8], open: usize, base: usize, unescaped: &mut Vec<u8>, end: End) -> Quoted {
        let quote = bytes[open];
        let backslash = self.dialect.escape == Escape::Backslash;
        let (mut at, mut escapes) = (open + 1, false);
        loop {
            let found =
                if backslash { memchr2(quote, b'\\', &bytes[at..]) } else { memchr(quote, &bytes[at..]) };
            let Some(found) = found.map(|found| at + found) else { return Quoted::Open };
            if backslash && bytes[found] == b'\\' {
                escapes = true;
                at = (found + 2).min(bytes.len());
                continue;
            }
            if found + 1 == bytes.len() && end == End::More {
                return Quoted::Open;
            }
            if bytes.get(found + 1) == Some(&quote) {
                escapes = true;
                at = found + 2;
                continue;
            }
            match self.after_quote(bytes, found + 1, end) {
                After::Ends(next) => {
                    let inner = open + 1..found;
                    let newlines = self.count_lines(&bytes[inner.clone()]);
                    let field = if escapes {
                        let start = base + unescaped.len();
                        unescape(&bytes[inner], quote, backslash, unescaped);
                        Field::new(start..base + unescaped.len(), true)
                    } else {
                        Field::new(inner, true)
                    };
                    return Quoted::Closed { field, next, newlines };
                }
                After::Unknown => return Quoted::Open,
                // A quote in the middle of a field that nobody escaped: it means itself.
                After::GoesOn => at = found + 1,
            }
        }
    }

    /// What follows a quote: the end of the field, blanks before that end aside, or more of it.
    fn after_quote(&self, bytes: &[u8], from: usize, end: End) -> After {
        let mut at = from;
        while matches!(bytes.get(at), Some(b' ' | b'\t')) && self.delimiter_at(bytes, at).is_none() {
            at += 1;
        }
        match bytes.get(at) {
            None if end == End::More => After::Unknown,
            None | Some(b'\n') => After::Ends(at),
            Some(b'\r') if self.dialect.lone_cr => After::Ends(at),
            Some(b'\r') if bytes.get(at + 1) == Some(&b'\n') => After::Ends(at + 1),
            Some(b'\r') if at + 1 == bytes.len() => {
                if end == End::More {
                    After::Unknown
                } else {
                    After::Ends(at + 1)
                }
            }
            Some(_) if self.delimiter_at(bytes, at).is_some() => After::Ends(at),
            Some(_) => After::GoesOn,
        }
    }

    /// Records whose fields stand between runs of blanks, line by line.
    fn blank_run(
        &mut self,
        records: &mut Records,
        from: usize,
        limit: usize,
        end: End,
    ) -> Result<usize, usize> {
        let mut start = from;
        while start < limit {
            let (stop, next) = match self.line_end(&records.bytes[start..limit]) {
                // A line feed may follow.
                Some((stop, next))
                    if end == End::More && start + next == limit && records.bytes[start + stop] == b'\r' =>
                {
                    return Ok(start);
                }
                Some((stop, next)) => (start + stop, start + next),
                None if end == End::More => return Ok(start),
                None => (limit, limit),
            };
            let line_end = trim_cr(&records.bytes, start, stop);
            self.blank_line(records, start, line_end);
            self.line += 1;
            start = next;
            if is_full(records, limit - start) {
                return Ok(start);
            }
        }
        Ok(limit)
    }

    fn blank_line(&mut self, records: &mut Records, start: usize, stop: usize) {
        let mut at = start;
        if self.dialect.comment.is_some_and(|comment| records.bytes.get(start) == Some(&comment)) {
            return;
        }
        loop {
            while at < stop && matches!(records.bytes[at], b' ' | b'\t') {
                at += 1;
            }
            if at == stop {
                break;
            }
            let quote = self.dialect.quote.filter(|quote| records.bytes[at] == *quote);
            let closed = quote.and_then(|quote| memchr(quote, &records.bytes[at + 1..stop]));
            if let Some(length) = closed {
                records.push_field(Field::new(at + 1..at + 1 + length, true));
                at += length + 2;
                continue;
            }
            let from = at;
            while at < stop && !matches!(records.bytes[at], b' ' | b'\t') {
                at += 1;
            }
            records.push_field(Field::new(from..at, false));
        }
        if records.open_fields() > 0 {
            self.fill(records);
            records.end_record(start..stop, self.line);
        }
    }
}

/// Whether a batch has as many fields as it may have, and more than a footer follows: short records that are filled up
/// have more fields than bytes.
pub fn is_full(records: &Records, bytes_left: usize) -> bool {
    const FOOTER: usize = 1024;
    records.field_count() >= MOST_CELLS && bytes_left > FOOTER
}

enum After {
    Ends(usize),
    GoesOn,
    Unknown,
}

/// A line that ends in CR LF ends before the CR.
#[inline]
fn trim_cr(bytes: &[u8], start: usize, stop: usize) -> usize {
    if stop > start && bytes[stop - 1] == b'\r' { stop - 1 } else { stop }
}

fn unescape(inner: &[u8], quote: u8, backslash: bool, out: &mut Vec<u8>) {
    let mut rest = inner;
    while let Some(at) = if backslash { memchr2(quote, b'\\', rest) } else { memchr(quote, rest) } {
        out.extend_from_slice(&rest[..at]);
        let next = rest.get(at + 1).copied();
        match (rest[at], next) {
            (b'\\', Some(after)) if backslash => {
                // Only quotes and backslashes are escaped for the text's sake; `\N` stays as it is.
                if after != quote && after != b'\\' {
                    out.push(b'\\');
                }
                out.push(after);
                rest = &rest[at + 2..];
            }
            (mark, Some(after)) if mark == quote && after == quote => {
                out.push(quote);
                rest = &rest[at + 2..];
            }
            (mark, _) => {
                out.push(mark);
                rest = &rest[at + 1..];
            }
        }
    }
    out.extend_from_slice(rest);
}

#[cfg(test)]
#[path = "tokenise_tests.rs"]
mod tests;
