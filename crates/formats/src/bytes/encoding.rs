//! Encodings: any text in, UTF-8 out.
//!
//! A file without a byte-order mark is taken to be ASCII until its first byte that is not:
//! only then is there anything to decide, and the text around that byte decides it.

use std::collections::VecDeque;
use std::io::Read;

use chardetng::{EncodingDetector, Iso2022JpDetection, Utf8Detection};
use encoding_rs::{Decoder, DecoderResult, UTF_8, UTF_16BE, UTF_16LE};

use super::code_page::{Candidate, CodePage, best_of};
use crate::error::ReadError;

/// An encoding, by the label of the WHATWG Encoding Standard, or a code page of DOS.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Encoding(Candidate);

impl Encoding {
    /// UTF-8.
    pub const UTF8: Encoding = Encoding(Candidate::Standard(UTF_8));

    /// The encoding of that name or label.
    pub fn named(label: &str) -> Result<Encoding, ReadError> {
        // The standard reads `iso-8859-1` as windows-1252, of which it is a part.
        let standard = match label.to_ascii_lowercase().as_str() {
            "macroman" | "mac-roman" | "mac_roman" => Some(encoding_rs::MACINTOSH),
            label => encoding_rs::Encoding::for_label(label.as_bytes()),
        };
        let page = || CodePage::named(label).map(Candidate::Page);
        let found = standard.map(Candidate::Standard).or_else(page);
        found.map(Encoding).ok_or_else(|| ReadError::Encoding(label.to_owned()))
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self.0 {
            Candidate::Standard(encoding) => encoding.name(),
            Candidate::Page(page) => page.name,
        }
    }

    fn state(self) -> State {
        match self.0 {
            Candidate::Standard(encoding) if encoding == UTF_8 => State::Utf8,
            Candidate::Standard(encoding) => {
                State::Other(Box::new(encoding.new_decoder_without_bom_handling()))
            }
            Candidate::Page(page) => State::Page(page),
        }
    }
}

/// How much text around the first byte beyond ASCII is looked at.
const LOOK: usize = 64 * 1024;

/// How much is read at a time that has to be looked at or decoded, in bytes.
const RAW: usize = 256 * 1024;

enum State {
    /// Nothing but ASCII so far.
    Ascii,
    /// UTF-8: bytes go through as they are, and records are checked later.
    Utf8,
    Other(Box<Decoder>),
    Page(&'static CodePage),
}

/// Text in UTF-8 from bytes in any encoding.
pub struct Utf8Source<'a> {
    reader: Box<dyn Read + Send + 'a>,
    state: State,
    encoding: Encoding,
    marked: bool,
    /// Bytes read and not yet decoded.
    raw: Vec<u8>,
    ended: bool,
    /// Bytes of the file decoded so far, and bytes of text they gave.
    decoded: u64,
    given: u64,
    /// Where the text was broken: place in the text, place in the file.
    breaks: VecDeque<(u64, u64)>,
}

