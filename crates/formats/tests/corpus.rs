//! A corpus of small files, each with one trouble and its expected answer beside it, and a
//! grid of generated ones. The score is printed; every case has to be right.

use std::path::Path;

use hypodoke_core::evidence::{Hints, TableEvidence, decide_all};
use hypodoke_core::record::Records;
use hypodoke_formats::RecordReader;
use hypodoke_formats::text::{Delimiter, Escape, TextOptions, TextReader};
use serde_json::Value;

/// What was found of a file.
#[derive(Debug)]
struct Found {
    delimiter: String,
    escape: &'static str,
    encoding: &'static str,
    header_lines: u64,
    skipped_lines: u64,
    footer_lines: u64,
    names: Vec<String>,
    rows: u64,
    types: Vec<String>,
}

fn look(bytes: &[u8]) -> Found {
    let mut reader = TextReader::open(Box::new(bytes), &TextOptions::default()).expect("a text");
    let mut evidence = TableEvidence::new(reader.tables()[0].names.len());
    let mut records = Records::default();
    while reader.next_records(&mut records).expect("records") {
        evidence.add(&records, 0);
    }
    let shape = reader.facts().text.expect("a text");
    let comma = shape.dialect.delimiter == Delimiter::Char(';');
    let decisions = decide_all(&evidence, Hints { likely_comma: Some(comma), ..Hints::default() }, &[], &[]);
    Found {
        delimiter: match shape.dialect.delimiter {
            Delimiter::Char(c) => c.to_string(),
            Delimiter::Several(marks) => marks.text().to_owned(),
            Delimiter::Blanks => "blanks".to_owned(),
        },
        escape: if shape.dialect.escape == Escape::Backslash { "backslash" } else { "doubled" },
        encoding: reader.encoding().map_or("", |encoding| encoding.name()),
        header_lines: shape.header_lines as u64,
        skipped_lines: shape.skipped_lines,
        footer_lines: shape.footer.len() as u64,
        names: shape.names,
        rows: evidence.rows,
        types: decisions.iter().map(|decision| decision.domain.ty().to_string()).collect(),
    }
}

/// The differences between what was expected and what was found, each with its kind.
fn differences(expected: &Value, found: &Found) -> Vec<(&'static str, String)> {
    let mut all = Vec::new();
    let mut check = |kind: &'static str, wanted: Option<String>, found: String| {
        if let Some(wanted) = wanted
            && wanted != found
        {
            all.push((kind, format!("{kind}: expected {wanted}, found {found}")));
        }
    };
    let number = |key: &str| expected[key].as_u64().map(|n| n.to_string());
    let text = |key: &str| expected[key].as_str().map(str::to_owned);
    let list = |key: &str| {
        let items = expected[key].as_array()?;
        Some(items.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(" "))
    };
    check("dialect", text("delimiter"), found.delimiter.clone());
    check("dialect", text("escape"), found.escape.to_owned());
    check("dialect", text("encoding"), found.encoding.to_owned());
    check("header", number("header_lines"), found.header_lines.to_string());
    check("header", number("skipped_lines"), found.skipped_lines.to_string());
    check("header", list("names"), found.names.join(" "));
    check("rows", number("footer_lines"), found.footer_lines.to_string());
    check("rows", number("rows"), found.rows.to_string());
    check("types", list("types"), found.types.join(" "));
    all
}

#[test]
fn every_file_of_the_corpus_is_understood() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus");
    let mut names: Vec<_> =
        std::fs::read_dir(folder).expect("the corpus").map(|entry| entry.expect("an entry").path()).collect();
    names.retain(|path| path.extension().is_some_and(|extension| extension == "json"));
    names.sort();
    let (mut wrong, mut lines) = (std::collections::BTreeMap::new(), Vec::new());
    for path in &names {
        let expected: Value = serde_json::from_slice(&std::fs::read(path).expect("an answer")).expect("JSON");
        let found = look(&std::fs::read(path.with_extension("txt")).expect("a file"));
        for (kind, line) in differences(&expected, &found) {
            *wrong.entry(kind).or_insert(0usize) += 1;
            lines.push(format!("{}: {line}", path.file_stem().unwrap_or_default().to_string_lossy()));
        }
    }
    for kind in ["dialect", "header", "rows", "types"] {
        println!("{kind}: {} of {} right", names.len() - wrong.get(kind).unwrap_or(&0), names.len());
    }
    assert!(names.len() >= 120, "only {} cases", names.len());
    assert!(lines.is_empty(), "\n{}", lines.join("\n"));
}

#[test]
fn a_grid_of_generated_files_is_understood() {
    let mut count = 0;
    for delimiter in [',', ';', '\t', '|'] {
        for newline in ["\n", "\r\n", "\r"] {
            for quoted in [false, true] {
                for encoding in ["utf-8", "utf-8-mark", "utf-16le", "windows-1252"] {
                    for preamble in [false, true] {
                        let bytes = generated(delimiter, newline, quoted, encoding, preamble);
                        let found = look(&bytes);
                        let shown = format!(
                            "{delimiter:?} {newline:?} quoted {quoted} {encoding} preamble {preamble}: {found:?}"
                        );
                        assert_eq!(found.delimiter, delimiter.to_string(), "{shown}");
                        assert_eq!((found.rows, found.header_lines), (30, 1), "{shown}");
                        assert_eq!(
                            found.types,
                            ["integer", "text", "decimal(4,2)", "timestamp", "boolean"],
                            "{shown}"
                        );
                        count += 1;
                    }
                }
            }
        }
    }
    println!("{count} generated files right");
}

fn generated(delimiter: char, newline: &str, quoted: bool, encoding: &str, preamble: bool) -> Vec<u8> {
    let mut text = String::new();
    if preamble {
        text.push_str(&format!("Hafen Quillane – Tagesbericht{newline}{newline}"));
    }
    let field = |value: String| if quoted { format!("\"{value}\"") } else { value };
    let mut line = |fields: [String; 5]| {
        text.push_str(&fields.map(field).join(&delimiter.to_string()));
        text.push_str(newline);
    };
    line(["nr", "straße", "tiefe", "zeit", "lotse"].map(str::to_owned));
    for row in 0..30 {
        line([
            row.to_string(),
            format!("Kai {} süd", row % 7),
            format!("{}.{:02}", row % 13, row * 7 % 100),
            format!("2026-03-{:02} {:02}:15:00", row + 1, row % 24),
            if row % 3 == 0 { "yes" } else { "no" }.to_owned(),
        ]);
    }
    match encoding {
        "utf-8-mark" => format!("\u{feff}{text}").into_bytes(),
        "utf-16le" => text.encode_utf16().flat_map(u16::to_le_bytes).collect(),
        "windows-1252" => text
            .chars()
            .map(|c| if c == '–' { 0x96 } else { u8::try_from(c as u32).unwrap_or(b'?') })
            .collect(),
        _ => text.into_bytes(),
    }
}
