//! The same files in every order of arrival: types and values must come out alike. The files are generated: each
//! column of a table is one choice of what three files hold there.

use std::fmt::Write as _;

use hypodoke_testkit::{Workshop, finish};
use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::staging::{Staging, configure};
use crate::workshop;

/// What the two records of a file may hold in one column of text.
const TEXTS: [(&str, [&str; 2]); 24] = [
    ("nothing", ["", ""]),
    ("words", ["NA", "-"]),
    ("nan", ["NaN", "n/a"]),
    ("country", ["NO", ""]),
    ("yes", ["Y", "N"]),
    ("no", ["no", "yes"]),
    ("truth", ["true", "false"]),
    ("bits", ["1", "0"]),
    ("whole", ["7", "12"]),
    ("point", ["7.50", "2"]),
    ("comma", ["1,5", "2,25"]),
    ("printed", ["9.5e-05", "0.1"]),
    ("padded", ["007", "7"]),
    ("day", ["20251231", ""]),
    ("days", ["20251230", "20251229"]),
    ("moment", ["20251231101500", ""]),
    ("moments", ["20251230101500", "20251229101500"]),
    ("date", ["2025-12-30", ""]),
    ("stamp", ["2025-12-30 10:00:00", "2025-12-30"]),
    ("zoned", ["2025-12-30 10:00:00+02:00", ""]),
    ("time", ["10:30", "11:45:10"]),
    ("uuid", ["0f8fad5b-d9cb-469f-a165-70867728950e", ""]),
    ("json", ["{\"a\": 1}", "[1, 2]"]),
    ("word", ["maybe", "SE"]),
];

/// The same for a columnar file, as the Python package of the format writes it: a type and two values.
const DECLARED: [(&str, &str); 14] = [
    ("nothing", "pa.string(), [None, None]"),
    ("words", "pa.string(), ['NA', '-']"),
    ("digits", "pa.string(), ['20251231', '007']"),
    ("truth", "pa.bool_(), [True, False]"),
    ("day", "pa.int64(), [20251231, None]"),
    ("days", "pa.int64(), [20251230, 20251229]"),
    ("whole", "pa.int32(), [7, 12]"),
    ("money", "pa.decimal128(9, 2), [D('7.50'), D('2.00')]"),
    ("printed", "pa.float64(), [9.5e-05, 0.1]"),
    ("date", "pa.date32(), [dt.date(2025, 12, 30), None]"),
    ("stamp", "pa.timestamp('us'), [dt.datetime(2025, 12, 30, 10), None]"),
    ("zoned", "pa.timestamp('us', 'UTC'), [dt.datetime(2025, 12, 30, 8), None]"),
    ("time", "pa.time64('us'), [dt.time(10, 30), None]"),
    ("bytes", "pa.binary(), [b'maybe', b'\\xff\\x00']"),
];

const ORDERS: [[usize; 3]; 6] = [[0, 1, 2], [0, 2, 1], [1, 0, 2], [1, 2, 0], [2, 0, 1], [2, 1, 0]];

/// As many columns as every database takes in a row of these.
const MOST_COLUMNS: usize = 150;

/// A column: its name, and for each file what it holds there.
type Column<T> = (String, [T; 3]);

/// Every choice of three of `number`, their order left out.
fn choices(number: usize) -> impl Iterator<Item = [usize; 3]> {
    let behind = move |a: usize| (a..number).flat_map(move |b| (b..number).map(move |c| [a, b, c]));
    (0..number).flat_map(behind)
}

fn csv(file: usize, columns: &[(&str, [&str; 2])]) -> String {
    let mut text = String::from("id");
    columns.iter().for_each(|(name, _)| write!(text, ",{name}").expect("a text"));
    for record in 0..2 {
        write!(text, "\n{}", file * 2 + record).expect("a text");
        for (_, values) in columns {
            write!(text, ",\"{}\"", values[record].replace('"', "\"\"")).expect("a text");
        }
    }
    text.push('\n');
    text
}

