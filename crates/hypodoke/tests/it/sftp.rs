//! Files on a server: OpenSSH's own, started for the test.

use hypodoke_testkit::{PASSWORD, Sshd, Workshop, end_at, set_modified};
use rstest::rstest;

use crate::workshop;

/// A server with a folder of gauge readings, and a configuration that fetches them.
fn begun(place: &str) -> (Workshop, Sshd) {
    let (shop, sshd) = (workshop(), Sshd::start());
    std::fs::create_dir_all(sshd.path("out/mole")).expect("folders");
    configure(&shop, &sshd, place);
    std::fs::write(shop.path("known"), sshd.known_host()).expect("a file");
    (shop, sshd)
}

fn configure(shop: &Workshop, sshd: &Sshd, place: &str) {
    let text = format!(
        "[staging]\nurl = \"sqlite:h.db\"\n[place.office]\npath = \"{}\"\n{place}\n[feed.gauge]\nplace = \"office\"\nfiles = \"**/gauge_*.csv\"\ntable = \"gauge\"\n",
        sshd.url(&sshd.path("out"))
    );
    shop.write("hypodoke.toml", text.replace("KEY", &sshd.path("user_key").display().to_string()));
}

const KEY: &str = "key_file = \"KEY\"\nknown_hosts = \"known\"";

fn put(sshd: &Sshd, name: &str, text: &str) {
    std::fs::write(sshd.path("out").join(name), text).expect("a file");
}

#[test]
fn files_are_fetched_loaded_once_and_left_where_they_are() {
    let (shop, sshd) = begun(KEY);
    put(&sshd, "gauge_01.csv", "at,level\n1,2.5\n2,2.7\n");
    put(&sshd, "mole/gauge_02.csv", "at,level\n3,2.9\n");
    put(&sshd, "mole/readme.txt", "not for us\n");
    put(&sshd, ".hidden.csv", "x\n");
    let run = shop.ok("load");
    assert!(
        run.out.contains("2 files loaded, 3 rows") && run.out.contains("office/mole/readme.txt: unmatched"),
        "{}",
        run.out
    );
    assert_eq!(
        shop.query(
            "h.db",
            "SELECT g.level, f.place, f.path FROM gauge g JOIN hd_files f ON f.file = g.hd_file ORDER BY at"
        ),
        ["2.5|office|gauge_01.csv", "2.7|office|gauge_01.csv", "2.9|office|mole/gauge_02.csv"]
    );
    assert!(sshd.path("out/gauge_01.csv").exists());
    let spooled = std::fs::read_dir(shop.path(".hypodoke-spool/office")).expect("the spool").flatten();
    let spooled: Vec<_> = spooled.map(|file| file.file_name()).filter(|name| name != ".lock").collect();
    assert!(spooled.is_empty(), "what is loaded does not stay in the spool: {spooled:?}");
    assert!(shop.ok("load").out.contains("nothing new"));
    put(&sshd, "gauge_01.csv", "at,level\n1,2.55\n");
    let run = shop.ok("load");
    assert!(run.out.contains("its rows were replaced"), "{}", run.out);
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM gauge"), ["2"]);
    assert!(shop.ok("tally").out.contains("all figures agree"));
}

#[rstest]
#[case::unknown_server(
    "key_file = \"KEY\"\nknown_hosts = \"nobody\"",
    "its key is not known: ssh-ed25519 SHA256:"
)]
#[case::other_key("key_file = \"OTHER\"\nknown_hosts = \"known\"", "refused the login of")]
#[case::no_key_file("key_file = \"gone\"\nknown_hosts = \"known\"", "cannot be used")]
#[case::locked_key("key_file = \"LOCKED\"\nknown_hosts = \"known\"", "it asks for a passphrase")]
#[case::no_way_in("known_hosts = \"known\"", "there are no credentials")]
fn who_is_not_let_in_is_told_why(#[case] place: &str, #[case] words: &str) {
    let (shop, sshd) = begun(KEY);
    put(&sshd, "gauge_01.csv", "at\n1\n");
    let place = place
        .replace("OTHER", &sshd.path("other_key").display().to_string())
        .replace("LOCKED", &sshd.path("locked_key").display().to_string());
    configure(&shop, &sshd, &place);
    let run = shop.run("load");
    assert!(
        run.code == Some(4) && run.err.contains(words) && run.err.contains("→"),
        "{}{}",
        run.out,
        run.err
    );
    let check = shop.run("check");
    let advised = check.out.contains("place `office`: sftp://") && check.out.contains("\n   → ");
    assert!(check.code == Some(4) && check.out.contains(words) && advised, "{}{}", check.out, check.err);
}

