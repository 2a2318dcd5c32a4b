//! What is asked on a terminal, and what comes of the answers: keys are pressed and the screen is read.

use hypodoke_testkit::{DOWN, ESCAPE, INTERRUPT, Terminal, Workshop, wait_for};

use crate::workshop;

/// Two files of berths whose rows are told apart by their numbers.
fn with_files() -> Workshop {
    let shop = workshop();
    for day in 2..4_u32 {
        let row = |at: u32| format!("{},Grey Heron {at},{}.5\n", day * 100 + at, at % 7 + 3);
        let rows: String = (0..12).map(row).collect();
        shop.write(&format!("in/berths_2026030{day}.csv"), format!("berth_id,vessel,draught\n{rows}"));
    }
    shop
}

fn configuration(shop: &Workshop) -> String {
    std::fs::read_to_string(shop.path("hypodoke.toml")).expect("a configuration")
}

#[test]
fn a_draft_is_what_was_answered_and_is_written_at_the_end() {
    let shop = with_files();
    let mut terminal = Terminal::start(&shop, "draft in --ask");
    terminal.sees("1 of 1: berths, ");
    terminal.answer("Load these files as the feed `berths`?", "");
    terminal.answer("Which table?", "");
    terminal.answer("What becomes of the rows of each file?", &DOWN.repeat(4));
    terminal.answer("Which columns tell rows apart?", "");
    // Back over the question of the key, which another mode does not have.
    for question in ["When files change?", "Which columns tell rows apart?"] {
        terminal.is_asked(question);
        terminal.press(ESCAPE);
    }
    terminal.answer("What becomes of the rows of each file?", "upsert");
    terminal.answer("Which columns tell rows apart?", "berth");
    terminal.sees("there is no column `berth`");
    terminal.answer("Which columns tell rows apart?", "berth_id");
    terminal.answer("When files change?", DOWN);
    terminal.answer("When rows cannot be loaded?", &DOWN.repeat(2));
    terminal.answer("When are they loaded?", DOWN);
    terminal.answer("At what time?", "6 o'clock");
    terminal.sees("`6 o'clock` is not a time; write 07:00");
    terminal.answer("At what time?", "06:30");
    terminal.answer("By whose clock?", "Europe/Lisbon");
    terminal.is_asked("Write hypodoke.toml?");
    assert!(!shop.path("hypodoke.toml").exists(), "nothing is written before the end");
    terminal.answer("Write hypodoke.toml?", "y");
    terminal.answer("Load now what is there?", "y");
    terminal.sees("2 files loaded, 24 rows");
    assert_eq!(terminal.end(), 0);
    let text = configuration(&shop);
    for line in [
        "mode  = \"upsert\"",
        "key   = [\"berth_id\"]",
        "rejected_rows = \"1%\"",
        "new_column = \"hold\"",
        "cron = \"30 6 * * *\"",
        "time_zone = \"Europe/Lisbon\"",
    ] {
        assert!(text.contains(line), "{line} in\n{text}");
    }
    assert!(shop.ok("load").out.contains("nothing new"));
}

#[test]
fn the_columns_of_a_table_that_is_there_are_matched_with_those_of_the_files() {
    let shop = with_files();
    shop.write("arrivals.csv", "berth_id,ship,draught\n1,Amber Turnstone,7.5\n");
    shop.ok("load arrivals.csv --into sqlite:hypodoke.db");
    let mut terminal = Terminal::start(&shop, "draft in --ask");
    terminal.answer("Load these files as the feed `berths`?", "");
    terminal.answer("Which table?", "arrivals");
    terminal.answer("`arrivals` has no `vessel`:", "ship");
    for question in ["What becomes of the rows", "When files change?", "When rows cannot", "When are they"] {
        terminal.answer(question, "");
    }
    terminal.answer("Write hypodoke.toml?", "");
    terminal.answer("Load now what is there?", "");
    terminal.sees("2 files loaded, 24 rows");
    assert_eq!(terminal.end(), 0);
    let sql = "SELECT count(*), count(ship) FROM arrivals";
    assert_eq!(shop.query("hypodoke.db", sql), ["25|25"], "{}", configuration(&shop));
}

