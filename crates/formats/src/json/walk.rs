//! Finding records in JSON text of any size, without holding more than one of them.
//!
//! The walker follows a path through the brackets. It knows strings, brackets and commas, and
//! nothing else of the grammar: what stands in a record is for the tokeniser to judge.

use std::ops::Range;

use super::path::{JsonPath, Step};

/// What the walker came to.
#[derive(Debug, PartialEq, Eq)]
pub enum WalkStep {
    /// A record, and the key it stands under if its parent is an object.
    Record(Range<usize>, Option<Range<usize>>),
    /// Nothing more without more text.
    NeedsMore,
    /// The end of the text, and of its last document.
    End,
    /// Something that is no JSON, at this byte of the text at hand, in words.
    Broken(usize, String),
}

#[derive(Clone, Debug)]
struct Level {
    is_object: bool,
    /// Elements or members begun so far.
    count: u64,
    /// The key in hand, of an object.
    key: String,
    key_range: Range<usize>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Wants {
    Value,
    /// The first key or element, or the closing bracket.
    First,
    /// A comma or the closing bracket.
    Next,
}

/// Follows a path through documents that stand one after another.
#[derive(Debug)]
pub struct Walker {
    path: JsonPath,
    levels: Vec<Level>,
    wants: Wants,
    /// A value that is not on the path and was not skipped to its end: its state so far.
    skipping: Option<Skim>,
    /// Where in the text at hand it goes on.
    pub at: usize,
    documents: u64,
}

/// The extent of a value, found piece by piece.
#[derive(Clone, Copy, Debug, Default)]
struct Skim {
    depth: u64,
    in_string: bool,
    /// The text broke off after a backslash.
    escaped: bool,
    begun: bool,
}

impl Walker {
    /// A walker at the top of the first document.
    pub fn new(path: JsonPath) -> Walker {
        Walker { path, levels: Vec::new(), wants: Wants::Value, skipping: None, at: 0, documents: 0 }
    }

    /// How many bytes of the text at hand are done with. The caller takes them off, and calls
    /// [`Walker::taken`].
    pub fn done_with(&self) -> usize {
        // The key of a record that is not whole yet is wanted with it.
        match self.levels.last() {
            Some(level) if self.wants == Wants::Value && self.is_keyed() => {
                self.at.min(level.key_range.start)
            }
            _ => self.at,
        }
    }

    /// Says that so many bytes were taken off the text's beginning.
    pub fn taken(&mut self, bytes: usize) {
        self.at -= bytes;
        for level in &mut self.levels {
            let Range { start, end } = level.key_range;
            level.key_range = start.saturating_sub(bytes)..end.saturating_sub(bytes);
        }
    }

    /// Whether the records here stand under keys that tell them apart.
    fn is_keyed(&self) -> bool {
        let at_record = self.levels.len() == self.path.steps.len();
        at_record
            && self.path.steps.last() == Some(&Step::All)
            && self.levels.last().is_some_and(|l| l.is_object)
    }

    /// Where in the document the walker is, as a JSONPath.
    pub fn place(&self) -> String {
        let mut steps = Vec::new();
        for level in self.levels.iter().filter(|level| level.count > 0 || !level.is_object) {
            steps.push(if level.is_object {
                Step::Name(level.key.clone())
            } else {
                Step::Index(level.count.saturating_sub(1))
            });
        }
        JsonPath { steps }.to_string()
    }

