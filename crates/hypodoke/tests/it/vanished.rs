//! Keys of full deliveries whose rows are rejected: they are in the file, and have not vanished.

use hypodoke_testkit::Workshop;
use rstest::rstest;

use crate::order::workbook;
use crate::staging::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::staging::{Staging, configure};
use crate::workshop;

const DELETE: &str = "mode = \"upsert\"\nkey = [\"id\"]\nvanished = \"delete\"";
const MARK: &str = "mode = \"upsert\"\nkey = [\"id\"]\nvanished = \"mark\"";
const CLOSE: &str = "mode = \"history\"\nkey = [\"id\"]\nvanished = \"close\"";

/// The draught of each key that is there.
fn there(shop: &Workshop, staging: &Staging, feed: &str) -> Vec<String> {
    let condition = match feed {
        CLOSE => " WHERE hd_valid_to IS NULL",
        MARK => " WHERE hd_gone_since IS NULL",
        _ => "",
    };
    staging.query(shop, &format!("SELECT id, draught FROM f{condition} ORDER BY id"))
}

fn begun(kind: Kind, feed: &str) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    let columns = "[feed.f.columns.draught]\ntype = \"integer\"\n[feed.f.columns.id]\ntype = \"integer\"";
    configure(&shop, &staging, &format!("{feed}\n{columns}"));
    shop.write("in/f_20260302.csv", "id,berth,draught\n1,N1,10\n2,N2,20\n3,N3,30\n");
    shop.ok("load");
    (shop, staging)
}

#[rstest]
fn a_key_whose_row_is_rejected_has_not_vanished(
    #[values(DELETE, MARK, CLOSE)] feed: &str,
    #[values(false, true)] is_late: bool,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, feed);
    if is_late {
        shop.write("in/f_20260305.csv", "id,berth,draught\n1,N1,10\n2,N2,deep\n4,N4,40\n");
        shop.attention("load");
        assert_eq!(there(&shop, &staging, feed), ["1|10", "2|20", "4|40"]);
    }
    shop.write("in/f_20260303.csv", "id,berth,draught\n1,N1,10\n2,N2,deep\n");
    let run = shop.attention("load");
    if !is_late {
        assert!(run.out.contains("1 key that the table held is not in this file"), "{}", run.out);
    }
    let expected: &[&str] = if is_late { &["1|10", "2|20", "4|40"] } else { &["1|10", "2|20"] };
    assert_eq!(there(&shop, &staging, feed), expected);
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
    // What was corrected counts, and the rows of later files follow from it.
    shop.ok("rejects f --export bad.csv");
    let text = std::fs::read_to_string(shop.path("bad.csv")).expect("the export");
    shop.write("bad.csv", text.replace("N2,deep", "N2,25"));
    shop.ok("rejects --take bad.csv");
    let expected: &[&str] = if is_late { &["1|10", "2|25", "4|40"] } else { &["1|10", "2|25"] };
    assert_eq!(there(&shop, &staging, feed), expected);
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
    // A delivery without the key takes it out.
    shop.write("in/f_20260306.csv", "id,berth,draught\n1,N1,10\n4,N4,40\n");
    shop.ok("load");
    assert_eq!(there(&shop, &staging, feed), ["1|10", "4|40"]);
}

