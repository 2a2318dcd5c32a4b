//! `hypodoke watch` as a process that is left to run: what arrives is loaded, once, whatever else
//! happens.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::time::{Duration, Instant};

use hypodoke_testkit::{Server, Sshd, Watch, Workshop, set_modified, wait_for};
use rstest::rstest;

use crate::staging::{Kind, Staging};
use crate::workshop;

fn configured(more: &str) -> Workshop {
    let shop = workshop();
    std::fs::create_dir(shop.path("in")).expect("a folder");
    configure(&shop, "sqlite:h.db", more);
    shop
}

fn configure(shop: &Workshop, url: &str, more: &str) {
    let text = format!(
        "[staging]\nurl = \"{url}\"\n[place.quay]\npath = \"in\"\nquiet_for = \"200ms\"\n[feed.gauge]\nplace = \"quay\"\nfiles = \"gauge_*.csv\"\ntable = \"gauge\"\n{more}\n"
    );
    shop.write("hypodoke.toml", text);
}

fn count(shop: &Workshop) -> String {
    let there = shop.path("h.db").exists()
        && !shop.query("h.db", "SELECT 1 FROM sqlite_schema WHERE name = 'gauge'").is_empty();
    if there { shop.query("h.db", "SELECT count(*) FROM gauge").concat() } else { "0".to_owned() }
}

fn wait_for_rows(shop: &Workshop, rows: &str) {
    wait_for(&format!("{rows} rows"), || count(shop) == rows);
}

/// What a web server answers: the first line and all of it.
fn get(address: &str, path: &str) -> (String, String) {
    let mut stream = TcpStream::connect(address).expect("it listens");
    write!(stream, "GET {path} HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n").expect("it takes");
    let mut text = String::new();
    stream.read_to_string(&mut text).expect("an answer");
    (text.lines().next().unwrap_or_default().to_owned(), text)
}

#[test]
fn what_is_dropped_moved_in_or_appended_to_is_loaded() {
    let shop = configured("");
    shop.write("in/gauge_0.csv", "at,level\n1,2.5\n");
    let watch = Watch::start(&shop, "");
    wait_for_rows(&shop, "1");
    shop.write("in/gauge_1.csv", "at,level\n1,2.5\n2,2.6\n");
    wait_for_rows(&shop, "3");
    // Moved in under its own name, from a name that is none of the feed's.
    shop.write("aside.csv", "at,level\n9,2.9\n");
    std::fs::rename(shop.path("aside.csv"), shop.path("in/gauge_2.csv")).expect("moved");
    wait_for_rows(&shop, "4");
    // Appended to after it was loaded: the new version takes the place of the old.
    let mut file = std::fs::File::options().append(true).open(shop.path("in/gauge_1.csv")).expect("a file");
    file.write_all(b"3,2.7\n").expect("written");
    wait_for_rows(&shop, "5");
    // A new folder, and a file in it that no feed wants.
    shop.write("in/new/other.txt", "x");
    wait_for("the stranger", || watch.log().contains("no feed's `files` pattern fits this file"));
    watch.signal("TERM");
    let log = watch.log();
    assert!(watch.end().success(), "{log}");
    assert!(shop.ok("load").out.contains("nothing new"));
    assert!(shop.ok("tally").out.contains("all figures agree"));
}

#[test]
fn what_is_written_bit_by_bit_is_loaded_once_it_is_whole() {
    let quiet = Duration::from_millis(200);
    // A machine that is busy may let the writer pause for longer than the place waits: then the file
    // is rightly taken for whole, and it is written once more.
    for attempt in 0.. {
        let shop = configured("");
        let watch = Watch::start(&shop, "");
        let mut file = std::fs::File::create(shop.path("in/gauge_3.csv")).expect("a file");
        let (mut written, mut longest) = (Instant::now(), Duration::ZERO);
        for at in 0..60 {
            let heading = if at == 0 { "at,level\n" } else { "5\n" };
            file.write_all(format!("{heading}{at},3.").as_bytes()).expect("written");
            std::thread::sleep(Duration::from_millis(20));
            longest = longest.max(written.elapsed());
            written = Instant::now();
        }
        file.write_all(b"5\n").expect("written");
        wait_for_rows(&shop, "60");
        if longest < quiet {
            let entries = "SELECT count(*) FROM hd_files WHERE path = 'gauge_3.csv'";
            assert_eq!(shop.query("h.db", entries), ["1"], "once, when it was whole\n{}", watch.log());
            return;
        }
        assert!(attempt < 50, "the writer was never let write in time");
    }
}

