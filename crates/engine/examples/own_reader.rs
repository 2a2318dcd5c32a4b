//! A format of one's own: a logbook of `name=value` pairs, loaded beside CSV by one feed.

use std::error::Error;
use std::io::Read;

use hypodoke_core::record::{Field, Records};
use hypodoke_engine::prelude::*;
use hypodoke_formats::bytes::Encoding;
use hypodoke_formats::{ByteSource, FormatFacts, ReadError, RecordReader, TableHead};

/// `berth=N1 draught=7.5`, a line for each entry, under a mark.
#[derive(Debug)]
struct Logbook;

const MARK: &str = "LOGBOOK 1\n";

impl Format for Logbook {
    fn name(&self) -> &str {
        "a logbook"
    }

    fn recognises(&self, head: &[u8], _: &str) -> bool {
        head.starts_with(MARK.as_bytes())
    }

    fn open<'a>(&self, bytes: ByteSource<'a>) -> Result<Box<dyn RecordReader + 'a>, ReadError> {
        let mut text = String::new();
        bytes.into_stream().read_to_string(&mut text).map_err(ReadError::Io)?;
        let names =
            text.lines().nth(1).unwrap_or_default().split(' ').filter_map(|pair| pair.split_once('='));
        let names = names.map(|(name, _)| name.to_owned()).collect();
        Ok(Box::new(Entries { text, is_read: false, tables: [TableHead { names, ..TableHead::default() }] }))
    }
}

struct Entries {
    text: String,
    is_read: bool,
    tables: [TableHead; 1],
}

impl RecordReader for Entries {
    fn tables(&self) -> &[TableHead] {
        &self.tables
    }

    fn next(&mut self, batch: &mut Vec<Records>) -> Result<bool, ReadError> {
        batch.resize_with(1, Records::default);
        let [records, ..] = &mut batch[..] else { return Ok(false) };
        records.clear();
        for (line, text) in (1..).zip(self.text.lines()).skip(1).take_while(|_| !self.is_read) {
            let start = records.bytes.len();
            for name in &self.tables[0].names {
                let value =
                    text.split(' ').find_map(|pair| pair.strip_prefix(name.as_str())?.strip_prefix('='));
                let from = records.bytes.len();
                records.bytes.extend_from_slice(value.unwrap_or_default().as_bytes());
                records.push_field(Field::new(from..records.bytes.len(), false));
            }
            records.end_record(start..records.bytes.len(), line);
        }
        Ok(!std::mem::replace(&mut self.is_read, true))
    }

    fn facts(&self) -> FormatFacts {
        FormatFacts { family: "text", kind: "logbook".into(), ..FormatFacts::default() }
    }

    fn encoding(&self) -> Option<Encoding> {
        None
    }

    fn kind(&self) -> String {
        "logbook".to_owned()
    }
}

fn main() -> Result<(), Box<dyn Error>> {
    let harbour = tempfile::tempdir()?;
    std::fs::write(harbour.path().join("a.csv"), "berth,draught\nN1,7.5\n")?;
    std::fs::write(
        harbour.path().join("b.log"),
        format!("{MARK}berth=S1 draught=6.25\nberth=S2 draught=9.0\n"),
    )?;
    let mut options = FormatOptions::default();
    options.others.add(Logbook);
    let job = Job::builder("sqlite:quillane.db")
        .relative_to(harbour.path())
        .place(Place::folder("quay", harbour.path()))
        .feed("quay", "?.*", Feed::new("berths").written(options))
        .build()?;
    let mut store = open(&job.staging)?;
    let report = load_new(&job, store.as_mut(), RunOptions::new(&Silent))?;
    for line in &report.receipt.files {
        println!(
            "{}: {:?}, {} rows, {}",
            line.path,
            line.outcome,
            line.rows_loaded,
            line.kind.as_deref().unwrap_or("")
        );
    }
    assert_eq!(report.receipt.totals.rows_loaded, 3);
    assert_eq!(store.first_rows("berths", 9)?.rows[2][0].as_deref(), Some("S2"));
    Ok(())
}

#[test]
fn it_runs() {
    main().expect("the example runs");
}