#[test]
fn files_without_a_header_are_given_names() {
    let shop = workshop();
    shop.write("in/levels_1.csv", (0..12).map(|at| format!("{at},2.{at},north\n")).collect::<String>());
    let mut terminal = Terminal::start(&shop, "draft in --ask");
    terminal.answer("Load these files", "");
    terminal.answer("What are its columns called?", "id,level");
    terminal.sees("it has 3 columns, and these are 2 names");
    terminal.answer("What are its columns called?", "id,level,pier");
    for question in ["Which table?", "What becomes", "When files", "When rows", "When are they", "Write"] {
        terminal.answer(question, "");
    }
    terminal.answer("Load now what is there?", "n");
    assert_eq!(terminal.end(), 0);
    assert!(
        configuration(&shop).contains("header = [\"id\", \"level\", \"pier\"]"),
        "{}",
        configuration(&shop)
    );
    shop.ok("load");
    let sql = "SELECT count(id), min(pier) FROM levels";
    assert_eq!(shop.query("hypodoke.db", sql), ["12|north"]);
}

#[test]
fn who_interrupts_or_says_no_has_changed_nothing() {
    let shop = with_files();
    let before = std::fs::read_dir(shop.path("")).expect("a folder").count();
    let mut terminal = Terminal::start(&shop, "draft in --ask");
    terminal.answer("Load these files", "");
    terminal.is_asked("Which table?");
    terminal.press(INTERRUPT);
    terminal.sees("interrupted");
    assert_eq!(terminal.end(), 2);
    let mut terminal = Terminal::start(&shop, "draft in --ask");
    terminal.answer("Load these files", "n");
    terminal.answer("Write hypodoke.toml?", "n");
    terminal.sees("nothing is written");
    assert_eq!(terminal.end(), 0);
    assert_eq!(std::fs::read_dir(shop.path("")).expect("a folder").count(), before);
}

/// A feed two of whose files are held over the same new name of a column.
fn with_held_files() -> Workshop {
    let shop = workshop();
    shop.write(
        "hypodoke.toml",
        "[staging]\nurl = \"sqlite:h.db\"\n[place.quay]\npath = \"in\"\n\
         [feed.berths]\nplace = \"quay\"\nfiles = \"berths_{n}.csv\"\n",
    );
    let rows = |head: &str, from: u32| {
        let rows: String = (from..from + 12).map(|at| format!("{at},Grey Heron {at},4.5\n")).collect();
        format!("{head}\n{rows}")
    };
    shop.write("in/berths_1.csv", rows("berth_id,vessel,draught", 0));
    shop.ok("load");
    shop.write("in/berths_2.csv", rows("berth_id,vessel,draught_m", 100));
    shop.write("in/berths_3.csv", rows("berth_id,vessel,draught_m", 200));
    shop.attention("load");
    shop
}

#[test]
fn what_is_held_is_decided_group_by_group() {
    let shop = with_held_files();
    let mut terminal = Terminal::start(&shop, "settle");
    terminal.sees("1 of 1: ");
    terminal.answer("What becomes of it?", "under a new name");
    terminal.answer("Decide so about all 2 files?", "y");
    terminal.answer("Write the change into the configuration", "y");
    terminal.sees("2 files decided; the next `hypodoke load` takes them");
    assert_eq!(terminal.end(), 0);
    assert!(configuration(&shop).contains("draught_m"), "{}", configuration(&shop));
    assert!(shop.ok("load").out.contains("2 files loaded, 24 rows"));
    assert_eq!(shop.query("h.db", "SELECT count(draught) FROM berths"), ["36"]);
}

#[test]
fn what_is_held_is_decided_file_by_file_or_left() {
    let shop = with_held_files();
    let mut terminal = Terminal::start(&shop, "settle");
    terminal.answer("What becomes of it?", "file by file");
    terminal.sees("file 1 of 2");
    terminal.answer("What becomes of it?", "discard");
    terminal.answer("Decide so about", "y");
    terminal.sees("file 2 of 2");
    // Back to the first, and on again: it counts once.
    terminal.is_asked("What becomes of it?");
    terminal.press(ESCAPE);
    wait_for("the first file again", || terminal.screen().matches("file 1 of 2").count() == 2);
    terminal.answer("What becomes of it?", "discard");
    terminal.answer("Decide so about", "y");
    wait_for("the second file again", || terminal.screen().matches("file 2 of 2").count() == 2);
    terminal.answer("What becomes of it?", "later");
    terminal.sees("1 file decided, 1 file left for later");
    assert_eq!(terminal.end(), 3, "one is left");
    let held = shop.json("settle --list", 3);
    assert_eq!(held["held"].as_array().map(Vec::len), Some(1), "{held}");
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM berths"), ["12"]);
}