/// The columns of the table with their types, and its rows.
fn dump(shop: &Workshop, staging: &Staging, names: &[&str]) -> Vec<String> {
    let value = |name: &&str| match staging.tables() {
        Staging::Sqlite(_) => format!("quote({name})"),
        Staging::Postgres(_) => format!("quote_nullable({name})"),
        _ => format!("QUOTE({name})"),
    };
    // No database takes as many arguments as the table has columns.
    let mut all = Vec::new();
    for names in names.chunks(60) {
        let list: Vec<String> = names.iter().map(value).collect();
        let rows = staging.query(shop, &format!("SELECT {} FROM f ORDER BY id", list.join(", ")));
        let rows: Vec<Vec<&str>> = rows.iter().map(|row| row.split('|').collect()).collect();
        for (at, name) in names.iter().enumerate() {
            let values: Vec<&str> = rows.iter().map(|row| row[at]).collect();
            all.push(format!("{name} {}: {}", staging.type_of(shop, "f", name), values.join(" ")));
        }
    }
    all
}

/// Loads three files in each order, and compares the tables; `add` puts one of them into the folder.
fn load_in_every_order(kind: Kind, files: &str, names: &[&str], add: impl Fn(&Workshop, usize)) {
    let mut first: Option<Vec<String>> = None;
    for order in ORDERS {
        let (shop, staging) = (workshop(), Staging::new(kind));
        configure(&shop, &staging, "[feed.f.drift]\nother_kind = \"widen\"");
        let configuration = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("a configuration");
        shop.write("hypodoke.toml", configuration.replace("f_{day:%Y%m%d}*.csv", files));
        for at in order {
            add(&shop, at);
            shop.ok("load");
        }
        let found = dump(&shop, &staging, names);
        let Some(first) = &first else {
            first = Some(found);
            continue;
        };
        let unlike: Vec<_> = first.iter().zip(&found).filter(|(a, b)| a != b).collect();
        assert!(unlike.is_empty(), "{} columns differ in order {order:?}: {unlike:#?}", unlike.len());
        let due = staging.query(&shop, "SELECT count(*) FROM hd_drift WHERE action = 'rereading'");
        assert_eq!(due, ["0"]);
    }
}

/// Of how many choices one is tried: all of them take minutes.
fn one_in(kind: Kind) -> usize {
    if matches!(kind, Sqlite) { 5 } else { 23 }
}

fn load_texts(kind: Kind, one_in: usize) {
    let column = |[a, b, c]: [usize; 3]| {
        let name = format!("{}_{}_{}", TEXTS[a].0, TEXTS[b].0, TEXTS[c].0);
        (name, [TEXTS[a].1, TEXTS[b].1, TEXTS[c].1])
    };
    let columns: Vec<Column<[&str; 2]>> = choices(TEXTS.len()).step_by(one_in).map(column).collect();
    for columns in columns.chunks(MOST_COLUMNS) {
        let names: Vec<&str> = columns.iter().map(|(name, _)| name.as_str()).collect();
        load_in_every_order(kind, "f_{number}.csv", &names, |shop, file| {
            let of_file: Vec<_> =
                columns.iter().map(|(name, values)| (name.as_str(), values[file])).collect();
            shop.write(&format!("in/f_{file}.csv"), csv(file, &of_file));
        });
    }
}

#[rstest]
fn texts_of_three_types_come_out_alike_in_every_order(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    load_texts(kind, one_in(kind));
}

#[rstest]
#[ignore = "minutes: scripts/crash-test runs it"]
fn texts_of_every_three_types_come_out_alike_in_every_order(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    load_texts(kind, 1);
}