#[rstest]
#[case::sqlite(Kind::Sqlite)]
#[case::postgres(Kind::Postgres)]
#[case::mysql(Kind::Mysql)]
fn of_two_watches_one_works_and_the_other_takes_over(#[case] kind: Kind) {
    let (shop, staging) = (configured(""), Staging::new(kind));
    configure(&shop, &staging.url(), "");
    let first = Watch::start(&shop, "");
    shop.write("in/gauge_1.csv", "at\n1\n");
    let rows = || {
        let there = match kind {
            Kind::Sqlite => shop.path("h.db").exists(),
            _ => true,
        };
        let table = "SELECT count(*) FROM hd_files WHERE outcome = 'loaded'";
        if there && first.log().contains(" loaded ") {
            staging.query(&shop, table).concat()
        } else {
            String::new()
        }
    };
    wait_for("the first file", || rows() == "1");
    let second = Watch::of(&shop, shop.command("watch"), "second.log");
    wait_for("the second to stand by", || second.log().contains("standing by"));
    shop.write("in/gauge_2.csv", "at\n2\n");
    wait_for("the second file", || rows() == "2");
    assert!(!second.log().contains(" loaded "), "{}", second.log());
    first.signal("KILL");
    first.end();
    shop.write("in/gauge_3.csv", "at\n3\n");
    wait_for("the third file", || second.log().contains("gauge_3.csv"));
    wait_for("the third file's rows", || staging.query(&shop, "SELECT count(*) FROM gauge") == ["3"]);
    assert!(!second.log().contains("gauge_1.csv"), "{}", second.log());
}

#[test]
fn ended_at_any_point_it_goes_on_without_a_row_lost_or_doubled() {
    let shop = configured("");
    let mut rows = 0;
    let points = [
        "load.begun:1",
        "load.tables:2",
        "load.sent:1",
        "load.sent:3",
        "load.ended:2",
        "group.commit.before:1",
        "group.commit.after:1",
        "load.entry:2",
    ];
    for (round, point) in points.into_iter().enumerate() {
        let mut command = shop.command("watch");
        command.env("HYPODOKE_END_AT", point);
        let watch = Watch::of(&shop, command, "watch.log");
        for file in 0..3 {
            let lines: String = (0..2000).map(|row| format!("{row},{round}.{file}\n")).collect();
            shop.write(&format!("in/gauge_{round}_{file}.csv"), format!("at,level\n{lines}"));
            rows += 2000;
        }
        assert_eq!(watch.end().code(), None, "{point}");
    }
    let _watch = Watch::start(&shop, "");
    wait_for_rows(&shop, &rows.to_string());
    assert!(shop.ok("tally").out.contains("all figures agree"));
}

#[test]
fn a_database_that_goes_away_is_waited_for() {
    let (shop, server) = (configured(""), Server::start());
    let database = server.database();
    configure(&shop, &database.url, "[watch]\nlisten = \"127.0.0.1:0\"");
    let watch = Watch::start(&shop, "");
    shop.write("in/gauge_1.csv", "at\n1\n");
    wait_for("the first file", || watch.log().contains("gauge_1.csv"));
    server.stop();
    shop.write("in/gauge_2.csv", "at\n2\n");
    wait_for("the trouble", || watch.log().contains("out of reach"));
    let (status, health) = get(&watch.address(), "/healthz");
    assert!(status.contains("503") && health.contains("\"out_of_reach\""), "{health}");
    server.start_again();
    wait_for("the second file", || watch.log().contains("gauge_2.csv"));
    wait_for("to be back", || watch.log().contains("back in reach"));
    assert_eq!(database.query("SELECT count(*) FROM gauge"), ["2"]);
    assert_eq!(watch.log().matches("out of reach").count(), 1, "it is said once\n{}", watch.log());
    assert!(get(&watch.address(), "/healthz").0.contains("200"));
}