#[test]
fn a_passphrase_opens_a_key_and_is_never_shown() {
    let (shop, sshd) = begun(KEY);
    put(&sshd, "gauge_01.csv", "at\n1\n");
    let place = format!(
        "key_file = \"{}\"\npassphrase = \"${{WORDS}}\"\nknown_hosts = \"known\"",
        sshd.path("locked_key").display()
    );
    configure(&shop, &sshd, &place);
    let load = |words: &str| {
        let mut command = shop.command("load -vv");
        command.env("WORDS", words);
        hypodoke_testkit::finish(command)
    };
    let wrong = load("swordfish");
    assert!(
        wrong.code == Some(4) && !format!("{}{}", wrong.out, wrong.err).contains("swordfish"),
        "{}",
        wrong.err
    );
    let right = load("open sesame");
    assert!(
        right.code == Some(0) && !format!("{}{}", right.out, right.err).contains("sesame"),
        "{}{}",
        right.out,
        right.err
    );
    configure(&shop, &sshd, &place.replace("${WORDS}", "open sesame"));
    let plain = shop.run("load");
    assert!(plain.code == Some(2) && plain.err.contains("take it from the environment"), "{}", plain.err);
}

#[test]
fn a_server_is_trusted_once_somebody_says_so_and_a_changed_key_is_refused() {
    let (shop, sshd) = begun("key_file = \"KEY\"\nknown_hosts = \"trusted\"");
    put(&sshd, "gauge_01.csv", "at\n1\n");
    let unknown = shop.run("check");
    assert!(unknown.out.contains("if it is the same: hypodoke check --trust office\n"), "{}", unknown.out);
    let asked = shop.run("check --trust office");
    assert!(asked.code == Some(2) && asked.err.contains("SHA256:"), "nobody there is a no: {}", asked.err);
    let added = shop.ok("check --trust office --yes");
    assert!(added.out.contains("SHA256:") && added.out.contains("trusted"), "{}", added.out);
    shop.ok("load");
    let other = std::fs::read_to_string(sshd.path("other_key.pub")).expect("a key");
    shop.write("trusted", format!("[127.0.0.1]:{} {other}", sshd.port()));
    let run = shop.run("load");
    assert!(run.code == Some(4) && run.err.contains("its key is NOT the one known"), "{}", run.err);
}

#[rstest]
#[case::no_folder("out\"", "nowhere\"", "there is no folder")]
#[case::refused(":PORT/", ":1/", "the connection was refused")]
#[case::no_host("@127.0.0.1:", "@no.such.host.invalid:", "there is no host `no.such.host.invalid`")]
fn what_cannot_be_reached_is_told(#[case] right: &str, #[case] wrong: &str, #[case] words: &str) {
    let (shop, sshd) = begun(KEY);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    let right = right.replace("PORT", &sshd.port().to_string());
    shop.write("hypodoke.toml", text.replacen(&right, wrong, 1));
    std::fs::write(shop.path("known"), format!("{}no.such.host.invalid {}", sshd.known_host(), "x"))
        .expect("a file");
    let run = shop.run("load");
    assert!(run.code == Some(4) && run.err.contains(words), "{}{}", run.out, run.err);
}

/// The size of the largest file in a folder and the folders in it.
fn largest(folder: &std::path::Path) -> u64 {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let size = |entry: std::fs::DirEntry| match entry.metadata() {
        Ok(found) if found.is_dir() => largest(&entry.path()),
        Ok(found) => found.len(),
        Err(_) => 0,
    };
    entries.map(size).max().unwrap_or(0)
}

#[test]
fn a_broken_connection_is_made_anew_and_goes_on_where_it_was() {
    let (shop, mut sshd) = begun(KEY);
    let row = "1,a line of some length so that the file is not done at once\n";
    let big = format!("at,words\n{}", row.repeat(600_000));
    put(&sshd, "gauge_big.csv", &big);
    for at in 0..40 {
        put(&sshd, &format!("gauge_{at:02}.csv"), &format!("at,words\n{at},x\n"));
    }
    let mut command = shop.command("load -q");
    let mut child = command.spawn().expect("it starts");
    // It is cut while the large file is on its way: at a quarter of it, and at half.
    let (mut cuts, whole) = (0, big.len() as u64);
    for fetched in [whole / 4, whole / 2] {
        while largest(&shop.path(".hypodoke-spool")) < fetched && child.try_wait().expect("a state").is_none()
        {
            std::thread::yield_now();
        }
        if largest(&shop.path(".hypodoke-spool")) < whole {
            sshd.cut();
            cuts += 1;
        }
    }
    assert!(cuts > 0, "the file was whole before a connection could be cut");
    sshd.stop();
    std::thread::sleep(std::time::Duration::from_millis(300));
    sshd.start_again();
    let _ = child.wait();
    // Whatever was not fetched in time comes with the next run; nothing comes twice.
    shop.ok("load -q");
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM gauge"), ["600040"]);
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM hd_files WHERE outcome = 'loaded'"), ["41"]);
}

