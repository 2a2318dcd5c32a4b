//! Reading JSON: batches of records, made flat, in bounded memory.

use std::io::Read;
use std::ops::Range;

use hypodoke_core::record::{Fault, Records};

use super::JsonOptions;
use super::find::{Plan, plan, promises_lines};
use super::flatten::Flattener;
use super::tree::Tree;
use super::walk::{WalkStep, Walker, blanks};
use crate::bytes::{Encoding, Utf8Source};
use crate::error::ReadError;
use crate::facts::{FormatFacts, FoundOption, FoundValue};
use crate::reader::{MOST_CELLS, RecordReader, TableHead, clear};

/// How much text makes a batch, in bytes.
const BLOCK: usize = 512 * 1024;

/// How much of the text is looked at to find the rows.
const LOOK: usize = 1 << 20;

/// What was found of a JSON file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct JsonFacts {
    /// Where the rows are; `None` where every line is one.
    pub rows_at: Option<String>,
    /// Other places where rows could be, with how many of them were seen.
    pub others: Vec<(String, usize)>,
    /// Keys beside the rows, which are left out.
    pub beside: Vec<String>,
}

/// Where a record stands in the text at hand, the key it stands under, and its number.
type Place = (Range<usize>, Option<Range<usize>>, u64);

/// Records found in the text at hand, and how much of the text they take.
#[derive(Default)]
struct Found {
    places: Vec<Place>,
    taken: usize,
}

impl Found {
    /// Takes the records from a place on out; they stand in the text from there on.
    fn split_off(&mut self, at: usize) -> Found {
        let mut places = self.places.split_off(at.min(self.places.len()));
        let first =
            |(place, key, _): &Place| key.as_ref().map_or(place.start, |key| key.start.min(place.start));
        let from = places.first().map_or(self.taken, first);
        for (place, key, _) in &mut places {
            for range in std::iter::once(place).chain(key) {
                *range = range.start - from..range.end - from;
            }
        }
        let rest = Found { places, taken: self.taken - from };
        self.taken = from;
        rest
    }
}

enum Splitter {
    Lines(u64),
    Walk(Box<Walker>, u64),
}

/// What is known of a JSON file before it is read.
pub struct JsonFile<'f> {
    /// Its name, which is asked where the text leaves it open whether its lines are records.
    pub name: &'f str,
    /// Its encoding, where the user says it.
    pub encoding: Option<Encoding>,
    /// The longest record allowed, in bytes.
    pub max_record: Option<usize>,
    /// Tables whose columns keep their places.
    pub known: &'f [TableHead],
}

/// Reads the records of a JSON text.
pub struct JsonReader<'a> {
    source: Utf8Source<'a>,
    splitter: Splitter,
    flattener: Flattener,
    facts: JsonFacts,
    carry: Vec<u8>,
    /// Records in the carried text that a batch had no room for.
    waiting: Found,
    /// Where the carried text begins in the file, and on which line.
    offset: u64,
    line: u64,
    more: bool,
    done: bool,
    limit: usize,
    records: u64,
    /// The line of a last record that is not whole, in a file of lines.
    cut: Option<u64>,
}

