//! Modes, deliveries, tables that are there already and SQL around the load, on all databases, and with the
//! ledger in another than the tables.

use hypodoke_testkit::{Database, Mariadb, MariadbDatabase, Server, Workshop, set_modified};
use rstest::rstest;

use crate::workshop;

/// A staging database of any kind, asked through its own client.
pub enum Staging {
    Sqlite(String),
    Postgres(Database),
    Mysql(MariadbDatabase),
    /// The ledger in one database, the tables in another.
    Apart {
        ledger: Box<Staging>,
        tables: Box<Staging>,
    },
}

#[derive(Clone, Copy, Debug)]
pub enum Kind {
    Sqlite,
    Postgres,
    Mysql,
    /// The ledger in SQLite, the tables in PostgreSQL.
    SqlitePostgres,
    /// The ledger in PostgreSQL, the tables in MariaDB.
    PostgresMysql,
}

use Kind::{Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};

/// What the names of the ledger's tables begin with; tables of ours that stand beside staging tables have other
/// names.
const OF_LEDGER: [&str; 10] = [
    "hd_files",
    "hd_batches",
    "hd_rejects",
    "hd_corrections",
    "hd_layouts",
    "hd_drift",
    "hd_parts",
    "hd_decisions",
    "hd_notice",
    "hd_kept_rows",
];

impl Staging {
    pub fn new(kind: Kind) -> Staging {
        match kind {
            Sqlite => Staging::Sqlite("h.db".to_owned()),
            Postgres => Staging::Postgres(Server::shared().database()),
            Mysql => Staging::Mysql(Mariadb::shared().database()),
            SqlitePostgres => Staging::apart(Staging::Sqlite("ledger.db".to_owned()), Staging::new(Postgres)),
            PostgresMysql => Staging::apart(Staging::new(Postgres), Staging::new(Mysql)),
        }
    }

    /// The ledger in one database, the tables in another.
    pub fn apart(ledger: Staging, tables: Staging) -> Staging {
        Staging::Apart { ledger: Box::new(ledger), tables: Box::new(tables) }
    }

    /// The databases as `[staging]` has them.
    pub fn section(&self) -> String {
        match self {
            Staging::Apart { ledger, tables } => {
                format!("[staging]\nurl = \"{}\"\nledger = \"{}\"\n", tables.url(), ledger.url())
            }
            one => format!("[staging]\nurl = \"{}\"\n", one.url()),
        }
    }

    /// The databases as options.
    pub fn options(&self) -> String {
        match self {
            Staging::Apart { ledger, tables } => format!("--into {} --ledger {}", tables.url(), ledger.url()),
            one => format!("--into {}", one.url()),
        }
    }

    /// The database of the tables.
    pub fn tables(&self) -> &Staging {
        match self {
            Staging::Apart { tables, .. } => tables,
            one => one,
        }
    }

    /// The address of the tables.
    pub fn url(&self) -> String {
        match self {
            Staging::Apart { tables, .. } => tables.url(),
            Staging::Sqlite(file) => format!("sqlite:{file}"),
            Staging::Postgres(database) => database.url.clone(),
            Staging::Mysql(database) => database.url.clone(),
        }
    }

    /// Whether a table is there.
    pub fn has_table(&self, shop: &Workshop, name: &str) -> bool {
        let catalogue = match self.tables() {
            Staging::Apart { .. } => return false,
            Staging::Sqlite(file) if !shop.path(file).exists() => return false,
            Staging::Sqlite(_) => "sqlite_schema WHERE name =",
            Staging::Postgres(_) => "pg_class WHERE relname =",
            Staging::Mysql(_) => "information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME =",
        };
        !self.query(shop, &format!("SELECT 1 FROM {catalogue} '{name}'")).is_empty()
    }

