//! Batches come to the store in the order of the file, however many threads cast.

use hypodoke_core::cast::{Caster, Demand, Source, Target};
use hypodoke_core::record::{Field, Records};
use hypodoke_core::types::Type;
use hypodoke_formats::bytes::Encoding;
use hypodoke_formats::{FormatFacts, ReadError, RecordReader, TableHead};
use hypodoke_stores::{FileSummary, Finished, StoreError, Writer};
use rstest::rstest;

use super::*;

/// A file of so many batches, each of ten records with a number; one of them fails to read, if that is said.
struct Numbers {
    heads: Vec<TableHead>,
    batches: u64,
    next: u64,
    fails_at: Option<u64>,
}

impl RecordReader for Numbers {
    fn tables(&self) -> &[TableHead] {
        &self.heads
    }

    fn next(&mut self, batch: &mut Vec<Records>) -> Result<bool, ReadError> {
        batch.resize_with(1, Records::default);
        batch[0].clear();
        if self.next == self.batches {
            return Ok(false);
        }
        if self.fails_at == Some(self.next) {
            return Err(ReadError::Empty);
        }
        for record in 0..10 {
            let number = self.next * 10 + record;
            // Every seventh is no number, and a reject.
            let text = if number.is_multiple_of(7) { "x".to_owned() } else { number.to_string() };
            let start = batch[0].bytes.len();
            batch[0].bytes.extend_from_slice(text.as_bytes());
            batch[0].push_field(Field::new(start..start + text.len(), false));
            batch[0].end_record(start..start + text.len(), number);
        }
        self.next += 1;
        Ok(true)
    }

    fn facts(&self) -> FormatFacts {
        FormatFacts::default()
    }

    fn encoding(&self) -> Option<Encoding> {
        None
    }

    fn kind(&self) -> String {
        String::new()
    }
}

#[derive(Default)]
struct Lines {
    lines: Vec<u64>,
    rejected: Vec<u64>,
}

impl Writer for Lines {
    fn write(&mut self, _: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        self.lines.extend((0..rows.len()).map(|at| rows.line(at)));
        self.rejected.extend(rows.rejects.iter().map(|reject| reject.line));
        Ok(rows.len() as u64)
    }

    fn commit(self: Box<Self>, _: &FileSummary) -> Result<Finished, StoreError> {
        Ok(Finished::default())
    }
}

fn caster(demand: Demand) -> Caster {
    let target = Target {
        source_name: "n".to_owned(),
        ty: Type::Integer,
        digits: Default::default(),
        source: Source::Field(0),
        day: None,
        fraction: None,
        format: Default::default(),
        also_null: Vec::new(),
        strings_are_text: false,
        pinned: true,
        required: false,
        limit: None,
        trim: false,
        default: None,
        demand,
    };
    Caster::new(vec![target], 1)
}

fn run_by(
    threads: usize,
    demand: Demand,
    fails_at: Option<u64>,
) -> (Result<PipelineResult, Interrupted>, Lines) {
    let heads = vec![TableHead { names: vec!["n".to_owned()], ..TableHead::default() }];
    let mut reader = Numbers { heads: heads.clone(), batches: 100, next: 0, fails_at };
    let refused = RefusedRecords::new();
    let stages = Stages {
        casters: vec![caster(demand)],
        heads,
        keys: Vec::new(),
        sums: vec![vec![0]],
        order: Some(0),
        refused: &refused,
        stops_at_surprise: false,
        is_refuted: &|| false,
        locate: &|_, _, _| {},
    };
    let mut lines = Lines::default();
    let result = run_overlapped(&mut Portions::new(&mut reader, vec![1]), stages, &mut lines, threads);
    (result, lines)
}

#[rstest]
fn the_order_of_the_file_is_kept_whoever_casts(#[values(1, 2, 3, 4)] threads: usize) {
    let (result, lines) = run_by(threads, Demand::default(), None);
    let result = result.expect("all is read");
    let (bad, good): (Vec<u64>, Vec<u64>) = (0..1000).partition(|number: &u64| number.is_multiple_of(7));
    assert_eq!((lines.lines, lines.rejected), (good.clone(), bad.clone()));
    let table = &result.tables[0];
    assert_eq!((table.read, table.loaded, result.rejected), (1000, good.len() as u64, bad.len() as u64));
    assert_eq!(table.sums, [good.iter().map(|number| i128::from(*number)).sum::<i128>()]);
    assert_eq!(table.digits[0].int, 3);
}

/// Each value once: that is asked of all records before, and one thread casts.
#[test]
fn what_depends_on_the_records_before_is_cast_by_one() {
    let demand = Demand { unique: true, ..Demand::default() };
    assert!(caster(demand).fork().is_none() && caster(Demand::default()).fork().is_some());
}

#[rstest]
fn what_cannot_be_read_ends_it_behind_what_was(#[values(1, 3)] threads: usize) {
    let (result, lines) = run_by(threads, Demand::default(), Some(42));
    assert!(matches!(result, Err(Interrupted::Read(ReadError::Empty))));
    assert_eq!(lines.lines.len() + lines.rejected.len(), 420);
}
