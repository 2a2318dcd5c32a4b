//! Parquet and Arrow files: written by another implementation, and read back equal.

use hypodoke_testkit::{Workshop, finish};
use rstest::rstest;

use crate::workshop;

/// Writes files by the Python package of the formats; `code` has `pa`, `pq`, `ipc`, `dt` and `D` at hand.
fn python(shop: &Workshop, code: &str) {
    let head = "import datetime as dt, decimal, uuid\nimport pyarrow as pa, pyarrow.parquet as pq, pyarrow.ipc as ipc\nD = decimal.Decimal\n";
    shop.write("make.py", format!("{head}{code}"));
    let mut command = hypodoke_testkit::python();
    command.current_dir(shop.path("")).arg("make.py");
    let run = finish(command);
    assert_eq!(run.code, Some(0), "{}", run.err);
}

/// A table of every type, as the package knows it: column, type, and three values of which one is null.
const TYPES: &str = r#"
def both(*pairs):
    return pa.table({name: pa.array(values, kind) for name, kind, values in pairs})
table = both(
    ('i8', pa.int8(), [-128, None, 127]),
    ('i64', pa.int64(), [-2**63, None, 2**63 - 1]),
    ('u32', pa.uint32(), [0, None, 2**32 - 1]),
    ('u64', pa.uint64(), [0, None, 2**64 - 1]),
    ('f32', pa.float32(), [0.5, None, -1.25]),
    ('f64', pa.float64(), [0.1, None, 1e300]),
    ('dec', pa.decimal128(12, 2), [D('-0.05'), None, D('1234567890.12')]),
    ('dec38', pa.decimal128(38, 3), [D('0.001'), None, D('12345678901234567890123456789012345.678')]),
    ('dec50', pa.decimal256(50, 2), [D('1.50'), None, D('123456789012345678901234567890123456789012345678.25')]),
    ('flag', pa.bool_(), [True, None, False]),
    ('day', pa.date32(), [dt.date(1969, 12, 31), None, dt.date(9999, 12, 31)]),
    ('day64', pa.date64(), [dt.date(2026, 3, 2), None, dt.date(1900, 1, 1)]),
    ('t32', pa.time32('ms'), [dt.time(6, 30, 0, 250000), None, dt.time(0, 0)]),
    ('t64', pa.time64('us'), [dt.time(23, 59, 59, 999999), None, dt.time(0, 0)]),
    ('ts', pa.timestamp('us'), [dt.datetime(2026, 3, 2, 6, 0, 0, 1), None, dt.datetime(1, 1, 1)]),
    ('ts_s', pa.timestamp('s'), [dt.datetime(2026, 3, 2, 6), None, dt.datetime(1960, 1, 1)]),
    ('ts_ns', pa.timestamp('ns'), [dt.datetime(2026, 3, 2, 6, 0, 0, 123456), None, dt.datetime(1700, 1, 1)]),
    ('tz', pa.timestamp('ms', 'Europe/Oslo'), [dt.datetime(2026, 3, 2, 5, tzinfo=dt.timezone.utc), None, dt.datetime(2026, 7, 1, 0, tzinfo=dt.timezone.utc)]),
    ('text', pa.string(), ['NA', None, '']),
    ('digits', pa.large_string(), ['007', None, '2026-03-04']),
    ('codes', pa.dictionary(pa.int8(), pa.string()), ['north', None, 'north']),
    ('bytes', pa.binary(), [b'plain', None, b'\xff\x00']),
    ('fixed', pa.binary(3), [b'abc', None, b'\x00\x01\x02']),
)
"#;