/// Whoever asks for health can ask too much, and the loading goes on.
#[test]
fn a_crowd_at_the_page_of_health_keeps_nothing_from_loading() {
    let shop = configured("[watch]\nlisten = \"127.0.0.1:0\"");
    let mut command = shop.command("");
    let limited = format!("ulimit -n 100; exec {} watch", env!("CARGO_BIN_EXE_hypodoke"));
    command = {
        let mut shell = std::process::Command::new("sh");
        shell.args(["-c", &limited]).current_dir(shop.path("."));
        shell.env_clear().envs(command.get_envs().filter_map(|(name, value)| Some((name, value?))));
        shell
    };
    let watch = Watch::of(&shop, command, "watch.log");
    let address = watch.address();
    let idle: Vec<TcpStream> = (0..300).filter_map(|_| TcpStream::connect(&address).ok()).collect();
    shop.write("in/gauge_1.csv", "at\n1\n");
    wait_for_rows(&shop, "1");
    drop(idle);
    // Headers without end are not read to their end.
    wait_for("the page", || {
        TcpStream::connect(&address).is_ok_and(|mut stream| {
            let endless = format!("GET /healthz HTTP/1.1\r\nX: {}\r\n\r\n", "x".repeat(4 << 20));
            let _ = stream.write_all(endless.as_bytes());
            let mut answer = String::new();
            let _ = stream.read_to_string(&mut answer);
            assert!(!answer.contains("200 OK"), "{answer}");
            true
        })
    });
    wait_for("health", || {
        TcpStream::connect(&address).is_ok_and(|mut stream| {
            let mut answer = String::new();
            let asked = stream.write_all(b"GET /healthz HTTP/1.1\r\nHost: localhost\r\n\r\n");
            asked.and_then(|()| stream.read_to_string(&mut answer)).is_ok() && answer.contains("200 OK")
        })
    });
    shop.write("in/gauge_2.csv", "at\n2\n");
    wait_for_rows(&shop, "2");
}

/// Connections that ask nothing make room for one that does, for a page as well.
#[rstest]
#[case::health("/healthz")]
#[case::metrics("/metrics")]
#[case::page("/")]
fn idle_connections_keep_nobody_from_the_page(#[case] path: &str) {
    let shop = configured("[watch]\nlisten = \"127.0.0.1:0\"");
    let watch = Watch::start(&shop, "");
    shop.write("in/gauge_1.csv", "at\n1\n");
    wait_for_rows(&shop, "1");
    let address = watch.address();
    let idle: Vec<TcpStream> = (0..200).filter_map(|_| TcpStream::connect(&address).ok()).collect();
    assert_eq!(idle.len(), 200);
    let (status, text) = get(&address, path);
    assert!(status.contains("200 OK"), "{text}");
    drop(idle);
}

#[test]
fn a_server_that_does_not_answer_stops_no_other_feed() {
    let shop = configured("");
    // It takes connections and says nothing.
    let silent = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = silent.local_addr().expect("an address").port();
    configure(
        &shop,
        "sqlite:h.db",
        &format!(
            "[place.far]\npath = \"sftp://nobody@127.0.0.1:{port}/out\"\nknown_hosts = \"known\"\n[feed.far]\nplace = \"far\"\nfiles = \"*.csv\"\n"
        ),
    );
    shop.write("known", "");
    let watch = Watch::start(&shop, "");
    wait_for("both feeds", || watch.log().matches("watching feed").count() == 2);
    for file in 1..4 {
        shop.write(&format!("in/gauge_{file}.csv"), format!("at\n{file}\n"));
        wait_for_rows(&shop, &file.to_string());
    }
    // Nor does it keep a new configuration waiting.
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", format!("{text}[feed.other]\nplace = \"quay\"\nfiles = \"other_*.csv\"\n"));
    shop.write("in/other_1.csv", "a\n1\n");
    wait_for("the new feed", || watch.log().contains("feed=\"other\" path=\"other_1.csv\""));
}

