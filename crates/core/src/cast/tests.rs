use rstest::rstest;

use super::*;
use crate::spelling::number::Group;
use crate::spelling::{DateOrder, NumberStyle};
use crate::types::Type;

pub(super) fn target(ty: Type) -> Target {
    Target {
        source_name: "draught".into(),
        ty,
        digits: Target::digits_of(crate::types::Domain::Unknown),
        source: Source::Field(0),
        day: None,
        fraction: None,
        format: Format::default(),
        also_null: Vec::new(),
        strings_are_text: false,
        pinned: false,
        required: false,
        limit: None,
        trim: false,
        default: None,
        demand: Demand::default(),
    }
}

fn records(values: &[&str]) -> Records {
    let mut records = Records::default();
    for (at, value) in values.iter().enumerate() {
        let start = records.bytes.len();
        records.bytes.extend_from_slice(value.as_bytes());
        let range = start..records.bytes.len();
        records.push_field(Field::new(range.clone(), false));
        records.end_record(range, at as u64 + 2);
    }
    records
}

fn cast_one(target: Target, value: &str) -> Result<Cell, String> {
    let mut rows = Rows { records: records(&[value]), ..Rows::default() };
    Caster::new(vec![target], 1).cast(&mut rows);
    match rows.rejects.first() {
        Some(reject) => Err(reject.reason.clone()),
        None => Ok(rows.row(0)[0]),
    }
}

const MONEY: Type = Type::Decimal { precision: 5, scale: 2 };

#[rstest]
#[case(Type::Integer, "42", Cell::Integer(42))]
#[case(Type::Integer, " -7 ", Cell::Integer(-7))]
#[case(Type::Integer, "9223372036854775807", Cell::Integer(i64::MAX))]
#[case(Type::Integer, "N/A", Cell::Null)]
#[case(MONEY, "5.3", Cell::Decimal { mantissa: 530, scale: 2 })]
#[case(MONEY, "5.300", Cell::Decimal { mantissa: 530, scale: 2 })]
#[case(Type::Float, "1.5e3", Cell::Float(1500.0))]
#[case(Type::Boolean, "Yes", Cell::Boolean(true))]
#[case(Type::Boolean, "0", Cell::Boolean(false))]
#[case(Type::Date, "2026-03-02", Cell::Date(20_514))]
#[case(Type::Timestamp, "2026-03-02", Cell::Timestamp(20_514 * 86_400_000_000))]
#[case(Type::Text, "", Cell::Null)]
#[case(Type::Text, "007", Cell::Text { start: 0, len: 3 })]
#[case(Type::Json, " {\"a\":1}", Cell::Text { start: 1, len: 7 })]
fn values_that_fit(#[case] ty: Type, #[case] value: &str, #[case] cell: Cell) {
    assert_eq!(cast_one(target(ty), value), Ok(cell));
}

#[rstest]
#[case(Type::Integer, "4.5", "1 digit after the decimal mark, the column keeps 0")]
#[case(Type::Integer, "9223372036854775808", "too large for integer")]
#[case(Type::Integer, "007", "not an integer")]
#[case(MONEY, "5.301", "3 digits after the decimal mark, the column keeps 2")]
#[case(MONEY, "1000.00", "too large for decimal(5,2)")]
#[case(MONEY, "5,30", "not a decimal(5,2)")]
#[case(Type::Date, "2026-02-30", "not a date")]
#[case(Type::Boolean, "2", "not a boolean")]
#[case(Type::Unknown, "x", "the column has no type yet, it has been empty until now")]
#[case(Type::Text, "a\0b", "holds a NUL byte, which text cannot")]
fn values_that_do_not_fit_say_why(#[case] ty: Type, #[case] value: &str, #[case] why: &str) {
    assert_eq!(cast_one(target(ty), value).unwrap_err(), why);
}

#[test]
fn a_format_is_kept_to() {
    let mut comma = target(MONEY);
    comma.format.number = NumberStyle { comma: true, group: Group::None };
    assert_eq!(cast_one(comma, "5,30"), Ok(Cell::Decimal { mantissa: 530, scale: 2 }));
    let mut american = target(Type::Date);
    american.format.date = DateOrder::Mdy;
    assert_eq!(cast_one(american, "03/02/2026"), Ok(Cell::Date(20_514)));
}

#[test]
fn the_widest_number_is_remembered() {
    let mut rows = Rows { records: records(&["1.5", "-123.45", ""]), ..Rows::default() };
    let mut caster = Caster::new(vec![target(Type::Decimal { precision: 9, scale: 2 })], 1);
    caster.cast(&mut rows);
    assert_eq!((caster.digits()[0].int, caster.digits()[0].scale), (3, 2));
}