    /// How a column is declared, in the database's own words.
    pub fn type_of(&self, shop: &Workshop, table: &str, column: &str) -> String {
        let sql = match self.tables() {
            Staging::Apart { .. } => return String::new(),
            Staging::Sqlite(_) => {
                format!("SELECT lower(type) FROM pragma_table_info('{table}') WHERE name = '{column}'")
            }
            Staging::Postgres(_) => format!(
                "SELECT format_type(atttypid, atttypmod) FROM pg_attribute WHERE attrelid = '{table}'::regclass AND attname = '{column}'"
            ),
            Staging::Mysql(_) => format!(
                "SELECT COLUMN_TYPE FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = '{table}' AND COLUMN_NAME = '{column}'"
            ),
        };
        self.query(shop, &sql).remove(0)
    }

    /// Rows as text, truth values and numbers as both show them; of the ledger where a statement names a table
    /// of its.
    pub fn query(&self, shop: &Workshop, sql: &str) -> Vec<String> {
        match self {
            Staging::Apart { ledger, tables } => {
                let is_of_ledger = OF_LEDGER.iter().any(|name| sql.contains(name));
                if is_of_ledger { ledger.query(shop, sql) } else { tables.query(shop, sql) }
            }
            Staging::Sqlite(file) => shop.query(file, sql),
            Staging::Postgres(database) => database.query(sql),
            Staging::Mysql(database) => database.query(&in_its_words(sql)),
        }
    }

    /// Rows and ledger agree: every row is of a file that is loaded, and where rows are only added, each file
    /// has as many as the ledger says.
    #[track_caller]
    pub fn agree(&self, shop: &Workshop, table: &str, is_counted: bool) {
        let in_table = self.query(shop, &format!("SELECT hd_file, count(*) FROM {table} GROUP BY hd_file"));
        let sql = "SELECT file, rows_loaded FROM hd_files WHERE outcome = 'loaded' AND replaced_by IS NULL";
        let in_ledger = self.query(shop, sql);
        for row in &in_table {
            let is_it = |entry: &String| match is_counted {
                true => entry == row,
                false => entry.split('|').next() == row.split('|').next(),
            };
            assert!(in_ledger.iter().any(is_it), "{row} of {in_table:?} is not among {in_ledger:?}");
        }
        if is_counted {
            let loaded = in_ledger.iter().filter(|entry| !entry.ends_with("|0")).count();
            assert_eq!(loaded, in_table.len(), "{in_ledger:?} and {in_table:?}");
        }
    }

    /// Ends all sessions that the program has on the database of the tables.
    pub fn end_sessions(&self) {
        match self.tables() {
            Staging::Postgres(database) => {
                database.query("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'hypodoke' AND datname = current_database()");
            }
            Staging::Mysql(database) => database.kill_sessions(),
            Staging::Sqlite(_) | Staging::Apart { .. } => {}
        }
    }

    /// How many rows a table has; none where it is not there.
    pub fn rows_if_any(&self, shop: &Workshop, table: &str) -> u64 {
        if !self.has_table(shop, table) {
            return 0;
        }
        self.query(shop, &format!("SELECT count(*) FROM {table}"))[0].parse().expect("a count")
    }

    pub fn run(&self, shop: &Workshop, sql: &str) {
        match self {
            Staging::Apart { ledger, tables } => {
                let is_of_ledger = OF_LEDGER.iter().any(|name| sql.contains(name));
                if is_of_ledger { ledger.run(shop, sql) } else { tables.run(shop, sql) }
            }
            Staging::Sqlite(file) => rusqlite::Connection::open(shop.path(file))
                .and_then(|database| database.execute_batch(sql))
                .expect("statements"),
            Staging::Postgres(database) => {
                database.query(sql);
            }
            Staging::Mysql(database) => {
                database.query(&in_its_words(sql));
            }
        }
    }
}

