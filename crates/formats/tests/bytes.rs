//! Compression and encodings: whatever a file is packed and written in, the same text comes out.

use std::io::{Read, Write};

use hypodoke_formats::ReadError;
use hypodoke_formats::bytes::{Compression, Encoding, ExpansionLimit, Utf8Source};
use proptest::prelude::*;
use rstest::rstest;

const TEXT: &str = "nr;straße;größe\n1;Müwenweg;3,5\n2;Süderkai;4,25\n3;Hafenstraße;5\n";

fn packed(compression: Compression, bytes: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    match compression {
        Compression::Gzip => {
            let mut writer = flate2::write::GzEncoder::new(&mut out, flate2::Compression::fast());
            writer.write_all(bytes).expect("packed");
            writer.finish().expect("packed");
        }
        Compression::Zstd => out = zstd::encode_all(bytes, 1).expect("packed"),
        Compression::Bzip2 => {
            let mut writer = bzip2::write::BzEncoder::new(&mut out, bzip2::Compression::fast());
            writer.write_all(bytes).expect("packed");
            writer.finish().expect("packed");
        }
        Compression::Xz => {
            let mut writer = liblzma::write::XzEncoder::new(&mut out, 1);
            writer.write_all(bytes).expect("packed");
            writer.finish().expect("packed");
        }
    }
    out
}

fn unpacked(compression: Compression, bytes: &[u8], limit: ExpansionLimit) -> Result<Vec<u8>, ReadError> {
    let mut out = Vec::new();
    compression.expand(bytes, limit)?.read_to_end(&mut out).map_err(ReadError::from_io)?;
    Ok(out)
}

#[rstest]
fn packed_files_are_told_by_content_and_read_to_their_last_member(
    #[values(Compression::Gzip, Compression::Zstd, Compression::Bzip2, Compression::Xz)]
    compression: Compression,
) {
    let mut bytes = packed(compression, TEXT.as_bytes());
    bytes.extend(packed(compression, b"4;Mole;6\n"));
    assert_eq!(Compression::of(&bytes), Some(compression));
    let text = unpacked(compression, &bytes, ExpansionLimit::default()).expect("text");
    assert_eq!(text, [TEXT.as_bytes(), b"4;Mole;6\n"].concat());
}

#[rstest]
fn a_file_cut_short_is_an_error_not_an_end(
    #[values(Compression::Gzip, Compression::Zstd, Compression::Bzip2, Compression::Xz)]
    compression: Compression,
) {
    let noise: Vec<u8> = (0..200_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    let bytes = packed(compression, &noise);
    let error = unpacked(compression, &bytes[..bytes.len() * 2 / 3], ExpansionLimit::default())
        .expect_err("an error");
    assert!(matches!(error, ReadError::Compressed { .. }), "{error:?}");
}

#[rstest]
fn what_expands_beyond_the_limit_is_stopped(
    #[values(Compression::Gzip, Compression::Zstd, Compression::Bzip2, Compression::Xz)]
    compression: Compression,
) {
    let bytes = packed(compression, &vec![b'0'; 4_000_000]);
    let limit = ExpansionLimit { ratio: 10, free: 100_000 };
    let error = unpacked(compression, &bytes, limit).expect_err("an error");
    assert!(matches!(error, ReadError::Expansion { ratio: 10, .. }), "{error:?}");
    assert!(unpacked(compression, &bytes, ExpansionLimit::default()).is_ok());
}

/// The text of a source read in pieces, its encoding, and where it was broken.
fn decoded(bytes: &[u8], wished: Option<&str>, piece: usize) -> (String, &'static str, Vec<(u64, u64)>) {
    let wished = wished.map(|label| Encoding::named(label).expect("an encoding"));
    let mut source = Utf8Source::new(Box::new(bytes), wished).expect("a source");
    let mut out = Vec::new();
    while source.read_into(&mut out, piece).expect("text") {}
    let breaks = std::iter::from_fn(|| source.next_break(u64::MAX)).collect();
    (String::from_utf8_lossy(&out).into_owned(), source.encoding().name(), breaks)
}

fn utf16(text: &str, unit: fn(u16) -> [u8; 2]) -> Vec<u8> {
    text.encode_utf16().flat_map(unit).collect()
}

#[rstest]
#[case(TEXT.as_bytes().to_vec(), "UTF-8")]
#[case([&b"\xef\xbb\xbf"[..], TEXT.as_bytes()].concat(), "UTF-8")]
#[case([b"\xff\xfe".to_vec(), utf16(TEXT, u16::to_le_bytes)].concat(), "UTF-16LE")]
#[case([b"\xfe\xff".to_vec(), utf16(TEXT, u16::to_be_bytes)].concat(), "UTF-16BE")]
#[case(utf16(TEXT, u16::to_le_bytes), "UTF-16LE")]
#[case(TEXT.chars().map(|c| c as u8).collect(), "windows-1252")]
fn encodings_are_told_by_their_bytes(#[case] bytes: Vec<u8>, #[case] name: &str) {
    for piece in [1, 7, 4096] {
        assert_eq!(decoded(&bytes, None, piece), (TEXT.to_owned(), name_of(name), Vec::new()));
    }
}

fn name_of(name: &str) -> &'static str {
    Encoding::named(name).expect("an encoding").name()
}

#[test]
fn a_wish_overrules_the_bytes() {
    assert_eq!(decoded(b"\xa4 5", Some("iso-8859-15"), 64).0, "€ 5");
    assert!(Encoding::named("klingon").is_err());
}

#[test]
fn a_break_is_named_by_its_place_in_the_file() {
    let mut bytes = [b"\xff\xfe".to_vec(), utf16("ab", u16::to_le_bytes)].concat();
    bytes.extend(0xD83Du16.to_le_bytes());
    bytes.extend(utf16("cd", u16::to_le_bytes));
    let (text, _, breaks) = decoded(&bytes, None, 64);
    assert_eq!((text.as_str(), breaks), ("ab\u{fffd}cd", vec![(2, 6)]));
}

proptest! {
    #[test]
    fn text_comes_out_as_it_went_in(text in "[a-zäöü€,;\n]{0,300}", piece in 1usize..50) {
        prop_assert_eq!(decoded(text.as_bytes(), Some("utf-8"), piece).0, text.clone());
        let marked = [b"\xff\xfe".to_vec(), utf16(&text, u16::to_le_bytes)].concat();
        prop_assert_eq!(decoded(&marked, None, piece).0, text);
    }
}
