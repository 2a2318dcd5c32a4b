//! Random nested documents, loaded and built up again from the tables, are what they were.

use std::collections::BTreeMap;

use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use serde_json::{Map, Value, json};

use crate::workshop;

fn scalar() -> impl Strategy<Value = Value> + Clone {
    prop_oneof![
        3 => (-5000i64..5000).prop_map(|n| json!(n)),
        2 => (-500i64..500).prop_map(|n| json!(n as f64 / 4.0)),
        3 => "w[a-z]{0,5}( [\"\\\\é\n])?".prop_map(|text| json!(text)),
        1 => any::<bool>().prop_map(|b| json!(b)),
        1 => Just(Value::Null),
    ]
}

fn value() -> impl Strategy<Value = Value> + Clone {
    scalar().prop_recursive(4, 24, 4, |inner| {
        prop_oneof![prop::collection::vec(inner.clone(), 0..4).prop_map(Value::Array), object_of(inner),]
    })
}

fn object_of(inner: impl Strategy<Value = Value> + Clone + 'static) -> impl Strategy<Value = Value> {
    prop::collection::btree_map("[a-d]", inner, 0..4)
        .prop_map(|members| Value::Object(members.into_iter().collect()))
}

/// What tables can tell of a value: nulls, empty texts, lists and objects are nothing, a list of
/// one object is that object, and a plain value is its text.
fn plain(value: &Value) -> Value {
    match value {
        Value::Object(members) => {
            let kept = members.iter().map(|(key, value)| (key.clone(), plain(value)));
            let kept: Map<String, Value> = kept.filter(|(_, value)| !value.is_null()).collect();
            if kept.is_empty() { Value::Null } else { Value::Object(kept) }
        }
        Value::Array(items) => {
            let mut kept: Vec<Value> = items.iter().map(plain).filter(|value| !value.is_null()).collect();
            match kept.len() {
                0 => Value::Null,
                1 if kept[0].is_object() => kept.remove(0),
                _ => Value::Array(kept),
            }
        }
        Value::Null => Value::Null,
        Value::String(text) => json!(text),
        Value::Number(number) => json!(number.as_f64().expect("a number").to_string()),
        Value::Bool(value) => json!(value.to_string()),
    }
}

/// A table of the database: its columns with the names the file has for them, and its rows.
struct Table {
    path: String,
    sources: Vec<String>,
    booleans: Vec<bool>,
    rows: Vec<Vec<String>>,
}

fn tables(shop: &hypodoke_testkit::Workshop) -> Vec<Table> {
    let layout = |table: &str| -> Value {
        let sql = format!(
            "SELECT layout FROM hd_layouts WHERE table_name = '{table}' ORDER BY version DESC LIMIT 1"
        );
        serde_json::from_str(&shop.query("h.db", &sql)[0]).expect("a layout")
    };
    let main = layout("docs");
    let parts = main["parts"].as_array().cloned().unwrap_or_default();
    let mut names = vec![(String::new(), "docs".to_owned())];
    names.extend(parts.iter().map(|part| {
        (
            part["path"].as_str().expect("a path").to_owned(),
            part["table"].as_str().expect("a table").to_owned(),
        )
    }));
    let table = |(path, name): (String, String)| {
        let columns = layout(&name)["columns"].as_array().cloned().unwrap_or_default();
        let text = |column: &Value, key: &str| column[key].as_str().unwrap_or_default().to_owned();
        let list: Vec<String> = columns.iter().map(|c| format!("quote(\"{}\")", text(c, "name"))).collect();
        let lineage = if path.is_empty() { "hd_line, 0, 0" } else { "hd_row, hd_parent, hd_position" };
        let all: Vec<String> = list.into_iter().chain([lineage.to_owned()]).collect();
        let rows = shop.query(
            "h.db",
            &format!(
                "SELECT {} FROM \"{name}\"",
                all.join(" || char(31) || ")
                    .replace("hd_line, 0, 0", "hd_line || char(31) || 0 || char(31) || 0")
                    .replace(
                        "hd_row, hd_parent, hd_position",
                        "hd_row || char(31) || hd_parent || char(31) || hd_position"
                    )
            ),
        );
        Table {
            path,
            sources: columns.iter().map(|c| text(c, "source")).collect(),
            booleans: columns.iter().map(|c| c["domain"] == "boolean").collect(),
            rows: rows.iter().map(|row| row.split('\u{1f}').map(str::to_owned).collect()).collect(),
        }
    };
    names.into_iter().map(table).collect()
}

