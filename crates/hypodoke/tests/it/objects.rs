//! Files in an object store: the stand-in that ships with the demo.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use hypodoke_testkit::bucket::{ACCESS_KEY, Bucket, Faults, REGION, SECRET_KEY};
use hypodoke_testkit::{Run, Watch, Workshop, end_at, finish, wait_for};
use rstest::rstest;

use crate::workshop;

/// The second of March 2026, six in the morning.
fn morning() -> SystemTime {
    UNIX_EPOCH + Duration::from_secs(1_772_431_200)
}

/// A bucket, and a configuration that fetches from it.
fn begun(place: &str) -> (Workshop, Bucket) {
    let (shop, bucket) = (workshop(), Bucket::open("quillane").expect("a store"));
    configure(&shop, &bucket, place);
    (shop, bucket)
}

const KEYS: &str = "access_key = \"${CRANE_KEY}\"\nsecret_key = \"${CRANE_SECRET}\"";

fn configure(shop: &Workshop, bucket: &Bucket, place: &str) {
    let text = format!(
        "[staging]\nurl = \"sqlite:h.db\"\n[place.yard]\npath = \"s3://quillane/cranes\"\nendpoint = \"{}\"\nregion = \"{REGION}\"\n{place}\n[feed.lift]\nplace = \"yard\"\nfiles = \"**/lift_*.csv\"\n",
        bucket.endpoint()
    );
    shop.write("hypodoke.toml", text);
}

fn run(shop: &Workshop, arguments: &str) -> Run {
    let mut command = shop.command(arguments);
    command.env("CRANE_KEY", ACCESS_KEY).env("CRANE_SECRET", SECRET_KEY);
    finish(command)
}

#[track_caller]
fn ok(shop: &Workshop, arguments: &str) -> Run {
    let run = run(shop, arguments);
    assert_eq!(run.code, Some(0), "hypodoke {arguments}\n{}{}", run.out, run.err);
    assert!(!format!("{}{}", run.out, run.err).contains(SECRET_KEY), "the secret is shown");
    run
}

#[test]
fn objects_are_fetched_loaded_once_and_left_where_they_are() {
    let (shop, bucket) = begun(KEYS);
    bucket.put("cranes/lift_01.csv", "at,tonnes\n1,2.5\n2,2.7\n", morning());
    bucket.put("cranes/north/lift_02.csv", "at,tonnes\n3,2.9\n", morning());
    bucket.put("cranes/north/readme.txt", "not for us\n", morning());
    bucket.put("cranes/.hidden/lift_09.csv", "x\n", morning());
    bucket.put("cranes/", "", morning());
    bucket.put("cranes_other/lift_03.csv", "at,tonnes\n9,9.9\n", morning());
    let run = ok(&shop, "load");
    assert!(run.out.contains("2 files loaded, 3 rows"), "{}", run.out);
    assert!(run.out.contains("yard/north/readme.txt: unmatched"), "{}", run.out);
    let rows =
        "SELECT l.tonnes, f.place, f.path FROM lift l JOIN hd_files f ON f.file = l.hd_file ORDER BY at";
    let expected = ["2.5|yard|lift_01.csv", "2.7|yard|lift_01.csv", "2.9|yard|north/lift_02.csv"];
    assert_eq!(shop.query("h.db", rows), expected);
    let before = bucket.requests();
    assert!(ok(&shop, "load").out.contains("nothing new"));
    assert_eq!(bucket.requests() - before, 1, "what is known is listed, and not fetched");
    bucket.put("cranes/lift_01.csv", "at,tonnes\n1,2.6\n2,2.7\n", morning());
    let run = ok(&shop, "load");
    assert!(run.out.contains("its rows were replaced"), "{}", run.out);
    assert_eq!(shop.query("h.db", "SELECT count(*), sum(tonnes) FROM lift"), ["3|8.2"]);
    assert!(ok(&shop, "tally").out.contains("all figures agree"));
    assert!(bucket.keys().contains(&"cranes/lift_01.csv".to_owned()));
}