#[test]
fn a_server_is_looked_at_from_time_to_time() {
    let (shop, sshd) = (workshop(), Sshd::start());
    std::fs::create_dir_all(sshd.path("out")).expect("folders");
    shop.write("known", sshd.known_host());
    shop.write("hypodoke.toml", format!(
        "[staging]\nurl = \"sqlite:h.db\"\n[place.office]\npath = \"{}\"\nkey_file = \"{}\"\nknown_hosts = \"known\"\npoll = \"300ms\"\n[feed.gauge]\nplace = \"office\"\nfiles = \"*.csv\"\ntable = \"gauge\"\n",
        sshd.url(&sshd.path("out")),
        sshd.path("user_key").display()
    ));
    let watch = Watch::start(&shop, "");
    for file in 1..4 {
        std::fs::write(sshd.path(&format!("out/g{file}.csv")), format!("at\n{file}\n")).expect("a file");
        wait_for_rows(&shop, &file.to_string());
    }
    sshd.cut();
    std::fs::write(sshd.path("out/g4.csv"), "at\n4\n").expect("a file");
    wait_for_rows(&shop, "4");
    watch.signal("TERM");
    assert!(watch.end().success());
}

#[test]
fn a_wish_to_stop_lets_the_file_in_hand_be_finished() {
    // On a busy machine the wish may come when all is loaded already, and shows nothing.
    assert!((0..20).any(|_| stopped_in_time()), "the wish always came too late");
}

fn stopped_in_time() -> bool {
    let shop = configured("");
    for file in 0..40 {
        let lines: String = (0..20_000).map(|row| format!("{row},{file}.5,some words to read\n")).collect();
        shop.write(&format!("in/gauge_{file:02}.csv"), format!("at,level,words\n{lines}"));
    }
    let watch = Watch::start(&shop, "-v");
    wait_for("the third file", || watch.log().contains("file began path=\"gauge_02.csv\" step=Loading"));
    watch.signal("TERM");
    let log = watch.log();
    let end = watch.end();
    assert!(end.success() || end.code() == Some(130), "{log}");
    let files = shop.query("h.db", "SELECT count(*), sum(rows_loaded) FROM hd_files").concat();
    let (loaded, rows) = files.split_once('|').expect("two figures");
    let loaded: u64 = loaded.parse().expect("a number");
    assert!((3..=40).contains(&loaded), "{loaded}");
    assert_eq!(rows, (loaded * 20_000).to_string());
    let open = shop.query("h.db", "SELECT count(*) FROM hd_batches WHERE ended_at IS NULL").concat();
    assert_eq!(open == "0", end.success(), "{log}");
    shop.ok("load -q");
    assert_eq!(count(&shop), "800000");
    loaded < 40
}

#[test]
fn a_feed_is_loaded_by_the_clock_only_where_it_is_said_so() {
    let shop = configured(
        "[feed.gauge.schedule]\nevery = \"1s\"\n[feed.other]\nplace = \"quay\"\nfiles = \"other_*.csv\"\n[feed.other.schedule]\ncron = \"0 3 1 1 *\"\n",
    );
    let watch = Watch::start(&shop, "");
    wait_for("both feeds", || watch.log().matches("watching feed").count() == 2);
    shop.write("in/other_1.csv", "a\n1\n");
    for file in 1..4 {
        shop.write(&format!("in/gauge_{file}.csv"), format!("at\n{file}\n"));
        wait_for_rows(&shop, &file.to_string());
    }
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM hd_files WHERE feed = 'other'"), ["0"]);
}