/// A statement of the tests as MySQL has it: CAST has another word for texts, and `change` is one of its own.
fn in_its_words(sql: &str) -> String {
    let words = [
        (" AS TEXT)", " AS CHAR)"),
        (" AS text)", " AS CHAR)"),
        (" length(", " char_length("),
        ("(length(", "(char_length("),
        (" change ", " \"change\" "),
        (" change,", " \"change\","),
    ];
    words.iter().fold(sql.to_owned(), |sql, (from, to)| sql.replace(from, to))
}

/// A configuration with one feed of `f_DAY*.csv`.
pub fn configure(shop: &Workshop, staging: &Staging, feed: &str) {
    let text = format!(
        "{}[place.quay]\npath = \"in\"\n[feed.f]\nplace = \"quay\"\nfiles = \"f_{{day:%Y%m%d}}*.csv\"\ntable = \"f\"\n{feed}\n",
        staging.section()
    );
    shop.write("hypodoke.toml", text);
}

const FIRST: &str = "id,berth,tugs\n1,N1,2\n2,N2,0\n3,N3,1\n";
const SECOND: &str = "id,berth,tugs\n2,N2,0\n3,N9,1\n4,N4,3\n4,N5,3\n";

fn counts(document: &serde_json::Value) -> Vec<(u64, u64, u64, u64, u64)> {
    let files = document["files"].as_array().expect("files");
    let of = |line: &serde_json::Value| {
        let count = |name: &str| line["counts"][name].as_u64().expect("a count");
        let left_out = line["rows_left_out"].as_u64().expect("a count");
        (count("inserted"), count("updated"), count("unchanged"), count("deleted"), left_out)
    };
    files.iter().map(of).collect()
}

#[rstest]
#[case::append("append", &[(3, 0, 0, 0, 0), (4, 0, 0, 0, 0)], &["1|N1", "2|N2", "2|N2", "3|N3", "3|N9", "4|N4", "4|N5"])]
#[case::replace("replace", &[(3, 0, 0, 0, 0), (4, 0, 0, 3, 0)], &["2|N2", "3|N9", "4|N4", "4|N5"])]
#[case::upsert("upsert", &[(3, 0, 0, 0, 0), (1, 1, 1, 0, 1)], &["1|N1", "2|N2", "3|N9", "4|N5"])]
#[case::insert_new("insert-new", &[(3, 0, 0, 0, 0), (1, 0, 0, 0, 3)], &["1|N1", "2|N2", "3|N3", "4|N5"])]
fn modes_do_what_they_say_and_count_it(
    #[case] mode: &str,
    #[case] expected: &[(u64, u64, u64, u64, u64)],
    #[case] rows: &[&str],
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let shop = workshop();
    let staging = Staging::new(kind);
    configure(&shop, &staging, &format!("mode = \"{mode}\"\nkey = [\"id\"]"));
    shop.write("in/f_20260302.csv", FIRST);
    let first = shop.json("load", 0);
    shop.write("in/f_20260303.csv", SECOND);
    let second = shop.json("load", 0);
    assert_eq!([counts(&first), counts(&second)].concat(), expected);
    assert_eq!(staging.query(&shop, "SELECT id, berth FROM f ORDER BY id, berth"), rows);
    let account = "SELECT sum(rows_read - rows_loaded - rows_rejected - rows_left_out) FROM hd_files";
    assert_eq!(staging.query(&shop, account), ["0"]);
    assert!(shop.ok("load").out.contains("nothing new"));
}