#[test]
fn one_bad_value_costs_one_row() {
    let mut rows = Rows { records: records(&["1", "x", "3"]), ..Rows::default() };
    let mut caster = Caster::new(vec![target(Type::Integer)], 1);
    caster.cast(&mut rows);
    assert_eq!(rows.len(), 2);
    assert_eq!((rows.line(0), rows.line(1)), (2, 4));
    let reject = &rows.rejects[0];
    assert_eq!((reject.line, reject.value.as_deref(), &*reject.raw), (3, Some("x"), &b"x"[..]));
    assert_eq!(caster.surprises(), 1);
}

#[test]
fn a_batch_is_cast_again_in_the_same_buffers() {
    let mut caster = Caster::new(vec![target(Type::Integer)], 1);
    let mut rows = Rows { records: records(&["1", "x"]), ..Rows::default() };
    caster.cast(&mut rows);
    rows.records = records(&["5"]);
    caster.cast(&mut rows);
    assert_eq!((rows.len(), rows.rejects.len(), rows.row(0)[0]), (1, 0, Cell::Integer(5)));
}

/// A batch of one column, cast: the cells of what is kept, and the rejects' reasons.
fn cast_all(target: Target, values: &[&str], conditions: Vec<Condition>) -> (Caster, Vec<Cell>, Vec<String>) {
    let mut rows = Rows { records: records(values), ..Rows::default() };
    let mut caster = Caster::new(vec![target], 1).keeping(conditions);
    caster.cast(&mut rows);
    let cells = (0..rows.len()).map(|index| rows.row(index)[0]).collect();
    (caster, cells, rows.rejects.iter().map(|reject| reject.reason.clone()).collect())
}

#[test]
fn a_default_stands_for_null_and_is_no_null_of_a_required_column() {
    let target = Target { default: Some("7".into()), required: true, ..target(Type::Integer) };
    let (_, cells, rejects) = cast_all(target, &["1", "", "n/a"], Vec::new());
    assert_eq!(cells, [Cell::Integer(1), Cell::Integer(7), Cell::Integer(7)]);
    assert!(rejects.is_empty());
}

#[test]
fn blanks_around_texts_are_cut_off_where_that_is_wanted() {
    let (_, cells, _) = cast_all(Target { trim: true, ..target(Type::Text) }, &["  a b ", "c"], Vec::new());
    assert_eq!(cells, [Cell::Text { start: 2, len: 3 }, Cell::Text { start: 6, len: 1 }]);
}

#[rstest]
#[case::null(Demand { not_null: true, ..Demand::default() }, &["1", ""], "null")]
#[case::least(Demand { least: Some(Literal::read("1", Type::Integer).expect("one")), ..Demand::default() }, &["1", "0"], "less")]
#[case::most(Demand { most: Some(Literal::read("1", Type::Integer).expect("one")), ..Demand::default() }, &["1", "2"], "more")]
#[case::word(Demand { one_of: vec![Literal::read("1", Type::Integer).expect("one")], ..Demand::default() }, &["1", "2"], "not one of")]
#[case::unique(Demand { unique: true, ..Demand::default() }, &["1", "1"], "came before")]
fn a_demand_that_is_not_met_is_a_reject_or_counted(
    #[case] demand: Demand,
    #[case] values: &[&str],
    #[case] words: &str,
) {
    let strict = Target { demand: Demand { rejects: true, ..demand.clone() }, ..target(Type::Integer) };
    let (caster, cells, rejects) = cast_all(strict, values, Vec::new());
    assert_eq!((cells.len(), rejects.len(), caster.unmet().len()), (1, 1, 0));
    assert!(rejects[0].contains(words), "{rejects:?}");
    let (caster, cells, rejects) = cast_all(Target { demand, ..target(Type::Integer) }, values, Vec::new());
    assert_eq!((cells.len(), rejects.len()), (2, 0));
    assert_eq!((caster.unmet()[0].rows, caster.unmet()[0].line), (1, 3));
}

#[test]
fn records_that_meet_no_condition_are_left_out_and_no_rejects() {
    let test = Test::AtLeast(Literal::read("5", Type::Integer).expect("five"));
    let condition = Condition { field: 0, ty: Type::Integer, format: Format::default(), test };
    let (caster, cells, rejects) = cast_all(target(Type::Integer), &["9", "4", "x", ""], vec![condition]);
    assert_eq!(cells, [Cell::Integer(9)]);
    assert_eq!((caster.left_out(), rejects.len()), (2, 1));
}

