//! What an ordinary week brings: values of another kind, files of other feeds, files that are cut short or
//! empty, tables that somebody has dropped, and values that are not what they were.

use hypodoke_testkit::Workshop;
use rstest::rstest;

use crate::staging::{Kind, Staging, configure};
use crate::workshop;

use Kind::{Mysql, Postgres, Sqlite};

/// A feed with one file of twelve rows.
fn begun(kind: Kind, extra: &str) -> (Workshop, Staging) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, extra);
    shop.write("in/f_20260302.csv", rows(0..12, |at| format!("N{at},{}.25", at % 7 + 2)));
    shop.ok("load");
    (shop, staging)
}

fn rows(numbers: std::ops::Range<usize>, rest: impl Fn(usize) -> String) -> String {
    let lines: String = numbers.map(|at| format!("{at},{}\n", rest(at))).collect();
    format!("id,berth,draught\n{lines}")
}

#[rstest]
fn a_word_among_numbers_costs_its_row_and_many_hold_the_file(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = begun(kind, "");
    let word = |every: usize| {
        move |at: usize| if at % every == 3 { "N,aground".to_owned() } else { "N,3.5".to_owned() }
    };
    shop.write("in/f_20260303.csv", rows(100..110, word(10)));
    let run = shop.attention("load");
    for part in [
        "column `draught` has values that are not decimal(3,2), `aground` on line 5",
        "1 row rejected: `draught` not a decimal(3,2), `aground` on line 5",
        "→ hypodoke rejects 2",
    ] {
        assert!(run.out.contains(part), "{part} in {}", run.out);
    }
    shop.write("in/f_20260304.csv", rows(200..210, word(5)));
    let run = shop.attention("load");
    let part = "column `draught` has 2 of 10 values that are not decimal(3,2), the first `aground` on line 5";
    assert!(run.out.contains(part), "{}", run.out);
    shop.ok("settle f_20260304.csv --load-anyway");
    shop.attention("load");
    assert_eq!(staging.query(&shop, "SELECT count(*), count(draught) FROM f"), ["29|29"]);
    assert!(shop.ok("tally").out.contains("agree"));
}

/// Types still widen within their kind, and the value that forced it is told.
#[test]
fn a_wider_number_is_told_with_its_value() {
    let (shop, staging) = begun(Sqlite, "");
    shop.write("in/f_20260303.csv", rows(100..103, |at| format!("N,{at}.125")));
    let run = shop.ok("load");
    assert!(
        run.out.contains("needs decimal(6,3) instead of decimal(3,2), `100.125` on line 2"),
        "{}",
        run.out
    );
    assert!(shop.ok("drift f").out.contains("`100.125` on line 2"));
    assert_eq!(
        staging.query(&shop, "SELECT line, value FROM hd_drift WHERE change = 'widened'"),
        ["2|100.125"]
    );
}

#[rstest]
#[case::no_column("vessel;flag\nHeron;QL\n", "it has none of the 3 columns of the files before it")]
#[case::most_gone("id,vessel,flag,master\n1,Heron,QL,Brack\n", "it has only 1 of the 3 columns")]
fn a_file_of_another_feed_is_held(
    #[case] text: &str,
    #[case] why: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, "");
    shop.write("in/f_20260303.csv", text);
    let run = shop.attention("load");
    assert!(run.out.contains(why), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["12"]);
    shop.ok("settle f_20260303.csv --load-anyway");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["13"]);
}

