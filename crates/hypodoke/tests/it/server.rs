//! A PostgreSQL server as it is met: passwords, rights, restarts, many connections.

use std::process::Stdio;

use hypodoke_testkit::{Server, finish, wait_for};
use rstest::rstest;

use crate::staging::{Kind, Staging};
use crate::workshop;

fn postgres() -> Staging {
    Staging::new(Kind::Postgres)
}

#[test]
fn columns_get_native_types() {
    let (shop, staging) = (workshop(), postgres());
    shop.write(
        "f.csv",
        "a,b,c,d,e,f,g,h,i,j\nyes,5,1.50,1.5e3,2026-03-02,07:15,2026-03-02 07:15,2026-03-02T07:15:00Z,0f8fad5b-d9cb-469f-a165-70867728950e,\"{\"\"x\"\":1}\"\n",
    );
    shop.ok(&format!("load f.csv --into {}", staging.url()));
    let types = staging.query(
        &shop,
        "SELECT format_type(atttypid, atttypmod) FROM pg_attribute WHERE attrelid = 'f'::regclass AND attnum > 0 ORDER BY attnum",
    );
    assert_eq!(
        types,
        [
            "boolean",
            "bigint",
            "numeric(3,2)",
            "double precision",
            "date",
            "time without time zone",
            "timestamp without time zone",
            "timestamp with time zone",
            "uuid",
            "jsonb",
            "bigint",
            "bigint"
        ]
    );
    let row = staging.query(&shop, "SELECT * FROM f");
    assert_eq!(
        row,
        [
            "t|5|1.50|1500|2026-03-02|07:15:00|2026-03-02 07:15:00|2026-03-02 07:15:00+00|0f8fad5b-d9cb-469f-a165-70867728950e|{\"x\": 1}|1|2"
        ]
    );
}

#[test]
fn a_schema_of_its_own_is_made_and_used() {
    let (shop, staging) = (workshop(), postgres());
    shop.write("in/f.csv", "id\n1\n");
    shop.write(
        "hypodoke.toml",
        format!(
            "[staging]\nurl = \"{}\"\nschema = \"Staging Area\"\n[place.q]\npath = \"in\"\n[feed.f]\nplace = \"q\"\nfiles = \"*.csv\"\n",
            staging.url()
        ),
    );
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM \"Staging Area\".f"), ["1"]);
    let tables = staging.query(&shop, "SELECT count(*) FROM pg_tables WHERE schemaname = 'Staging Area'");
    assert_eq!(tables, ["15"]);
    assert!(shop.ok("load").out.contains("nothing new"));
    assert!(shop.ok("receipt").out.contains("batch 1: 1 file loaded, 1 row"));
}

#[test]
fn what_cannot_be_reached_is_told_with_the_servers_words() {
    let (shop, staging) = (workshop(), postgres());
    shop.write("f.csv", "id\n1\n");
    let run = shop.run(&format!("load f.csv --into {}x", staging.url()));
    assert_eq!(run.code, Some(4), "{}", run.err);
    assert!(run.err.contains("does not exist"), "{}", run.err);
    let run = shop.run("load f.csv --into postgres://quillane@127.0.0.1:1/x?connect_timeout=2");
    assert_eq!(run.code, Some(4), "{}", run.err);
    assert!(run.err.contains("could not be opened"), "{}", run.err);
}

#[test]
fn a_password_is_not_taken_from_the_command_line_and_never_shown() {
    let (shop, staging) = (workshop(), postgres());
    shop.write("f.csv", "id\n1\n");
    let url = staging.url();
    let run = shop.run(&format!("load f.csv --into {}", url.replace("quillane@", "quillane:hawser@")));
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("holds a password") && !run.err.contains("hawser"), "{}", run.err);
    shop.write("in/f.csv", "id\n1\n");
    let written = url.replace("quillane@", "quillane:${HAWSER}@");
    shop.write(
        "hypodoke.toml",
        format!("[staging]\nurl = \"{written}\"\n[place.q]\npath = \"in\"\n[feed.f]\nplace = \"q\"\nfiles = \"*.csv\"\n"),
    );
    let mut command = shop.command("load --json -vv");
    command.env("HAWSER", "bowline7");
    let run = finish(command);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert!(!run.out.contains("bowline7") && !run.err.contains("bowline7"));
    let dump = staging.query(&shop, "SELECT count(*) FROM hd_files f WHERE f::text LIKE '%bowline7%'");
    assert_eq!(dump, ["0"]);
}

