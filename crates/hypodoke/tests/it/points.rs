//! Ended at a named point of a load, as a power cut would: the next run continues with no row lost or doubled.
//! In every mode, on every database, and with the ledger in another than the tables.

use hypodoke_testkit::{Workshop, end_at, stop_at};
use rstest::rstest;

use crate::staging::{Kind, Staging};
use crate::workshop;

const ROWS: u64 = 60;

/// A day's file: it brings most keys of the day before again, some of them changed, and a row that is no row.
fn text(day: u64, turn: u64) -> String {
    let line = |row: u64| {
        let id = day * ROWS / 2 + row;
        format!("{id},berth {},{}.5\n", (id + turn + day * u64::from(id.is_multiple_of(5))) % 13, id % 97)
    };
    let lines: String = (0..ROWS).map(line).collect();
    format!("id,berth,depth\n{lines}first,berth 1,2.5\n")
}

fn name(day: u64) -> String {
    format!("in/f_202603{:02}.csv", day + 1)
}

/// Loads three days; what is there then is a new day, one that comes late, and one that was corrected.
fn begun(staging: &Staging, mode: &str) -> Workshop {
    let shop = workshop();
    let database = staging.section();
    shop.write(
        "hypodoke.toml",
        format!(
            "{database}[place.quay]\npath = \"in\"\nafter = \"move\"\n[feed.f]\nplace = \"quay\"\nfiles = \"f_{{day:%Y%m%d}}.csv\"\ntable = \"f\"\nmode = \"{mode}\"\nkey = [\"id\"]\nsql_after = \"SELECT 1\"\n[feed.f.columns.id]\ntype = \"integer\"\n"
        ),
    );
    for day in [1, 2, 4] {
        shop.write(&name(day), text(day, 0));
    }
    shop.attention("load");
    shop.write(&name(2), text(2, 7));
    shop.write(&name(3), text(3, 0));
    // Another column: the tables are changed.
    let wider = text(5, 0).replace("depth\n", "depth,tugs\n").replace(".5\n", ".5,3\n");
    shop.write(&name(5), wider);
    shop
}

/// The content of the table, file numbers and moments of loads aside.
fn content(shop: &Workshop, staging: &Staging, mode: &str) -> Vec<String> {
    let current = if mode == "history" { ", CASE WHEN hd_valid_to IS NULL THEN 1 ELSE 0 END" } else { "" };
    let sql = format!(
        "SELECT id, berth, depth, tugs, day, hd_line{current} FROM f ORDER BY 1, 2, 3, 5, 6, 4{}",
        if current.is_empty() { "" } else { ", 7" }
    );
    staging.query(shop, &sql)
}

/// Of so many times the first and the last. Where sessions end, it is one between.
fn times(many: usize) -> Vec<usize> {
    let mut times = vec![1, many];
    times.dedup();
    times
}

#[rstest]
fn ended_at_any_point_the_next_run_completes(
    #[values(Kind::Sqlite, Kind::Postgres, Kind::Mysql, Kind::SqlitePostgres, Kind::PostgresMysql)]
    kind: Kind,
    #[values("append", "replace", "upsert", "insert-new", "history")] mode: &str,
) {
    let calm = Staging::new(kind);
    let shop = begun(&calm, mode);
    let points = shop.points(shop.command("load -q"));
    let wanted = content(&shop, &calm, mode);
    let (mut ended, all) = (0, points.values().map(|many| times(*many).len()).sum::<usize>());
    for (point, many) in &points {
        for time in times(*many) {
            let staging = Staging::new(kind);
            let shop = begun(&staging, mode);
            // Loads on several connections pass their points in no fixed order, and some of them not at all.
            ended += usize::from(end_at(shop.command("load -q"), &format!("{point}:{time}")));
            if !matches!(staging, Staging::Apart { .. }) {
                staging.agree(&shop, "f", mode == "append");
            }
            shop.run("load");
            assert_eq!(content(&shop, &staging, mode), wanted, "{mode}, ended at {point}:{time}");
            assert!(shop.ok("load").out.contains("nothing new"), "{mode}, ended at {point}:{time}");
            staging.agree(&shop, "f", mode == "append");
        }
    }
    println!("{kind:?} {mode}: ended at {ended} of {all} points: {:?}", points.keys().collect::<Vec<_>>());
    assert!(ended * 10 >= all * 8, "ended at {ended} of {all} points");
}

/// The database's side dies while a load stands at a point, and the load goes on.
#[rstest]
fn whose_sessions_end_at_any_point_the_next_run_completes(
    #[values(Kind::Postgres, Kind::Mysql, Kind::SqlitePostgres, Kind::PostgresMysql)] kind: Kind,
    #[values("append", "replace", "upsert", "insert-new", "history")] mode: &str,
) {
    let calm = Staging::new(kind);
    let shop = begun(&calm, mode);
    let points = shop.points(shop.command("load -q"));
    let wanted = content(&shop, &calm, mode);
    let mut stopped = 0;
    for (point, many) in &points {
        let staging = Staging::new(kind);
        let shop = begun(&staging, mode);
        let at = format!("{point}:{}", many.div_ceil(2));
        if let Some(load) = stop_at(shop.command("load -q"), &at) {
            staging.end_sessions();
            load.go_on();
            stopped += 1;
        }
        let again = shop.run("load");
        let failed =
            staging.query(&shop, "SELECT path, reasons FROM hd_files WHERE outcome = 'failed'").join("\n");
        let told = format!("{mode}, without sessions at {at}\n{}{}{failed}", again.out, again.err);
        assert_eq!(content(&shop, &staging, mode), wanted, "{told}");
        assert!(shop.ok("load").out.contains("nothing new"), "{mode}, without sessions at {at}");
        staging.agree(&shop, "f", mode == "append");
    }
    println!("{kind:?} {mode}: sessions ended at {stopped} of {} points", points.len());
    assert!(stopped * 10 >= points.len() * 8, "stopped at {stopped} of {} points", points.len());
}
