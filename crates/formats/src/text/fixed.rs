//! Text whose fields stand at fixed places in each line, by a declared layout.

use hypodoke_core::record::{Field, Records};
use hypodoke_core::spelling::trim;
use memchr::memchr;

use super::tokenise::{End, is_full};

/// A field of fixed width.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FixedField {
    /// Its name.
    pub name: String,
    /// Its width in characters.
    pub width: usize,
}

/// Splits lines at fixed places. Blanks around a field are padding and are taken off.
#[derive(Clone, Debug)]
pub struct FixedSplitter {
    widths: Vec<usize>,
    /// Lines still to be passed over, before the first record.
    skip: u64,
    line: u64,
}

impl FixedSplitter {
    /// A splitter into fields of these widths, in characters, after so many lines.
    pub fn new(widths: Vec<usize>, skip: u64) -> FixedSplitter {
        FixedSplitter { widths, skip, line: 1 }
    }

    /// The line the next record starts on.
    pub fn line(&self) -> u64 {
        self.line
    }

    /// Adds the whole lines of `records.bytes` as records, or as many as may be held at once, and returns how many bytes
    /// they took.
    pub fn run(&mut self, records: &mut Records, end: End) -> usize {
        let limit = records.bytes.len();
        let mut start = 0;
        while start < limit {
            let (stop, next) = match memchr(b'\n', &records.bytes[start..limit]) {
                Some(length) => (start + length, start + length + 1),
                None if end == End::More => return start,
                None => (limit, limit),
            };
            let stop = if stop > start && records.bytes[stop - 1] == b'\r' { stop - 1 } else { stop };
            if self.skip > 0 {
                self.skip -= 1;
            } else if !trim(&records.bytes[start..stop]).is_empty() {
                self.split(records, start, stop);
            }
            self.line += 1;
            start = next;
            if is_full(records, limit - start) {
                return start;
            }
        }
        limit
    }

    fn split(&self, records: &mut Records, start: usize, stop: usize) {
        let mut at = start;
        for width in &self.widths {
            let next = characters(&records.bytes[at..stop], *width) + at;
            push_trimmed(records, at, next);
            at = next;
        }
        // What stands behind the last field makes the record one of too many.
        if !trim(&records.bytes[at..stop]).is_empty() {
            push_trimmed(records, at, stop);
        }
        records.end_record(start..stop, self.line);
    }
}

/// How many bytes so many characters take, or all there are.
fn characters(bytes: &[u8], count: usize) -> usize {
    let mut starts = bytes.iter().enumerate().filter(|(_, b)| (**b as i8) >= -0x40).map(|(at, _)| at);
    starts.nth(count).unwrap_or(bytes.len())
}

fn push_trimmed(records: &mut Records, start: usize, stop: usize) {
    let bytes = &records.bytes[start..stop];
    let inner = trim(bytes);
    let offset = start + (inner.as_ptr() as usize - bytes.as_ptr() as usize);
    records.push_field(Field::new(offset..offset + inner.len(), false));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_split_at_characters_not_bytes() {
        let mut records = Records::default();
        records.bytes.extend_from_slice("id  name\n1   Müwe  7.5\r\n22  Ø     10.25x\n3\n\n".as_bytes());
        let taken = FixedSplitter::new(vec![4, 6, 5], 1).run(&mut records, End::Last);
        assert_eq!(taken, records.bytes.len());
        let row = |at: usize| -> Vec<String> {
            records
                .fields(at)
                .iter()
                .map(|f| String::from_utf8_lossy(records.value(*f)).into_owned())
                .collect()
        };
        assert_eq!(row(0), ["1", "Müwe", "7.5"]);
        assert_eq!(row(1), ["22", "Ø", "10.25", "x"]);
        assert_eq!(row(2), ["3", "", ""]);
        assert_eq!((records.line(0), records.len()), (2, 3));
    }
}