/// What the three rows come to, column by column.
const EXPECTED: [(&str, &str, [&str; 3]); 23] = [
    ("i8", "integer", ["-128", "", "127"]),
    ("i64", "integer", ["-9223372036854775808", "", "9223372036854775807"]),
    ("u32", "integer", ["0", "", "4294967295"]),
    ("u64", "decimal(20,0)", ["0", "", "18446744073709551615"]),
    ("f32", "float", ["0.5", "", "-1.25"]),
    ("f64", "float", ["0.1", "", "1e300"]),
    ("dec", "decimal(12,2)", ["-0.05", "", "1234567890.12"]),
    ("dec38", "decimal(38,3)", ["0.001", "", "12345678901234567890123456789012345.678"]),
    ("dec50", "text", ["1.50", "", "123456789012345678901234567890123456789012345678.25"]),
    ("flag", "boolean", ["true", "", "false"]),
    ("day", "date", ["1969-12-31", "", "9999-12-31"]),
    ("day64", "date", ["2026-03-02", "", "1900-01-01"]),
    ("t32", "time", ["06:30:00.250000", "", "00:00:00"]),
    ("t64", "time", ["23:59:59.999999", "", "00:00:00"]),
    ("ts", "timestamp", ["2026-03-02 06:00:00.000001", "", "0001-01-01 00:00:00"]),
    ("ts_s", "timestamp", ["2026-03-02 06:00:00", "", "1960-01-01 00:00:00"]),
    ("ts_ns", "timestamp", ["2026-03-02 06:00:00.123456", "", "1700-01-01 00:00:00"]),
    ("tz", "timestamp_tz", ["2026-03-02 05:00:00+00:00", "", "2026-07-01 00:00:00+00:00"]),
    ("text", "text", ["NA", "", ""]),
    ("digits", "text", ["007", "", "2026-03-04"]),
    ("codes", "text", ["north", "", "north"]),
    ("bytes", "text", ["plain", "", "0xff00"]),
    ("fixed", "text", ["abc", "", "0x000102"]),
];

/// Every type, in every codec and version of each format.
#[rstest]
#[case::parquet("pq.write_table(table, 'all.parquet', compression='none')", "all.parquet")]
#[case::snappy("pq.write_table(table, 'all.parquet', compression='snappy')", "all.parquet")]
#[case::gzip("pq.write_table(table, 'all.parquet', compression='gzip')", "all.parquet")]
#[case::brotli("pq.write_table(table, 'all.parquet', compression='brotli')", "all.parquet")]
#[case::lz4("pq.write_table(table, 'all.parquet', compression='lz4')", "all.parquet")]
#[case::zstd("pq.write_table(table, 'all.parquet', compression='zstd')", "all.parquet")]
#[case::plain_pages(
    "pq.write_table(table, 'all.parquet', use_dictionary=False, data_page_version='2.0')",
    "all.parquet"
)]
#[case::a_row_group_each("pq.write_table(table, 'all.parquet', row_group_size=1)", "all.parquet")]
#[case::without_schema("pq.write_table(table, 'all.parquet', store_schema=False)", "all.parquet")]
#[case::ipc_file("ipc.new_file('all.arrow', table.schema).write_table(table)", "all.arrow")]
#[case::ipc_file_lz4(
    "w = ipc.new_file('all.arrow', table.schema, options=ipc.IpcWriteOptions(compression='lz4')); w.write_table(table); w.close()",
    "all.arrow"
)]
#[case::ipc_file_zstd(
    "w = ipc.new_file('all.arrow', table.schema, options=ipc.IpcWriteOptions(compression='zstd')); w.write_table(table); w.close()",
    "all.arrow"
)]
#[case::ipc_stream(
    "w = ipc.new_stream('all.arrows', table.schema); w.write_table(table, max_chunksize=1); w.close()",
    "all.arrows"
)]
#[case::compressed_as_a_whole(
    "pq.write_table(table, 'all.parquet'); import gzip, shutil; shutil.copyfileobj(open('all.parquet', 'rb'), gzip.open('all.parquet.gz', 'wb'))",
    "all.parquet.gz"
)]
fn every_type_is_read_as_what_it_is(#[case] write: &str, #[case] file: &str) {
    let shop = workshop();
    let write = match write.starts_with("ipc.new_file('all.arrow', table.schema).") {
        true => "w = ipc.new_file('all.arrow', table.schema); w.write_table(table); w.close()",
        false => write,
    };
    python(&shop, &format!("{TYPES}\n{write}\n"));
    let preview = shop.json(&format!("preview {file}"), 0);
    let table = &preview["tables"][0];
    for (at, (name, ty, values)) in EXPECTED.iter().enumerate() {
        // Without the package's own description a zone is UTC, and some types are those that stand for them.
        assert_eq!(table["columns"][at]["name"], *name);
        assert_eq!(table["columns"][at]["type"], *ty, "{name}");
        for (row, expected) in values.iter().enumerate() {
            let value = table["rows"][row]["values"][at].as_str().unwrap_or_default();
            assert_eq!(value, *expected, "{name}, row {}", row + 1);
        }
    }
    // And in a database as well as in a preview.
    let run = shop.ok(&format!("load {file} --into sqlite:h.db --table t"));
    assert!(run.out.contains("1 file loaded, 3 rows"), "{}", run.out);
    assert_eq!(
        shop.query("h.db", "SELECT text, typeof(text), digits, u64, hd_line FROM t"),
        ["NA|text|007|0|1", "|null|||2", "|text|2026-03-04|18446744073709551615|3"]
    );
}

