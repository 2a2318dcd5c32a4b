//! Batches of sparse files: of cells (records times columns) a batch holds only so many, and all batches together hold
//! what the file holds, in its order.

use hypodoke_core::record::Records;
use hypodoke_formats::json::{JsonFile, JsonOptions, JsonReader};
use hypodoke_formats::reader::MOST_CELLS;
use hypodoke_formats::text::{FixedField, TextOptions, TextReader};
use hypodoke_formats::{ReadError, RecordReader};
use rstest::rstest;

/// How many short lines a full batch still takes, so that a footer is not split between two batches.
const FOOTER: usize = 200;

/// The records of a table: of each its line, its values that are there, and how many fields it has.
type Found = Vec<(u64, Vec<String>, usize)>;

fn values(records: &Records, at: usize) -> Vec<String> {
    let fields = records.fields(at).iter().map(|field| records.value(*field));
    fields
        .filter(|value| !value.is_empty())
        .map(|value| String::from_utf8_lossy(value).into_owned())
        .collect()
}

/// Reads all tables of a file; every batch is within its bound, but for the rows of one record.
fn read_all(reader: &mut dyn RecordReader, one_record: usize) -> Result<Vec<Found>, ReadError> {
    let (mut all, mut batch) = (Vec::new(), Vec::new());
    while reader.next(&mut batch)? {
        let cells: usize = batch.iter().map(Records::field_count).sum();
        assert!(cells < MOST_CELLS + one_record, "{cells} cells in a batch");
        all.resize_with(batch.len(), Found::new);
        for (found, records) in all.iter_mut().zip(&batch) {
            found.extend(
                (0..records.len())
                    .map(|at| (records.line(at), values(records, at), records.fields(at).len())),
            );
        }
    }
    Ok(all)
}

fn json<'a>(text: &'a str, name: &str) -> JsonReader<'a> {
    let about = JsonFile { name, encoding: None, max_record: Some(1 << 20), known: &[] };
    JsonReader::open(Box::new(text.as_bytes()), &JsonOptions::default(), &about).expect("it opens")
}

#[rstest]
#[case::lines("a.jsonl", "", "\n", "\n")]
#[case::list("a.json", "[", ",\n", "]")]
#[case::under_keys("a.json", "{\"rows\":[", ",", "]}")]
fn records_of_few_keys_come_in_their_order(
    #[case] name: &str,
    #[case] begin: &str,
    #[case] between: &str,
    #[case] end: &str,
) {
    let records: Vec<String> =
        (0..20_000).map(|at| format!("{{\"k{}\":{at},\"z\":\"q\\\"\"}}", at % 150)).collect();
    let text = format!("{begin}{}{end}", records.join(between));
    let mut reader = json(&text, name);
    let found = read_all(&mut reader, 151).expect("records").remove(0);
    assert_eq!(found.len(), 20_000);
    for (at, (place, values, _)) in found.iter().enumerate() {
        let mut expected = [at.to_string(), "q\"".to_owned()];
        let mut values = values.clone();
        expected.sort();
        values.sort();
        assert_eq!((*place, values.as_slice()), (at as u64 + 1, expected.as_slice()), "record {at}");
    }
    assert!(reader.notes().iter().all(|note| !note.contains("twice")), "{:?}", reader.notes());
}

/// Objects under keys that are data: each keeps its own key.
#[test]
fn records_under_keys_keep_their_keys() {
    let records: Vec<String> =
        (0..20_000).map(|at| format!("\"r{at}\" : {{\"k{}\":{at},\"z\":1}}", at % 150)).collect();
    let text = format!("{{{}}}", records.join(",\n"));
    let found = read_all(&mut json(&text, "a.json"), 152).expect("records").remove(0);
    assert_eq!(found.len(), 20_000);
    for (at, (_, values, _)) in found.iter().enumerate() {
        let mut values = values.clone();
        values.sort();
        let mut expected = [format!("r{at}"), at.to_string(), "1".to_owned()];
        expected.sort();
        assert_eq!(values, expected, "record {at}");
    }
}

