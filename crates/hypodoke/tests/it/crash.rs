//! Killed at any instant, the next run continues with no row lost or doubled.

use std::time::Duration;

use crate::workshop;

#[test]
fn killed_at_any_instant_the_next_run_completes() {
    let shop = workshop();
    let (files, rows) = (6u64, 30_000u64);
    for file in 0..files {
        let lines: String = (0..rows)
            .map(|row| format!("{},berth {},{}.5\n", file * rows + row, row % 13, row % 97))
            .collect();
        shop.write(&format!("in/f{file}.csv"), format!("id,berth,depth\n{lines}"));
    }
    let mut kills = 0;
    for pause in [3, 11, 23, 40, 60, 85, 110, 140, 180, 230] {
        let mut child =
            shop.command("load in --table t").stdout(std::process::Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(pause));
        kills += u32::from(child.try_wait().unwrap().is_none());
        child.kill().unwrap();
        child.wait().unwrap();
        if shop.path("hypodoke.db").exists()
            && !shop.query("hypodoke.db", "SELECT 1 FROM sqlite_schema WHERE name = 't'").is_empty()
        {
            // Rows and ledger agree after every kill: each file is in whole, or not at all.
            let agree = shop.query(
                "hypodoke.db",
                "SELECT count(*) FROM hd_files f WHERE outcome = 'loaded' AND rows_loaded <> (SELECT count(*) FROM t WHERE hd_file = f.file)",
            );
            assert_eq!(agree, ["0"]);
            let strays = shop.query(
                "hypodoke.db",
                "SELECT count(*) FROM t WHERE hd_file NOT IN (SELECT file FROM hd_files)",
            );
            assert_eq!(strays, ["0"]);
        }
    }
    assert!(kills > 0, "some run was killed");
    shop.ok("load in --table t");
    let all = files * rows;
    let sums = shop.query("hypodoke.db", "SELECT count(*), count(DISTINCT id), sum(id) FROM t");
    assert_eq!(sums, [format!("{all}|{all}|{}", all * (all - 1) / 2)]);
}

#[test]
fn two_at_once_load_every_file_once() {
    let shop = workshop();
    for file in 0..40 {
        shop.write(&format!("in/f{file:02}.csv"), format!("id\n{file}\n"));
    }
    let start = || shop.command("load in --table t").stdout(std::process::Stdio::null()).spawn().unwrap();
    let (mut first, mut second) = (start(), start());
    assert!(first.wait().unwrap().success());
    assert!(second.wait().unwrap().success());
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*), count(DISTINCT id) FROM t"), ["40|40"]);
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*) FROM hd_files WHERE outcome = 'loaded'"), ["40"]);
}
