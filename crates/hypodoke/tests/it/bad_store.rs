//! Databases that will not do what is asked.

use crate::workshop;

const CONFIG: &str = "[staging]\nurl = \"sqlite:h.db\"\nwait = \"50ms\"\n[place.p]\npath = \"in\"\n[feed.f]\nplace = \"p\"\nfiles = \"*.csv\"\n";

#[test]
fn a_locked_database_is_waited_for_and_then_said_to_be_locked() {
    let shop = workshop();
    shop.write("hypodoke.toml", CONFIG);
    shop.write("in/a.csv", "id\n1\n");
    shop.ok("load");
    shop.write("in/b.csv", "id\n2\n");
    let database = shop.database("h.db");
    database.execute_batch("BEGIN EXCLUSIVE").unwrap();
    let run = shop.run("load");
    assert_eq!(run.code, Some(4), "{}{}", run.out, run.err);
    assert!(
        run.err.contains("h.db is locked by somebody else") && run.err.contains("raise `wait`"),
        "{}",
        run.err
    );
    database.execute_batch("ROLLBACK").unwrap();
    shop.ok("load");
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM f"), ["2"]);
}

#[test]
fn a_file_that_is_no_database_is_left_alone() {
    let shop = workshop();
    shop.write(
        "h.db",
        "this is a letter to the harbour master, and quite long enough to be read as a page header",
    );
    shop.write("a.csv", "id\n1\n");
    let run = shop.run("load a.csv --into sqlite:h.db");
    assert_eq!(run.code, Some(4));
    assert!(run.err.contains("is not an SQLite database"), "{}", run.err);
}

#[test]
fn a_folder_that_is_not_there_is_named() {
    let shop = workshop();
    shop.write("a.csv", "id\n1\n");
    let run = shop.run("load a.csv --into sqlite:no/such/h.db");
    assert_eq!(run.code, Some(4));
    assert!(run.err.contains("there is no folder `no/such`"), "{}", run.err);
}

#[test]
fn a_full_disk_keeps_nothing_of_the_file() {
    let shop = workshop();
    shop.write("a.csv", "id,name\n1,x\n");
    shop.ok("load a.csv");
    // SQLite's own limit on the pages of a file gives the same error as a full disk, but it
    // belongs to a connection; a limit on the size of files belongs to the process.
    let lines: String = (0..200_000).map(|id| format!("{id},a name that fills the pages\n")).collect();
    shop.write("b.csv", format!("id,name\n{lines}"));
    let mut command = std::process::Command::new("sh");
    let program = env!("CARGO_BIN_EXE_hypodoke");
    command
        .current_dir(shop.path("."))
        .arg("-c")
        .arg(format!("trap '' XFSZ; ulimit -f 2000; exec {program} load b.csv --table a"));
    let run = hypodoke_testkit::finish(command);
    assert_eq!(run.code, Some(4), "{}{}", run.out, run.err);
    assert!(run.err.contains("sqlite:hypodoke.db could not be read or written"), "{}", run.err);
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*) FROM a"), ["1"]);
    shop.ok("load b.csv --table a");
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*) FROM a"), ["200001"]);
}

#[test]
fn a_read_only_database_is_said_to_be_read_only() {
    let shop = workshop();
    shop.write("a.csv", "id\n1\n");
    shop.ok("load a.csv");
    // Root may write read-only files, so the database itself is made to refuse.
    let database = shop.database("hypodoke.db");
    database.execute_batch("PRAGMA writable_schema = on; PRAGMA journal_mode = wal").unwrap();
    drop(database);
    let mut header = std::fs::read(shop.path("hypodoke.db")).unwrap();
    header[18] = 9;
    std::fs::write(shop.path("hypodoke.db"), header).unwrap();
    shop.write("b.csv", "id\n2\n");
    let run = shop.run("load b.csv");
    assert_eq!(run.code, Some(4), "{}{}", run.out, run.err);
    assert!(run.err.contains("is read-only"), "{}", run.err);
}

#[test]
fn a_ledger_of_a_newer_program_is_not_touched() {
    let shop = workshop();
    shop.write("a.csv", "id\n1\n");
    shop.ok("load a.csv");
    shop.database("hypodoke.db").execute("UPDATE hd_ledger SET version = 99", []).unwrap();
    let run = shop.run("ledger");
    assert_eq!(run.code, Some(4));
    assert!(run.err.contains("has version 99; this program knows versions up to"), "{}", run.err);
}

#[test]
fn a_ledger_that_is_not_there_is_asked_for_in_vain() {
    let shop = workshop();
    let run = shop.run("receipt --into sqlite:none.db");
    assert_eq!(run.code, Some(4));
    assert!(run.err.contains("there is no ledger in sqlite:none.db"), "{}", run.err);
    assert!(!shop.path("none.db").exists(), "asking makes no database");
}

/// A name that SQLite has a meaning of its own for is the name of a file as any other: what is loaded stays.
#[test]
fn a_file_may_be_called_as_a_database_in_memory() {
    let shop = workshop();
    shop.write("f.csv", "id,berth\n1,N1\n2,N2\n");
    assert!(shop.ok("load f.csv --into sqlite::memory:").out.contains("2 rows"));
    let again = shop.ok("load f.csv --into sqlite::memory:");
    assert!(again.out.contains("1 file known already"), "{}", again.out);
}