impl<'a> JsonReader<'a> {
    /// Opens a text and finds its rows.
    pub fn open(
        reader: Box<dyn Read + Send + 'a>,
        options: &JsonOptions,
        about: &JsonFile<'_>,
    ) -> Result<JsonReader<'a>, ReadError> {
        let JsonFile { name, encoding, max_record, known } = *about;
        let mut source = Utf8Source::new(reader, encoding)?;
        let mut carry = Vec::with_capacity(BLOCK);
        let more = source.read_into(&mut carry, LOOK)?;
        if blanks(&carry) == carry.len() && !more {
            return Err(ReadError::Empty);
        }
        let mut facts = JsonFacts::default();
        let found = match &options.rows_at {
            Some(path) => Plan::Walk { path: path.clone(), others: Vec::new(), beside: Vec::new() },
            None => plan(&carry, !more, promises_lines(name)),
        };
        let splitter = match found {
            Plan::Lines => Splitter::Lines(0),
            Plan::Walk { path, others, beside } => {
                facts.rows_at = Some(path.to_string());
                facts.others = others.into_iter().map(|(path, rows)| (path.to_string(), rows)).collect();
                facts.beside = beside;
                Splitter::Walk(Box::new(Walker::new(path)), 0)
            }
        };
        let offset = source.start();
        let limit = crate::text::record_limit(max_record);
        let flattener = Flattener::new(Tree::knowing(known), options.clone(), limit);
        Ok(JsonReader {
            source,
            splitter,
            flattener,
            facts,
            carry,
            waiting: Found::default(),
            offset,
            line: 1,
            more,
            done: false,
            limit,
            records: 0,
            cut: None,
        })
    }

    /// The records in the text at hand.
    fn split(&mut self, text: &[u8]) -> Result<Found, ReadError> {
        let mut found = Vec::new();
        let last = !self.more;
        match &mut self.splitter {
            Splitter::Lines(line) => {
                let mut from = 0;
                while from < text.len() {
                    let end = memchr::memchr(b'\n', &text[from..]).map(|at| from + at);
                    let Some(end) = end.or(last.then_some(text.len())) else { break };
                    *line += 1;
                    let start = from + blanks(&text[from..end]);
                    let trimmed = text[start..end].trim_ascii_end().len();
                    if trimmed > 0 {
                        found.push((start..start + trimmed, None, *line));
                    }
                    from = end + 1;
                }
                Ok(Found { places: found, taken: from.min(text.len()) })
            }
            Splitter::Walk(walker, count) => {
                // A record at the end that is not whole is looked at again with what follows.
                loop {
                    match walker.next(text, last) {
                        WalkStep::Record(place, key) => {
                            *count += 1;
                            found.push((place, key, *count));
                        }
                        WalkStep::NeedsMore => {
                            let taken = walker.done_with();
                            walker.taken(taken);
                            return Ok(Found { places: found, taken });
                        }
                        WalkStep::End => return Ok(Found { places: found, taken: text.len() }),
                        WalkStep::Broken(at, what) => {
                            let lines =
                                memchr::memchr_iter(b'\n', &text[..at.min(text.len())]).count() as u64;
                            return Err(ReadError::Json {
                                byte: self.offset + at as u64,
                                line: self.line + lines,
                                path: walker.place(),
                                what,
                                records: *count,
                            });
                        }
                    }
                }
            }
        }
    }

    /// Makes rows of the records until the batch is full, and returns how many records it took. A record that is not valid
    /// JSON breaks its document; in a file of lines it breaks only its line.
    fn flatten(
        &mut self,
        bytes: &[u8],
        found: &[Place],
        batch: &mut Vec<Records>,
    ) -> Result<usize, ReadError> {
        for (at, (place, key, line)) in found.iter().enumerate() {
            if batch.iter().map(Records::field_count).sum::<usize>() >= MOST_CELLS {
                return Ok(at);
            }
            let (place, line, start) = (place.clone(), *line, place.start);
            if let Err(broken) = self.flattener.record(bytes, place.clone(), key.clone(), line, batch) {
                self.check_width()?;
                let byte = self.offset + (start + broken.at) as u64;
                if let Some(rows_at) = &self.facts.rows_at
                    && !is_beyond_text(&broken.what)
                {
                    let before = bytes.get(..start + broken.at).unwrap_or(bytes);
                    let path = match rows_at.strip_suffix("[*]") {
                        Some(list) => format!("{list}[{}]", line.saturating_sub(1)),
                        None => rows_at.clone(),
                    };
                    return Err(ReadError::Json {
                        byte,
                        line: self.line + memchr::memchr_iter(b'\n', before).count() as u64,
                        path,
                        what: broken.what,
                        records: line - 1,
                    });
                }
                if !self.more && place.end == bytes.len() && start + broken.at >= place.end {
                    self.cut = Some(line);
                }
                batch[0].drop_open_fields();
                batch[0].end_record(place, line);
                batch[0]
                    .mark_fault(Fault::Broken(format!("no JSON: {} at byte {byte}", worded(&broken.what))));
            }
            self.records += 1;
            if self.flattener.tree.overgrown.is_some() {
                break;
            }
        }
        Ok(found.len())
    }

    /// The records of the next text, at least one of them, and that text.
    fn find(&mut self, bytes: &mut Vec<u8>) -> Result<Found, ReadError> {
        if !self.waiting.places.is_empty() {
            return Ok(std::mem::take(&mut self.waiting));
        }
        let mut want = BLOCK.saturating_sub(bytes.len()).max(BLOCK / 4);
        loop {
            if self.more && bytes.len() < BLOCK.max(want) {
                self.more = self.source.read_into(bytes, want)?;
            }
            let found = self.split(bytes)?;
            if !found.places.is_empty() || !self.more || found.taken > 0 {
                return Ok(found);
            }
            if bytes.len() > self.limit {
                return Err(ReadError::LongLine { line: self.line, limit: self.limit });
            }
            want = bytes.len() * 2;
        }
    }

    /// Fills a batch; `false` where nothing follows it.
    fn next_batch(&mut self, batch: &mut Vec<Records>) -> Result<bool, ReadError> {
        let mut bytes = std::mem::take(&mut batch[0].bytes);
        bytes.append(&mut self.carry);
        let mut found = self.find(&mut bytes)?;
        self.carry.extend_from_slice(&bytes[found.taken..]);
        bytes.truncate(found.taken);
        self.flattener.decoded.clear();
        let done = self.flatten(&bytes, &found.places, batch)?;
        self.flattener.tree.note_sparse();
        self.check_width()?;
        self.waiting = found.split_off(done);
        self.carry.splice(..0, bytes[found.taken..].iter().copied());
        batch[0].offset = Some(self.offset);
        self.offset += found.taken as u64;
        self.line += memchr::memchr_iter(b'\n', &bytes[..found.taken]).count() as u64;
        bytes.extend_from_slice(&self.flattener.decoded);
        batch[0].bytes = bytes;
        batch.resize_with(self.flattener.tree.tables.len(), Records::default);
        batch.iter_mut().for_each(|records| records.open_ended = true);
        let more = self.more || !self.waiting.places.is_empty();
        if !more {
            self.flattener.tree.settle_nulls();
        }
        Ok(more)
    }

    fn check_width(&self) -> Result<(), ReadError> {
        match &self.flattener.tree.overgrown {
            Some(path) => Err(ReadError::KeysAreData {
                path: if path.is_empty() { "$".to_owned() } else { path.clone() },
            }),
            None => Ok(()),
        }
    }
}