#[rstest]
#[case::no_keys("", "there are no keys")]
#[case::unknown_key("access_key = \"${OTHER}\"\nsecret_key = \"${CRANE_SECRET}\"", "InvalidAccessKeyId")]
#[case::wrong_secret("access_key = \"${CRANE_KEY}\"\nsecret_key = \"${OTHER}\"", "SignatureDoesNotMatch")]
#[case::nobody("credentials = \"anonymous\"", "no right to read")]
fn who_is_not_let_in_is_told_why(#[case] place: &str, #[case] words: &str) {
    let (shop, bucket) = begun(place);
    bucket.put("cranes/lift_01.csv", "at\n1\n", morning());
    for arguments in ["load", "check"] {
        let mut command = shop.command(arguments);
        command.env("CRANE_KEY", ACCESS_KEY).env("CRANE_SECRET", SECRET_KEY).env("OTHER", "somebody");
        let run = finish(command);
        let said = format!("{}{}", run.out, run.err);
        assert!(run.code == Some(4) && said.contains(words) && said.contains("→"), "{arguments}: {said}");
        assert!(!said.contains(SECRET_KEY) && !said.contains("X-Amz"), "{said}");
    }
}

#[rstest]
#[case::region("quillane-1", "south-9", "in another region than `south-9`: in `quillane-1`")]
#[case::bucket("s3://quillane/", "s3://elsewhere/", "there is no bucket `elsewhere`")]
#[case::port("http://127.0.0.1:", "127.0.0.1:", "is not the address of a store")]
#[case::keys_in_the_address("s3://quillane/", "s3://key:secret@quillane/", "the address holds keys")]
#[case::half_of_the_keys("secret_key = \"${CRANE_SECRET}\"", "", "go together")]
#[case::keys_for_all_to_read("\"${CRANE_SECRET}\"", "\"heave ho\"", "take it from the environment")]
fn what_is_wrong_with_a_place_is_told(#[case] part: &str, #[case] other: &str, #[case] words: &str) {
    let (shop, bucket) = begun(KEYS);
    bucket.put("cranes/lift_01.csv", "at\n1\n", morning());
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("the configuration");
    shop.write("hypodoke.toml", text.replacen(part, other, 1));
    let run = run(&shop, "load");
    assert!(matches!(run.code, Some(2 | 4)) && run.err.contains(words), "{}{}", run.out, run.err);
}

#[rstest]
#[case::clock(Faults { clock_off: true, ..Faults::default() }, "the clock of this machine")]
#[case::unlisted(Faults { unlisted: true, ..Faults::default() }, "no right to read it")]
fn a_store_that_refuses_is_out_of_reach(#[case] faults: Faults, #[case] words: &str) {
    let (shop, bucket) = begun(KEYS);
    bucket.put("cranes/lift_01.csv", "at\n1\n", morning());
    bucket.order(faults);
    let run = run(&shop, "load");
    assert!(
        run.code == Some(4) && run.err.contains(words) && run.err.contains("→"),
        "{}{}",
        run.out,
        run.err
    );
}

#[rstest]
#[case::busy(Faults { busy: 3, ..Faults::default() })]
#[case::cut(Faults { cut: 2, ..Faults::default() })]
#[case::slow(Faults { slow: Some(Duration::from_millis(300)), ..Faults::default() })]
fn a_store_that_has_a_bad_day_is_asked_again(#[case] faults: Faults) {
    let (shop, bucket) = begun(KEYS);
    for at in 0..4 {
        bucket.put(&format!("cranes/lift_{at}.csv"), format!("at,tonnes\n{at},2.5\n"), morning());
    }
    bucket.order(faults);
    assert!(ok(&shop, "load").out.contains("4 files loaded, 4 rows"));
}

#[test]
fn a_large_object_that_breaks_off_is_gone_on_with() {
    let (shop, bucket) = begun(KEYS);
    let rows: String = (0..900_000).map(|at| format!("{at},{}.25\n", at % 977)).collect();
    bucket.put("cranes/lift_1.csv", format!("at,tonnes\n{rows}"), morning());
    bucket.order(Faults { cut: 2, ..Faults::default() });
    assert!(ok(&shop, "load").out.contains("1 file loaded, 900,000 rows"));
    assert_eq!(shop.query("h.db", "SELECT count(*), max(at) FROM lift"), ["900000|899999"]);
}

