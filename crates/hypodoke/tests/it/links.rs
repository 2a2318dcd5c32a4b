//! Files behind links: a small server of files, started for the test.

use std::process::Stdio;
use std::time::Duration;

use hypodoke_testkit::{FileServer, Run, ServedFile, Workshop, finish};
use rstest::rstest;

use crate::workshop;

const READINGS: &str = "at,level\n1,2.5\n2,2.7\n";

/// A server, and a configuration of a place behind links there.
fn begun(place: &str) -> (Workshop, FileServer) {
    let (shop, server) = (workshop(), FileServer::open());
    let text = format!(
        "[staging]\nurl = \"sqlite:h.db\"\n[place.tides]\npath = \"{}\"\n{}\n[feed.gauge]\nplace = \"tides\"\nfiles = \"**/gauge*.csv\"\n",
        server.url("out/"),
        place.replace("SERVER", &server.url(""))
    );
    shop.write("hypodoke.toml", text);
    (shop, server)
}

fn usual(text: &str) -> ServedFile {
    ServedFile::usual(text)
}

fn said(run: &Run) -> String {
    format!("{}{}", run.out, run.err)
}

#[test]
fn files_behind_links_are_loaded_once() {
    let (shop, server) = begun("links = [\"gauge_1.csv\", \"mole/gauge_2.csv\", \"gone.csv\"]");
    server.put("out/gauge_1.csv", usual(READINGS));
    server.put("out/mole/gauge_2.csv", usual("at,level\n3,2.9\n"));
    let run = shop.run("load");
    assert!(run.code == Some(1) && run.out.contains("2 files loaded, 3 rows"), "{}", said(&run));
    assert!(run.err.contains("out/gone.csv: it is gone"), "{}", said(&run));
    let paths = "SELECT place, path FROM hd_files ORDER BY path";
    assert_eq!(shop.query("h.db", paths), ["tides|gauge_1.csv", "tides|mole/gauge_2.csv"]);
    let fetched = || server.requests().iter().filter(|request| request.method == "GET").count();
    let before = fetched();
    assert!(shop.run("load").out.contains("nothing new"));
    assert_eq!(fetched(), before, "what is known is asked about, and not fetched");
    server.put("out/gauge_1.csv", usual("at,level\n1,2.6\n2,2.7\n"));
    let run = shop.run("load");
    assert!(run.out.contains("its rows were replaced"), "{}", said(&run));
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM gauge"), ["3"]);
}

#[rstest]
#[case::packed(ServedFile { packs: true, ..usual(READINGS) })]
#[case::of_no_size(ServedFile { hides_size: true, tag: None, modified: None, ..usual(READINGS) })]
#[case::of_no_version(ServedFile { tag: None, modified: None, ..usual(READINGS) })]
#[case::of_a_time_alone(ServedFile { tag: None, ..usual(READINGS) })]
#[case::without_head(ServedFile { refuses_head: true, ..usual(READINGS) })]
#[case::without_head_and_parts(ServedFile { refuses_head: true, gives_parts: false, ..usual(READINGS) })]
#[case::that_breaks_off(ServedFile { cuts: 2, ..usual(READINGS) })]
#[case::that_breaks_off_and_gives_no_parts(ServedFile { cuts: 2, gives_parts: false, ..usual(READINGS) })]
#[case::of_no_kind(ServedFile { kind: None, ..usual(READINGS) })]
fn servers_of_all_kinds_give_the_same_file(#[case] file: ServedFile) {
    let (shop, server) = begun("links = [\"gauge_1.csv\"]");
    server.put("out/gauge_1.csv", file);
    let run = shop.ok("load");
    assert!(run.out.contains("1 file loaded, 2 rows"), "{}", said(&run));
    assert_eq!(shop.query("h.db", "SELECT at, level FROM gauge ORDER BY at"), ["1|2.5", "2|2.7"]);
    assert!(shop.ok("load").out.contains("nothing new"));
}

#[test]
fn a_large_file_is_gone_on_with_where_it_broke_off() {
    let (shop, server) = begun("links = [\"gauge_1.csv\"]");
    let rows: String = (0..300_000).map(|at| format!("{at},2.{}\n", at % 97)).collect();
    server.put("out/gauge_1.csv", ServedFile { cuts: 2, ..usual(&format!("at,level\n{rows}")) });
    assert!(shop.ok("load").out.contains("1 file loaded, 300,000 rows"));
    let ranges = server.requests();
    let ranges = ranges.iter().filter(|request| request.headers.contains_key("range"));
    let ranges: Vec<_> = ranges.map(|request| request.headers.contains_key("if-range")).collect();
    assert_eq!(ranges, [true, true], "each attempt goes on, on condition");
}