#[test]
fn a_configuration_that_changes_is_taken_over_if_it_is_right() {
    let shop = configured("");
    let watch = Watch::start(&shop, "");
    shop.write("in/gauge_1.csv", "at\n1\n");
    shop.write("in/other_1.csv", "a\n1\n");
    wait_for_rows(&shop, "1");
    configure(&shop, "sqlite:h.db", "[feed.other]\nplace = \"nowhere\"\nfiles = \"other_*.csv\"\n");
    wait_for("the complaint", || watch.log().contains("there is no place `nowhere`"));
    shop.write("in/gauge_2.csv", "at\n2\n");
    wait_for_rows(&shop, "2");
    configure(
        &shop,
        "sqlite:h.db",
        "[feed.other]\nplace = \"quay\"\nfiles = \"other_*.csv\"\ntable = \"other\"\n",
    );
    wait_for("the new feed", || watch.log().contains("feed=\"other\" path=\"other_1.csv\""));
    assert_eq!(count(&shop), "2");
}

#[test]
fn a_configuration_written_in_two_steps_is_taken_over_whole() {
    let shop = configured("");
    let watch = Watch::start(&shop, "");
    let whole = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    let feed = |name: &str| format!("[feed.{name}]\nplace = \"quay\"\nfiles = \"{name}_*.csv\"\n");
    // Each half is right by itself; the second comes at any moment after the first.
    for (step, pause) in [0, 300, 700, 1100, 1600, 2100].into_iter().enumerate() {
        let (first, second) = (format!("a{step}"), format!("b{step}"));
        shop.write("hypodoke.toml", format!("{whole}{}", feed(&first)));
        std::thread::sleep(Duration::from_millis(pause));
        shop.write("hypodoke.toml", format!("{whole}{}{}", feed(&first), feed(&second)));
        shop.write(&format!("in/{second}_1.csv"), format!("a\n{step}\n"));
        wait_for("the second half", || watch.log().contains(&format!("path=\"{second}_1.csv\"")));
    }
}

#[test]
fn what_cannot_be_loaded_is_not_tried_all_the_time() {
    let shop = configured("[feed.gauge.expect]\nmin_rows = 2\n");
    let watch = Watch::start(&shop, "");
    shop.write("in/gauge_1.csv", "at\n1\n");
    wait_for("it to be held", || watch.log().contains(" held "));
    for file in 2..5 {
        shop.write(&format!("in/gauge_{file}.csv"), format!("at\n{file}\n{file}\n"));
        wait_for(&format!("file {file}"), || watch.log().contains(&format!("gauge_{file}.csv")));
    }
    assert_eq!(watch.log().matches(" held ").count(), 1, "{}", watch.log());
    // Somebody settles it while the watch goes on.
    shop.ok("settle gauge_1.csv --load-anyway");
    wait_for_rows(&shop, "7");
    shop.write("in/gauge_1.csv", "at\n1\n8\n9\n");
    wait_for_rows(&shop, "9");
}

#[test]
fn health_and_metrics_are_told_in_open_formats() {
    let shop = configured("[feed.gauge.columns.level]\ntype = \"decimal(4,2)\"\n");
    let watch = Watch::start(&shop, "--listen 127.0.0.1:0");
    shop.write("in/gauge_1.csv", "at,level\n1,2.5\n2,x\n3,2.7\n");
    wait_for_rows(&shop, "2");
    let address = watch.address();
    wait_for("the count", || get(&address, "/metrics").1.contains("hypodoke_files_total"));
    let (status, text) = get(&address, "/metrics");
    assert!(status.contains("200") && text.contains("Content-Type: application/openmetrics-text"), "{text}");
    let figures: Vec<&str> = text.lines().filter(|line| line.starts_with("hypodoke_")).collect();
    for line in &figures {
        // name{labels} number
        let (name, number) = line.rsplit_once(' ').expect("a figure");
        assert!(number.parse::<f64>().is_ok() && name.contains("{feed=\"gauge\""), "{line}");
    }
    for line in [
        "hypodoke_files_total{feed=\"gauge\",outcome=\"loaded\"} 1",
        "hypodoke_rows_total{feed=\"gauge\",outcome=\"loaded\"} 2",
        "hypodoke_rows_total{feed=\"gauge\",outcome=\"rejected\"} 1",
        "hypodoke_in_reach{feed=\"gauge\"} 1",
    ] {
        assert!(figures.contains(&line), "{line}\n{text}");
    }
    let (status, health) = get(&address, "/healthz");
    let health = &health[health.find('{').expect("JSON")..=health.rfind('}').expect("JSON")];
    let health: serde_json::Value = serde_json::from_str(health).expect("JSON");
    assert!(status.contains("200") && health["healthy"] == true, "{health}");
    assert_eq!(health["feeds"]["gauge"]["state"], "waiting");
    assert!(get(&address, "/else").0.contains("404"));
    // The port is taken now.
    let run = shop.run(&format!("watch --listen {address}"));
    assert!(run.code == Some(2) && run.err.contains("cannot be listened on"), "{}", run.err);
}