#[rstest]
#[case::no_number("x3,N3,30\n")]
#[case::no_key(",N3,30\n")]
#[case::broken("3,N3,30,more,than,there,is\n")]
fn nothing_vanishes_with_a_delivery_in_which_a_key_cannot_be_read(
    #[case] row: &str,
    #[values(DELETE, MARK, CLOSE)] feed: &str,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, feed);
    shop.write("in/f_20260303.csv", format!("id,berth,draught\n1,N1,11\n{row}4,N4,40\n5,N5,50\n6,N6,60\n"));
    let run = shop.attention("load");
    let told = "no key vanished from `f`: the key of 1 rejected row cannot be read";
    assert!(run.out.contains(told), "{}", run.out);
    let known = shop.ok("ledger --reason warned.unreadable_keys");
    assert!(known.out.contains("f_20260303.csv"), "it stays in the ledger: {}", known.out);
    assert_eq!(there(&shop, &staging, feed), ["1|11", "2|20", "3|30", "4|40", "5|50", "6|60"]);
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
    // Once the row is corrected, it is known which keys are not in the file.
    shop.ok("rejects f --export bad.csv");
    let text = std::fs::read_to_string(shop.path("bad.csv")).expect("the export");
    let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
    let names: Vec<&str> = text.lines().next().unwrap_or_default().split(',').collect();
    let at = names.iter().position(|name| *name == "id").expect("a column");
    let origin: Vec<&str> = lines[1].split(',').take(2).collect();
    let blank = vec![""; at - 2];
    let own = ["3", "N3", "33"];
    lines[1] = [origin, blank, own.to_vec()].concat().join(",");
    shop.write("bad.csv", lines.join("\n"));
    let run = shop.run("rejects --take bad.csv");
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert_eq!(there(&shop, &staging, feed), ["1|11", "3|33", "4|40", "5|50", "6|60"]);
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
}

#[rstest]
fn a_row_that_is_corrected_to_another_key_leaves_the_first_to_vanish(
    #[values(DELETE, MARK, CLOSE)] feed: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, feed);
    shop.write("in/f_20260303.csv", "id,berth,draught\n1,N1,10\n2,N2,deep\n3,N3,30\n");
    shop.attention("load");
    assert_eq!(there(&shop, &staging, feed), ["1|10", "2|20", "3|30"]);
    shop.ok("rejects f --export bad.csv");
    let text = std::fs::read_to_string(shop.path("bad.csv")).expect("the export");
    shop.write("bad.csv", text.replace(",2,N2,deep", ",7,N2,70"));
    shop.ok("rejects --take bad.csv");
    assert_eq!(there(&shop, &staging, feed), ["1|10", "3|30", "7|70"]);
}

#[rstest]
fn what_is_nested_in_a_record_stays_with_it(
    #[values("upsert", "history")] mode: &str,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    let vanished = if mode == "history" { "close" } else { "delete" };
    let feed = format!(
        "mode = \"{mode}\"\nkey = [\"id\"]\nvanished = \"{vanished}\"\n[feed.f.columns.draught]\ntype = \"integer\""
    );
    configure(&shop, &staging, &feed);
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", config.replace("*.csv", "*.json"));
    let record = |id: u32, draught: &str| {
        format!("{{\"id\":{id},\"draught\":{draught},\"calls\":[{{\"quay\":\"N{id}\"}}]}}")
    };
    shop.write("in/f_20260302.json", format!("[{},{},{}]", record(1, "1"), record(2, "2"), record(3, "3")));
    shop.ok("load");
    shop.write("in/f_20260303.json", format!("[{},{}]", record(1, "1"), record(2, "\"deep\"")));
    shop.attention("load");
    let current = if mode == "history" { " WHERE hd_valid_to IS NULL" } else { "" };
    assert_eq!(staging.query(&shop, &format!("SELECT id FROM f{current} ORDER BY id")), ["1", "2"]);
    assert!(staging.query(&shop, "SELECT quay FROM f_calls ORDER BY quay").contains(&"N2".to_owned()));
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
}

/// A feed of records with a list that has a key of its own.
fn begun_with_lists(kind: Kind, mode: &str) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    let vanished = if mode == "history" { "close" } else { "delete" };
    let feed = format!(
        "mode = \"{mode}\"\nkey = [\"id\"]\nvanished = \"{vanished}\"\n[feed.f.keys]\nlegs = [\"leg\"]\n\
         [feed.f.columns.draught]\ntype = \"integer\""
    );
    configure(&shop, &staging, &feed);
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", config.replace("*.csv", "*.jsonl"));
    let records: String = (1..4).map(|id| record(id, "1")).collect();
    shop.write("in/f_20260302.jsonl", records);
    shop.ok("load");
    (shop, staging)
}