/// A layout that is nearer to another feed's is told with its table.
#[test]
fn a_file_that_is_like_another_table_names_it() {
    let (shop, staging) = begun(Sqlite, "");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    let more = "[feed.g]\nplace = \"quay\"\nfiles = \"g_*.csv\"\n";
    shop.write("hypodoke.toml", format!("{text}{more}"));
    let other = "id,vessel,flag,draught\n1,Heron,QL,2.5\n";
    shop.write("in/g_1.csv", other);
    shop.ok("load");
    shop.write("in/f_20260304.csv", other);
    let run = shop.attention("load");
    assert!(run.out.contains("they are those of `g`"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["12"]);
}

#[rstest]
#[case::fields("7,N7,3.5\n8,N", true)]
#[case::quote("7,N7,3.5\n8,\"N8", true)]
#[case::whole("7,N7,3.5\n8,N8,4.5", false)]
#[case::a_short_row_with_its_end("7,N7,3.5\n8,N\n", false)]
fn a_file_that_breaks_off_is_held(
    #[case] end: &str,
    #[case] held: bool,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, "");
    shop.write("in/f_20260303.csv", format!("id,berth,draught\n5,N5,2.5\n6,N6,2.5\n{end}"));
    let run = shop.run("load");
    let told = run.out.contains("it breaks off within its last record, on line 5");
    assert_eq!(told, held, "{}", run.out);
    let before = staging.query(&shop, "SELECT count(*) FROM f WHERE id > 4 AND berth <> 'x'");
    assert_eq!(before == ["7"], held, "{before:?}");
    if held {
        shop.ok("settle f_20260303.csv --load-anyway");
        shop.attention("load");
        assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["15"]);
    }
}

#[rstest]
#[case::inside_a_value("{\"id\":7,\"berth\":\"N7\"}\n{\"id\":8,\"ber", true)]
#[case::before_its_bracket("{\"id\":7,\"berth\":\"N7\"}\n{\"id\":8,\"berth\":\"N8\"", true)]
#[case::whole("{\"id\":7,\"berth\":\"N7\"}\n{\"id\":8,\"berth\":\"N8\"}", false)]
#[case::broken_with_its_end("{\"id\":7,\"berth\":\"N7\"}\n{\"id\":8,\"ber\n", false)]
#[case::broken_elsewhere("{\"id\":7,\"berth\":\"N7\"}\n{\"id\":8,,}", false)]
fn lines_of_json_that_break_off_are_held(
    #[case] end: &str,
    #[case] held: bool,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "");
    let lines: String = (0..3).map(|at| format!("{{\"id\":{at},\"berth\":\"N{at}\"}}\n")).collect();
    shop.write("in/f_20260302.csv", format!("{lines}{end}"));
    let run = shop.run("load");
    assert_eq!(run.out.contains("it breaks off within its last record, on line 5"), held, "{}", run.out);
    assert_eq!(!staging.has_table(&shop, "f"), held);
}

/// An empty file is held until somebody has dismissed one; from then on they are.
#[rstest]
fn empty_files_are_dismissed_once_one_was(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = begun(kind, "");
    shop.write("in/f_20260303.csv", "");
    assert!(shop.attention("load").out.contains("f_20260303.csv: it is empty"));
    shop.ok("settle f_20260303.csv --discard");
    assert!(shop.ok("load").out.contains("nothing new"));
    shop.write("in/f_20260304.csv", "\n\n");
    assert!(shop.ok("load").out.contains("f_20260304.csv: it is empty"));
    assert!(shop.ok("load").out.contains("nothing new"));
    let outcomes = staging.query(&shop, "SELECT outcome FROM hd_files WHERE path LIKE '%4.csv'");
    assert_eq!(outcomes, ["discarded"]);
}

#[rstest]
#[case::skip("skip", 0, "discarded")]
#[case::hold("hold", 3, "held")]
#[case::fail("fail", 1, "failed")]
fn an_empty_file_goes_by_the_feed(#[case] word: &str, #[case] code: i32, #[case] outcome: &str) {
    let (shop, staging) = begun(Sqlite, &format!("empty_file = \"{word}\""));
    shop.write("in/f_20260303.csv", "");
    assert_eq!(shop.run("load").code, Some(code));
    assert_eq!(staging.query(&shop, "SELECT outcome FROM hd_files WHERE file = 2"), [outcome]);
}