/// What needs no setting: the kind of the column stays, or it had none.
#[rstest]
#[case::words(["1,NA", "2,NO\n3,SE"], &["1|NA", "2|NO", "3|SE"])]
#[case::dash(["1,-\n4,n/a", "2,quay"], &["1|-", "2|quay", "4|n/a"])]
#[case::no_number(["1,NaN", "2,deep"], &["1|NaN", "2|deep"])]
#[case::numbers(["1,NaN\n4,-", "2,7"], &["1|", "2|7", "4|"])]
#[case::one_day(["1,20251231", "2,20251230\n3,20251229"], &["1|2025-12-31", "2|2025-12-30", "3|2025-12-29"])]
#[case::marked_day(["1,20251231", "2,2025-12-30"], &["1|2025-12-31", "2|2025-12-30"])]
#[case::number_again(["1,20251231\n3,20251230", "2,7"], &["1|20251231", "2|7", "3|20251230"])]
#[case::moments(["1,20251231\n3,20251230101500", "2,7"], &["1|20251231", "2|7", "3|20251230101500"])]
fn two_files_come_out_alike_in_both_orders(
    #[case] files: [&str; 2],
    #[case] rows: &[&str],
    #[values("append", "history")] mode: &str,
    #[values([0, 1], [1, 0])] order: [usize; 2],
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    let key = if mode == "append" { "" } else { "key = [\"id\"]" };
    configure(&shop, &staging, &format!("mode = \"{mode}\"\n{key}"));
    for at in order {
        shop.write(&format!("in/f_2026040{}.csv", at + 1), format!("id,v\n{}\n", files[at]));
        shop.ok("load");
    }
    assert_eq!(staging.query(&shop, "SELECT id, v FROM f ORDER BY id"), rows);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_drift WHERE action = 'rereading'"), ["0"]);
    assert!(shop.ok("tally").out.contains("all figures agree"));
    // What the files said is put together as they say it by now.
    shop.ok(&format!("retract f_2026040{}.csv --yes", order[1] + 1));
    shop.ok(&format!("replay f_2026040{}.csv --yes", order[1] + 1));
    assert_eq!(staging.query(&shop, "SELECT id, v FROM f ORDER BY id"), rows);
}

/// A columnar file between two of text.
#[rstest]
fn declared_columns_among_texts_come_out_alike_in_every_order(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let texts = choices(TEXTS.len()).filter(|[_, b, c]| b == c).map(|[a, b, _]| [a, b]);
    let both = texts.flat_map(|texts| (0..DECLARED.len()).map(move |declared| (texts, declared)));
    let column = |([a, b], declared): ([usize; 2], usize)| {
        (format!("{}_p{}_{}", TEXTS[a].0, DECLARED[declared].0, TEXTS[b].0), (a, declared, b))
    };
    // The step has no factor in common with the number of declared types: each of them is among the columns.
    let columns: Vec<_> = both.step_by(one_in(kind) * 2 + 1).map(column).collect();
    for columns in columns.chunks(MOST_COLUMNS) {
        let names: Vec<&str> = columns.iter().map(|(name, _)| name.as_str()).collect();
        let maker = workshop();
        let mut code = String::from(
            "import datetime as dt, decimal\nimport pyarrow as pa, pyarrow.parquet as pq\nD = decimal.Decimal\npq.write_table(pa.table({'id': pa.array([2, 3]),\n",
        );
        for (name, (_, declared, _)) in columns {
            let (kind, values) = DECLARED[*declared].1.split_once(", [").expect("values");
            writeln!(code, "'{name}': pa.array([{values}, {kind}),").expect("a text");
        }
        code.push_str("}), 'f_1.parquet')\n");
        maker.write("make.py", code);
        let mut command = hypodoke_testkit::python();
        command.current_dir(maker.path("")).arg("make.py");
        let run = finish(command);
        assert_eq!(run.code, Some(0), "{}", run.err);
        let parquet = std::fs::read(maker.path("f_1.parquet")).expect("a file");
        load_in_every_order(kind, "f_{number}.*", &names, |shop, file| {
            let of_text = |(name, (a, _, b)): &(String, (usize, usize, usize))| {
                (name.clone(), TEXTS[if file == 0 { *a } else { *b }].1)
            };
            let of_file: Vec<(String, [&str; 2])> = columns.iter().map(of_text).collect();
            let of_file: Vec<_> = of_file.iter().map(|(name, values)| (name.as_str(), *values)).collect();
            match file {
                1 => shop.write("in/f_1.parquet", &parquet),
                _ => shop.write(&format!("in/f_{file}.csv"), csv(file, &of_file)),
            };
        });
    }
}