#[rstest]
#[case::another_was_sent(Faults { stale: true, ..Faults::default() }, true)]
#[case::tags_do_not_agree(Faults { other_tags: true, ..Faults::default() }, false)]
fn what_is_fetched_is_what_was_listed(#[case] faults: Faults, #[case] sends: bool) {
    let (shop, bucket) = begun(KEYS);
    bucket.put("cranes/lift_1.csv", "at,tonnes\n1,2.5\n", morning());
    bucket.put("cranes/lift_2.csv", "at,tonnes\n2,2.5\n", morning());
    bucket.order(faults);
    if sends {
        bucket.put("cranes/lift_1.csv", "at,tonnes\n1,9.9\n", morning());
    }
    let first = run(&shop, "load");
    let said = format!("{}{}", first.out, first.err);
    assert!(said.contains("still arriving") || said.contains("waiting"), "{said}");
    bucket.order(Faults::default());
    ok(&shop, "load");
    let expected = if sends { "9.9" } else { "2.5" };
    assert_eq!(shop.query("h.db", "SELECT tonnes FROM lift WHERE at = 1"), [expected]);
}

#[test]
fn keys_that_are_no_paths_cost_themselves_alone() {
    let (shop, bucket) = begun(KEYS);
    bucket.put("cranes/lift_1.csv", "at\n1\n", morning());
    bucket.put("cranes/lift_ä & b+c%20 '\"<1>.csv", "at\n2\n", morning());
    bucket.put("cranes/../../lift_3.csv", "at\n3\n", morning());
    bucket.put("cranes//lift_4.csv", "at\n4\n", morning());
    bucket.put("cranes/lift_5.csv/", "at\n5\n", morning());
    bucket.put("cranes/lift_\u{1}6.csv", "at\n6\n", morning());
    let run = run(&shop, "load");
    assert_eq!(run.code, Some(1), "{}{}", run.out, run.err);
    assert!(run.out.contains("2 files loaded, 2 rows"), "{}{}", run.out, run.err);
    assert_eq!(run.err.matches("is refused").count(), 4, "{}", run.err);
    assert_eq!(shop.query("h.db", "SELECT at FROM lift ORDER BY at"), ["1", "2"]);
}

#[test]
fn what_is_loaded_is_moved_on_condition() {
    let (shop, bucket) = begun(&format!("{KEYS}\nafter = \"move\""));
    bucket.put("cranes/lift_1.csv", "at\n1\n", morning());
    bucket.put("cranes/north/lift_2.csv", "at\n2\nx\n", morning());
    let done = run(&shop, "load");
    assert!(matches!(done.code, Some(0 | 3)), "{}{}", done.out, done.err);
    let keys = bucket.keys();
    assert_eq!(keys.len(), 2, "{keys:?}");
    assert!(keys.iter().all(|key| key.starts_with("cranes/done/")), "{keys:?}");
    assert!(keys.iter().any(|key| key.ends_with("/north/lift_2.csv")), "{keys:?}");
    assert!(ok(&shop, "load").out.contains("nothing new"));
    // Another under the same name is another file, and takes nobody's place.
    bucket.put("cranes/lift_1.csv", "at\n7\n", morning());
    let done = run(&shop, "load");
    assert!(matches!(done.code, Some(0 | 3)), "{}{}", done.out, done.err);
    assert!(bucket.keys().iter().any(|key| key.ends_with("/lift_1-2.csv")), "{:?}", bucket.keys());
    assert_eq!(bucket.keys().len(), 3);
}

#[test]
fn a_store_that_deletes_whatever_is_there_is_not_moved_in() {
    let (shop, bucket) = begun(&format!("{KEYS}\nafter = \"move\""));
    bucket.put("cranes/lift_1.csv", "at\n1\n", morning());
    bucket.order(Faults { unconditional: true, ..Faults::default() });
    let done = run(&shop, "load");
    let said = format!("{}{}", done.out, done.err);
    assert!(said.contains("1 file loaded") && said.contains("it cannot be moved"), "{said}");
    assert_eq!(bucket.keys(), ["cranes/lift_1.csv"], "{said}");
}

#[test]
fn only_what_changed_of_late_is_looked_at() {
    let (shop, bucket) =
        begun(&format!("{KEYS}\nmodified_within = \"3d\"\nignore = [\"*.bak\", \"tmp/**\"]"));
    let now = SystemTime::now();
    bucket.put("cranes/lift_1.csv", "at\n1\n", now - Duration::from_secs(86_400));
    bucket.put("cranes/lift_2.csv", "at\n2\n", now - Duration::from_secs(9 * 86_400));
    bucket.put("cranes/old.txt", "x", now - Duration::from_secs(9 * 86_400));
    bucket.put("cranes/lift_1.csv.bak", "x", now);
    bucket.put("cranes/tmp/lift_8.csv", "at\n8\n", now);
    let run = ok(&shop, "load");
    assert!(run.out.contains("1 file loaded, 1 row") && !run.out.contains("unmatched"), "{}", run.out);
}