#[test]
fn what_is_nested_goes_where_json_would_have_it() {
    let shop = workshop();
    python(
        &shop,
        r#"
rows = [
    {'id': 1, 'ship': {'name': 'Heron', 'size': {'m': 12.5}}, 'calls': [{'port': 'Quillane', 'days': [1, 2]}, {'port': None, 'days': []}], 'tags': ['a'], 'marks': [('x', 1), ('y', 2)]},
    {'id': 2, 'ship': None, 'calls': None, 'tags': None, 'marks': None},
    {'id': 3, 'ship': {'name': None, 'size': None}, 'calls': [None, {'port': 'Salt Quay', 'days': None}], 'tags': [], 'marks': []},
]
schema = pa.schema([('id', pa.int32()), ('ship', pa.struct([('name', pa.string()), ('size', pa.struct([('m', pa.float64())]))])),
    ('calls', pa.list_(pa.struct([('port', pa.string()), ('days', pa.list_(pa.int8()))]))), ('tags', pa.list_(pa.string())), ('marks', pa.map_(pa.string(), pa.int64()))])
table = pa.Table.from_pylist(rows, schema)
pq.write_table(table, 'n.parquet')
w = ipc.new_file('n.arrow', schema); w.write_table(table); w.close()
"#,
    );
    for file in ["n.parquet", "n.arrow"] {
        let database = format!("{file}.db");
        shop.ok(&format!("load {file} --into sqlite:{database} --table n"));
        let rows = |sql: &str| shop.query(&database, sql);
        assert_eq!(
            rows("SELECT id, ship_name, ship_size_m, tags FROM n"),
            ["1|Heron|12.5|[\"a\"]", "2|||", "3|||[]"]
        );
        assert_eq!(
            rows("SELECT hd_parent, hd_position, port, days FROM n_calls ORDER BY hd_row"),
            ["1|1|Quillane|[1,2]", "1|2||[]", "3|1||", "3|2|Salt Quay|"]
        );
        assert_eq!(rows("SELECT hd_parent, key, value FROM n_marks ORDER BY hd_row"), ["1|x|1", "1|y|2"]);
        let run = shop.ok(&format!("load {file} --into sqlite:j{database} --table n --nested json"));
        assert!(run.out.contains("1 file loaded, 3 rows"), "{}", run.out);
        let ship = shop.query(&format!("j{database}"), "SELECT ship, marks FROM n");
        assert_eq!(ship[0], r#"{"name":"Heron","size":{"m":12.5}}|{"x":1,"y":2}"#);
        let run = shop.ok(&format!("load {file} --into sqlite:l{database} --table n --lists tables"));
        assert!(run.out.contains("1 file loaded"), "{}", run.out);
        assert_eq!(shop.query(&format!("l{database}"), "SELECT hd_parent, value FROM n_tags"), ["1|a"]);
    }
}

#[test]
fn a_value_that_no_type_holds_makes_the_column_text() {
    let shop = workshop();
    python(
        &shop,
        r#"
pq.write_table(pa.table({'at': pa.array([0, 1_000_000_123], pa.timestamp('ns')), 'n': pa.array([1.0, float('nan')])}), 'a.parquet')
"#,
    );
    let run = shop.done("load a.parquet --into sqlite:h.db --table a");
    assert!(run.out.contains("1 value of `n` are no number (NaN), which is null here"), "{}", run.out);
    assert_eq!(
        shop.query("h.db", "SELECT at, n FROM a"),
        ["1970-01-01 00:00:00|1", "1970-01-01 00:00:01.000000123|"]
    );
}

#[test]
fn files_of_columns_drift_as_others_do() {
    let shop = workshop();
    shop.write(
        "hypodoke.toml",
        "[staging]\nurl = \"sqlite:h.db\"\n[place.in]\npath = \"in\"\n[feed.lift]\nplace = \"in\"\nfiles = \"*\"\n",
    );
    std::fs::create_dir(shop.path("in")).expect("a folder");
    python(
        &shop,
        "pq.write_table(pa.table({'id': pa.array([1, 2], pa.int32()), 'load': pa.array([D('1.50'), None], pa.decimal128(6, 2))}), 'in/1.parquet')",
    );
    shop.ok("load");
    python(
        &shop,
        "pq.write_table(pa.table({'id': pa.array([3], pa.int64()), 'load': pa.array([D('12345.125')], pa.decimal128(9, 3)), 'wind': pa.array([4.5])}), 'in/2.parquet')",
    );
    shop.ok("load");
    shop.write("in/3.csv", "id,load,wind\n4,7.25,1.5\n");
    shop.ok("load");
    assert_eq!(
        shop.query("h.db", "SELECT id, load, wind, hd_line FROM lift ORDER BY id"),
        ["1|1.5||1", "2|||2", "3|12345.125|4.5|1", "4|7.25|1.5|2"]
    );
    let drift = shop.ok("drift");
    assert!(drift.out.contains("wind") && drift.out.contains("load"), "{}", drift.out);
    assert!(shop.ok("tally").out.contains("all figures agree"));
    python(
        &shop,
        "pq.write_table(pa.table({'id': pa.array(['five']), 'load': pa.array([D('1.5')], pa.decimal128(6, 2)), 'wind': pa.array([4.5])}), 'in/4.parquet')",
    );
    let run = shop.run("load");
    assert!(matches!(run.code, Some(0 | 3)), "{}{}", run.out, run.err);
    let kinds = shop.query("h.db", "SELECT DISTINCT typeof(id) FROM lift");
    assert!(run.out.contains("held") || kinds == ["text"], "{}{kinds:?}", run.out);
}

#[test]
fn rejects_are_records_of_json_and_come_back_corrected() {
    let shop = workshop();
    shop.write(
        "hypodoke.toml",
        "[staging]\nurl = \"sqlite:h.db\"\n[place.in]\npath = \"in\"\n[feed.lift]\nplace = \"in\"\nfiles = \"*\"\n[feed.lift.columns]\nload = { type = \"decimal(4,2)\" }\n\"ship.crew no\" = { type = \"integer\" }\n",
    );
    std::fs::create_dir(shop.path("in")).expect("a folder");
    python(
        &shop,
        "pq.write_table(pa.table({'id': pa.array([1, 2, 3]), 'load': pa.array([D('1.50'), D('1234.50'), D('2.25')], pa.decimal128(8, 2)), 'ship': pa.array([{'crew no': '4'}, {'crew no': '5'}, {'crew no': 'six'}])}), 'in/1.parquet')",
    );
    let run = shop.attention("load");
    assert!(run.out.contains("2 rows rejected") || run.out.contains("1         2"), "{}", run.out);
    let raw = shop.query("h.db", "SELECT line, raw FROM hd_rejects ORDER BY line");
    assert_eq!(raw.len(), 2, "{raw:?}");
    assert_eq!(raw[0], r#"2|{"id":2,"load":"1234.50","ship":{"crew no":"5"}}"#);
    shop.ok("rejects 1 --export bad.csv");
    let text = std::fs::read_to_string(shop.path("bad.csv")).expect("the rejects");
    let text = text.replace("1234.50", "12.50").replace("six", "6");
    shop.write("good.csv", text);
    let run = shop.ok("rejects --take good.csv");
    assert!(run.out.contains("2 rows"), "{}", run.out);
    let rows = shop.query("h.db", "SELECT * FROM lift ORDER BY hd_line");
    assert_eq!(rows.len(), 3, "{rows:?}");
    assert!(rows[1].starts_with("2|12.5|5|") && rows[2].starts_with("3|2.25|6|"), "{rows:?}");
}

#[test]
fn folders_that_are_named_after_values_make_columns() {
    let shop = workshop();
    python(
        &shop,
        r#"
import os
for country, day, n in [('NO', '2026-03-04', 1), ('NO', '2026-03-05', 2), ('S%C3%B8r', '2026-03-04', 3)]:
    folder = f'in/cranes/country={country}/day={day}'
    os.makedirs(folder)
    pq.write_table(pa.table({'lift': pa.array([n, n + 10])}), f'{folder}/part-0.parquet')
"#,
    );
    let draft = shop.ok("draft in -o hypodoke.toml");
    assert!(draft.out.contains("1 feed"), "{}", draft.out);
    let written = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("a configuration");
    assert!(written.contains("cranes/country={country}/day={day:%Y-%m-%d}/part-0.parquet"), "{written}");
    assert!(written.contains("[feed.cranes]"), "{written}");
    shop.ok("load");
    assert_eq!(
        shop.query("hypodoke.db", "SELECT lift, country, day FROM cranes ORDER BY lift"),
        [
            "1|NO|2026-03-04",
            "2|NO|2026-03-05",
            "3|Sør|2026-03-04",
            "11|NO|2026-03-04",
            "12|NO|2026-03-05",
            "13|Sør|2026-03-04"
        ]
    );
}

/// Files that are cut at every length, and files of which single bytes are others, cost themselves alone.
#[rstest]
#[case::parquet("pq.write_table(table, 'x')")]
#[case::parquet_zstd("pq.write_table(table, 'x', compression='zstd')")]
#[case::ipc_file("w = ipc.new_file('x', table.schema); w.write_table(table); w.close()")]
#[case::ipc_stream(
    "w = ipc.new_stream('x', table.schema, options=ipc.IpcWriteOptions(compression='zstd')); w.write_table(table); w.close()"
)]
fn damaged_files_cost_themselves_alone(#[case] write: &str) {
    let shop = workshop();
    python(&shop, &format!("{TYPES}\n{write}\n"));
    let whole = std::fs::read(shop.path("x")).expect("a file");
    let mut files = 0;
    for cut in (4..whole.len()).step_by(whole.len() / 23) {
        shop.write(&format!("in/cut_{cut}.bin"), &whole[..cut]);
        files += 1;
    }
    let mut seed = 7u64;
    for at in 0..60 {
        let mut other = whole.clone();
        for _ in 0..3 {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            let place = 8 + (seed >> 33) as usize % (other.len() - 8);
            other[place] ^= (seed >> 20) as u8 | 1;
        }
        shop.write(&format!("in/other_{at}.bin"), other);
        files += 1;
    }
    shop.write("in/good.csv", "a\n1\n");
    let run = shop.run("load in --into sqlite:h.db --json");
    assert!(matches!(run.code, Some(0 | 1 | 3)), "{:?} {}", run.code, run.err);
    let receipt: serde_json::Value = serde_json::from_str(&run.out).expect("a receipt");
    assert_eq!(receipt["files"].as_array().expect("files").len(), files + 1);
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM good"), ["1"]);
}