/// What failed can be dismissed, too.
#[test]
fn a_file_that_failed_is_discarded() {
    let (shop, _staging) = begun(Sqlite, "");
    shop.write("in/f_20260303.csv", b"\x1f\x8b\x08broken");
    assert_eq!(shop.run("load").code, Some(1));
    let list = shop.run("settle --list");
    assert!(list.out.contains("f_20260303.csv → f, failed in batch 2"), "{}", list.out);
    assert!(list.out.contains("→ hypodoke settle f_20260303.csv --discard"), "{}", list.out);
    shop.ok("settle f_20260303.csv --discard --why mistake");
    assert!(shop.ok("load").out.contains("nothing new"));
}

#[rstest]
#[case::dropped("DROP TABLE f", "the table `f` is gone: 12 rows of 1 file were loaded into it")]
#[case::emptied("DELETE FROM f", "the table `f` is empty: 12 rows of 1 file were loaded into it")]
fn a_table_that_is_gone_is_told_and_replayed(
    #[case] sql: &str,
    #[case] words: &str,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = begun(kind, "");
    staging.run(&shop, sql);
    for command in ["load", "check"] {
        let run = shop.attention(command);
        assert!(run.out.contains(words) && run.out.contains("hypodoke replay f"), "{}", run.out);
    }
    assert_eq!(shop.run("tally").code, Some(1));
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", text.replace("table = \"f\"", "table = \"f\"\nmissing_table = \"replay\""));
    shop.write("in/f_20260303.csv", "id,berth,draught\n50,N5,2.5\n");
    shop.attention("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["13"]);
    assert!(shop.ok("load").out.contains("nothing new"));
    assert!(shop.ok("tally").out.contains("agree"));
    shop.write("hypodoke.toml", text.replace("table = \"f\"", "table = \"f\"\nmissing_table = \"ignore\""));
    staging.run(&shop, sql);
    shop.ok("load");
}

/// Deliveries of a week, of thirty rows each; `change` alters those of the last day.
fn week(shop: &Workshop, days: u32, change: impl Fn(usize, String) -> String) {
    for day in 1..=days {
        let line = |at: usize| {
            let cargo = 1000 + (at * 7919 + day as usize * 104_729) % 4000;
            let state = ["arrived", "left", "moored"][(at + day as usize) % 3];
            let row = format!("{},{state},{cargo}", day as usize * 100 + at);
            if day == days { change(at, row) } else { row }
        };
        let lines: Vec<String> = (0..30).map(line).collect();
        shop.write(&format!("in/f_202603{day:02}.csv"), format!("id,state,cargo\n{}\n", lines.join("\n")));
        shop.done("load");
    }
}

#[rstest]
#[case::as_ever(|_, row: String| row, None)]
#[case::kilograms(|_, row: String| format!("{row}000"), Some("numbers of `cargo` are"))]
#[case::nulls(|at, row: String| if at % 2 == 0 { row[..row.rfind(',').unwrap_or(0) + 1].to_owned() } else { row }, Some("`cargo` is null in 50% of the rows, usually in 0%"))]
#[case::a_new_code(|at, row: String| if at == 7 { row.replace("arrived", "lost").replace("left", "lost").replace("moored", "lost") } else { row }, Some("`state` holds `lost`, until now only `arrived`, `left`, `moored`"))]
fn values_that_are_not_what_they_were_are_told(
    #[case] change: fn(usize, String) -> String,
    #[case] words: Option<&str>,
    #[values(Sqlite, Postgres, Mysql)] kind: Kind,
) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "");
    week(&shop, 7, change);
    let receipt = shop.ok("drift f").out;
    match words {
        Some(words) => assert!(receipt.contains(words), "{receipt}"),
        None => assert!(!receipt.contains("usually") && !receipt.contains("until now only"), "{receipt}"),
    }
    let told = staging.query(&shop, "SELECT count(*) FROM hd_drift WHERE change = 'unusual'");
    assert_eq!(told == ["0"], words.is_none(), "{receipt}");
}

