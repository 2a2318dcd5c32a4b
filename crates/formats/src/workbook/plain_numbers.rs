//! Sheets whose numbers the container library refuses, written in the way it takes: some programs put
//! blanks around a number, or say of a text that it is one. Spreadsheet programs read both.

use std::io::{Read, Seek, SeekFrom, Write};

use zip::write::SimpleFileOptions;
use zip::{ZipArchive, ZipWriter};

use crate::bytes::SeekableBytes;
use crate::error::ReadError;

fn broken(error: impl std::fmt::Display) -> ReadError {
    ReadError::Workbook(error.to_string())
}

/// A copy of a workbook in which no blanks stand around values, and no cell says that it is a number:
/// that is seen without it.
pub fn copy(bytes: &SeekableBytes) -> Result<SeekableBytes, ReadError> {
    let mut archive = ZipArchive::new(bytes.reader()).map_err(broken)?;
    let mut copy = ZipWriter::new(tempfile::tempfile().map_err(ReadError::from_io)?);
    for index in 0..archive.len() {
        let mut member = archive.by_index(index).map_err(broken)?;
        let name = member.name().map_err(broken)?.into_owned();
        if !name.starts_with("xl/worksheets/") || !name.ends_with(".xml") {
            drop(member);
            copy.raw_copy_file(archive.by_index_raw(index).map_err(broken)?).map_err(broken)?;
            continue;
        }
        let mut sheet = Vec::new();
        member.read_to_end(&mut sheet).map_err(ReadError::from_io)?;
        copy.start_file(name, SimpleFileOptions::default()).map_err(broken)?;
        copy.write_all(&plain(&sheet)).map_err(ReadError::from_io)?;
    }
    let mut file = copy.finish().map_err(broken)?;
    file.seek(SeekFrom::Start(0)).map_err(ReadError::from_io)?;
    SeekableBytes::of_file(file)
}

/// The XML of a sheet with its values trimmed, and without `t="n"`.
fn plain(sheet: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(sheet.len());
    let mut rest = sheet;
    while let Some(open) = memchr::memchr(b'<', rest) {
        let (before, tag) = rest.split_at(open);
        out.extend_from_slice(before);
        let Some(close) = memchr::memchr(b'>', tag) else {
            rest = tag;
            break;
        };
        let (tag, behind) = tag.split_at(close + 1);
        rest = behind;
        match tag {
            [b'<', b'c', b' ', ..] => out.extend_from_slice(&without_number_type(tag)),
            [b'<', b'v', b'>' | b' ', ..] if !tag.ends_with(b"/>") => {
                out.extend_from_slice(tag);
                let end = memchr::memmem::find(rest, b"</v>").unwrap_or(rest.len());
                let (value, behind) = rest.split_at(end);
                out.extend_from_slice(value.trim_ascii());
                rest = behind;
            }
            _ => out.extend_from_slice(tag),
        }
    }
    out.extend_from_slice(rest);
    out
}

fn without_number_type(tag: &[u8]) -> Vec<u8> {
    for mark in [&b" t=\"n\""[..], b" t='n'"] {
        if let Some(at) = memchr::memmem::find(tag, mark) {
            return [&tag[..at], &tag[at + mark.len()..]].concat();
        }
    }
    tag.to_vec()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("<c r=\"A1\" t=\"n\"><v> 12\n</v></c>", "<c r=\"A1\"><v>12</v></c>")]
    #[case("<c r=\"A1\" s='1' t='n'><v>x</v></c>", "<c r=\"A1\" s='1'><v>x</v></c>")]
    #[case("<c t=\"s\"><v>0</v></c><cols/><v/>", "<c t=\"s\"><v>0</v></c><cols/><v/>")]
    #[case("<row><is><t> a </t></is></row", "<row><is><t> a </t></is></row")]
    fn values_are_trimmed_and_nothing_else(#[case] sheet: &str, #[case] expected: &str) {
        assert_eq!(String::from_utf8_lossy(&plain(sheet.as_bytes())), expected);
    }
}