#[test]
fn a_file_of_few_bytes_that_claims_to_be_large_takes_little_memory() {
    let shop = workshop();
    // One text of 8 MB, which 2,000 rows share: written out for each it would be 16 GB.
    python(
        &shop,
        r#"
table = pa.table({'n': pa.array(range(2_000)), 'text': pa.DictionaryArray.from_arrays(pa.array([0] * 2_000, pa.int8()), pa.array(['x' * 8_000_000]))})
pq.write_table(table, 'a.parquet', compression='zstd')
"#,
    );
    let mut command = std::process::Command::new("bash");
    let program = env!("CARGO_BIN_EXE_hypodoke");
    command
        .current_dir(shop.path(""))
        .arg("-c")
        .arg(format!("ulimit -v 6000000; exec {program} preview a.parquet --rows 3 --json"));
    let run = finish(command);
    assert_eq!(run.code, Some(0), "{}", run.err);
}

/// The least and the greatest value of each type that counts from somewhere, and what the package makes of them:
/// nothing wraps round, and what no column of days or moments holds is a text.
const EXTREMES: &str = r#"
import json
def spent(nanos):
    whole, rest = divmod(abs(nanos), 10**9)
    return ('-' if nanos < 0 else '') + (f'{whole}.{rest:09}'.rstrip('0') if rest else str(whole))
