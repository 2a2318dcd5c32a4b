//! Lines that break, locks, servers that are gone for a while.

use hypodoke_testkit::{Cut, Cutter, Mariadb, wait_for};
use rstest::rstest;

use super::database;
use crate::weather::{ROWS, as_a_delivery, begun, holds_all};
use crate::workshop;
#[rstest]
#[case::at_the_door(Cut::AfterBytes(40))]
#[case::before_the_rows(Cut::AfterBytes(4_000))]
#[case::in_the_rows(Cut::AfterBytes(600_000))]
#[case::late_in_the_rows(Cut::AfterBytes(1_300_000))]
#[case::first_commit_unheard(Cut::AnswerToCommit(1))]
#[case::second_commit_unheard(Cut::AnswerToCommit(2))]
#[case::third_commit_unheard(Cut::AnswerToCommit(3))]
fn a_line_that_breaks_costs_no_row_and_doubles_none(#[case] cut: Cut) {
    let database = database();
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
        assert!(run.out.contains("2 files loaded, 40,001 rows"), "{}", run.out);
    }
    holds_all(&shop, |sql| database.query(sql));
    assert_eq!(database.query("SELECT count(*), count(DISTINCT version) FROM hd_layouts"), ["1|1"]);
    assert!(shop.ok("load").out.contains("nothing new"));
}

/// The files of a day are one delivery, in one transaction: it is begun again as a whole.
#[rstest]
#[case::in_the_rows(Cut::AfterBytes(600_000))]
#[case::commit_unheard(Cut::AnswerToCommit(2))]
fn a_line_that_breaks_in_a_delivery_costs_nothing(#[case] cut: Cut) {
    let database = database();
    let line = Cutter::to(database.port(), cut);
    let shop = begun(&database.url_through(line.port()), "");
    as_a_delivery(&shop);
    let run = shop.run("load");
    assert!(line.has_cut(), "the line is to break");
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    holds_all(&shop, |sql| database.query(sql));
    assert_eq!(database.query("SELECT count(*), count(DISTINCT version) FROM hd_layouts"), ["1|1"]);
    assert!(shop.ok("load").out.contains("nothing new"));
}

#[rstest]
#[case::of_the_table("LOCK TABLES berths WRITE; SELECT sleep(3)")]
#[case::of_its_shape("START TRANSACTION; SELECT count(*) FROM berths; SELECT sleep(3)")]
fn a_lock_that_somebody_holds_is_waited_for(#[case] holding: &str) {
    let database = database();
    let shop = begun(&database.url, "wait = \"1s\"\n");
    shop.write("in/berths_2.csv", "id,berth,remark\n-1,N1,the last\n");
    database
        .query("CREATE TABLE berths (id bigint, berth text, remark text, hd_file bigint, hd_line bigint)");
    let mut holder = database.beside(holding);
    let sleeping =
        "SELECT count(*) FROM information_schema.PROCESSLIST WHERE DB = DATABASE() AND STATE = 'User sleep'";
    wait_for("the lock", || database.query(sleeping) == ["1"]);
    let run = shop.run("load");
    let _ = holder.wait();
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let found = database.query("SELECT count(*), count(DISTINCT id), count(DISTINCT hd_file) FROM berths");
    assert_eq!(found, [format!("{0}|{0}|2", ROWS + 1)]);
}

/// A server that is stopped in the middle of a load and started again is waited for.
#[test]
fn a_server_that_is_started_anew_is_waited_for() {
    let server = Mariadb::start(&[]);
    let database = server.database();
    let shop = begun(&database.url, "");
    let mut load = shop.command("load").spawn().expect("a load");
    let begun = "SELECT count(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = 'hd_files'";
    wait_for("the ledger", || database.query(begun) == ["1"]);
    server.stop();
    server.start_again();
    load.wait().expect("an end");
    shop.run("load");
    holds_all(&shop, |sql| database.query(sql));
    assert_eq!(database.query("SELECT count(*), count(DISTINCT version) FROM hd_layouts"), ["1|1"]);
}

/// Sessions that are ended while nothing is asked of them, as by `wait_timeout`, are begun again.
#[test]
fn a_session_that_was_ended_is_begun_again() {
    let (shop, database) = (workshop(), database());
    shop.write("in/gauge_1.csv", "at\n1\n");
    let place = "[place.quay]\npath = \"in\"\nquiet_for = \"200ms\"\n[feed.g]\nplace = \"quay\"\nfiles = \"gauge_*.csv\"\ntable = \"g\"\n";
    shop.write("hypodoke.toml", format!("[staging]\nurl = \"{}\"\n{place}", database.url));
    let _watch = hypodoke_testkit::Watch::start(&shop, "");
    let rows = |n: &str| {
        let is_there = database.query("SELECT count(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = 'g'") == ["1"];
        is_there && database.query("SELECT count(*) FROM g") == [n]
    };
    wait_for("the first file", || rows("1"));
    database.kill_sessions();
    shop.write("in/gauge_2.csv", "at\n2\n");
    wait_for("the second file", || rows("2"));
}

#[test]
fn too_many_connections_are_told_in_the_servers_words() {
    let server = Mariadb::start(&["--max-connections=10", "--extra-max-connections=1"]);
    let database = server.database();
    let holders: Vec<_> = (0..11).map(|_| database.beside("SELECT sleep(20)")).collect();
    let shop = begun(&database.url, "");
    let mut said = String::new();
    wait_for("a server that is full", || {
        let run = shop.run("load");
        said = format!("{}{}", run.out, run.err);
        run.code == Some(4)
    });
    assert!(said.contains("Too many connections"), "{said}");
    for mut holder in holders {
        let _ = holder.kill().and_then(|()| holder.wait());
    }
}

#[test]
fn a_unix_socket_is_as_good_as_a_port() {
    let database = database();
    let socket = database.socket().display().to_string();
    let shop = begun(&format!("mysql://quillane@/{}?socket={socket}", database.name), "");
    shop.ok("load");
    holds_all(&shop, |sql| database.query(sql));
    assert_eq!(database.query("SELECT count(*), count(DISTINCT version) FROM hd_layouts"), ["1|1"]);
}