    /// Goes on to the next record. `last` says that the text at hand is the rest.
    pub fn next(&mut self, text: &[u8], last: bool) -> WalkStep {
        loop {
            if let Some(skim) = &mut self.skipping {
                match skim.run(text, self.at, last) {
                    Some(end) => {
                        self.at = end;
                        self.skipping = None;
                        self.wants = Wants::Next;
                    }
                    None if last => {
                        return WalkStep::Broken(text.len(), "the file ends within a value".into());
                    }
                    None => {
                        self.at = text.len();
                        return WalkStep::NeedsMore;
                    }
                }
            }
            self.at += blanks(&text[self.at..]);
            let Some(&byte) = text.get(self.at) else {
                return match (last, self.levels.is_empty() && self.wants != Wants::First) {
                    (true, true) => WalkStep::End,
                    (true, false) => {
                        WalkStep::Broken(text.len(), "the file ends before its brackets are closed".into())
                    }
                    (false, _) => WalkStep::NeedsMore,
                };
            };
            let step = match self.wants {
                Wants::Value => self.value(text, byte, last),
                Wants::First | Wants::Next => self.between(text, byte, last),
            };
            if let Some(found) = step {
                return found;
            }
        }
    }

    /// At the first byte of a value.
    fn value(&mut self, text: &[u8], byte: u8, last: bool) -> Option<WalkStep> {
        let depth = self.levels.len();
        if depth == self.path.steps.len() {
            let end = match Skim::default().run(text, self.at, last) {
                Some(end) => end,
                None if last => {
                    return Some(WalkStep::Broken(text.len(), "the file ends within a record".into()));
                }
                None => return Some(WalkStep::NeedsMore),
            };
            let record = self.at..end;
            if record.is_empty() {
                let what = format!("a value is expected, not `{}`", (byte as char).escape_debug());
                return Some(WalkStep::Broken(self.at, what));
            }
            let key = self.levels.last().filter(|_| self.is_keyed()).map(|level| level.key_range.clone());
            self.at = end;
            self.wants = Wants::Next;
            return Some(WalkStep::Record(record, key));
        }
        let on_path = match &self.path.steps[depth] {
            Step::All => matches!(byte, b'{' | b'['),
            Step::Name(_) => byte == b'{',
            Step::Index(_) | Step::Slice(..) => byte == b'[',
        };
        if depth == 0 && self.documents > 0 && !on_path {
            let what =
                format!("the document is over, and `{}` stands behind it", (byte as char).escape_debug());
            return Some(WalkStep::Broken(self.at, what));
        }
        if on_path {
            self.levels.push(Level {
                is_object: byte == b'{',
                count: 0,
                key: String::new(),
                key_range: 0..0,
            });
            self.at += 1;
            self.wants = Wants::First;
        } else {
            self.skipping = Some(Skim::default());
        }
        None
    }

    /// After a bracket was opened, or after a value.
    fn between(&mut self, text: &[u8], byte: u8, last: bool) -> Option<WalkStep> {
        let Some(level) = self.levels.last_mut() else {
            // Documents stand one after another; a comma between them is forgiven.
            self.documents += 1;
            self.at += usize::from(byte == b',' || byte == 0x1E);
            self.wants = Wants::Value;
            return None;
        };
        let close = if level.is_object { b'}' } else { b']' };
        if byte == close {
            self.levels.pop();
            self.at += 1;
            self.wants = Wants::Next;
            return None;
        }
        let mut from = self.at;
        if self.wants == Wants::Next {
            if byte != b',' {
                let what = format!(
                    "a comma or `{}` is expected, not `{}`",
                    close as char,
                    (byte as char).escape_debug()
                );
                return Some(WalkStep::Broken(self.at, what));
            }
            from += 1;
            from += blanks(&text[from..]);
            if from >= text.len() {
                return (!last)
                    .then_some(WalkStep::NeedsMore)
                    .or(Some(WalkStep::Broken(from, "the file ends after a comma".into())));
            }
            if text[from] == close {
                // A comma before the closing bracket is forgiven.
                self.at = from;
                return None;
            }
        }
        if level.is_object {
            let (key, colon) = match key_at(text, from, last) {
                Ok(found) => found,
                Err(step) => return Some(step),
            };
            level.key = key_of(&text[key.clone()]);
            level.key_range = key;
            self.at = colon + 1;
        } else {
            self.at = from;
        }
        level.count += 1;
        self.wants = Wants::Value;
        if !self.is_wanted() {
            self.at += blanks(&text[self.at..]);
            self.skipping = Some(Skim::default());
        }
        None
    }