def day(days):
    if -719162 <= days <= 2932896: return (dt.date(1970, 1, 1) + dt.timedelta(days)).isoformat()
    return f'{days} days since 1970'
def moment(nanos):
    seconds, rest = divmod(nanos, 10**9)
    if not -62135596800 <= seconds < 253402300800: return spent(nanos) + ' seconds since 1970'
    text = str(dt.datetime(1970, 1, 1) + dt.timedelta(seconds=seconds))
    return text if rest == 0 else f'{text}.{rest // 1000:06}' if rest % 1000 == 0 else f'{text}.{rest:09}'
def day64(millis):
    days, rest = divmod(millis, 86400000)
    return day(days) if rest == 0 and abs(days) < 2**31 else moment(millis * 10**6)
def clock(nanos):
    if not 0 <= nanos < 86400 * 10**9: return spent(nanos) + ' seconds of a day of 86400'
    seconds, rest = divmod(nanos, 10**9)
    text = str(dt.timedelta(seconds=seconds)).rjust(8, '0')
    return text if rest == 0 else f'{text}.{rest // 1000:06}' if rest % 1000 == 0 else f'{text}.{rest:09}'
I, L = pa.int32(), pa.int64()
own = {I: [-2**31, 0, 2**31 - 1, 2932896, 2932897, -719162, -719163], L: [-2**63, 0, 2**63 - 1, 86399, 86400, 253402300799, -62135596801]}
kinds = [('date32', I, pa.date32(), day), ('date64', L, pa.date64(), day64)]
for unit, nanos in (('s', 10**9), ('ms', 10**6), ('us', 1000), ('ns', 1)):
    kinds.append(('ts_' + unit, L, pa.timestamp(unit), lambda v, nanos=nanos: moment(v * nanos)))
    kinds.append(('span_' + unit, L, pa.duration(unit), lambda v, nanos=nanos: 'PT' + spent(v * nanos) + 'S'))