#[test]
fn unusual_values_hold_a_file_where_the_feed_says_so() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "[feed.f.columns.cargo]\nvalues = \"hold\"");
    week(&shop, 6, |_, row| format!("{row}000"));
    let run = shop.attention("load");
    assert!(run.out.contains("numbers of `cargo` are"), "{}", run.out);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["150"]);
    shop.ok("settle f_20260306.csv --load-anyway");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM f"), ["180"]);
}

#[test]
fn a_file_of_far_fewer_rows_is_told() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "");
    week(&shop, 5, |_, row| row);
    shop.write("in/f_20260306.csv", "id,state,cargo\n1,left,1200\n");
    let run = shop.ok("load");
    assert!(run.out.contains("1 rows, usually 30"), "{}", run.out);
}

/// A rename is told by place and values, whatever the new name is.
#[rstest]
fn a_rename_is_told_by_place_and_values(#[values("hold", "follow")] policy: &str) {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, &format!("[feed.f.drift]\nrenamed_column = \"{policy}\""));
    let text = |name: &str| {
        let lines: String = (0..40).map(|at| format!("{at},{},x\n", 10 + at * 3 % 90)).collect();
        format!("id,{name},remark\n{lines}")
    };
    shop.write("in/f_20260302.csv", text("litres"));
    shop.ok("load");
    shop.write("in/f_20260303.csv", text("milk"));
    let run = shop.done("load");
    let words = if policy == "hold" {
        "it stands in the same place"
    } else {
        "column `litres` is called `milk` now: followed"
    };
    assert!(run.out.contains(words), "{}", run.out);
    let rows = if policy == "hold" { "40|40" } else { "80|80" };
    assert_eq!(staging.query(&shop, "SELECT count(*), count(litres) FROM f"), [rows]);
}

/// All that is wrong with a row is told at once.
#[rstest]
fn a_reject_has_all_its_reasons(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let extra = "[feed.f.columns.draught]\ntype = \"decimal(4,2)\"\n[feed.f.columns.id]\ntype = \"integer\"";
    let (shop, staging) = begun(kind, extra);
    shop.write("in/f_20260303.csv", "id,berth,draught\nx,N1,deep\n9,N2,3.5\n");
    shop.attention("load");
    let more = staging.query(&shop, "SELECT column_name, more FROM hd_rejects");
    let [row] = &more[..] else { panic!("{more:?}") };
    assert!(row.starts_with("id|[{\"column\":\"draught\",\"value\":\"deep\""), "{row}");
}

#[rstest]
fn names_are_given_to_files_without_a_header(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    configure(&shop, &staging, "header = [\"first\", \"last\", \"pay\"]");
    shop.write("in/f_20260302.csv", "Ann,Brack,12.50\nBo,Marl,7.25\n");
    // A header that is just these names is one.
    shop.write("in/f_20260303.csv", "First,Last,Pay\nCy,Penny,3.00\n");
    shop.ok("load");
    assert_eq!(
        staging.query(&shop, "SELECT first, last FROM f ORDER BY first"),
        ["Ann|Brack", "Bo|Marl", "Cy|Penny"]
    );
    shop.write("in/f_20260304.csv", "Ann,Brack\nBo,Marl\n");
    let run = shop.run("load");
    assert!(run.code == Some(1) && run.out.contains("it has 2 columns, and `header` names 3"), "{}", run.out);
    shop.write("x.csv", "1,2\n3,4\n");
    shop.ok(&format!("load x.csv --into {} --table x --header a,b", staging.url()));
    assert_eq!(staging.query(&shop, "SELECT a, b FROM x ORDER BY a"), ["1|2", "3|4"]);
    let run = shop.run("load x.csv --into sqlite:y.db --header a,a");
    assert!(run.code == Some(2) && run.err.contains("`a` stands twice"), "{}", run.err);
}

