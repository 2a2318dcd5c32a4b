//! Bad weather between us and a PostgreSQL server: lines that break, locks, timeouts.

use hypodoke_testkit::{Cut, Cutter, Database, Server, Workshop};
use rstest::rstest;

use crate::workshop;

pub const ROWS: usize = 40_000;

pub fn begun(url: &str, more: &str) -> Workshop {
    let shop = workshop();
    let rows: String = (0..ROWS).map(|row| format!("{row},N{},a remark of some length\n", row % 9)).collect();
    shop.write("in/berths_1.csv", format!("id,berth,remark\n{rows}"));
    shop.write("in/berths_2.csv", "id,berth,remark\nW-1,N1,the last\n");
    let feed = "[place.quay]\npath = \"in\"\n[feed.berths]\nplace = \"quay\"\nfiles = \"*.csv\"\n";
    shop.write("hypodoke.toml", format!("[staging]\nurl = \"{url}\"\n{more}{feed}"));
    shop
}

/// The two files as one delivery of a day.
pub fn as_a_delivery(shop: &Workshop) {
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    let feed = "files = \"{day:%Y%m%d}_*.csv\"\ndelivery = \"day\"\n";
    shop.write("hypodoke.toml", format!("{}mode = \"replace\"\n", text.replace("files = \"*.csv\"\n", feed)));
    for at in 1..=2 {
        let (from, to) = (format!("in/berths_{at}.csv"), format!("in/20260302_{at}.csv"));
        std::fs::rename(shop.path(&from), shop.path(&to)).expect("a file");
    }
}

/// Every row is there once, by the table and by the ledger; `query` asks the database.
pub fn holds_all(shop: &Workshop, query: impl Fn(&str) -> Vec<String>) {
    let found = query("SELECT count(*), count(DISTINCT id), count(DISTINCT hd_file) FROM berths");
    assert_eq!(found, [format!("{0}|{0}|2", ROWS + 1)]);
    let ledger = "SELECT count(*), sum(rows_loaded) FROM hd_files WHERE outcome = 'loaded'";
    assert_eq!(query(ledger), [format!("2|{}", ROWS + 1)]);
    assert!(shop.ok("tally").out.contains("all figures agree"));
}

/// What the files were found to hold before the first was loaded is not forgotten when it is tried
/// again: the table is made for both of them.
fn was_made_once(database: &Database) {
    assert_eq!(database.query("SELECT count(*), count(DISTINCT version) FROM hd_layouts"), ["1|1"]);
    let of_id =
        "SELECT data_type FROM information_schema.columns WHERE table_name = 'berths' AND column_name = 'id'";
    assert_eq!(database.query(of_id), ["text"]);
}

#[rstest]
#[case::at_the_door(Cut::AfterBytes(40))]
#[case::before_the_rows(Cut::AfterBytes(4_000))]
#[case::in_the_rows(Cut::AfterBytes(600_000))]
#[case::late_in_the_rows(Cut::AfterBytes(2_200_000))]
#[case::first_commit_unheard(Cut::AtCommit(1))]
#[case::second_commit_unheard(Cut::AtCommit(2))]
#[case::third_commit_unheard(Cut::AtCommit(3))]
fn a_line_that_breaks_costs_no_row_and_doubles_none(#[case] cut: Cut) {
    let database = Server::shared().database();
    let line = Cutter::to(database.port(), cut);
    let shop = begun(&database.url_through(line.port()), "");
    let run = shop.run("load");
    assert!(line.has_cut(), "the line is to break");
    if cut == Cut::AfterBytes(40) {
        // Who never got in may be at the wrong address.
        assert!(run.code == Some(4) && run.err.contains("→"), "{}{}", run.out, run.err);
        shop.ok("load");
    } else {
        assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
        assert!(run.out.contains(&format!("2 files loaded, {}", "40,001 rows")), "{}", run.out);
    }
    holds_all(&shop, |sql| database.query(sql));
    was_made_once(&database);
    assert!(shop.ok("load").out.contains("nothing new"));
}

/// The files of a day are one delivery, in one transaction: it is begun again as a whole.
#[rstest]
#[case::in_the_rows(Cut::AfterBytes(600_000))]
#[case::between_the_files(Cut::AfterBytes(2_330_000))]
#[case::commit_unheard(Cut::AtCommit(2))]
fn a_line_that_breaks_in_a_delivery_costs_nothing(#[case] cut: Cut) {
    let database = Server::shared().database();
    let line = Cutter::to(database.port(), cut);
    let shop = begun(&database.url_through(line.port()), "");
    as_a_delivery(&shop);
    let run = shop.run("load");
    assert!(line.has_cut(), "the line is to break");
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    holds_all(&shop, |sql| database.query(sql));
    was_made_once(&database);
    assert!(shop.ok("load").out.contains("nothing new"));
}

#[test]
fn a_lock_that_somebody_holds_is_waited_for() {
    let database = Server::shared().database();
    let shop = begun(&database.url, "wait = \"300ms\"\n");
    shop.write("in/berths_2.csv", "id,berth,remark\n-1,N1,the last\n");
    database
        .query("CREATE TABLE berths (id bigint, berth text, remark text, hd_file bigint, hd_line bigint)");
    let mut holder = database.beside("BEGIN; LOCK TABLE berths; SELECT pg_sleep(2)");
    let locked = "SELECT count(*) > 0 FROM pg_locks WHERE mode = 'AccessExclusiveLock' AND relation = 'berths'::regclass";
    hypodoke_testkit::wait_for("the lock", || database.query(locked) == ["t"]);
    let run = shop.run("load");
    let _ = holder.wait();
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    holds_all(&shop, |sql| database.query(sql));
}

#[test]
fn a_statement_that_takes_too_long_undoes_its_file_and_is_quoted() {
    let database = Server::shared().database();
    let shop = begun(&database.url, "");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", format!("{text}sql_after = \"SELECT pg_sleep(30)\"\n"));
    database.query(&format!("ALTER DATABASE {} SET statement_timeout = '700ms'", database.name));
    let run = shop.run("load berths");
    let words = "canceling statement due to statement timeout";
    assert!(
        run.code == Some(1) && run.out.contains(words) && run.out.contains("pg_sleep"),
        "{}{}",
        run.out,
        run.err
    );
    assert_eq!(database.query("SELECT count(*) FROM pg_tables WHERE tablename = 'berths'"), ["0"]);
    shop.write("hypodoke.toml", text);
    shop.ok("load");
    holds_all(&shop, |sql| database.query(sql));
}

#[test]
fn a_unix_socket_is_as_good_as_a_port() {
    let server = Server::shared();
    let database = server.database();
    let socket = server.path("").display().to_string();
    let url = format!(
        "postgres://quillane@/{}?host={}&port={}",
        database.name,
        socket.trim_end_matches('/').replace('/', "%2F"),
        database.port()
    );
    let shop = begun(&url, "");
    shop.ok("load");
    holds_all(&shop, |sql| database.query(sql));
}