#[rstest]
#[case::append("append")]
#[case::insert_new("insert-new")]
#[case::upsert("upsert")]
#[case::history("history")]
#[case::replace("replace")]
fn check_prints_the_grants_that_are_missing_and_they_are_enough(#[case] mode: &str) {
    let (shop, staging) = (workshop(), postgres());
    let Staging::Postgres(database) = &staging else { return };
    let user = format!("porter_{}", database.name);
    staging.run(&shop, &format!("CREATE ROLE {user} LOGIN; REVOKE ALL ON SCHEMA public FROM PUBLIC"));
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n");
    shop.write(
        "hypodoke.toml",
        format!(
            "[staging]\nurl = \"{}\"\n[place.q]\npath = \"in\"\n[feed.f]\nplace = \"q\"\nfiles = \"f_{{day:%Y%m%d}}.csv\"\nmode = \"{mode}\"\n{}",
            database.url_as(&user),
            if matches!(mode, "append" | "replace") { "" } else { "key = \"id\"\n" },
        )
        .replace("\"\n[place", "\"\nschema = \"public\"\n[place"),
    );
    let run = shop.run("load");
    assert_ne!(run.code, Some(0));
    let words = format!("{}{}", run.out, run.err);
    for part in ["permission denied for schema public", &user, "hypodoke check"] {
        assert!(words.contains(part), "{part} in {words}");
    }
    let document = shop.json("check", 1);
    let grants: Vec<String> = document["grants"]
        .as_array()
        .expect("grants")
        .iter()
        .map(|g| g.as_str().expect("text").to_owned())
        .collect();
    assert_eq!(grants, [format!("GRANT USAGE, CREATE ON SCHEMA \"public\" TO \"{user}\";")]);
    grants.iter().for_each(|grant| staging.run(&shop, grant));
    assert!(shop.ok("check").out.contains(&format!("feed f → f ({mode}): 1 file, 1 new")));
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["1"]);

    // Another user, who is to load into what is there and make nothing.
    let other = format!("clerk_{}", database.name);
    staging.run(&shop, &format!("CREATE ROLE {other} LOGIN"));
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text").replace(&user, &other);
    shop.write("hypodoke.toml", text);
    let document = shop.json("check", 1);
    for grant in document["grants"].as_array().expect("grants") {
        staging.run(&shop, grant.as_str().expect("text"));
    }
    assert!(document["grants"].to_string().contains("UPDATE"), "{}", document["grants"]);
    assert!(!document["grants"].to_string().contains("CREATE"), "{}", document["grants"]);
    shop.json("check", 0);

    // Enough for a file that is corrected, for one that comes late, and for taking one out.
    shop.write("in/f_20260302.csv", "id,berth\n1,N2\n2,N2\n");
    shop.ok("load");
    shop.write("in/f_20260301.csv", "id,berth\n1,N0\n3,N0\n");
    shop.ok("load");
    shop.ok("retract f_20260302.csv --yes");
    assert_eq!(staging.query(&shop, "SELECT id, berth FROM f ORDER BY id"), ["1|N0", "3|N0"]);
}

/// What the server refuses before it takes a row is told in its words, and costs no other feed.
#[test]
fn a_right_that_is_missing_for_one_table_is_told_and_the_others_are_loaded() {
    let (shop, staging) = (workshop(), postgres());
    let Staging::Postgres(database) = &staging else { return };
    let user = format!("lighter_{}", database.name);
    let sql = format!(
        "CREATE ROLE {user} LOGIN; GRANT ALL ON SCHEMA public TO {user}; CREATE TABLE a (id bigint); CREATE TABLE b (id bigint, hd_file bigint, hd_line bigint);
         GRANT SELECT ON a TO {user}; GRANT SELECT, INSERT ON b TO {user}"
    );
    staging.run(&shop, &sql);
    for at in 1..=3 {
        shop.write(&format!("in/a_{at}.csv"), format!("id\n{at}\n"));
        shop.write(&format!("in/b_{at}.csv"), format!("id\n{at}0\n"));
    }
    let feed =
        |name: &str| format!("[feed.{name}]\nplace = \"q\"\nfiles = \"{name}_*.csv\"\ntable = \"{name}\"\n");
    let url = database.url_as(&user);
    for connections in ["", "connections = 1\n"] {
        let text = format!(
            "[staging]\nurl = \"{url}\"\n{connections}[place.q]\npath = \"in\"\n{}{}",
            feed("a"),
            feed("b")
        );
        shop.write("hypodoke.toml", text);
        let run = shop.run("load");
        let words = "permission denied for table a";
        assert!(
            run.code == Some(1) && run.out.contains(words) && run.out.contains(&user),
            "{:?} {}{}",
            run.code,
            run.out,
            run.err
        );
        assert_eq!(staging.query(&shop, "SELECT count(*), sum(id) FROM b"), ["3|60"]);
    }
    let failed = "SELECT count(*) FROM hd_files WHERE outcome = 'failed' AND table_name = 'a'";
    assert_eq!(staging.query(&shop, failed), ["6"]);
}