#[rstest]
fn a_feed_has_a_table_for_each_name(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, staging) = (workshop(), Staging::new(kind));
    let text = |table: &str| {
        format!(
            "[staging]\nurl = \"{}\"\n[place.quay]\npath = \"in\"\n[feed.lookup]\nplace = \"quay\"\nfiles = \"{{name}}.csv\"\ntable = \"{table}\"\nmode = \"replace\"\n[feed.lookup.columns]\nsource = {{ constant = \"list of {{name}}\" }}\n",
            staging.url()
        )
    };
    shop.write("hypodoke.toml", text("lookup_{name}"));
    shop.write("in/berths.csv", "no,quay\n1,north\n2,south\n");
    shop.write("in/agents.csv", "code,agent\nB,Brack\n");
    shop.ok("load");
    assert_eq!(
        staging.query(&shop, "SELECT no, source FROM lookup_berths ORDER BY no"),
        ["1|list of berths", "2|list of berths"]
    );
    assert_eq!(staging.query(&shop, "SELECT agent FROM lookup_agents"), ["Brack"]);
    shop.write("in/berths.csv", "no,quay\n7,east\n");
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT no FROM lookup_berths"), ["7"]);
    assert_eq!(staging.query(&shop, "SELECT count(*) FROM lookup_agents"), ["1"]);
    assert!(shop.ok("tally").out.contains("agree"));
    shop.ok("replay lookup --yes");
    shop.ok("retract berths.csv --yes");
    assert!(shop.ok("load").out.contains("nothing new"));
    shop.write("hypodoke.toml", text("lookup_{nam}"));
    let run = shop.run("load");
    assert!(
        run.code == Some(2) && run.err.contains("no named part `nam`") && run.err.contains("`name`"),
        "{}",
        run.err
    );
}

/// Several files are settled at once, by their feed, a pattern, or all.
#[rstest]
#[case::by_feed("settle f --rename draught=draft_m --write")]
#[case::by_pattern("settle f_2026031*.csv --rename draught=draft_m")]
#[case::all("settle --all --rename draught=draft_m")]
fn alike_files_are_settled_together(#[case] command: &str) {
    let (shop, staging) = begun(Sqlite, "");
    for day in 10..13 {
        let lines: String = (0..9).map(|at| format!("{},N,{}.25\n", day * 10 + at, at % 7 + 2)).collect();
        shop.write(&format!("in/f_202603{day}.csv"), format!("id,berth,draft_m\n{lines}"));
    }
    let run = shop.attention("load");
    assert!(run.out.contains("f_20260310.csv and 2 other files: `draught` is gone"), "{}", run.out);
    assert!(run.out.contains("→ hypodoke settle f --rename draught=draft_m"), "{}", run.out);
    let list = shop.attention("settle");
    assert!(list.out.contains("→ hypodoke settle f --rename draught=draft_m"), "{}", list.out);
    let settled = shop.ok(command);
    assert!(
        settled.out.contains("3 files with --rename draught=draft_m\n  27 rows read, 27 loaded"),
        "{}",
        settled.out
    );
    shop.ok("load");
    assert_eq!(staging.query(&shop, "SELECT count(draught) FROM f"), ["39"]);
}

/// Many files are a line for their feed, and the end is within a screen.
#[test]
fn many_files_are_a_few_lines() {
    let (shop, _staging) = begun(Sqlite, "");
    for at in 0..200 {
        let remark =
            if at % 2 == 0 { "id,berth,draught,pilot\n1,N,2.5,yes\n" } else { "id,berth,draught\n1,N,2.5\n" };
        shop.write(&format!("in/f_20260303_{at:03}.csv"), remark.replace("1,", &format!("{at},")));
        shop.write(&format!("in/strange_{at}.txt"), "x\n");
    }
    let run = shop.ok("load");
    let lines = run.out.lines().count();
    assert!(lines <= 24, "{lines} lines: {}", run.out);
    assert!(run.out.contains("f     f        200  loaded"), "{}", run.out);
    assert!(run.out.contains("and 197 more: unmatched"), "{}", run.out);
    let all = shop.ok("receipt 2 -v").out;
    assert!(all.lines().count() > 200, "{all}");
}