#[rstest]
fn history_keeps_every_version(#[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind) {
    let shop = workshop();
    let staging = Staging::new(kind);
    configure(&shop, &staging, "mode = \"history\"\nkey = [\"id\"]");
    shop.write("in/f_20260302.csv", FIRST);
    shop.ok("load");
    shop.write("in/f_20260303.csv", SECOND);
    assert_eq!(counts(&shop.json("load", 0)), [(1, 1, 1, 0, 1)]);
    let current = "SELECT id, berth FROM f WHERE hd_valid_to IS NULL ORDER BY id";
    assert_eq!(staging.query(&shop, current), ["1|N1", "2|N2", "3|N9", "4|N5"]);
    let past = "SELECT id, berth FROM f WHERE hd_valid_to IS NOT NULL";
    assert_eq!(staging.query(&shop, past), ["3|N3"]);
    let joins = "SELECT count(*) FROM f a JOIN f b ON a.id = b.id AND a.hd_valid_to = b.hd_valid_from";
    assert_eq!(staging.query(&shop, joins), ["1"]);
    // A corrected file takes back what it did.
    shop.write("in/f_20260303.csv", "id,berth,tugs\n2,N2,0\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, current), ["1|N1", "2|N2", "3|N3"]);
    assert_eq!(staging.query(&shop, past), [""; 0]);
}

#[rstest]
fn a_null_in_the_key_is_a_reject(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let shop = workshop();
    let staging = Staging::new(kind);
    configure(&shop, &staging, "mode = \"upsert\"\nkey = [\"id\", \"berth\"]");
    shop.write("in/f_20260302.csv", "id,berth,tugs\n1,N1,2\n2,,0\n");
    let run = shop.json("load", 3);
    assert_eq!(run["totals"]["rows_rejected"], 1);
    let reasons = staging.query(&shop, "SELECT column_name, reason FROM hd_rejects");
    assert_eq!(reasons, ["berth|null, and the column takes none"]);
}

#[rstest]
fn a_delivery_of_several_files_is_loaded_whole_or_not_at_all(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let shop = workshop();
    let staging = Staging::new(kind);
    configure(&shop, &staging, "mode = \"replace\"\ndelivery = \"day\"");
    shop.write("in/f_20260302_a.csv", "id,berth\n1,N1\n2,N2\n");
    shop.write("in/f_20260302_b.csv", "id,berth\n3,N3\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["3"]);
    // The next day's second file cannot be read: the table keeps the day before.
    shop.write("in/f_20260303_a.csv", "id,berth\n4,N4\n");
    shop.write("in/f_20260303_b.csv", [0u8, 1, 2, 3, 0, 0, 0, 5, 6, 7, 0, 0]);
    let run = shop.run("load");
    assert_eq!(run.code, Some(1), "{}{}", run.out, run.err);
    assert!(run.out.contains("another file of the same delivery failed"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT min(id), count(*) FROM f"), ["1|3"]);
    let failed = "SELECT path FROM hd_files WHERE outcome = 'failed' ORDER BY path";
    assert_eq!(staging.query(&shop, failed), ["f_20260303_a.csv", "f_20260303_b.csv"]);
    shop.write("in/f_20260303_b.csv", "id,berth\n5,N5\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT min(id), count(*) FROM f"), ["4|2"]);
    // A third file of the same day comes late, and belongs to it.
    shop.write("in/f_20260303_c.csv", "id,berth\n6,N6\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT min(id), count(*) FROM f"), ["4|3"]);
}

#[rstest]
fn the_newest_wins_whatever_the_order_of_names(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let shop = workshop();
    let staging = Staging::new(kind);
    configure(&shop, &staging, "mode = \"upsert\"\nkey = \"id\"");
    let newer = shop.write("in/f_20260302_a.csv", "id,berth\n1,new\n");
    let older = shop.write("in/f_20260302_b.csv", "id,berth\n1,old!\n");
    set_modified(&older, 1_772_400_000);
    set_modified(&newer, 1_772_500_000);
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT berth FROM f"), ["new"]);
}

#[rstest]
fn sql_around_the_load_is_part_of_it(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let shop = workshop();
    let staging = Staging::new(kind);
    staging.run(&shop, "CREATE TABLE log (what text)");
    // The entry of the file is by then as it will be. A ledger elsewhere is not seen from there.
    let after = match staging {
        Staging::Apart { .. } => "INSERT INTO log SELECT concat('rows ', count(*)) FROM f;",
        _ => "INSERT INTO log SELECT concat('rows ', max(rows_loaded)) FROM hd_files;",
    };
    shop.write("after.sql", after);
    configure(
        &shop,
        &staging,
        "sql_before = \"INSERT INTO log VALUES ('before')\"\nsql_after = [\"@after.sql\"]",
    );
    shop.write("in/f_20260302.csv", FIRST);
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT what FROM log"), ["before", "rows 3"]);
    configure(
        &shop,
        &staging,
        "sql_before = \"INSERT INTO log VALUES ('undone')\"\nsql_after = \"SELECT nonsense FROM nowhere\"",
    );
    shop.write("in/f_20260303.csv", SECOND);
    let run = shop.run("load");
    assert_eq!(run.code, Some(1), "{}", run.out);
    for part in ["the statement of `sql_after` failed", "nowhere", "SELECT nonsense"] {
        assert!(run.out.contains(part), "{part} in {}", run.out);
    }
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM log"), ["2"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["3"]);
}

#[test]
fn a_table_that_is_there_is_filled_as_it_is() {
    let shop = workshop();
    let staging = Staging::new(Postgres);
    staging.run(
        &shop,
        "CREATE TABLE f (no bigint GENERATED ALWAYS AS IDENTITY, \"Berth No\" varchar(3) NOT NULL, tugs smallint,
           fee numeric(5,2), added timestamptz DEFAULT now(), note text, twice int GENERATED ALWAYS AS (tugs * 2) STORED,
           CHECK (tugs < 100))",
    );
    configure(&shop, &staging, "");
    shop.write(
        "in/f_20260302.csv",
        "berth_no,tugs,fee\nN1,1,1.25\nNorth,2,1\nN2,40000,1\n,3,1\nN3,4,1234.5\nN4,5,1.005\nN5,500,1\nN6,6,7\n",
    );
    let rules = "[feed.f.columns.day]\nname = \"note\"\ntype = \"text\"\n";
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text") + rules;
    shop.write("hypodoke.toml", text);
    let run = shop.json("load", 3);
    let rows = staging.query(
        &shop,
        "SELECT no, \"Berth No\", tugs, fee, note, twice, added IS NOT NULL FROM f ORDER BY no",
    );
    let kept: Vec<&str> = rows.iter().map(|row| row.split_once('|').expect("fields").1).collect();
    assert_eq!(kept, ["N1|1|1.25|2026-03-02|2|t", "N6|6|7.00|2026-03-02|12|t"], "{run}");
    let reasons = staging.query(&shop, "SELECT line, reason FROM hd_rejects ORDER BY line");
    assert_eq!(reasons.len(), 6);
    for (at, part) in [
        (0, "3|longer than the column's 3 characters"),
        (1, "4|too large for the column's 16 bits"),
        (2, "5|null, and the column takes none"),
        (3, "6|too large for decimal(5,2)"),
        (4, "7|3 digits after the decimal mark"),
        (5, "8|the table refused it"),
    ] {
        assert!(reasons[at].starts_with(part), "{part} in {reasons:?}");
    }
    shop.write("in/f_20260303.csv", "tugs,fee\n1,1\n");
    let run = shop.run("load");
    assert_eq!(run.code, Some(1));
    assert!(run.out.contains("the file has no `Berth No`, which the table requires"), "{}", run.out);
}

#[test]
fn a_mode_that_asks_for_a_key_has_to_have_one() {
    let shop = workshop();
    let staging = Staging::new(Sqlite);
    configure(&shop, &staging, "mode = \"upsert\"");
    let run = shop.run("load");
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("mode `upsert` tells rows apart by `key`"), "{}", run.err);
    configure(&shop, &staging, "mode = \"upsert\"\nkey = [\"number\"]");
    shop.write("in/f_20260302.csv", FIRST);
    let run = shop.run("load");
    assert_eq!(run.code, Some(1));
    assert!(
        run.out.contains("no column `number`, which is in the key; there are id, berth, tugs"),
        "{}",
        run.out
    );
}
