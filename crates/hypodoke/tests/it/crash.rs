//! Files that come from a server, and loads that are killed at any instant: the next run continues with no row
//! lost or doubled. `points.rs` has the same of loads from a folder, at named points.

use std::process::Stdio;
use std::time::Duration;

use hypodoke_testkit::{Sshd, Workshop, end_at, set_modified, stop_at};
use rstest::rstest;

use crate::staging::{Kind, Staging};
use crate::workshop;

/// Days of files; each brings most keys of the day before again, some of them changed.
const DAYS: u64 = 6;
const ROWS: u64 = 2_000;

/// Where the files lie.
#[derive(Clone, Copy, Debug)]
enum Source {
    Folder,
    Sftp,
}

/// A place with all files in it.
enum Place {
    Folder,
    Sftp(Sshd),
}

fn texts() -> impl Iterator<Item = (String, String)> {
    (0..DAYS).map(|day| {
        let line = |row: u64| {
            let id = day * ROWS / 2 + row;
            format!("{id},berth {},{}.5\n", (id + day * u64::from(id.is_multiple_of(5))) % 13, id % 97)
        };
        let lines: String = (0..ROWS).map(line).collect();
        (format!("f_202603{:02}.csv", day + 1), format!("id,berth,depth\n{lines}"))
    })
}

impl Place {
    fn new(source: Source) -> Place {
        let Source::Sftp = source else { return Place::Folder };
        let sshd = Sshd::start();
        std::fs::create_dir(sshd.path("out")).expect("a folder");
        for (name, text) in texts() {
            let path = sshd.path("out").join(name);
            std::fs::write(&path, text).expect("a file");
            set_modified(&path, 1_772_452_800);
        }
        Place::Sftp(sshd)
    }

    /// A workshop that loads from it.
    fn workshop(&self, staging: &Staging, mode: &str) -> Workshop {
        let shop = workshop();
        let place = match self {
            Place::Folder => {
                for (name, text) in texts() {
                    shop.write(&format!("in/{name}"), text);
                }
                "path = \"in\"".to_owned()
            }
            Place::Sftp(sshd) => {
                shop.write("known", sshd.known_host());
                let (url, key) = (sshd.url(&sshd.path("out")), sshd.path("user_key"));
                format!("path = \"{url}\"\nkey_file = \"{}\"\nknown_hosts = \"known\"", key.display())
            }
        };
        shop.write(
            "hypodoke.toml",
            format!(
                "{}[place.quay]\n{place}\n[feed.f]\nplace = \"quay\"\nfiles = \"f_{{day:%Y%m%d}}.csv\"\ntable = \"f\"\nmode = \"{mode}\"\nkey = [\"id\"]\n",
                staging.section()
            ),
        );
        shop
    }

    /// Kills come within so many milliseconds, about what a load takes.
    fn span(&self) -> u64 {
        match self {
            Place::Folder => 120,
            Place::Sftp(_) => 300,
        }
    }
}

/// A count and a checksum of the table's content, moments and file numbers aside.
fn sums(shop: &Workshop, staging: &Staging, mode: &str) -> Vec<String> {
    let current =
        if mode == "history" { ", sum(CASE WHEN hd_valid_to IS NULL THEN id ELSE 0 END)" } else { "" };
    let sql = format!(
        "SELECT count(*), sum(id), sum(length(berth) * (id % 101)), sum(hd_line * (id % 89)), min(day), max(day){current} FROM f"
    );
    staging.query(shop, &sql)
}

/// Rows and ledger agree after every kill: each file is in whole, or not at all.
fn agree(shop: &Workshop, staging: &Staging, mode: &str) {
    if !staging.has_table(shop, "f") {
        return;
    }
    // A load that was killed between two databases is settled by the next.
    if !matches!(staging, Staging::Apart { .. }) {
        staging.agree(shop, "f", mode == "append");
    }
}