/// A value as SQL quotes it.
fn unquoted(text: &str, boolean: bool) -> Value {
    if text == "NULL" {
        return Value::Null;
    }
    if let Some(inner) = text.strip_prefix('\'').and_then(|rest| rest.strip_suffix('\'')) {
        let inner = inner.replace("''", "'");
        return match serde_json::from_str::<Value>(&inner) {
            // What stayed JSON.
            Ok(value @ (Value::Array(_) | Value::Object(_))) => plain(&value),
            Ok(Value::Number(number)) => json!(number.as_f64().expect("a number").to_string()),
            _ => json!(inner),
        };
    }
    if boolean {
        return json!((text == "1").to_string());
    }
    json!(text.parse::<f64>().expect("a number").to_string())
}

fn set(object: &mut Value, keys: &[&str], value: Value) {
    let (last, before) = keys.split_last().expect("a key");
    let mut place = object;
    for key in before {
        place = place.as_object_mut().expect("an object").entry(key.to_string()).or_insert_with(|| json!({}));
    }
    place.as_object_mut().expect("an object").insert(last.to_string(), value);
}

/// The row of a table with what hangs on it.
fn built(tables: &[Table], at: usize, row: &[String]) -> Value {
    let table = &tables[at];
    let width = table.sources.len();
    let mut object = json!({});
    for ((source, text), boolean) in table.sources.iter().zip(row).zip(&table.booleans) {
        let value = unquoted(text, *boolean);
        if value.is_null() {
            continue;
        }
        if source == "value" {
            return value;
        }
        set(&mut object, &source.split('.').collect::<Vec<_>>(), value);
    }
    let mine = |other: &&(usize, &Table)| parent_of(tables, other.0) == Some(at);
    for (child, inner) in tables.iter().enumerate().collect::<Vec<_>>().iter().filter(|other| mine(other)) {
        let mut rows: BTreeMap<u64, Value> = BTreeMap::new();
        for other in inner.rows.iter().filter(|other| other[inner.sources.len() + 1] == row[width]) {
            let position = other[inner.sources.len() + 2].parse().expect("a position");
            rows.insert(position, built(tables, *child, other));
        }
        if !rows.is_empty() {
            let path = inner.path[table.path.len()..].trim_start_matches('.').to_owned();
            set(
                &mut object,
                &path.split('.').collect::<Vec<_>>(),
                Value::Array(rows.into_values().collect()),
            );
        }
    }
    object
}

/// The table whose rows a child's hang on: that of the longest path its own begins with.
fn parent_of(tables: &[Table], child: usize) -> Option<usize> {
    let path = &tables[child].path;
    let holds = |other: &Table| other.path.is_empty() || path.starts_with(&format!("{}.", other.path));
    let found = tables.iter().enumerate().filter(|(at, other)| *at != child && holds(other));
    if path.is_empty() { None } else { found.max_by_key(|(_, other)| other.path.len()).map(|(at, _)| at) }
}

#[test]
fn nested_documents_are_built_up_again_from_the_tables() {
    let documents = prop::collection::vec(object_of(value()), 1..8);
    let mut runner = TestRunner::new(Config { cases: 48, failure_persistence: None, ..Config::default() });
    let check = |documents: Vec<Value>| {
        let shop = workshop();
        let lines: Vec<String> = documents.iter().map(Value::to_string).collect();
        shop.write("docs.jsonl", lines.join("\n") + "\n");
        let receipt = shop.json("load docs.jsonl --into sqlite:h.db --strings text", 0);
        let line = &receipt["files"][0];
        prop_assert_eq!(line["rows_loaded"].as_u64(), Some(documents.len() as u64), "{}", line);
        let tables = tables(&shop);
        for (table, part) in tables.iter().skip(1).zip(line["parts"].as_array().expect("parts")) {
            prop_assert_eq!(part["rows_loaded"].as_u64(), Some(table.rows.len() as u64));
        }
        for row in &tables[0].rows {
            let number: usize = row[tables[0].sources.len()].parse().expect("a line");
            prop_assert_eq!(plain(&built(&tables, 0, row)), plain(&documents[number - 1]));
        }
        Ok(())
    };
    runner.run(&documents, check).unwrap_or_else(|failure| panic!("{failure}"));
}