#[test]
fn fields_without_a_column_are_kept_as_one_object() {
    let mut records = Records::default();
    for field in ["a", "say \"hi\"", ""] {
        let start = records.bytes.len();
        records.bytes.extend_from_slice(field.as_bytes());
        records.push_field(Field::new(start..records.bytes.len(), false));
    }
    records.end_record(0..0, 2);
    let mut rows = Rows { records, ..Rows::default() };
    let fields = vec![("first".to_owned(), 0), ("second".to_owned(), 1), ("third".to_owned(), 2)];
    let target = Target { source: Source::Extras(fields), ..target(Type::Json) };
    Caster::new(vec![target], 3).cast(&mut rows);
    let Cell::Text { start, len } = rows.row(0)[0] else { panic!("no text") };
    assert_eq!(rows.bytes(start, len), br#"{"first":"a","second":"say \"hi\""}"#);
}

/// A value of a typed source, cast for a column.
fn cast_typed(target: Target, cell: Cell, text: &str) -> Result<String, String> {
    let mut records = Records::default();
    records.begin_typed(1);
    records.bytes.extend_from_slice(text.as_bytes());
    records.push_typed(&[cell], 2);
    let mut rows = Rows { records, ..Rows::default() };
    Caster::new(vec![target], 1).cast(&mut rows);
    if let Some(reject) = rows.rejects.first() {
        return Err(format!("{}: {}", String::from_utf8_lossy(&reject.raw), reject.reason));
    }
    let mut out = Vec::new();
    rows.row(0)[0].write(&rows.records.bytes, &rows.wide, &mut out);
    Ok(String::from_utf8(out).expect("text"))
}

#[rstest]
#[case::integer(Type::Integer, Cell::Integer(7), Ok("7"))]
#[case::whole_decimal(Type::Integer, Cell::Decimal { mantissa: 700, scale: 2 }, Ok("7"))]
#[case::not_whole(Type::Integer, Cell::Decimal { mantissa: 725, scale: 2 }, Err("7.25: "))]
#[case::decimal(MONEY, Cell::Decimal { mantissa: 1125, scale: 2 }, Ok("11.25"))]
#[case::coarser(MONEY, Cell::Integer(11), Ok("11.00"))]
#[case::finer(MONEY, Cell::Decimal { mantissa: 11_255, scale: 3 }, Err("11.255: "))]
#[case::too_large(MONEY, Cell::Integer(1000), Err("1000: "))]
#[case::float_of_decimal(Type::Float, Cell::Decimal { mantissa: 5, scale: 1 }, Ok("0.5"))]
#[case::float(Type::Float, Cell::Float(2.5e-12), Ok("2.5e-12"))]
#[case::float_that_loses_digits(Type::Float, Cell::Integer(i64::MAX), Err("9223372036854775807: "))]
#[case::date(Type::Date, Cell::Date(0), Ok("1970-01-01"))]
#[case::date_as_timestamp(Type::Timestamp, Cell::Date(0), Ok("1970-01-01 00:00:00"))]
#[case::date_as_text(Type::Text, Cell::Date(0), Ok("1970-01-01"))]
#[case::number_as_text(Type::Text, Cell::Decimal { mantissa: 5, scale: 1 }, Ok("0.5"))]
#[case::number_as_date(Type::Date, Cell::Integer(7), Err("7: "))]
#[case::truth(Type::Boolean, Cell::Boolean(true), Ok("true"))]
#[case::text_as_integer(Type::Integer, Cell::Text { start: 0, len: 2 }, Ok("42"))]
#[case::null(Type::Integer, Cell::Null, Ok(""))]
fn typed_values_are_stored_exactly_or_not_at_all(
    #[case] ty: Type,
    #[case] cell: Cell,
    #[case] expected: Result<&str, &str>,
) {
    match (cast_typed(target(ty), cell, "42"), expected) {
        (Ok(found), Ok(expected)) => assert_eq!(found, expected),
        (Err(found), Err(expected)) => assert!(found.starts_with(expected), "{found}"),
        (found, expected) => panic!("{found:?} instead of {expected:?}"),
    }
}

#[test]
fn a_typed_decimal_is_not_read_by_the_marks_of_its_column() {
    let comma = NumberStyle { comma: true, ..NumberStyle::default() };
    let format = Format { number: comma, ..Format::default() };
    let decimal = Cell::Decimal { mantissa: 1234, scale: 3 };
    let ty = Type::Decimal { precision: 7, scale: 3 };
    assert_eq!(cast_typed(Target { format, ..target(ty) }, decimal, ""), Ok("1.234".to_owned()));
}

#[test]
fn a_word_that_is_null_by_will_of_the_user_is_so_in_a_typed_source_too() {
    let wanted = Target { also_null: vec!["-999".into()], ..target(Type::Integer) };
    assert_eq!(cast_typed(wanted, Cell::Integer(-999), ""), Ok(String::new()));
}