#[rstest]
#[case::page(ServedFile { kind: Some("text/html; charset=utf-8".into()), ..usual("<html><body>Log in</body></html>") }, "a web page where the file should be")]
#[case::page_that_says_nothing(ServedFile { kind: None, ..usual("\n<!DOCTYPE html><p>Log in") }, "a web page where the file should be")]
#[case::not_let_in(ServedFile { authorization: Some("Bearer tide".into()), ..usual(READINGS) }, "refuses whoever is asking")]
#[case::forbidden(ServedFile { status: Some(403), ..usual(READINGS) }, "no right to read")]
#[case::broken(ServedFile { status: Some(500), ..usual(READINGS) }, "the server answered 500")]
#[case::in_a_ring(ServedFile { redirect: Some("/out/gauge_1.csv".into()), ..usual(READINGS) }, "leads from one to another")]
#[case::to_another_port(ServedFile { redirect: Some("http://127.0.0.1:9/x.csv".into()), ..usual(READINGS) }, "is an address of a private network")]
#[case::to_what_is_no_server(ServedFile { redirect: Some("file:///etc/passwd".into()), ..usual(READINGS) }, "")]
fn what_is_no_file_is_told(#[case] file: ServedFile, #[case] words: &str) {
    let (shop, server) = begun("links = [\"gauge_1.csv\"]");
    server.put("out/gauge_1.csv", file);
    let run = shop.run("load");
    assert!(matches!(run.code, Some(1 | 4)) && said(&run).contains(words), "{}", said(&run));
    assert!(said(&run).contains("gauge_1.csv"), "{}", said(&run));
}

#[rstest]
#[case::basic("user = \"clerk\"\npassword = \"${WORDS}\"", "Basic Y2xlcms6bG93IHdhdGVy")]
#[case::bearer("token = \"${WORDS}\"", "Bearer low water")]
fn who_is_asking_is_told_to_the_host_that_is_named_alone(#[case] place: &str, #[case] header: &str) {
    let other = FileServer::open();
    other.put("gauge_2.csv", usual("at,level\n3,2.9\n"));
    let (shop, server) =
        begun(&format!("links = [\"gauge_1.csv\", \"{}\"]\n{place}", other.url("gauge_2.csv")));
    server.put("out/gauge_1.csv", ServedFile { authorization: Some(header.into()), ..usual(READINGS) });
    let mut command = shop.command("load -vv");
    command.env("WORDS", "low water");
    let run = finish(command);
    assert!(run.code == Some(0) && run.out.contains("2 files loaded, 3 rows"), "{}", said(&run));
    assert!(!said(&run).contains("low water"), "{}", said(&run));
    let told = |request: &hypodoke_testkit::FileRequest| request.headers.contains_key("authorization");
    assert!(!other.requests().iter().any(told), "another host heard who is asking");
}

/// Where a link leads on, credentials go to the server that is named alone: another port is another server, also
/// if a link names that, too.
#[rstest]
#[case::basic("user = \"clerk\"\npassword = \"${WORDS}\"", "Basic Y2xlcms6bG93IHdhdGVy")]
#[case::bearer("token = \"${WORDS}\"", "Bearer low water")]
fn credentials_do_not_follow_a_redirection_to_another_port(#[case] place: &str, #[case] header: &str) {
    let other = FileServer::open();
    other.put("gauge_1.csv", usual(READINGS));
    other.put("gauge_2.csv", usual("at,level\n3,2.9\n"));
    let links = format!("links = [\"gauge_1.csv\", \"{}\", \"gauge_3.csv\"]", other.url("gauge_2.csv"));
    let (shop, server) = begun(&format!("{links}\n{place}"));
    let asked = |file: ServedFile| ServedFile { authorization: Some(header.into()), ..file };
    let leading = |to: String| asked(ServedFile { redirect: Some(to), ..usual("") });
    server.put("out/gauge_1.csv", leading(other.url("gauge_1.csv")));
    server.put("out/gauge_3.csv", leading("/out/moved.csv".into()));
    server.put("out/moved.csv", asked(usual("at,level\n4,3.1\n")));
    let mut command = shop.command("load");
    command.env("WORDS", "low water");
    let run = finish(command);
    assert!(run.code == Some(0) && run.out.contains("3 files loaded, 4 rows"), "{}", said(&run));
    let told = |request: &hypodoke_testkit::FileRequest| request.headers.contains_key("authorization");
    assert!(!other.requests().is_empty() && !other.requests().iter().any(told), "another port was told");
    assert!(server.requests().iter().all(told), "the server itself asks for it");
}