#[test]
fn the_spool_keeps_to_its_limit() {
    let (shop, sshd) = begun(KEY);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", text + "[spool]\npath = \"room\"\nlimit = \"1MB\"\n");
    for at in 0..8 {
        put(
            &sshd,
            &format!("gauge_{at}.csv"),
            &format!("at,words\n{}", format!("{at},{}\n", "x".repeat(96)).repeat(3000)),
        );
    }
    put(&sshd, "gauge_huge.csv", &format!("at,words\n{}", "1,yyyyyyyyyyyyyyyyyyyyyyyyyy\n".repeat(60_000)));
    let run = shop.run("load");
    assert!(
        run.code == Some(1) && run.out.contains("bytes or more, where 1000000 are the most"),
        "{}",
        run.out
    );
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM gauge"), ["24000"]);
}

/// Two that fetch the same files at once write to folders of their own.
#[test]
fn two_at_once_do_not_spoil_each_others_files() {
    let (shop, sshd) = begun(KEY);
    let row = "1,a line of some length so that the file is not done at once\n";
    put(&sshd, "gauge_big.csv", &format!("at,words\n{}", row.repeat(400_000)));
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("other.toml", text.replace("sqlite:h.db", "sqlite:other.db"));
    let mut both: Vec<_> = ["load -q", "load -q --config other.toml"]
        .map(|command| shop.command(command).spawn().expect("it starts"))
        .into();
    for child in &mut both {
        assert!(child.wait().expect("it ends").success());
    }
    for database in ["h.db", "other.db"] {
        let sql = "SELECT count(*), count(DISTINCT words) FROM gauge";
        assert_eq!(shop.query(database, sql), ["400000|1"], "{database}");
    }
    let left: Vec<_> =
        std::fs::read_dir(shop.path(".hypodoke-spool")).expect("the spool").flatten().collect();
    assert_eq!(left.len(), 1, "a spare folder goes with its owner: {left:?}");
}

/// An RSA key lets us in, signed with a library whose time says nothing of the key; one too short does not.
#[rstest]
#[case::usual(3072, 0, "1 file loaded")]
#[case::too_short(1024, 4, "not safe to use")]
fn an_rsa_key_lets_us_in(#[case] bits: u32, #[case] code: i32, #[case] words: &str) {
    let (shop, sshd) = (workshop(), Sshd::start());
    std::fs::create_dir_all(sshd.path("out")).expect("folders");
    std::fs::write(shop.path("known"), sshd.known_host()).expect("a file");
    let key = shop.path("rsa_key");
    let made = std::process::Command::new("ssh-keygen")
        .args(["-q", "-t", "rsa", "-b", &bits.to_string(), "-N", "", "-f"])
        .arg(&key)
        .status();
    assert!(made.expect("ssh-keygen").success());
    let public = std::fs::read_to_string(shop.path("rsa_key.pub")).expect("a key");
    std::fs::write(sshd.path("authorized_keys"), public).expect("keys");
    configure(&shop, &sshd, &format!("key_file = \"{}\"\nknown_hosts = \"known\"", key.display()));
    put(&sshd, "gauge_1.csv", "at\n1\n");
    let run = shop.run("load");
    let said = format!("{}{}", run.out, run.err);
    assert!(run.code == Some(code) && said.contains(words), "{:?} {said}", run.code);
}