impl<'a> Utf8Source<'a> {
    /// A source of text. `wished` overrules what the bytes suggest.
    pub fn new(
        mut reader: Box<dyn Read + Send + 'a>,
        wished: Option<Encoding>,
    ) -> Result<Utf8Source<'a>, ReadError> {
        let mut raw = Vec::new();
        read_some(&mut reader, &mut raw, 4096)?;
        let marked = encoding_rs::Encoding::for_bom(&raw);
        let standard = |encoding| Encoding(Candidate::Standard(encoding));
        let found = wished
            .or(marked.map(|(encoding, _)| standard(encoding)))
            .or_else(|| unmarked_utf16(&raw).map(standard));
        let skip = marked.map_or(0, |(_, length)| length);
        raw.drain(..skip);
        let state = found.map_or(State::Ascii, Encoding::state);
        Ok(Utf8Source {
            reader,
            state,
            encoding: found.unwrap_or(Encoding::UTF8),
            marked: marked.is_some(),
            raw,
            ended: false,
            decoded: skip as u64,
            given: 0,
            breaks: VecDeque::new(),
        })
    }

    /// The encoding, as far as it is known by now.
    pub fn encoding(&self) -> Encoding {
        self.encoding
    }

    /// Whether the file begins with a byte-order mark.
    pub fn has_mark(&self) -> bool {
        self.marked
    }

    /// Whether records have to be checked for bytes that are not UTF-8.
    pub fn wants_check(&self) -> bool {
        matches!(self.state, State::Ascii | State::Utf8)
    }

    /// Where in the file the text begins: behind a byte-order mark.
    pub fn start(&self) -> u64 {
        if self.marked && self.wants_check() { 3 } else { 0 }
    }

    /// The next place where bytes were no text, before `until` in the text: its place in the
    /// text and in the file.
    pub fn next_break(&mut self, until: u64) -> Option<(u64, u64)> {
        self.breaks.pop_front_if(|(at, _)| *at < until)
    }

    /// Adds about `want` bytes of text to `out`; `false` at the end.
    pub fn read_into(&mut self, out: &mut Vec<u8>, want: usize) -> Result<bool, ReadError> {
        let goal = out.len() + want;
        while out.len() < goal {
            if self.raw.is_empty() && !self.ended {
                match self.state {
                    State::Ascii | State::Other(_) | State::Page(_) => {
                        self.ended =
                            !read_some(&mut self.reader, &mut self.raw, (goal - out.len()).clamp(4096, RAW))?;
                    }
                    State::Utf8 => {
                        let count = out.len();
                        self.ended = !read_some(&mut self.reader, out, goal - count)?;
                        self.given += (out.len() - count) as u64;
                        continue;
                    }
                }
            }
            if self.raw.is_empty() && self.ended && !matches!(self.state, State::Other(_)) {
                return Ok(false);
            }
            match &mut self.state {
                State::Ascii => self.pass_ascii(out)?,
                State::Utf8 => {
                    self.given += self.raw.len() as u64;
                    out.append(&mut self.raw);
                }
                State::Page(page) => {
                    let (page, mut utf8) = (*page, [0; 4]);
                    let before = out.len();
                    for byte in self.raw.drain(..) {
                        out.extend_from_slice(page.character(byte).encode_utf8(&mut utf8).as_bytes());
                        self.decoded += 1;
                    }
                    self.given += (out.len() - before) as u64;
                }
                State::Other(_) => {
                    if self.decode(out) {
                        return Ok(false);
                    }
                }
            }
        }
        Ok(true)
    }

    fn pass_ascii(&mut self, out: &mut Vec<u8>) -> Result<(), ReadError> {
        let ascii = encoding_rs::Encoding::ascii_valid_up_to(&self.raw);
        out.extend_from_slice(&self.raw[..ascii]);
        self.given += ascii as u64;
        self.decoded += ascii as u64;
        self.raw.drain(..ascii);
        if self.raw.is_empty() {
            return Ok(());
        }
        let missing = LOOK.saturating_sub(self.raw.len());
        if missing > 0 && !self.ended {
            self.ended = !read_some(&mut self.reader, &mut self.raw, missing)?;
        }
        self.encoding = Encoding(guess(&self.raw, self.ended));
        self.state = self.encoding.state();
        Ok(())
    }

    /// Decodes what was read; `true` when there is no more.
    fn decode(&mut self, out: &mut Vec<u8>) -> bool {
        let State::Other(decoder) = &mut self.state else { return false };
        let before = out.len();
        let room = decoder.max_utf8_buffer_length_without_replacement(self.raw.len()).unwrap_or(1 << 20) + 16;
        out.resize(before + room, 0);
        let (result, read, written) =
            decoder.decode_to_utf8_without_replacement(&self.raw, &mut out[before..], self.ended);
        out.truncate(before + written);
        self.raw.drain(..read);
        self.decoded += read as u64;
        self.given += written as u64;
        match result {
            DecoderResult::InputEmpty => self.ended,
            DecoderResult::OutputFull => false,
            DecoderResult::Malformed(length, after) => {
                let at = self.decoded - length as u64 - after as u64;
                self.breaks.push_back((self.given, at));
                out.extend_from_slice("\u{FFFD}".as_bytes());
                self.given += 3;
                false
            }
        }
    }
}