#[test]
fn what_is_there_is_looked_at_straight_from_where_it_is() {
    let (shop, bucket) = begun(KEYS);
    bucket.put("cranes/lift_01.csv", "at,tonnes\n1,2.5\n2,2.7\n", morning());
    bucket.put("cranes/north/lift_02.csv", "at,tonnes\n3,2.9\n", morning());
    let by_place = ok(&shop, "survey yard");
    assert!(by_place.out.contains("2 files") && by_place.out.contains("tonnes"), "{}", by_place.out);
    let of_one = ok(&shop, "survey yard/north/lift_02.csv");
    assert!(of_one.out.contains("1 row") && !of_one.out.contains("lift_01"), "{}", of_one.out);
    let preview = ok(&shop, "preview yard/lift_01.csv");
    assert!(preview.out.contains("2.7"), "{}", preview.out);
    let address = |arguments: &str| {
        let mut command = shop.command(arguments);
        command.env("AWS_ACCESS_KEY_ID", ACCESS_KEY).env("AWS_SECRET_ACCESS_KEY", SECRET_KEY);
        command
            .env("AWS_ENDPOINT_URL", bucket.endpoint())
            .env("AWS_REGION", REGION)
            .env("AWS_ALLOW_HTTP", "true");
        finish(command)
    };
    let run = address("preview s3://quillane/cranes/lift_01.csv");
    assert!(run.code == Some(0) && run.out.contains("2.7"), "{}{}", run.out, run.err);
    let run = address("draft s3://quillane/cranes/ -o -");
    assert!(run.code == Some(0), "{}{}", run.out, run.err);
    assert!(
        run.out.contains("path = \"s3://quillane/cranes/\"") && run.out.contains("[feed.lift]"),
        "{}",
        run.out
    );
    let run = address("load s3://quillane/cranes/north/lift_02.csv --into sqlite:x.db");
    assert!(run.code == Some(0) && run.out.contains("1 file loaded, 1 row"), "{}{}", run.out, run.err);
    assert_eq!(shop.query("x.db", "SELECT tonnes FROM lift"), ["2.9"]);
}

#[test]
fn a_store_for_anybody_and_keys_of_the_shared_file() {
    let (shop, bucket) = (workshop(), Bucket::open_to_all("quillane").expect("a store"));
    configure(&shop, &bucket, "credentials = \"anonymous\"");
    bucket.put("cranes/lift_01.csv", "at\n1\n", morning());
    assert!(ok(&shop, "load").out.contains("1 file loaded, 1 row"));
    let (shop, bucket) = begun("profile = \"yard\"");
    bucket.put("cranes/lift_01.csv", "at\n1\n", morning());
    shop.write(
        ".aws/credentials",
        format!("[yard]\naws_access_key_id = {ACCESS_KEY}\naws_secret_access_key = {SECRET_KEY}\n"),
    );
    assert!(shop.ok("load").out.contains("1 file loaded, 1 row"));
}

#[test]
fn a_watch_asks_for_what_may_be_new_alone() {
    let (shop, bucket) = begun(&format!("{KEYS}\npoll = \"1s\""));
    let long_ago = SystemTime::now() - Duration::from_secs(90 * 86_400);
    for at in 0..3_500 {
        bucket.put(&format!("cranes/day=0{:02}/other_{at:05}.txt", at / 100), "x", long_ago);
    }
    bucket.put("cranes/day=100/lift_1.csv", "at\n1\n", SystemTime::now());
    let mut command = shop.command("watch");
    command.env("CRANE_KEY", ACCESS_KEY).env("CRANE_SECRET", SECRET_KEY);
    let watch = Watch::of(&shop, command, "watch.log");
    let rows = |wanted: &str| {
        let there = shop.path("h.db").exists()
            && !shop.query("h.db", "SELECT 1 FROM sqlite_schema WHERE name = 'lift'").is_empty();
        there && shop.query("h.db", "SELECT count(*) FROM lift") == [wanted]
    };
    wait_for("the first file", || rows("1"));
    for at in 2..5 {
        let before = bucket.requests();
        bucket.put(&format!("cranes/day=10{at}/lift_{at}.csv"), format!("at\n{at}\n"), SystemTime::now());
        wait_for("the next file", || rows(&at.to_string()));
        // Each poll is one request, and the file another; all of the place would be four a poll.
        wait_for("a poll or two", || bucket.requests() >= before + 3);
    }
    let log = watch.log();
    assert!(log.contains("listed all of the place") && log.contains("requests=4"), "{log}");
    assert!(log.contains("listed what may be new") && log.contains("requests=1"), "{log}");
}