#[test]
fn rows_of_lists_stay_with_their_records() {
    let list = |at: usize| {
        (0..20).map(|k| format!("{{\"k{}\":{at}}}", (at + k) % 300)).collect::<Vec<_>>().join(",")
    };
    let text: String = (0..2_000).map(|at| format!("{{\"id\":{at},\"l\":[{}]}}\n", list(at))).collect();
    let mut reader = json(&text, "a.jsonl");
    let (mut rows, mut batch) = (0, Vec::new());
    while reader.next(&mut batch).expect("records") {
        let (main, lists) = (&batch[0], &batch[1]);
        assert!(lists.links().is_sorted_by_key(|link| link.row));
        for (at, link) in lists.links().iter().enumerate() {
            let id = values(main, link.owner as usize).remove(0);
            assert_eq!(values(lists, at), [id]);
            rows += 1;
        }
    }
    assert_eq!(rows, 40_000);
}

#[rstest]
#[case::many_columns(1_500, 600_000, true)]
#[case::few_columns(400, 600_000, false)]
#[case::few_records(1_500, 500, false)]
fn keys_are_data_where_there_are_many_and_records_have_few(
    #[case] keys: usize,
    #[case] records: usize,
    #[case] are_data: bool,
) {
    let records = records.min(8_000);
    let text: String = (0..records).map(|at| format!("{{\"k{}\":1,\"z\":2}}\n", at % keys)).collect();
    let read = read_all(&mut json(&text, "a.jsonl"), keys + 1);
    assert_eq!(matches!(read, Err(ReadError::KeysAreData { .. })), are_data, "{read:?}");
}

/// A wide table whose records fill most of their columns is a table.
#[test]
fn wide_records_that_are_full_are_no_data() {
    let record: Vec<String> = (0..1_200).map(|at| format!("\"k{at}\":{at}")).collect();
    let text = format!("{{{}}}\n", record.join(",")).repeat(1_000);
    assert_eq!(read_all(&mut json(&text, "a.jsonl"), 1_200).expect("records")[0].len(), 1_000);
}

#[rstest]
#[case::commas(',', "\n")]
#[case::semicolons(';', "\r\n")]
fn rows_that_end_early_come_in_their_order(#[case] delimiter: char, #[case] end: &str) {
    let join = |all: Vec<String>| all.join(&delimiter.to_string());
    let mut text = join((0..500).map(|at| format!("c{at}")).collect()) + end;
    for at in 0..200 {
        let width = if at % 2 == 0 { 500 } else { 300 };
        text += &(join((0..width).map(|column| format!("{}", (at + column) % 10)).collect()) + end);
    }
    (0..20_000).for_each(|at| text += &format!("{at}{delimiter}\"x{at}\"{end}"));
    let mut reader = TextReader::open(Box::new(text.as_bytes()), &TextOptions::default()).expect("a text");
    let found = read_all(&mut reader, FOOTER * 500).expect("records").remove(0);
    assert_eq!(found.len(), 20_200);
    for (at, (line, values, width)) in found.iter().skip(200).enumerate() {
        assert_eq!((*line, *width), (at as u64 + 202, 500));
        assert_eq!(*values, [at.to_string(), format!("x{at}")]);
    }
}

#[test]
fn lines_of_fixed_width_that_are_short_come_in_their_order() {
    let fields = (0..1_000).map(|at| FixedField { name: format!("c{at}"), width: 6 }).collect();
    let text: String = (0..20_000).map(|at| format!("{at:<6}{:<3}\n", at % 7)).collect();
    let options = TextOptions { fields: Some(fields), ..TextOptions::default() };
    let mut reader = TextReader::open(Box::new(text.as_bytes()), &options).expect("a text");
    let found = read_all(&mut reader, FOOTER * 1_000).expect("records").remove(0);
    assert_eq!(found.len(), 20_000);
    for (at, (line, values, _)) in found.iter().enumerate() {
        assert_eq!(
            (*line, values.as_slice()),
            (at as u64 + 1, [at.to_string(), (at % 7).to_string()].as_slice())
        );
    }
}