/// Whether what was met is JSON all the same, and no text can hold it.
fn is_beyond_text(what: &str) -> bool {
    worded(what) != what
}

/// The tokeniser's words in ours.
fn worded(what: &str) -> &str {
    match what {
        "lone leading surrogate in hex escape" | "unexpected end of hex escape" => {
            "half of a surrogate pair, which no text can hold,"
        }
        "recursion limit exceeded" => "too many brackets in one another",
        "invalid unicode code point" => "bytes that are not UTF-8",
        other => other,
    }
}

impl RecordReader for JsonReader<'_> {
    fn tables(&self) -> &[TableHead] {
        &self.flattener.tree.heads
    }

    fn next(&mut self, batch: &mut Vec<Records>) -> Result<bool, ReadError> {
        clear(batch, self.flattener.tree.tables.len());
        if self.done {
            return Ok(false);
        }
        // What breaks off is not gone on with.
        self.done = true;
        let more = self.next_batch(batch)?;
        self.done = !more;
        Ok(more || !batch[0].is_empty())
    }

    fn facts(&self) -> FormatFacts {
        let rows_at = &self.facts.rows_at;
        let option = |path: &String| FoundOption { name: "rows_at", value: FoundValue::One(path.clone()) };
        FormatFacts {
            family: "json",
            kind: if rows_at.is_none() { "json_lines" } else { "json" }.to_owned(),
            options: rows_at.iter().map(option).collect(),
            names_in_records: true,
            late_lists: self.flattener.tree.torn(),
            ..FormatFacts::default()
        }
    }

    fn cut_at(&self) -> Option<u64> {
        self.cut
    }

    fn encoding(&self) -> Option<Encoding> {
        Some(self.source.encoding())
    }

    fn kind(&self) -> String {
        match &self.facts.rows_at {
            None => "json, lines".to_owned(),
            Some(path) => format!("json, {path}"),
        }
    }

    fn rows_at(&self, table: usize) -> Option<String> {
        let path = self.facts.rows_at.as_ref()?;
        let inner = &self.flattener.tree.heads.get(table)?.path;
        Some(if inner.is_empty() { path.clone() } else { format!("{path}.{inner}[*]") })
    }

    fn notes(&self) -> Vec<String> {
        let mut notes = Vec::new();
        if let Some((key, line)) = &self.flattener.first_doubled {
            let count = self.flattener.doubled;
            let what =
                if count == 1 { "1 key comes twice".to_owned() } else { format!("{count} keys come twice") };
            notes.push(format!("{what} in an object, the last one counts: `{key}`, first in record {line}"));
        }
        if self.flattener.too_deep > 0 {
            notes.push("objects deeper than 48 levels stay JSON".to_owned());
        }
        if !self.facts.beside.is_empty() {
            let keys: Vec<String> = self.facts.beside.iter().take(8).map(|key| format!("`{key}`")).collect();
            let more = if self.facts.beside.len() > 8 { " and more" } else { "" };
            let at = self.facts.rows_at.as_deref().unwrap_or("$");
            notes.push(format!("the rows are at {at}; {}{more} beside them left out", keys.join(", ")));
        }
        for (path, rows) in &self.facts.others {
            let s = if *rows == 1 { "" } else { "s" };
            notes.push(format!("{path} holds {rows} object{s} too; to read those, say so with rows_at"));
        }
        notes
    }
}