#[test]
fn a_link_with_a_day_is_asked_for_by_the_last_days() {
    let (shop, server) = begun("links = [\"gauge_{day:%Y-%m-%d}.csv\"]\ndays = 3");
    let day = |back: i64| {
        let seconds =
            std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).expect("a time").as_secs();
        let days = i64::try_from(seconds / 86_400).expect("days") - back;
        hypodoke_testkit::rows(
            &rusqlite::Connection::open_in_memory().expect("a database"),
            &format!("SELECT date({days} * 86400, 'unixepoch')"),
        )
        .remove(0)
    };
    for back in [0, 2, 5] {
        server.put(&format!("out/gauge_{}.csv", day(back)), usual(&format!("at,level\n{back},2.5\n")));
    }
    let run = shop.ok("load");
    assert!(run.out.contains("2 files loaded, 2 rows"), "{}", said(&run));
}

#[test]
fn a_list_of_links_is_followed_but_not_into_the_network_of_ones_own() {
    let (shop, server) = begun("links_from = \"list.txt\"");
    let inner = FileServer::open();
    inner.put("gauge_9.csv", usual("secret\n1\n"));
    let list = format!(
        "# today's\n\ngauge_1.csv\nmole/gauge_2.csv\n{}\nfile:///etc/passwd\n",
        inner.url("gauge_9.csv")
    );
    server.put("out/list.txt", usual(&list));
    server.put("out/gauge_1.csv", usual(READINGS));
    server.put("out/mole/gauge_2.csv", usual("at,level\n3,2.9\n"));
    let run = shop.run("load");
    assert!(run.code == Some(1) && run.out.contains("2 files loaded, 3 rows"), "{}", said(&run));
    assert!(run.err.contains("is an address of a private network"), "{}", said(&run));
    assert!(run.err.contains("it is of the kind `file`, not https"), "{}", said(&run));
    assert!(inner.requests().is_empty(), "the inner server was asked");
}

#[rstest]
#[case::no_links("", "a web server does not say which files there are")]
#[case::no_day("links = [\"a_{day:%H}.csv\"]", "`%H` is no part of a day")]
#[case::moved("links = [\"a.csv\"]\nafter = \"move\"", "cannot be moved")]
#[case::half("links = [\"a.csv\"]\nuser = \"clerk\"", "`user` goes with `password`")]
#[case::both(
    "links = [\"a.csv\"]\nuser = \"c\"\npassword = \"${HOME}\"\ntoken = \"${HOME}\"",
    "or `token` by itself"
)]
#[case::no_days("links = [\"a.csv\"]\ndays = 0", "`days` is 1 to")]
fn what_is_wrong_with_a_place_is_told(#[case] place: &str, #[case] words: &str) {
    let (shop, _server) = begun(place);
    let run = shop.run("load");
    assert!(run.code == Some(2) && run.err.contains(words), "{}", said(&run));
}

#[test]
fn a_file_that_is_too_large_is_not_taken() {
    let (shop, server) = begun("links = [\"gauge_1.csv\"]\nmax_size = \"1KB\"");
    server.put("out/gauge_1.csv", usual(&format!("at\n{}", "1\n".repeat(900))));
    let run = shop.run("load");
    assert!(run.code == Some(1) && said(&run).contains("max_size"), "{}", said(&run));
}