#[test]
fn files_are_put_away_on_the_server_where_the_place_says_so() {
    let (shop, sshd) = begun(&format!("{KEY}\nafter = \"move\""));
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", text.replace("files = ", "empty_file = \"fail\"\nfiles = "));
    for round in 0..2 {
        put(&sshd, "mole/gauge_1.csv", &format!("at\n{round}\n"));
        put(&sshd, "gauge_none.csv", "");
        assert_eq!(shop.run("load").code, Some(1), "an empty file fails");
    }
    let away = |folder: &str| -> Vec<String> {
        let mut found = Vec::new();
        let mut folders = vec![sshd.path("out").join(folder)];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).expect("a folder").flatten() {
                if entry.path().is_dir() {
                    folders.push(entry.path());
                } else {
                    found.push(entry.file_name().to_string_lossy().into_owned());
                }
            }
        }
        found.sort();
        found
    };
    assert_eq!(away("done"), ["gauge_1-2.csv", "gauge_1.csv"]);
    assert_eq!(away("failed"), ["gauge_none-2.csv", "gauge_none.csv"]);
    assert_eq!(shop.query("h.db", "SELECT at FROM gauge"), ["1"]);
    assert!(!shop.ok("load").out.contains("unmatched"));
    let again = shop.ok("replay gauge --yes");
    assert!(again.out.contains("1 file loaded, 1 row"), "it is found where it was put away: {}", again.out);
    assert_eq!(shop.query("h.db", "SELECT at FROM gauge"), ["1"]);
    assert_eq!(away("done"), ["gauge_1-2.csv", "gauge_1.csv"]);
}

#[test]
fn a_file_without_its_marker_or_a_quiet_while_is_left_for_later() {
    let (shop, sshd) = begun(&format!("{KEY}\nmarker = \"{{file}}.done\""));
    put(&sshd, "gauge_1.csv", "at\n1\n");
    put(&sshd, "gauge_2.csv", "at\n2\n");
    put(&sshd, "gauge_2.csv.done", "");
    put(&sshd, "gauge_3.csv.part", "at\n");
    let run = shop.ok("load");
    assert!(
        run.out.contains("office/gauge_1.csv and office/gauge_3.csv.part: still arriving"),
        "{}",
        run.out
    );
    assert!(!run.out.contains("unmatched"), "{}", run.out);
    assert_eq!(shop.query("h.db", "SELECT at FROM gauge"), ["2"]);
    put(&sshd, "gauge_1.csv.done", "");
    shop.ok("load");
    configure(&shop, &sshd, &format!("{KEY}\nquiet_for = \"1h\""));
    put(&sshd, "gauge_4.csv", "at\n4\n");
    let run = shop.ok("load -v");
    assert!(run.out.contains("office/gauge_4.csv") && run.out.contains("still arriving"), "{}", run.out);
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM gauge"), ["2"]);
}

#[test]
fn control_files_are_fetched_with_their_files() {
    let (shop, sshd) = begun(KEY);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    let expect = "[feed.gauge.expect]\ncontrol = [\"rows\", \"level\"]\ncontrol_file = \"{stem}.ctl\"\n";
    shop.write("hypodoke.toml", format!("{text}{expect}"));
    put(&sshd, "mole/gauge_1.csv", "at,level\n1,2.5\n2,2.6\n");
    put(&sshd, "mole/gauge_1.ctl", "2;5.1\n");
    put(&sshd, "gauge_2.csv", "at,level\n1,2.5\n2,2.6\n3,2.6\n");
    put(&sshd, "gauge_2.ctl", "4;7.7\n");
    put(&sshd, "gauge_3.csv", "at,level\n9,2.5\n");
    let run = shop.run("load");
    assert_eq!(run.code, Some(3), "{}{}", run.out, run.err);
    assert!(
        run.out.contains("gauge_2.csv: rows: its companion gauge_2.ctl says 4, the file holds 3"),
        "{}",
        run.out
    );
    assert!(run.out.contains("gauge_3.csv: its companion gauge_3.ctl: it is not there"), "{}", run.out);
    assert!(!run.out.contains("unmatched"), "{}", run.out);
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM gauge"), ["2"]);
    let left = std::fs::read_dir(shop.path(".hypodoke-spool/office")).expect("the spool").flatten();
    let left: Vec<_> = left.map(|file| file.file_name()).filter(|name| name != ".lock").collect();
    assert!(left.iter().all(|name| !name.to_string_lossy().contains(".ctl")), "{left:?}");
}