/// Kills loads at so many moments, and compares with one that nobody disturbed.
fn survives(source: Source, kind: Kind, mode: &str, kills: u32, seed: u64) {
    let expected = Staging::new(kind);
    let calm = Place::Folder.workshop(&expected, mode);
    calm.ok("load");
    let wanted = sums(&calm, &expected, mode);

    let place = Place::new(source);
    let (mut killed, mut moment) = (0, seed);
    while killed < kills {
        let staging = Staging::new(kind);
        let shop = place.workshop(&staging, mode);
        for round in 0..6 {
            let mut child =
                shop.command("load -q").stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("a load");
            moment = moment.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            std::thread::sleep(Duration::from_millis(2 + (moment >> 33) % place.span()));
            if let (Place::Sftp(sshd), 1 | 4) = (&place, round) {
                // Its connections to the files end, and it goes on by new ones until it is killed.
                sshd.cut();
                std::thread::sleep(Duration::from_millis(1 + (moment >> 40) % 60));
            }
            // Every other time it is the database's side that dies.
            if killed % 2 == 1 && !matches!(staging.tables(), Staging::Sqlite(_)) {
                staging.end_sessions();
                killed += 1;
            } else {
                killed += u32::from(child.try_wait().expect("a state").is_none());
            }
            child.kill().expect("a kill");
            child.wait().expect("an end");
            agree(&shop, &staging, mode);
        }
        shop.ok("load");
        assert_eq!(sums(&shop, &staging, mode), wanted, "{mode} after {killed} kills");
        assert!(shop.ok("load").out.contains("nothing new"));
    }
}

/// A load is ended at a point, or the connections to the server of its files are cut there and it goes on.
#[rstest]
fn at_any_point_of_a_load_from_a_server_the_next_run_completes(
    #[values("append", "replace", "upsert", "insert-new", "history")] mode: &str,
    #[values(true, false)] is_cut: bool,
) {
    let expected = Staging::new(Kind::Postgres);
    let calm = Place::Folder.workshop(&expected, mode);
    let points = calm.points(calm.command("load -q"));
    let wanted = sums(&calm, &expected, mode);
    let place = Place::new(Source::Sftp);
    let Place::Sftp(sshd) = &place else { return };
    let mut came = 0;
    for (point, many) in &points {
        let staging = Staging::new(Kind::Postgres);
        let shop = place.workshop(&staging, mode);
        let (load, at) = (shop.command("load -q"), format!("{point}:{}", many.div_ceil(2)));
        if is_cut {
            if let Some(load) = stop_at(load, &at) {
                sshd.cut();
                load.go_on();
                came += 1;
            }
        } else {
            came += usize::from(end_at(load, &at));
        }
        agree(&shop, &staging, mode);
        shop.done("load");
        assert_eq!(sums(&shop, &staging, mode), wanted, "{mode}, cut: {is_cut}, at {at}");
        assert!(shop.ok("load").out.contains("nothing new"), "{at}");
    }
    println!("{mode}: came to {came} of {} points", points.len());
    assert!(came * 10 >= points.len() * 8, "came to {came} of {} points", points.len());
}

/// The long run, `scripts/crash-test`.
#[rstest]
#[ignore = "takes long: scripts/crash-test runs it"]
fn killed_again_and_again(
    #[values(Source::Folder, Source::Sftp)] source: Source,
    #[values(Kind::Sqlite, Kind::Postgres, Kind::Mysql, Kind::SqlitePostgres, Kind::PostgresMysql)]
    kind: Kind,
    #[values("append", "replace", "upsert", "insert-new", "history")] mode: &str,
) {
    let kills = std::env::var("CRASHES").ok().and_then(|text| text.parse().ok()).unwrap_or(200);
    let seed = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .map_or(1, |now| now.as_nanos() as u64);
    survives(source, kind, mode, kills, seed);
}

#[rstest]
#[case::sqlite(Kind::Sqlite, "")]
#[case::postgres(Kind::Postgres, "")]
#[case::mysql(Kind::Mysql, "")]
#[case::sqlite_postgres(Kind::SqlitePostgres, "")]
#[case::postgres_mysql(Kind::PostgresMysql, "")]
// Whose custom is that a transaction sees nothing that was committed after it began.
#[case::strict(Kind::Postgres, "ALTER DATABASE NAME SET default_transaction_isolation = 'serializable'")]
fn two_at_once_load_every_file_once(#[case] kind: Kind, #[case] custom: &str) {
    let shop = workshop();
    let staging = Staging::new(kind);
    if let Staging::Postgres(database) = &staging {
        database.query(&custom.replace("NAME", &database.name));
    }
    for file in 0..40 {
        shop.write(&format!("in/f{file:02}.csv"), format!("id\n{file}\n"));
    }
    let arguments = format!("load in --table t {}", staging.options());
    let start = || shop.command(&arguments).stdout(Stdio::null()).spawn().expect("a load");
    let (mut first, mut second) = (start(), start());
    assert!(first.wait().expect("an end").success());
    assert!(second.wait().expect("an end").success());
    assert_eq!(staging.query(&shop, "SELECT count(*), count(DISTINCT id) FROM t"), ["40|40"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM hd_files WHERE outcome = 'loaded'"), ["40"]);
}