#[test]
fn what_a_draft_pins_lets_the_next_week_in() {
    let shop = workshop();
    for day in 2..6 {
        let lines: String = (0..20)
            .map(|at| format!("{:05},{}.{:02},N{at},{:02}/03/2026\n", day * 100 + at, at % 9, at, at % 9 + 1))
            .collect();
        shop.write(&format!("in/m_2026030{day}.csv"), format!("code,fee,berth,on\n{lines}"));
    }
    shop.ok("draft in");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    for part in [
        "code = { type = \"text\" }  # leading zeros are kept",
        "fee = { type = \"decimal(18,4)\" }  # with room: decimal(3,2) so far",
        "on = { format = \"",
        "# berth = { type = \"text\" }",
        "key   = [\"code\"]",
    ] {
        assert!(text.contains(part), "{part} in {text}");
    }
    shop.ok("load");
    shop.write("in/m_20260309.csv", "code,fee,berth,on\n00001,10.255,N1,02/03/2026\n");
    shop.ok("load");
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*), max(code) FROM m"), ["81|00519"]);
}

/// A key is what means something: a combination of day and place, not a figure that happens to differ.
#[rstest]
#[case::combined("date,station,level", |at| format!("2026-03-{:02},{},{}.5", at / 2 + 1, ["A", "B"][at % 2], at % 5), Some("key   = [\"date\", \"station\"]"))]
#[case::a_day("date,level", |at| format!("2026-03-{:02},{}.5", at + 1, at % 5), Some("key   = [\"date\"]"))]
#[case::headless("", |at| format!("{},{}.5", ["A", "B", "C"][at % 3], at % 4), None)]
#[case::figures("level,note", |at| format!("{},note {at}", at * at * 37 + 11), None)]
fn a_drafted_key_means_something(
    #[case] header: &str,
    #[case] row: fn(usize) -> String,
    #[case] key: Option<&str>,
) {
    let shop = workshop();
    let rows: Vec<String> = (0..14).map(row).collect();
    shop.write("in/levels.csv", format!("{header}\n{}\n", rows.join("\n")).trim_start());
    let draft = shop.ok("draft in -o -").out;
    match key {
        Some(key) => assert!(draft.contains(key), "{draft}"),
        None => assert!(!draft.contains("key "), "{draft}"),
    }
}

/// An archive of several members gets patterns that fit, and prose is no feed.
#[test]
fn an_archive_is_drafted_member_by_member() {
    let shop = workshop();
    let python = "import zipfile
z = zipfile.ZipFile('in/week.zip', 'w')
z.writestr('berths.csv', 'id,berth\\n1,N1\\n2,N2\\n')
z.writestr('agents.csv', 'code;agent\\nB;Brack\\n')
z.writestr('README.txt', 'Dear all, these are the files of the week.\\nThe berths come first, and the agents after them.\\n')
";
    shop.write("in/empty.keep", "");
    std::fs::remove_file(shop.path("in/empty.keep")).expect("removed");
    let made =
        std::process::Command::new("python3").arg("-c").arg(python).current_dir(shop.path("")).status();
    assert!(made.expect("python3").success());
    let run = shop.ok("draft in");
    assert!(run.out.contains("wrote hypodoke.toml with 2 feeds"), "{}", run.out);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    assert!(
        text.contains("files = \"week.zip/berths.csv\"") && text.contains("#   in/week.zip/README.txt"),
        "{text}"
    );
    shop.ok("load");
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*) FROM berths"), ["2"]);
}

#[test]
fn a_draft_says_by_options_what_somebody_wants() {
    let shop = workshop();
    shop.write("in/berths.csv", "id,berth\n1,N1\n2,N2\n");
    shop.ok("draft in --mode upsert --key id --on-change hold --rejected-rows 1% --at 07:30 --time-zone Europe/Lisbon --load");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    for part in [
        "mode  = \"upsert\"",
        "cron = \"30 7 * * *\"",
        "time_zone = \"Europe/Lisbon\"",
        "rejected_rows = \"1%\"",
        "new_column = \"hold\"",
    ] {
        assert!(text.contains(part), "{part} in {text}");
    }
    assert_eq!(shop.query("hypodoke.db", "SELECT count(*) FROM berths"), ["2"]);
    for (options, why) in [
        ("--mode upser", "none of append"),
        ("--key nope --mode upsert", "has not all of these columns"),
        ("--ask", "no terminal to ask on"),
    ] {
        let run = shop.run(&format!("draft in -o x.toml {options}"));
        assert!(run.code == Some(2) && run.err.contains(why), "{options}: {}", run.err);
    }
}

