//! What the README and the reference show is run as it stands there.

use hypodoke_engine::decide::REASON_CODES;

use crate::workshop;

const README: &str = include_str!("../../../../README.md");
const CONTENTS: &str = include_str!("../../../../docs/book/README.md");
const REFERENCE: &str = include_str!("../../../../docs/book/reference.md");
const UNATTENDED: &str = include_str!("../../../../docs/book/unattended.md");
const LEDGER: &str = include_str!("../../../../docs/ledger.md");

/// The commands of the `console` blocks of a text, without the name of the program.
fn commands(text: &str) -> Vec<&str> {
    let mut inside = false;
    let mut found = Vec::new();
    for line in text.lines() {
        match line {
            "```console" => inside = true,
            "```" => inside = false,
            line if inside => found.extend(line.strip_prefix("$ hypodoke ")),
            _ => {}
        }
    }
    found
}

#[test]
fn every_command_of_the_tour_works_in_the_demo() {
    let shop = workshop();
    shop.ok("demo");
    let tour = commands(README);
    assert!(tour.len() >= 9, "{tour:?}");
    for arguments in tour {
        let mut command = shop.command(arguments);
        command.current_dir(shop.path("quillane"));
        let run = hypodoke_testkit::finish(command);
        let is_fine = run.code == Some(0) || run.code == Some(3) && run.out.contains("1 row rejected");
        assert!(is_fine, "{arguments}\n{}{}", run.out, run.err);
        assert!(!run.out.is_empty(), "{arguments}");
    }
}

#[test]
fn the_sample_configuration_is_right() {
    let shop = workshop();
    let sample =
        REFERENCE.split("```toml\n").nth(1).and_then(|rest| rest.split("```").next()).expect("a sample");
    shop.write("hypodoke.toml", sample);
    shop.write(
        "inbox/north/movements_20260302.csv",
        "a\nb\nArrived;Draught (m);Tugs\n02.03.2026 07:15;1.005,30;-999\n",
    );
    let run = shop.attention("load");
    assert!(run.out.contains("1 row rejected"), "1005.30 has too many digits: {}", run.out);
    shop.write(
        "inbox/north/movements_20260303.csv",
        "a\nb\nArrived;Draught (m);Tugs\n02.03.2026 07:15;5,30;-999\n",
    );
    shop.ok("load");
    assert_eq!(
        shop.query("harbour.db", "SELECT arrived, draught_m, tugs, day FROM berth_movements"),
        ["2026-03-02 07:15:00|5.3||2026-03-03"]
    );
}

#[test]
fn the_samples_of_watching_and_telling_are_right() {
    let shop = workshop();
    std::fs::create_dir(shop.path("inbox")).expect("a folder");
    let samples: Vec<&str> = UNATTENDED
        .split("```toml\n")
        .skip(1)
        .filter_map(|rest| rest.split("```").next())
        .filter(|sample| sample.contains(".schedule]") || sample.contains("[notify."))
        .collect();
    assert_eq!(samples.len(), 2);
    let base = "[place.quay]\npath = \"inbox\"\n[feed.north]\nplace = \"quay\"\nfiles = \"*.csv\"\n";
    shop.write("hypodoke.toml", format!("{base}{}", samples.concat()));
    let mut command = shop.command("load");
    command.env("MAIL_PASSWORD", "word").env("DESK_TOKEN", "word");
    let run = hypodoke_testkit::finish(command);
    assert!(run.code == Some(0) && run.out.contains("nothing new"), "{}{}", run.out, run.err);
}

#[test]
fn the_ledger_is_documented_column_by_column() {
    let shop = workshop();
    shop.ok("demo");
    let columns = shop.query(
        "quillane/quillane.db",
        "SELECT m.name, c.name FROM sqlite_schema m, pragma_table_info(m.name) c WHERE m.name LIKE 'hd\\_%' ESCAPE '\\' AND m.type = 'table'",
    );
    assert!(columns.len() > 30);
    for line in columns.iter().filter(|line| !line.starts_with("hd_ledger|")) {
        let (table, column) = line.split_once('|').expect("two fields");
        assert!(
            LEDGER.contains(&format!("`{table}`")) && LEDGER.contains(&format!("`{column}`")),
            "{line} is not documented"
        );
    }
    for (part, rows) in LEDGER.split("```sql\n").skip(1).zip([186, 1]) {
        let sql = part.split("```").next().expect("a query");
        assert_eq!(shop.query("quillane/quillane.db", sql).len(), rows, "{sql}");
    }
}

#[test]
fn every_command_stands_in_the_book() {
    let help = workshop().ok("--help").out;
    let list =
        help.split("Commands:").nth(1).and_then(|rest| rest.split("Options:").next()).expect("commands");
    for command in list.lines().filter_map(|line| line.split_whitespace().next()) {
        assert!(CONTENTS.contains(&format!("`hypodoke {command}")), "{command}");
    }
}

/// The manual describes the reason codes that there are, each once, and no others.
#[test]
fn the_manual_describes_every_reason_code() {
    let table = LEDGER.split("## Reason codes").nth(1).expect("the section");
    let rows =
        table.lines().filter_map(|line| line.strip_prefix("| `").and_then(|rest| rest.split(" | ").next()));
    let mut described: Vec<String> = Vec::new();
    for code in rows.flat_map(|row| row.split('`')).filter(|part| part.contains('.')) {
        match code.strip_prefix('…') {
            Some(case) => {
                described.extend(["held", "failed", "warned"].map(|outcome| format!("{outcome}{case}")));
            }
            None => described.push(code.to_owned()),
        }
    }
    described.sort();
    assert_eq!(described, REASON_CODES);
}