#[rstest]
#[case::right(PASSWORD, false, 0, "1 file loaded")]
#[case::wrong("high water", false, 4, "tried with the password")]
#[case::expired(PASSWORD, true, 4, "`WARNING: Your password has expired.")]
fn the_system_s_password_lets_us_in(
    #[case] password: &str,
    #[case] is_expired: bool,
    #[case] code: i32,
    #[case] words: &str,
) {
    let (shop, mut sshd) = begun("password = \"${WORDS}\"\nknown_hosts = \"known\"");
    if !sshd.take_password(is_expired) {
        // The same is held against a server of our own, whoever runs the tests (`bad_server.rs`).
        return;
    }
    put(&sshd, "gauge_1.csv", "at\n1\n");
    let mut command = shop.command("load");
    command.env("WORDS", password);
    let run = hypodoke_testkit::finish(command);
    let said = format!("{}{}", run.out, run.err);
    assert!(run.code == Some(code) && said.contains(words) && !said.contains(password), "{said}");
}

#[test]
fn names_that_are_not_in_utf_8_are_told_and_the_others_loaded() {
    use std::os::unix::ffi::OsStrExt;
    let (shop, sshd) = begun(KEY);
    put(&sshd, "gauge_1.csv", "at\n1\n");
    let name = std::ffi::OsStr::from_bytes(b"gauge_\xe9.csv");
    std::fs::write(sshd.path("out").join(name), "at\n2\n").expect("a file");
    let run = shop.run("load");
    assert!(
        run.out.contains("1 file loaded")
            && run.err.contains("the name `gauge_\u{fffd}.csv` is not in UTF-8, so it cannot be asked for"),
        "{:?} {}{}",
        run.code,
        run.out,
        run.err
    );
}

#[rstest]
#[case::companion("{file}.sha256", "")]
#[case::list(
    "checksums.txt",
    "0000000000000000000000000000000000000000000000000000000000000000  other.csv\n"
)]
fn digests_are_fetched_and_held_against_the_files(#[case] name: &str, #[case] before: &str) {
    let (shop, sshd) = begun(KEY);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    let expect = format!("[feed.gauge.expect]\ncontrol = [\"digest\"]\ncontrol_file = \"{name}\"\n");
    shop.write("hypodoke.toml", format!("{text}{expect}"));
    let mut stated = before.to_owned();
    for at in 1..=9 {
        put(&sshd, &format!("gauge_{at}.csv"), &format!("at,level\n{at},2.5\n"));
        let line = digest(&sshd.path(&format!("out/gauge_{at}.csv")));
        stated.push_str(&line);
        put(
            &sshd,
            &name.replace("{file}", &format!("gauge_{at}.csv")),
            if before.is_empty() { &line } else { &stated },
        );
    }
    put(&sshd, "gauge_5.csv", "at,level\n5,2.6\n");
    let run = shop.run("load");
    assert_eq!(run.code, Some(3), "{}{}", run.out, run.err);
    assert!(run.out.contains("gauge_5.csv: its companion") && !run.out.contains("unmatched"), "{}", run.out);
    assert_eq!(shop.query("h.db", "SELECT count(*), sum(at) FROM gauge"), ["8|40"]);
}

/// What the usual program says of a file's content.
fn digest(path: &std::path::Path) -> String {
    let folder = path.parent().expect("a folder");
    let out = std::process::Command::new("sha256sum")
        .arg(path.file_name().expect("a name"))
        .current_dir(folder)
        .output();
    String::from_utf8(out.expect("sha256sum is there").stdout).expect("text")
}

#[test]
fn an_agent_lets_us_in() {
    let (shop, sshd) = begun("known_hosts = \"known\"");
    put(&sshd, "gauge_1.csv", "at\n1\n");
    let socket = shop.path("agent");
    let mut agent = std::process::Command::new("ssh-agent")
        .args(["-D", "-a"])
        .arg(&socket)
        .stdout(std::process::Stdio::null())
        .spawn()
        .expect("OpenSSH is installed");
    hypodoke_testkit::wait_for("the agent", || socket.exists());
    let added = std::process::Command::new("ssh-add")
        .args(["-q"])
        .arg(sshd.path("user_key"))
        .env("SSH_AUTH_SOCK", &socket)
        .status()
        .expect("OpenSSH is installed");
    assert!(added.success());
    let mut command = shop.command("load");
    command.env("SSH_AUTH_SOCK", &socket);
    let run = hypodoke_testkit::finish(command);
    let _ = agent.kill();
    let _ = agent.wait();
    assert!(run.code == Some(0) && run.out.contains("1 file loaded"), "{}{}", run.out, run.err);
}

