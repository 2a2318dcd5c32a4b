//! Keys of full deliveries whose rows are rejected: they are in the file, and have not vanished.

use hypodoke_testkit::Workshop;
use rstest::rstest;

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
    let told = "no key vanished with this file: the key of 1 rejected row cannot be read";
    assert!(run.out.contains(told), "{}", run.out);
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