/// So much of a file is read first.
const FIRST_READ: usize = 16 * 1024;

/// Reads about `want` bytes more; `false` at the end.
fn read_some(reader: &mut dyn Read, out: &mut Vec<u8>, want: usize) -> Result<bool, ReadError> {
    let start = out.len();
    let mut filled = 0;
    // Most files are small: there is no room made at their beginning that they do not need.
    let mut room = if start == 0 { want.min(FIRST_READ) } else { want };
    let result = loop {
        if filled == want {
            break Ok(true);
        }
        if filled == room {
            room = want;
        }
        out.resize(start + room, 0);
        match reader.read(&mut out[start + filled..]) {
            Ok(0) => break Ok(false),
            Ok(count) => filled += count,
            Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
            Err(error) => break Err(ReadError::from_io(error)),
        }
    };
    out.truncate(start + filled);
    result
}

/// UTF-16 without a mark: every other byte is zero in text of Western languages.
fn unmarked_utf16(head: &[u8]) -> Option<&'static encoding_rs::Encoding> {
    let pairs = head.len() / 2;
    if pairs < 2 {
        return None;
    }
    let zeros = |odd: usize| head.iter().skip(odd).step_by(2).take(pairs).filter(|b| **b == 0).count();
    let (even, odd) = (zeros(0), zeros(1));
    if odd * 10 > pairs * 7 && even * 20 < pairs {
        Some(UTF_16LE)
    } else if even * 10 > pairs * 7 && odd * 20 < pairs {
        Some(UTF_16BE)
    } else {
        None
    }
}

/// Decides an encoding by text that begins with a byte beyond ASCII.
fn guess(text: &[u8], whole: bool) -> Candidate {
    let (good, bad) = utf8_sequences(text, whole);
    // In other encodings bytes hardly ever line up to UTF-8 by chance.
    if good >= bad {
        return Candidate::Standard(UTF_8);
    }
    if text.windows(2).any(|pair| pair[0] == 0xA4 && pair[1].is_ascii_digit())
        && !text.iter().any(|b| (0x80..0xA0).contains(b))
    {
        // A euro sign before a number, and none of what sets windows-1252 apart.
        return Candidate::Standard(encoding_rs::ISO_8859_15);
    }
    let mut detector = EncodingDetector::new(Iso2022JpDetection::Deny);
    detector.feed(text, whole);
    let likely = detector.guess(None, Utf8Detection::Deny);
    // Western and Central European text may come from DOS or an old Mac, which the detector does not know.
    let is_latin = [
        encoding_rs::WINDOWS_1252,
        encoding_rs::WINDOWS_1250,
        encoding_rs::WINDOWS_1254,
        encoding_rs::WINDOWS_1257,
        encoding_rs::ISO_8859_2,
        encoding_rs::ISO_8859_4,
    ];
    if is_latin.contains(&likely) { best_of(text, likely) } else { Candidate::Standard(likely) }
}

/// How many sequences beyond ASCII are well-formed UTF-8, and how many bytes are not.
fn utf8_sequences(text: &[u8], whole: bool) -> (usize, usize) {
    let (mut good, mut bad) = (0, 0);
    for chunk in text.utf8_chunks() {
        good += chunk.valid().chars().filter(|c| !c.is_ascii()).count();
        bad += !chunk.invalid().is_empty() as usize;
    }
    let cut = !whole && text.utf8_chunks().last().is_some_and(|last| !last.invalid().is_empty());
    (good, bad - cut as usize)
}