#[rstest]
#[case::key_exchange("KexAlgorithms diffie-hellman-group1-sha1")]
#[case::cipher("Ciphers 3des-cbc")]
fn a_server_with_weak_ways_only_is_refused(#[case] setting: &str) {
    let (shop, mut sshd) = begun(KEY);
    put(&sshd, "gauge_1.csv", "at\n1\n");
    sshd.stop();
    let config = std::fs::read_to_string(sshd.path("config")).expect("a configuration");
    std::fs::write(sshd.path("config"), format!("{setting}\n{config}")).expect("written");
    sshd.start_again();
    let run = shop.run("load");
    assert!(run.code == Some(4) && run.err.contains("place `office`"), "{}{}", run.out, run.err);
    assert!(run.err.contains("that is safe, only"), "{}", run.err);
}

/// Ended while it fetches and loads, it goes on without a file lost or doubled, and nothing stays in
/// the spool.
#[test]
fn ended_while_it_fetches_it_goes_on() {
    let (shop, sshd) = begun(KEY);
    let mut rows = 0;
    for file in 0..30 {
        let lines: String =
            (0..3000).map(|row| format!("{row},{file}.5,words of some length to be sent\n")).collect();
        let name = format!("gauge_{file:02}.csv");
        put(&sshd, &name, &format!("at,level,words\n{lines}"));
        // What was just written would be waited for.
        set_modified(&sshd.path("out").join(name), 1_772_452_800);
        rows += 3000;
    }
    let points = [
        "sql.statement:2",
        "load.begun:1",
        "load.tables:1",
        "load.sent:1",
        "load.sent:9",
        "load.ended:3",
        "group.commit.before:1",
        "group.commit.after:1",
        "load.begun:4",
        "load.sent:12",
    ];
    let ended = points.map(|point| end_at(shop.command("load -q"), point));
    assert!(ended.iter().filter(|ended| **ended).count() >= 6, "{points:?} {ended:?}");
    shop.ok("load");
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM gauge"), [rows.to_string()]);
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM hd_files WHERE outcome = 'loaded'"), ["30"]);
    assert!(shop.ok("tally --quick").out.contains("all figures agree"));
    let room = shop.path(".hypodoke-spool/office");
    let left = std::fs::read_dir(room).expect("the spool").flatten();
    let left: Vec<_> = left.map(|file| file.file_name()).filter(|name| name != ".lock").collect();
    assert!(left.is_empty(), "{left:?}");
}

/// After the first file that cannot be had, the others are not waited for one by one.
#[test]
fn a_server_that_goes_away_leaves_its_files_for_later() {
    let (shop, mut sshd) = begun(KEY);
    shop.write("in/here.csv", "a\n1\n");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    // It is seen early how far it has come.
    let text = text.replace("[staging]\n", "[staging]\ncommit_every = \"10ms\"\n");
    assert!(text.contains("commit_every"));
    let local = "[place.quay]\npath = \"in\"\n[feed.here]\nplace = \"quay\"\nfiles = \"*.csv\"\n";
    shop.write("hypodoke.toml", format!("{text}{local}[spool]\nlimit = \"3MB\"\n"));
    let line = "1,a line of some length so that a file is not fetched at once\n";
    // The table is known: files are not profiled before the first is loaded.
    put(&sshd, "gauge_first.csv", "at,words\n1,first\n");
    shop.ok("load -q");
    shop.write("in/here_again.csv", "a\n2\n");
    for file in 0..300 {
        put(&sshd, &format!("gauge_{file:03}.csv"), &format!("at,words\n{}{file},x\n", line.repeat(8000)));
    }
    let mut command = shop.command("load");
    command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped());
    let child = command.spawn().expect("it starts");
    hypodoke_testkit::wait_for("some files", || {
        shop.path("h.db").exists()
            && !shop.query("h.db", "SELECT 1 FROM sqlite_schema WHERE name = 'hd_files'").is_empty()
            && shop.query("h.db", "SELECT count(*) > 5 FROM hd_files") == ["1"]
    });
    sshd.stop();
    let output = child.wait_with_output().expect("it ends");
    let (out, err) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert_eq!(output.status.code(), Some(4), "{out}{err}");
    assert!(
        err.contains("place `office` became unreachable: ") && err.contains(" files left for later"),
        "{out}{err}"
    );
    assert_eq!(
        shop.query("h.db", "SELECT count(*) FROM here"),
        ["2"],
        "the other place is no less loaded: {out}"
    );
    let failed = shop.query("h.db", "SELECT count(*) FROM hd_files WHERE outcome = 'failed'");
    assert_eq!(failed, ["1"], "{out}");
    sshd.start_again();
    shop.ok("load -q");
    assert_eq!(shop.query("h.db", "SELECT count(DISTINCT hd_file) FROM gauge"), ["301"]);
}
