//! Versions of files: told apart however they are sent, and loaded by whoever is first, as if alone.

use std::process::Child;

use hypodoke_testkit::{Workshop, set_modified};
use rstest::rstest;

use crate::staging::Kind::{self, Mysql, Postgres, PostgresMysql, Sqlite, SqlitePostgres};
use crate::staging::{Staging, configure};
use crate::workshop;

/// Many programs set times to whole seconds, as archives and copies do: size and time say nothing then.
#[rstest]
fn two_versions_of_one_size_and_one_whole_second_are_two(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "");
    for id in ["1", "2"] {
        let path = shop.write("in/f_20260302.csv", format!("id\n{id}\n"));
        set_modified(&path, 1_772_452_800);
        assert!(shop.ok("load").out.contains("1 file loaded, 1 row"));
        assert_eq!(staging.query(&shop, "SELECT id FROM f"), [id]);
        assert!(shop.ok("load").out.contains("nothing new"));
    }
    // A change that is none of its content is read, and loaded by nobody.
    let path = shop.path("in/f_20260302.csv");
    set_modified(&path, 1_772_452_800);
    let run = shop.ok("load");
    assert!(run.out.contains("same content"), "{}", run.out);
    assert!(shop.ok("load").out.contains("nothing new"));
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["1"]);
}

/// In the archive, such versions are told apart by what is in them.
#[rstest]
fn versions_alike_are_found_again_where_they_were_put_away(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "changed_file = \"append\"");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", text.replace("path = \"in\"", "path = \"in\"\nafter = \"move\""));
    for id in ["1", "2", "3"] {
        let path = shop.write("in/f_20260302.csv", format!("id\n{id}\n"));
        set_modified(&path, 1_772_452_800);
        shop.ok("load");
    }
    let tally = shop.ok("tally").out;
    assert!(tally.contains("3 in the tables; all figures agree"), "{tally}");
    staging.run(&shop, "UPDATE f SET id = 9");
    shop.ok("replay f --yes");
    assert_eq!(staging.query(&shop, "SELECT id FROM f ORDER BY id"), ["1", "2", "3"]);
}

#[test]
fn two_members_of_one_name_are_not_one() {
    let shop = workshop();
    let script = "import sys, warnings, zipfile\nwarnings.simplefilter('ignore')\nz = zipfile.ZipFile('twins.zip', 'w')\nfor text in ['id\\n1\\n', 'id\\n2\\n']:\n  z.writestr('a.csv', text)\nz.writestr('b.csv', 'id\\n3\\n')\nz.close()";
    let status =
        std::process::Command::new("python3").current_dir(shop.path(".")).args(["-c", script]).status();
    assert!(status.expect("python3").success());
    let run = shop.run("load twins.zip");
    assert_eq!(run.code, Some(1), "{}", run.out);
    assert!(run.err.contains("two of its members have the same name"), "{}", run.err);
}

/// A member that is larger than its archive says costs itself, and is not expanded to its end.
#[test]
fn a_member_that_lies_about_its_size_costs_itself() {
    let shop = workshop();
    let script = "import struct, zipfile\ntext = 'id\\n' + '1\\n' * 500000\nz = zipfile.ZipFile('lies.zip', 'w', zipfile.ZIP_DEFLATED)\nz.writestr('a.csv', text)\nz.writestr('b.csv', 'id\\n2\\n')\nz.close()\ndata = open('lies.zip', 'rb').read()\nopen('lies.zip', 'wb').write(data.replace(struct.pack('<I', len(text)), struct.pack('<I', 100)))";
    let status =
        std::process::Command::new("python3").current_dir(shop.path(".")).args(["-c", script]).status();
    assert!(status.expect("python3").success());
    let run = shop.run("load lies.zip --into sqlite:h.db --table t");
    assert_eq!(run.code, Some(1), "{}", run.out);
    assert!(run.out.contains("lies.zip/a.csv: the zip archive cannot be read"), "{}", run.out);
    assert_eq!(shop.query("h.db", "SELECT id FROM t"), ["2"]);
}

fn begun(shop: &Workshop, staging: &Staging) {
    configure(shop, staging, "[feed.f.drift]\nheader = \"hold\"");
    for day in 10..22 {
        // The header of some is gone.
        let header = if day % 4 == 3 { "" } else { "id,berth\n" };
        let rows: String = (0..40).map(|row| format!("{day}{row:02},N{row}\n")).collect();
        shop.write(&format!("in/f_202603{day}.csv"), format!("{header}{rows}"));
    }
}

/// What there is decides what becomes of a file: it is asked again where another loader was first.
#[rstest]
fn loaders_at_once_do_on_a_fresh_database_what_one_does(
    #[values(Sqlite, Postgres, Mysql, SqlitePostgres, PostgresMysql)] kind: Kind,
) {
    let alone = workshop();
    let one = Staging::new(kind);
    begun(&alone, &one);
    alone.run("load");
    let rows = "SELECT count(*), count(DISTINCT id), min(berth), max(berth) FROM f";
    let outcomes = "SELECT DISTINCT path, outcome FROM hd_files ORDER BY path, outcome";
    let columns = "SELECT * FROM f LIMIT 1";
    assert_eq!(one.query(&alone, columns)[0].split('|').count(), 5, "held files have no say in the table");
    let (expected, became) = (one.query(&alone, rows), one.query(&alone, outcomes));

    for _ in 0..3 {
        let (shop, staging) = (workshop(), Staging::new(kind));
        begun(&shop, &staging);
        let quiet = || std::process::Stdio::null();
        let start = || shop.command("load").stdout(quiet()).stderr(quiet()).spawn().expect("a loader");
        let loaders: Vec<Child> = (0..6).map(|_| start()).collect();
        for mut loader in loaders {
            loader.wait().expect("an end");
        }
        assert_eq!(staging.query(&shop, rows), expected);
        assert_eq!(staging.query(&shop, outcomes), became);
    }
}