#[test]
fn a_link_is_loaded_surveyed_and_drafted_by_itself() {
    let (shop, server) = (workshop(), FileServer::open());
    server.put("out/gauge_20260302.csv", usual(READINGS));
    let link = server.url("out/gauge_20260302.csv?signature=low-water");
    let run = shop.ok(&format!("load {link} --into sqlite:x.db"));
    assert!(run.out.contains("1 file loaded, 2 rows") && !said(&run).contains("low-water"), "{}", said(&run));
    assert_eq!(shop.query("x.db", "SELECT count(*) FROM gauge"), ["2"]);
    assert!(shop.ok(&format!("load {link} --into sqlite:x.db")).out.contains("nothing new"));
    assert!(shop.ok(&format!("survey {link}")).out.contains("level"));
    assert!(shop.ok(&format!("preview {link}")).out.contains("2.7"));
    let draft = shop.ok(&format!("draft {link} -o -"));
    assert!(
        draft.out.contains(&format!("path = \"{}\"", server.url("out/gauge_20260302.csv"))),
        "{}",
        draft.out
    );
    assert!(!draft.out.contains("low-water"), "{}", draft.out);
    let run = shop.run(&format!("survey {}", server.url("out/")));
    assert!(run.code == Some(2) && run.err.contains("names no file"), "{}", said(&run));
}

/// A server over TLS, written for the test: `handler` is what it makes of requests.
struct TlsServer {
    process: std::process::Child,
    port: String,
}

impl TlsServer {
    fn open(shop: &Workshop, handler: &str) -> TlsServer {
        hypodoke_testkit::certificates(&shop.path(""));
        let code = format!(
            "import http.server, ssl, sys\n{handler}\nserver = http.server.ThreadingHTTPServer(('127.0.0.1', 0), Handler)\ncontext = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)\ncontext.load_cert_chain('server.pem', 'server.key')\nserver.socket = context.wrap_socket(server.socket, server_side=True)\nprint(server.server_port, flush=True)\nserver.serve_forever()\n"
        );
        let mut python = hypodoke_testkit::python();
        python
            .current_dir(shop.path(""))
            .args(["-c", &code])
            .stdout(std::process::Stdio::piped())
            .stderr(std::process::Stdio::null());
        let mut process = python.spawn().expect("the server starts");
        let mut port = String::new();
        let out = process.stdout.take().expect("its output");
        std::io::BufRead::read_line(&mut std::io::BufReader::new(out), &mut port).expect("its port");
        TlsServer { process, port: port.trim().to_owned() }
    }

    /// Loads from it, with a line more in the place.
    fn load(&self, shop: &Workshop, place: &str) -> Run {
        shop.write(
            "hypodoke.toml",
            format!(
                "[staging]\nurl = \"sqlite:h.db\"\n[place.tides]\npath = \"https://localhost:{}/out/\"\nlinks = [\"gauge_1.csv\"]\n{place}\n[feed.gauge]\nplace = \"tides\"\nfiles = \"gauge*.csv\"\n",
                self.port
            ),
        );
        shop.run("load")
    }
}

