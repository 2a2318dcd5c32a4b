//! Ordinary variation is quiet, and planted changes are found.

use rstest::rstest;

use super::*;
use crate::figures::ColumnFigures;
use crate::record::Cell;

/// Numbers that are the same in every run.
struct Random(u64);

impl Random {
    fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
    }

    /// About normal: the sum of twelve.
    fn normal(&mut self) -> f64 {
        (0..12).map(|_| self.next()).sum::<f64>() - 6.0
    }
}

/// What a column of made-up deliveries is like.
#[derive(Clone, Copy, Debug)]
enum Kind {
    /// Amounts over several powers of ten, with a season and growth.
    Amounts,
    /// Weights around a mean that follows the week.
    Weights,
    /// Few whole numbers, mostly 0.
    Tugs,
    /// Codes, one of them rare.
    Codes,
    /// Names, many.
    Names,
    /// Remarks: mostly null, and of any length.
    Remarks,
    /// Truth values, one in forty true.
    Flags,
}

const KINDS: [Kind; 7] =
    [Kind::Amounts, Kind::Weights, Kind::Tugs, Kind::Codes, Kind::Names, Kind::Remarks, Kind::Flags];

/// A day's column. `change` is made to each value, by its number.
fn day(
    kind: Kind,
    day: usize,
    rows: usize,
    random: &mut Random,
    change: &dyn Fn(usize, Value) -> Value,
) -> ColumnSummary {
    let mut figures = ColumnFigures::default();
    let season = (day as f64 / 7.0 * std::f64::consts::TAU).sin();
    for row in 0..rows {
        let value = match kind {
            Kind::Amounts => {
                let growth = 1.0 + 0.01 * day as f64;
                Value::Number((5.0 + 1.4 * random.normal() + 0.3 * season).exp() * growth)
            }
            Kind::Weights => Value::Number(800.0 + 100.0 * season + 200.0 * random.normal()),
            Kind::Tugs => Value::Number((random.next() * random.next() * 4.0).floor()),
            Kind::Codes => Value::Word(
                match random.next() {
                    x if x < 0.5 => "arrived",
                    x if x < 0.85 => "left",
                    x if x < 0.995 => "moored",
                    _ => "towed",
                }
                .to_owned(),
            ),
            Kind::Names => Value::Word(format!("ship {}", (random.next() * 300.0) as u32)),
            Kind::Remarks if random.next() < 0.9 => Value::Null,
            Kind::Remarks => Value::Word("x".repeat(1 + (random.next() * 60.0) as usize)),
            Kind::Flags => Value::Truth(random.next() < 0.025),
        };
        let value = change(row, value);
        match value {
            Value::Null => figures.add_all([Cell::Null].iter(), &[], &[]),
            Value::Number(number) => figures.add_all([Cell::Float(number)].iter(), &[], &[]),
            Value::Truth(truth) => figures.add_all([Cell::Boolean(truth)].iter(), &[], &[]),
            Value::Word(word) => {
                figures.add_all([Cell::text(0..word.len())].iter(), word.as_bytes(), &[]);
            }
        }
    }
    figures.summary()
}

#[derive(Clone, Debug)]
enum Value {
    Null,
    Number(f64),
    Word(String),
    Truth(bool),
}

fn as_it_is(_: usize, value: Value) -> Value {
    value
}

#[test]
fn ordinary_variation_is_quiet() {
    let (mut days, mut alarms) = (0, Vec::new());
    for seed in 0..40 {
        let mut random = Random(seed);
        // Deliveries of any size, which differ from day to day, weekends among them.
        let usual = [15, 40, 200, 1000][seed as usize % 4];
        for kind in KINDS {
            let mut before: Vec<ColumnSummary> = Vec::new();
            for at in 0..30 {
                let weekend = if at % 7 > 4 { 0.4 } else { 1.0 };
                let rows = (f64::from(usual) * weekend * (0.8 + 0.4 * random.next())) as usize;
                let now = day(kind, at, rows, &mut random, &as_it_is);
                let known: Vec<&ColumnSummary> = before.iter().rev().collect();
                alarms.extend(both(&now, &known).into_iter().map(|one| format!("{kind:?} {usual}: {one}")));
                before.push(now);
                days += 1;
            }
        }
    }
    assert!(alarms.len() * 1000 <= days, "{} of {days}: {alarms:#?}", alarms.len());
}

fn times(factor: f64) -> impl Fn(usize, Value) -> Value {
    move |_, value| match value {
        Value::Number(number) => Value::Number(number * factor),
        other => other,
    }
}

fn null_in(share: usize) -> impl Fn(usize, Value) -> Value {
    move |row, value| if row % 100 < share { Value::Null } else { value }
}

#[rstest]
#[case::ten_times(Kind::Amounts, &times(10.0), UnusualFigure::Size)]
#[case::a_tenth(Kind::Weights, &times(0.1), UnusualFigure::Size)]
#[case::kilograms(Kind::Weights, &times(1000.0), UnusualFigure::Size)]
#[case::lost_mark(Kind::Amounts, &times(100.0), UnusualFigure::Size)]
#[case::signs(Kind::Weights, &times(-1.0), UnusualFigure::Negatives)]
#[case::nulls(Kind::Weights, &null_in(30), UnusualFigure::Nulls)]
#[case::codes_null(Kind::Codes, &null_in(30), UnusualFigure::Nulls)]
#[case::zeros(Kind::Weights, &times(0.0), UnusualFigure::Constant)]
#[case::constant_number(Kind::Amounts, &|_, _| Value::Number(7.0), UnusualFigure::Constant)]
#[case::constant_code(Kind::Codes, &|_, _| Value::Word("left".into()), UnusualFigure::Constant)]
#[case::constant_name(Kind::Names, &|_, _| Value::Word("ship 1".into()), UnusualFigure::Constant)]
#[case::new_code(Kind::Codes, &|row, value| if row % 50 == 0 { Value::Word("lost".into()) } else { value }, UnusualFigure::NewWord)]
#[case::long_texts(Kind::Names, &|_, _| Value::Word("y".repeat(80)), UnusualFigure::Length)]
#[case::truths(Kind::Flags, &|_, value| match value { Value::Truth(truth) => Value::Truth(!truth), other => other }, UnusualFigure::Words)]
fn planted_changes_are_found(
    #[case] kind: Kind,
    #[case] change: &dyn Fn(usize, Value) -> Value,
    #[case] expected: UnusualFigure,
    #[values(5, 10, 29)] files: usize,
) {
    for seed in 0..20 {
        let mut random = Random(1000 + seed);
        let before: Vec<ColumnSummary> =
            (0..files).map(|at| day(kind, at, 1000, &mut random, &null_in(1))).collect();
        let known: Vec<&ColumnSummary> = before.iter().rev().collect();
        let now = day(kind, files, 1000, &mut random, change);
        let found = both(&now, &known);
        assert!(found.iter().any(|one| one.figure == expected), "seed {seed}: {found:?}");
    }
}

/// What is unusual, which is the same whether or not the file before is looked at first.
fn both(now: &ColumnSummary, known: &[&ColumnSummary]) -> Vec<Unusual> {
    let found = unusual("c", now, known.iter().copied());
    let known: Vec<&ColumnSummary> =
        known.iter().copied().filter(|file| file.rows >= FEW_VALUES).take(MOST_FILES).collect();
    assert_eq!(found, judged("c", now, &known));
    found
}