#[test]
fn a_move_that_was_broken_off_is_finished_by_the_next_load() {
    let (shop, bucket) = begun(&format!("{KEYS}\nafter = \"move\""));
    bucket.put("cranes/lift_1.csv", "at\n1\n", morning());
    // The store refuses after it has copied: what a load that is killed there leaves behind.
    bucket.order(Faults { unconditional: true, ..Faults::default() });
    let done = run(&shop, "load");
    assert!(done.out.contains("1 file loaded"), "{}{}", done.out, done.err);
    bucket.order(Faults::default());
    let day = {
        bucket.put("cranes/lift_2.csv", "at\n2\n", morning());
        run(&shop, "load");
        let keys = bucket.keys();
        let moved = keys.iter().find(|key| key.ends_with("/lift_2.csv")).expect("it was moved");
        moved.trim_end_matches("lift_2.csv").to_owned()
    };
    bucket.put("cranes/lift_3.csv", "at\n3\n", morning());
    bucket.put(&format!("{day}lift_3.csv"), "at\n3\n", morning());
    run(&shop, "load");
    let keys = bucket.keys();
    assert!(
        !keys.contains(&"cranes/lift_3.csv".to_owned()) && !keys.iter().any(|key| key.contains("-2.csv")),
        "{keys:?}"
    );
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM lift"), ["3"]);
}

/// A feed may look back less far than its place; what is too old for it is nobody else's.
#[test]
fn a_feed_looks_back_as_far_as_it_says() {
    let (shop, bucket) = begun(KEYS);
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("the configuration");
    shop.write(
        "hypodoke.toml",
        text + "modified_within = \"2d\"\n[feed.rest]\nplace = \"yard\"\nfiles = \"rest_*\"\n",
    );
    let ago = |days: u64| SystemTime::now() - Duration::from_secs(days * 86_400);
    bucket.put("cranes/lift_1.csv", "at\n1\n", ago(1));
    bucket.put("cranes/lift_2.csv", "at\n2\n", ago(5));
    bucket.put("cranes/rest_3.csv", "at\n3\n", ago(5));
    let done = ok(&shop, "load");
    assert!(done.out.contains("2 files loaded, 2 rows") && !done.out.contains("unmatched"), "{}", done.out);
    assert_eq!(shop.query("h.db", "SELECT at FROM lift"), ["1"]);
}

/// Ended at points of their way, loads of a bucket come to what one load does.
#[test]
fn a_load_that_is_killed_is_as_if_nothing_was() {
    let (shop, bucket) = begun(&format!("{KEYS}\nafter = \"move\""));
    for at in 0..60 {
        bucket.put(&format!("cranes/lift_{at:02}.csv"), format!("at,tonnes\n{at},2.5\n"), morning());
    }
    bucket.order(Faults { slow: Some(Duration::from_millis(4)), ..Faults::default() });
    let points = [
        "sql.statement:3",
        "load.begun:1",
        "load.sent:1",
        "group.commit.before:1",
        "load.tables:9",
        "group.commit.after:1",
        "put_away.before:1",
        "put_away.after:1",
        "put_away.before:7",
        "put_away.after:20",
    ];
    let mut ended = 0;
    for point in points {
        let mut command = shop.command("load -q");
        command.env("CRANE_KEY", ACCESS_KEY).env("CRANE_SECRET", SECRET_KEY);
        ended += usize::from(end_at(command, point));
    }
    assert!(ended >= 8, "ended at {ended} points");
    let done = run(&shop, "load");
    assert!(matches!(done.code, Some(0 | 3)), "{}{}", done.out, done.err);
    assert_eq!(shop.query("h.db", "SELECT count(*), count(DISTINCT at) FROM lift"), ["60|60"]);
    let keys = bucket.keys();
    assert_eq!(keys.len(), 60, "{keys:?}");
    assert!(keys.iter().all(|key| key.starts_with("cranes/done/") && !key.contains("-2.csv")), "{keys:?}");
    assert!(ok(&shop, "tally").out.contains("all figures agree"));
}