for unit, kind, of, nanos in (('s', pa.time32('s'), I, 10**9), ('ms', pa.time32('ms'), I, 10**6), ('us', pa.time64('us'), L, 1000), ('ns', pa.time64('ns'), L, 1)):
    kinds.append(('time_' + unit, of, kind, lambda v, nanos=nanos: clock(v * nanos)))
table = pa.table({name: pa.array(own[of], of).view(kind) for name, of, kind, _ in kinds})
json.dump({name: [text(value) for value in own[of]] for name, of, _, text in kinds}, open('expected.json', 'w'))
"#;

#[rstest]
#[case::arrow("w = ipc.new_file('all.arrow', table.schema); w.write_table(table); w.close()", "all.arrow", &[])]
#[case::parquet("pq.write_table(table.drop(['ts_s', 'date64', 'time_s']), 'all.parquet')", "all.parquet", &["ts_s", "date64", "time_s"])]
fn the_least_and_the_greatest_value_of_each_type_wrap_round_nowhere(
    #[case] write: &str,
    #[case] file: &str,
    #[case] left_out: &[&str],
) {
    let shop = workshop();
    python(&shop, &format!("{EXTREMES}\n{write}\n"));
    shop.ok(&format!("load {file} --into sqlite:h.db --table t"));
    let expected = std::fs::read_to_string(shop.path("expected.json")).expect("what is expected");
    let expected: serde_json::Value = serde_json::from_str(&expected).expect("JSON");
    for (name, values) in expected.as_object().expect("columns") {
        if left_out.contains(&name.as_str()) {
            continue;
        }
        let values: Vec<&str> =
            values.as_array().expect("values").iter().map(|value| value.as_str().expect("a text")).collect();
        assert_eq!(shop.query("h.db", &format!("SELECT {name} FROM t ORDER BY hd_line")), values, "{name}");
    }
}

/// Bytes that are no text, and texts that look as those are written: each is another key.
#[test]
fn bytes_and_texts_that_look_alike_are_told_apart() {
    let shop = workshop();
    python(
        &shop,
        "table = pa.table({'k': pa.array([b'\\xff', b'0xff', b'0x30786666', b'0x41', b'A', b'0xFF'], pa.binary())})\npq.write_table(table, 'a.parquet')",
    );
    shop.write(
        "hypodoke.toml",
        "[staging]\nurl = \"sqlite:h.db\"\n[place.quay]\npath = \".\"\n[feed.t]\nplace = \"quay\"\nfiles = \"*.parquet\"\nmode = \"upsert\"\nkey = [\"k\"]\n",
    );
    shop.ok("load");
    assert_eq!(
        shop.query("h.db", "SELECT k FROM t ORDER BY hd_line"),
        ["0xff", "0x30786666", "0x30783330373836363636", "0x41", "A", "0xFF"]
    );
}