fn record(id: u32, draught: &str) -> String {
    let leg = |at: u32| format!("{{\"leg\":{},\"quay\":\"N{id}\"}}", 10 * id + at);
    format!("{{\"id\":{id},\"draught\":{draught},\"legs\":[{},{}]}}\n", leg(1), leg(2))
}

fn legs(shop: &Workshop, staging: &Staging, mode: &str) -> Vec<String> {
    let current = if mode == "history" { " WHERE hd_valid_to IS NULL" } else { "" };
    staging.query(shop, &format!("SELECT leg FROM f_legs{current} ORDER BY leg"))
}

#[rstest]
fn a_list_with_a_key_of_its_own_stays_with_a_record_that_is_rejected(
    #[values("upsert", "history")] mode: &str,
    #[values(false, true)] is_late: bool,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun_with_lists(kind, mode);
    let day = [record(1, "1"), record(2, "\"deep\"")].concat();
    if is_late {
        shop.write("in/f_20260305.jsonl", &day);
        shop.attention("load");
        assert_eq!(legs(&shop, &staging, mode), ["11", "12", "21", "22"]);
    }
    shop.write("in/f_20260303.jsonl", format!("{day}\n"));
    shop.attention("load");
    assert_eq!(legs(&shop, &staging, mode), ["11", "12", "21", "22"]);
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
    // The file is corrected, without one of its legs.
    let day = day.replace("\"deep\"", "2").replace("{\"leg\":21,\"quay\":\"N2\"},", "");
    shop.write("in/f_20260303.jsonl", &day);
    if is_late {
        shop.write("in/f_20260305.jsonl", format!("{day}\n"));
    }
    shop.ok("load");
    assert_eq!(legs(&shop, &staging, mode), ["11", "12", "22"]);
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
}

#[rstest]
fn a_broken_record_may_hold_any_key_of_its_lists(
    #[values("upsert", "history")] mode: &str,
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = begun_with_lists(kind, mode);
    shop.write("in/f_20260303.jsonl", format!("{}{{\"id\":2,\"legs\":[\n", record(1, "1")));
    let run = shop.attention("load");
    for table in ["f", "f_legs"] {
        let told = format!("no key vanished from `{table}`: the key of 1 rejected row cannot be read");
        assert!(run.out.contains(&told), "{}", run.out);
    }
    assert_eq!(legs(&shop, &staging, mode), ["11", "12", "21", "22", "31", "32"]);
    assert!(shop.ok("tally").out.contains("all figures agree or are explained"));
}

#[rstest]
fn keys_of_a_sheet_stay_by_themselves(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    let feed = "mode = \"upsert\"\nkey = [\"id\"]\nvanished = \"delete\"\n[feed.f.keys]\nShips = [\"ship\"]\n\
                [feed.f.columns.\"Ships.tugs\"]\ntype = \"integer\"";
    configure(&shop, &staging, feed);
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", config.replace("*.csv", "*.xlsx"));
    let dues: &[[&str; 2]] = &[["id", "fee"], ["N1", "low"], ["N2", "high"]];
    let ships: &[[&str; 2]] = &[["ship", "tugs"], ["Petrel", "1"], ["Gannet", "2"], ["Skua", "3"]];
    workbook(&shop, "in/f_20260302.xlsx", &[("Dues", dues), ("Ships", ships)]);
    shop.ok("load");
    let ships: &[[&str; 2]] = &[["ship", "tugs"], ["Petrel", "1"], ["Gannet", "many"]];
    workbook(&shop, "in/f_20260303.xlsx", &[("Dues", &dues[..2]), ("Ships", ships)]);
    shop.attention("load");
    assert_eq!(staging.query(&shop, "SELECT ship FROM f_ships ORDER BY ship"), ["Gannet", "Petrel"]);
    assert_eq!(staging.query(&shop, "SELECT id FROM f_dues ORDER BY id"), ["N1"]);
}
