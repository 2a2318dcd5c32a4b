use proptest::prelude::*;
use rstest::rstest;

use super::*;

fn rows_of(text: &str, dialect: Dialect) -> Vec<(u64, Vec<String>)> {
    let mut records = Records::default();
    records.bytes.extend_from_slice(text.as_bytes());
    let taken = Tokeniser::new(dialect, 1).run(&mut records, End::Last);
    assert_eq!(taken, text.len());
    shown(&records)
}

fn shown(records: &Records) -> Vec<(u64, Vec<String>)> {
    let field = |f: &Field| String::from_utf8_lossy(records.value(*f)).into_owned();
    (0..records.len())
        .map(|at| {
            let fields = match records.fault(at) {
                Some(_) => vec![format!("!{}", String::from_utf8_lossy(records.raw(at)))],
                None => records.fields(at).iter().map(field).collect(),
            };
            (records.line(at), fields)
        })
        .collect()
}

/// The same text in buffers of every small size must give the same records.
fn rows_in_pieces(text: &str, dialect: Dialect, piece: usize) -> Vec<(u64, Vec<String>)> {
    let mut tokeniser = Tokeniser::new(dialect, 1);
    let mut rows = Vec::new();
    let mut pending: Vec<u8> = Vec::new();
    let mut rest = text.as_bytes();
    loop {
        let (now, later) = rest.split_at(piece.min(rest.len()));
        rest = later;
        pending.extend_from_slice(now);
        let mut records = Records::default();
        records.bytes.extend_from_slice(&pending);
        let taken = tokeniser.run(&mut records, if rest.is_empty() { End::Last } else { End::More });
        rows.extend(shown(&records));
        pending.drain(..taken);
        if rest.is_empty() {
            assert!(pending.is_empty());
            return rows;
        }
    }
}

/// Rows on one line: `a | b / 1 | 2`.
fn fields(rows: &[(u64, Vec<String>)]) -> String {
    rows.iter().map(|(_, fields)| fields.join(" | ")).collect::<Vec<_>>().join(" / ")
}

fn with(delimiter: Delimiter) -> Dialect {
    Dialect { delimiter, ..Dialect::default() }
}

#[rstest]
#[case("a,b\n1,2\n", "a | b / 1 | 2")]
#[case("a,b\r\n1,2\r\n", "a | b / 1 | 2")]
#[case("a,b\n1,2", "a | b / 1 | 2")]
#[case("a,b\r\n1,2", "a | b / 1 | 2")]
#[case("a,\n,b\n", "a |  /  | b")]
#[case("\n\na\n\r\nb\n\n", "a / b")]
#[case("\"a,b\",c\n", "a,b | c")]
#[case("\"a\"\"b\",\"\"\n", "a\"b | ")]
#[case("\"a\nb\",c\nd,e\n", "a\nb | c / d | e")]
#[case("\"a\r\nb\",c\r\nd,e\r\n", "a\r\nb | c / d | e")]
#[case("\"a\" ,\"b\"  \n", "a | b")]
#[case("\"he said \"hi\" to me\",b\n", "he said \"hi\" to me | b")]
#[case("5\" pipe,b\n", "5\" pipe | b")]
#[case("a,\"b\"", "a | b")]
#[case("", "")]
fn commas_and_quotes(#[case] text: &str, #[case] wanted: &str) {
    assert_eq!(fields(&rows_of(text, Dialect::default())), wanted);
}

#[rstest]
#[case(with(Delimiter::Char('¦')), "a¦b§\n1¦2\n", "a | b§ / 1 | 2")]
#[case(with(Delimiter::Char('\t')), "a\t\"b\tc\"\n", "a | b\tc")]
#[case(with(Delimiter::Blanks), "  a   b\tc\n\n 1 2 3  \n", "a | b | c / 1 | 2 | 3")]
#[case(Dialect { lone_cr: true, ..Dialect::default() }, "a,b\r1,2\r", "a | b / 1 | 2")]
#[case(Dialect { lone_cr: true, ..Dialect::default() }, "a,b\r\n1,2\r3,4\n", "a | b / 1 | 2 / 3 | 4")]
#[case(Dialect { trailing_delimiter: true, ..Dialect::default() }, "a,b,\n1,,\n", "a | b / 1 | ")]
#[case(Dialect { comment: Some(b'#'), ..Dialect::default() }, "# x,y\na,b\n#z\n1,2\n", "a | b / 1 | 2")]
#[case(Dialect { escape: Escape::Backslash, ..Dialect::default() }, "\"a\\\"b\",\"c\\\\\",\\N\n", "a\"b | c\\ | \\N")]
#[case(Dialect { quote: None, ..Dialect::default() }, "\"a,b\"\n", "\"a | b\"")]
fn other_dialects(#[case] dialect: Dialect, #[case] text: &str, #[case] wanted: &str) {
    assert_eq!(fields(&rows_of(text, dialect)), wanted);
}

#[test]
fn lines_are_those_of_the_file() {
    let rows = rows_of("a\n\n\"b\nb\"\nc\n", Dialect::default());
    assert_eq!(rows.iter().map(|row| row.0).collect::<Vec<_>>(), [1, 3, 5]);
}

#[test]
fn an_unclosed_quote_costs_its_line_and_no_more() {
    let rows = rows_of("a,b\n1,\"x\n2,y\n3,z\n", Dialect::default());
    assert_eq!(fields(&rows), "a | b / !1,\"x / 2 | y / 3 | z");
    assert_eq!(rows[2].0, 3);
}

proptest! {
    #[test]
    fn buffers_of_any_size_give_the_same_records(
        text in "([abc,\"\\r\\n \\\\]|\"\"){0,60}",
        piece in 1usize..20,
        lone_cr: bool,
        backslash: bool,
        trailing_delimiter: bool,
    ) {
        let escape = if backslash { Escape::Backslash } else { Escape::Doubled };
        let dialect = Dialect { lone_cr, escape, trailing_delimiter, ..Dialect::default() };
        prop_assert_eq!(rows_in_pieces(&text, dialect, piece), rows_of(&text, dialect));
    }

    #[test]
    fn what_is_written_by_the_standard_is_read_back(rows in prop::collection::vec(prop::collection::vec("[a-z,\"\n\r]{0,6}", 2..4), 1..6)) {
        let quote = |field: &String| format!("\"{}\"", field.replace('"', "\"\""));
        let line = |row: &Vec<String>| row.iter().map(quote).collect::<Vec<_>>().join(",") + "\r\n";
        let text: String = rows.iter().map(line).collect();
        let read: Vec<Vec<String>> = rows_of(&text, Dialect::default()).into_iter().map(|row| row.1).collect();
        prop_assert_eq!(read, rows);
    }
}