/// What the night needs is looked at before.
#[test]
fn a_check_looks_at_what_the_night_needs() {
    let (shop, _staging) = begun(
        Sqlite,
        "[feed.f.schedule]\ncron = \"30 6 * * *\"\ntime_zone = \"Europe/Lisbon\"\n[feed.g]\nplace = \"quay\"\nfiles = \"f_20260302*.csv\"\n[feed.h]\nplace = \"quay\"\nfiles = \"ff_*.csv\"\n[notify.desk]\nwebhook = \"http://127.0.0.1:1/x\"\n",
    );
    let run = shop.ok("check");
    for part in [
        "free for the database",
        "f: loaded by the clock",
        "06:30 WE",
        "g: 1 file that fit it go to `f`, which stands above it",
        "h: no file fits `ff_*.csv`; near is `f_20260302.csv`",
        "desk: a webhook of 127.0.0.1:1",
    ] {
        assert!(run.out.contains(part), "{part} in {}", run.out);
    }
    let run = shop.run("check --notify");
    assert!(run.code == Some(1) && run.out.contains("no notify"), "{}", run.out);
}

/// A column that comes from the name and that the table of others has not is told how to leave out.
#[test]
fn a_column_of_the_name_is_told_how_to_leave_out() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "");
    staging.run(&shop, "CREATE TABLE f (id integer, berth text)");
    shop.write("in/f_20260302.csv", "id,berth\n1,N1\n");
    let run = shop.run("load");
    assert!(run.code == Some(1) && run.out.contains("day = { skip = true }"), "{}", run.out);
}

#[test]
fn the_old_word_for_one_table_is_answered_with_the_new_one() {
    let (shop, staging) = (workshop(), Staging::new(Sqlite));
    configure(&shop, &staging, "stitched = true");
    let run = shop.run("load");
    assert!(
        run.code == Some(2) && run.err.contains("`stitched` is called `one_table` now: one_table = true"),
        "{}",
        run.err
    );
}

/// What a load says of a batch, the ledger says again.
#[rstest]
fn a_receipt_of_before_says_what_the_load_said(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, _staging) = begun(kind, "");
    let lines = rows(20..30, |at| format!("N{at},{},yes", if at == 21 { "aground" } else { "3.5" }));
    shop.write("in/f_20260303.csv", lines.replace("draught\n", "draught,pilot\n"));
    let load = shop.attention("load").out;
    let receipt = shop.ok("receipt").out;
    for line in [
        "new column `pilot` (boolean): added to the table",
        "1 row rejected: `draught` not a decimal(3,2), `aground` on line 3",
        "→ hypodoke rejects 2",
    ] {
        assert!(load.contains(line) && receipt.contains(line), "{line} in {load}{receipt}");
    }
}

/// What is advised about some held files of a feed is about these, and about the feed where it is all of them.
#[rstest]
fn advice_about_some_files_leaves_the_others_alone(#[values(Sqlite, Postgres, Mysql)] kind: Kind) {
    let (shop, _staging) = begun(kind, "");
    shop.write("in/f_20260303.csv", "");
    shop.write("in/f_20260304.csv", "");
    let all = shop.attention("load").out;
    assert!(all.contains("→ hypodoke settle f --discard"), "{all}");
    shop.write("in/f_20260305.csv", "ship,flag\nGrey Heron,NN\nSalt Plover,QU\n");
    let some = shop.attention("load").out;
    assert!(some.contains("→ hypodoke settle f_20260303.csv f_20260304.csv --discard"), "{some}");
    assert!(!some.contains("settle f --"), "{some}");
}