impl Drop for TlsServer {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

/// A server over TLS, with certificates of one's own.
#[test]
fn certificates_of_ones_own_are_trusted_where_they_are_named() {
    let shop = workshop();
    shop.write("out/gauge_1.csv", READINGS);
    let server = TlsServer::open(&shop, "Handler = http.server.SimpleHTTPRequestHandler");
    for place in ["", "ca_file = \"other.pem\""] {
        let run = server.load(&shop, place);
        assert!(run.code == Some(4) && run.err.contains("certificate is not trusted"), "{}", said(&run));
    }
    let run = server.load(&shop, "ca_file = \"none.pem\"");
    assert!(run.code == Some(4) && run.err.contains("none.pem"), "{}", said(&run));
    let run = server.load(&shop, "ca_file = \"ca.pem\"");
    assert!(run.code == Some(0) && run.out.contains("1 file loaded, 2 rows"), "{}", said(&run));
}

/// An answer that does not say how long it is, and whose connection breaks instead of being closed, is cut off: each
/// time at the same byte.
#[rstest]
#[case::that_is_closed("self.connection.unwrap()", true)]
#[case::that_breaks("pass", false)]
fn an_answer_without_a_length_is_whole_only_where_its_connection_is_closed(
    #[case] end: &str,
    #[case] is_loaded: bool,
) {
    let shop = workshop();
    let handler = format!(
        r#"
class Handler(http.server.BaseHTTPRequestHandler):
    def do_HEAD(self):
        self.send_response(200)
        self.end_headers()
    def do_GET(self):
        self.send_response(200)
        self.end_headers()
        self.wfile.write(b'at,level\n1,2.5\n2,2.7\n')
        self.wfile.flush()
        self.close_connection = True
        {end}
"#
    );
    let server = TlsServer::open(&shop, &handler);
    let run = server.load(&shop, "ca_file = \"ca.pem\"");
    match is_loaded {
        true => assert!(run.code == Some(0) && run.out.contains("1 file loaded, 2 rows"), "{}", said(&run)),
        false => {
            assert!(run.code != Some(0) && run.err.contains("the connection broke off"), "{}", said(&run));
            assert!(!said(&run).contains("1 file loaded"), "{}", said(&run));
        }
    }
}

/// A byte now and then is no silence: after a minute of that the file fails, and others were loaded meanwhile.
#[test]
fn a_file_that_drips_is_not_waited_for_and_holds_up_no_other() {
    let (shop, server) = begun("links = [\"gauge_0.csv\"]");
    server.put("out/gauge_0.csv", usual("at,level\n0,1.5\n"));
    shop.ok("load");
    let text = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", text.replace("[\"gauge_0.csv\"]", "[\"gauge_1.csv\", \"gauge_2.csv\"]"));
    let drips = Some(Duration::from_millis(500));
    let slow: String = (0..200).map(|at| format!("{at},2.5\n")).collect();
    server.put("out/gauge_1.csv", ServedFile { drips, ..usual(&format!("at,level\n{slow}")) });
    server.put("out/gauge_2.csv", usual("at,level\n3,2.9\n"));
    let mut running = shop.command("load").stdout(Stdio::piped()).spawn().expect("it starts");
    let second = "SELECT count(*) FROM hd_files WHERE path = 'gauge_2.csv' AND outcome = 'loaded'";
    while shop.query("h.db", second) == ["0"] {
        assert!(running.try_wait().expect("a state").is_none(), "the second file waits for the first");
        std::thread::sleep(Duration::from_millis(100));
    }
    assert!(running.try_wait().expect("a state").is_none(), "the first is on its way still");
    let ended = running.wait_with_output().expect("an end");
    let out = String::from_utf8_lossy(&ended.stdout);
    assert!(ended.status.code() == Some(1) && out.contains("gauge_1.csv: it arrives too slowly"), "{out}");
    server.put("out/gauge_1.csv", usual(&format!("at,level\n{slow}")));
    assert!(shop.ok("load").out.contains("1 file loaded, 200 rows"));
}

/// Over plain HTTP an answer without a length may have been cut off, and nobody can tell: `check` says so.
#[rstest]
#[case::without_length(ServedFile { hides_size: true, tag: None, ..usual(READINGS) }, true)]
#[case::with_length(usual(READINGS), false)]
#[case::with_length_and_no_version(ServedFile { tag: None, modified: None, ..usual(READINGS) }, false)]
#[case::packed(ServedFile { packs: true, tag: None, modified: None, ..usual(READINGS) }, false)]
fn check_says_whether_a_cut_can_be_told(#[case] file: ServedFile, #[case] is_open_ended: bool) {
    let (shop, server) = begun("links = [\"gauge_1.csv\"]");
    server.put("out/gauge_1.csv", file);
    let words = "the server does not state the length of 1 file, over plain HTTP";
    let out = shop.ok("check").out;
    assert_eq!(out.contains(words), is_open_ended, "{out}");
    let places = &shop.json("check", 0)["places"];
    assert_eq!(places[0]["open_ended"].as_u64(), Some(u64::from(is_open_ended)), "{places}");
}

/// An answer of a few bytes that unpacks to many is read no further than the spool has room for.
#[test]
fn a_packed_answer_is_read_no_further_than_the_limit() {
    let (shop, server) = begun("links = [\"gauge_1.csv\"]");
    let config = std::fs::read_to_string(shop.path("hypodoke.toml")).expect("text");
    shop.write("hypodoke.toml", format!("{config}[spool]\nlimit = \"1MB\"\n"));
    let rows = "1,2.5\n".repeat(5_000_000);
    server.put("out/gauge_1.csv", ServedFile { packs: true, tag: None, modified: None, ..usual(&rows) });
    let run = shop.run("load");
    let words = said(&run);
    let read = words.split("it is larger than is allowed: ").nth(1).and_then(|rest| rest.split(' ').next());
    let read: u64 = read.and_then(|bytes| bytes.parse().ok()).unwrap_or_else(|| panic!("{words}"));
    assert!(run.code == Some(1) && (1_000_000..2_000_000).contains(&read), "{words}");
}