#[test]
fn the_sql_of_the_next_load_is_printed_and_changes_nothing() {
    let (shop, staging) = (workshop(), postgres());
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n");
    let feed = "[place.q]\npath = \"in\"\n[feed.f]\nplace = \"q\"\nfiles = \"f_{day:%Y%m%d}.csv\"\nmode = \"upsert\"\nkey = \"id\"\n";
    shop.write("hypodoke.toml", format!("[staging]\nurl = \"{}\"\n{feed}", staging.url()));
    let sql = shop.ok("check --ddl").out;
    for part in [
        "CREATE TABLE \"public\".\"f\"",
        "\"id\" bigint",
        "\"day\" date",
        "CREATE UNIQUE INDEX IF NOT EXISTS \"hd_key_f\"",
    ] {
        assert!(sql.contains(part), "{part} in {sql}");
    }
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM pg_tables WHERE schemaname = 'public'"), ["0"]);
    shop.ok("load");
    assert!(shop.ok("check --ddl").out.contains("would change no table"));
    shop.write("in/f_20260303.csv", "id,berth,crane\n2.5,N1,yes\n");
    let sql = shop.ok("check --ddl").out;
    for part in [
        "ALTER TABLE \"public\".\"f\"",
        "ALTER COLUMN \"id\" TYPE numeric(2,1)",
        "ADD COLUMN \"crane\" boolean",
    ] {
        assert!(sql.contains(part), "{part} in {sql}");
    }
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT id, crane FROM f ORDER BY id"), ["1.0|", "2.5|t"]);
}

#[test]
fn many_files_go_over_several_connections_each_once() {
    let (shop, staging) = (workshop(), postgres());
    for file in 0..300 {
        let extra = if file == 200 { ",crane\n1,N1,yes\n".to_owned() } else { "\n1,N1\n".to_owned() };
        shop.write(
            &format!("in/f_{file:03}.csv"),
            format!("id,berth{}", extra.replace('1', &format!("{}", file + 1))),
        );
    }
    let document = shop.json(&format!("load in --table f --into {}", staging.url()), 0);
    assert_eq!(document["totals"]["files_loaded"], 300);
    assert_eq!(
        staging.query(&shop, "SELECT count(*), count(DISTINCT id), count(DISTINCT hd_file) FROM f"),
        ["300|300|300"]
    );
    let order: Vec<&str> = document["files"]
        .as_array()
        .expect("files")
        .iter()
        .map(|line| line["path"].as_str().expect("a path"))
        .collect();
    assert!(order.is_sorted());
    // Known tables, changed by one of many.
    for file in 300..340 {
        let wide = if file == 320 { "3000000000.5" } else { "7" };
        shop.write(&format!("in/f_{file:03}.csv"), format!("id,berth\n{wide},X{file}\n"));
    }
    shop.ok(&format!("load in --table f --into {}", staging.url()));
    // No row was sent in the form of columns that had changed meanwhile.
    let sum = 300 * 301 / 2 + 39 * 7 + 3_000_000_000u64;
    assert_eq!(staging.query(&shop, "SELECT count(*), sum(id) FROM f"), [format!("340|{sum}.5")]);
}

#[test]
fn a_server_that_goes_and_comes_back_is_waited_for() {
    let server = Server::start();
    let database = server.database();
    let shop = workshop();
    // Files too large to be loaded in groups: each is by itself, and the server goes between two of them.
    for file in 0..60 {
        let rows: String = (0..2_000).map(|row| format!("{},N{row}\n", file * 2_000 + row)).collect();
        shop.write(&format!("in/f_{file:03}.csv"), format!("id,berth\n{rows}"));
    }
    shop.write(
        "hypodoke.toml",
        format!(
            "[staging]\nurl = \"{}\"\nconnections = 1\ncommit_every = \"0s\"\n[place.q]\npath = \"in\"\n[feed.f]\nplace = \"q\"\nfiles = \"f_*.csv\"\n",
            database.url
        ),
    );
    let mut child = shop.command("load").stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("a load");
    let loaded = || {
        let there = database.query("SELECT count(*) FROM pg_class WHERE relname = 'hd_files'");
        if there == ["0"] {
            0
        } else {
            database.query("SELECT count(*) FROM hd_files")[0].parse().unwrap_or(0)
        }
    };
    wait_for("the first files", || loaded() >= 3);
    server.stop();
    assert!(child.try_wait().expect("a state").is_none(), "it goes on, or waits for the server");
    server.start_again();
    let ended = child.wait().expect("an end");
    assert!(ended.success(), "{ended}");
    assert_eq!(database.query("SELECT count(*), count(DISTINCT id) FROM f"), ["120000|120000"]);
}