    /// Whether the element or member in hand is one that the path leads through.
    fn is_wanted(&self) -> bool {
        let depth = self.levels.len();
        let level = &self.levels[depth - 1];
        match &self.path.steps[depth - 1] {
            Step::All => true,
            Step::Name(name) => level.is_object && level.key == *name,
            Step::Index(index) => level.count == index + 1,
            Step::Slice(from, to) => level.count > *from && to.is_none_or(|to| level.count <= to),
        }
    }
}

/// Where a key stands, and the colon behind it.
fn key_at(text: &[u8], from: usize, last: bool) -> Result<(Range<usize>, usize), WalkStep> {
    let ends = |at: usize, what: &str| {
        if last { WalkStep::Broken(at, format!("the file ends {what} a key")) } else { WalkStep::NeedsMore }
    };
    let shown = |byte: u8| (byte as char).escape_debug().to_string();
    if text[from] != b'"' {
        let what = format!("a key in quotes is expected, not `{}`", shown(text[from]));
        return Err(WalkStep::Broken(from, what));
    }
    let end = Skim::default().run(text, from, false).ok_or_else(|| ends(text.len(), "within"))?;
    let colon = end + blanks(&text[end..]);
    match text.get(colon) {
        Some(b':') => Ok((from..end, colon)),
        Some(other) => Err(WalkStep::Broken(colon, format!("a colon is expected, not `{}`", shown(*other)))),
        None => Err(ends(colon, "after")),
    }
}

/// A key without its quotes and escapes.
pub fn key_of(quoted: &[u8]) -> String {
    serde_json::from_slice(quoted)
        .unwrap_or_else(|_| String::from_utf8_lossy(quoted).trim_matches('"').to_owned())
}

/// How many bytes of white space come first; the separator of RFC 7464 is one.
pub fn blanks(text: &[u8]) -> usize {
    text.iter().position(|b| !matches!(b, b' ' | b'\t' | b'\r' | b'\n' | 0x1E)).unwrap_or(text.len())
}

impl Skim {
    /// Where the value that begins at `from` (or was begun before) ends; `None` if the text does
    /// first. A value that is neither bracketed nor a string ends where a mark or a blank stands,
    /// or, with `last`, at the end.
    fn run(&mut self, text: &[u8], from: usize, last: bool) -> Option<usize> {
        let mut at = from;
        if !self.begun {
            at += blanks(text.get(at..)?);
            match *text.get(at)? {
                b'{' | b'[' | b'"' => self.begun = true,
                _ => {
                    let rest = &text[at..];
                    let end = rest
                        .iter()
                        .position(|b| matches!(b, b',' | b']' | b'}' | b' ' | b'\t' | b'\r' | b'\n' | b':'));
                    return end.map(|end| at + end).or(last.then_some(text.len()));
                }
            }
        }
        loop {
            if self.in_string {
                at += usize::from(std::mem::take(&mut self.escaped));
                loop {
                    at += memchr::memchr2(b'"', b'\\', text.get(at..)?)?;
                    if text[at] == b'"' {
                        break;
                    }
                    if at + 1 == text.len() {
                        self.escaped = true;
                        return None;
                    }
                    at += 2;
                }
                at += 1;
                self.in_string = false;
                if self.depth == 0 {
                    return Some(at);
                }
            }
            let rest = text.get(at..)?;
            at += rest.iter().position(|b| matches!(b, b'"' | b'{' | b'[' | b'}' | b']'))?;
            match text[at] {
                b'"' => self.in_string = true,
                b'{' | b'[' => self.depth += 1,
                _ => {
                    self.depth = self.depth.saturating_sub(1);
                    if self.depth == 0 {
                        return Some(at + 1);
                    }
                }
            }
            at += 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// Walks a text that comes so many bytes at a time, and gives the records or what broke.
    fn walk(path: &str, text: &str, step: usize) -> Result<Vec<String>, (usize, String)> {
        let mut walker = Walker::new(JsonPath::parse(path).expect("a path"));
        let (mut held, mut given, mut gone) = (Vec::new(), 0, 0);
        let mut records = Vec::new();
        loop {
            let more = text.len().min(given + step);
            held.extend_from_slice(&text.as_bytes()[given..more]);
            given = more;
            loop {
                match walker.next(&held, given == text.len()) {
                    WalkStep::Record(place, key) => {
                        let key = key.map(|key| String::from_utf8_lossy(&held[key]).into_owned() + ":");
                        let value = String::from_utf8_lossy(&held[place]).into_owned();
                        records.push(key.unwrap_or_default() + &value);
                    }
                    WalkStep::NeedsMore => break,
                    WalkStep::End => return Ok(records),
                    WalkStep::Broken(at, _) => return Err((gone + at, walker.place())),
                }
            }
            let done = walker.done_with();
            gone += done;
            held.drain(..done);
            walker.taken(done);
        }
    }

    const DEEP: &str = r#"{"meta":{"logs":[9],"a":"]}\""},"result":{"n":-1.5e3,"logs":[{"id":1,"t":"\\"},[2], "x\"]" ,null]},"z":[]}"#;

    #[rstest]
    #[case("$", "1 {\"a\":[1,{\"b\":\"}\"}]}\n[2]\"x\"", &["1", "{\"a\":[1,{\"b\":\"}\"}]}", "[2]", "\"x\""])]
    #[case("$[*]", "[1, {\"a\":2} ,[3]]", &["1", "{\"a\":2}", "[3]"])]
    #[case("$[*]", "[]", &[])]
    #[case("$[*]", "[1,]", &["1"])]
    #[case("$[*]", "[1][2]", &["1", "2"])]
    #[case("$[1]", "[1,[2,3],4]", &["[2,3]"])]
    #[case("$[1:3]", "[1,2,3,4]", &["2", "3"])]
    #[case("$.result.logs[*]", DEEP, &["{\"id\":1,\"t\":\"\\\\\"}", "[2]", "\"x\\\"]\"", "null"])]
    #[case("$.meta", DEEP, &["{\"logs\":[9],\"a\":\"]}\\\"\"}"])]
    #[case("$.nothing[*]", DEEP, &[])]
    #[case("$.*", "{\"a\":{\"n\":1},\"b\":{}}", &["\"a\":{\"n\":1}", "\"b\":{}"])]
    fn records_are_found_however_the_text_comes(
        #[case] path: &str,
        #[case] text: &str,
        #[case] expected: &[&str],
    ) {
        for step in (1..=9).chain([text.len()]) {
            assert_eq!(walk(path, text, step).expect("records"), expected, "{step} bytes at a time");
        }
    }

    #[rstest]
    #[case("$[*]", "[1 2]", 3, "$[0]")]
    #[case("$[*]", "[{\"a\":1}, {\"a\"", 14, "$[1]")]
    #[case("$.a[*]", "{\"a\":[1,2}", 9, "$.a[1]")]
    #[case("$.a[*]", "{\"a\" [1]}", 5, "$")]
    #[case("$[*]", "[1", 2, "$[0]")]
    #[case("$[*]", "[1] and more", 4, "$")]
    fn what_is_broken_is_told_with_its_place(
        #[case] path: &str,
        #[case] text: &str,
        #[case] at: usize,
        #[case] place: &str,
    ) {
        for step in (1..=9).chain([text.len()]) {
            let (found, told) = walk(path, text, step).expect_err("broken");
            assert_eq!((found, told.as_str()), (at, place), "{step} bytes at a time");
        }
    }
}