#[rstest]
#[case::never("cron = \"0 0 30 2 *\"", ":11:8: `0 0 30 2 *` never comes")]
#[case::no_cron("cron = \"0 10\"", "has 2 fields")]
#[case::no_zone("time_zone = \"Quillane/Harbour\"", "there is no time zone `Quillane/Harbour`")]
#[case::near_zone("time_zone = \"Europe/Lisbn\"", "did you mean `Europe/Lisbon`?")]
#[case::no_span("every = \"soon\"", "`soon` is not a duration")]
#[case::no_time("due = \"breakfast\"", "`breakfast` is not a time")]
#[case::half_a_window("from = \"06:00\"", "`from` goes with `until`")]
#[case::empty_window("from = \"06:00\"\nuntil = \"06:00\"", "it would never be time")]
#[case::never_at_all("on_arrival = false", "would never be loaded")]
#[case::wrong_word("evry = \"1h\"", "did you mean `every`?")]
fn a_wrong_schedule_is_answered_with_its_place(#[case] schedule: &str, #[case] words: &str) {
    let shop = configured(&format!("[feed.gauge.schedule]\n{schedule}"));
    let run = shop.run("watch");
    assert!(run.code == Some(2) && run.err.contains(words), "{}", run.err);
    assert!(run.err.contains("hypodoke.toml:"), "{}", run.err);
}

#[test]
fn what_cannot_be_watched_is_said_at_once() {
    let shop = workshop();
    let run = shop.run("watch");
    assert!(run.code == Some(2) && run.err.contains("a watch needs one"), "{}", run.err);
    let shop = configured("");
    let run = shop.run("watch nroth");
    assert!(run.code == Some(2) && run.err.contains("there is no feed `nroth`"), "{}", run.err);
    let mut command = shop.command("watch");
    command.env("HYPODOKE_LOG", "loud");
    let run = hypodoke_testkit::finish(command);
    assert!(run.code == Some(2) && run.err.contains("that is not a level"), "{}", run.err);
}

#[test]
fn a_ledger_of_a_newer_program_is_left_alone() {
    let shop = configured("");
    set_modified(&shop.write("in/gauge_1.csv", "at\n1\n"), 1_772_000_000);
    shop.ok("load");
    shop.database("h.db").execute("INSERT INTO hd_ledger VALUES (99, 'hypodoke 9')", []).expect("a version");
    shop.write("in/gauge_2.csv", "at\n2\n");
    let watch = Watch::start(&shop, "");
    wait_for("the complaint", || watch.log().contains("out of reach") || watch.log().contains("newer"));
    assert_eq!(count(&shop), "1");
}

#[test]
fn units_for_systemd_hold_what_is_run() {
    let shop = configured("");
    let text = shop.ok("watch gauge --unit").out;
    let config = shop.path("hypodoke.toml").canonicalize().expect("a path");
    let line = format!("watch --config {} gauge", config.display());
    assert!(text.contains(&line) && text.contains("[Timer]") && text.contains("TimeoutStopSec"), "{text}");
    if Path::new("/usr/bin/systemd-analyze").exists() {
        let units: Vec<&str> = text.split("\n# Or a load").collect();
        let unit = units[0].replace("User=hypodoke\n", "");
        let file = shop.write("hypodoke-watch.service", unit);
        let run = hypodoke_testkit::finish({
            let mut command = std::process::Command::new("/usr/bin/systemd-analyze");
            command.arg("verify").arg(file);
            command
        });
        assert!(!run.err.contains("hypodoke-watch.service:"), "{}", run.err);
    }
}
