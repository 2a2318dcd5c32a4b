//! Servers that lie about their files, stall, or say something else than SFTP.

use hypodoke_testkit::{BadServer, Fault, PASSWORD, Run, Workshop, finish};
use rstest::rstest;

use crate::workshop;

/// A file of several answers' length, its rows numbered.
fn gauge(rows: usize) -> Vec<u8> {
    let rows = (0..rows).map(|at| format!("{at},{}.5,the mole at low water\n", at % 7));
    format!("at,level,remark\n{}", rows.collect::<String>()).into_bytes()
}

const ROWS: usize = 12_000;

fn begun(fault: Fault) -> (Workshop, BadServer) {
    let wait = if matches!(fault, Fault::Stalls | Fault::Ponders) { 1 } else { 20 };
    let shop = workshop();
    let server = BadServer::start(&[("gauge_1.csv", gauge(ROWS)), ("gauge_2.csv", gauge(10))], fault);
    shop.write(
        "hypodoke.toml",
        format!(
            "[staging]\nurl = \"sqlite:h.db\"\n[place.office]\npath = \"{}\"\npassword = \"${{WORDS}}\"\nknown_hosts = \"known\"\nwait = \"{wait}s\"\n\
             [feed.gauge]\nplace = \"office\"\nfiles = \"gauge_*.csv\"\n",
            server.url()
        ),
    );
    (shop, server)
}

fn run(shop: &Workshop, line: &str) -> Run {
    let mut command = shop.command(line);
    command.env("WORDS", PASSWORD);
    finish(command)
}

fn trusting(shop: &Workshop) {
    let run = run(shop, "check --trust office --yes");
    assert!(run.out.contains("SHA256:"), "{}{}", run.out, run.err);
}

#[rstest]
#[case::honest(Fault::None)]
#[case::in_small_pieces(Fault::GivesLess)]
#[case::asks_for_the_password(Fault::AsksPassword)]
fn what_a_server_may_do_is_taken(#[case] fault: Fault) {
    let (shop, _server) = begun(fault);
    trusting(&shop);
    let run = run(&shop, "load");
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let sums = shop.query("h.db", "SELECT count(*), sum(at), count(DISTINCT hd_file) FROM gauge");
    let at: usize = (0..ROWS).sum::<usize>() + (0..10).sum::<usize>();
    assert_eq!(sums, [format!("{}|{at}|2", ROWS + 10)]);
}

#[rstest]
#[case::larger(Fault::SaysMore, 1, "it is not of the size that the server says")]
#[case::smaller(Fault::SaysLess, 1, "it is not of the size that the server says")]
#[case::more_than_asked(Fault::GivesMore, 1, "it is not of the size that the server says")]
#[case::other_in_the_list(Fault::ListsOther, 0, "it changed while it was read, and is read again later")]
#[case::changes(Fault::Changes, 0, "it changed while it was read, and is read again later")]
fn a_file_that_is_not_what_the_server_says_is_not_loaded(
    #[case] fault: Fault,
    #[case] code: i32,
    #[case] words: &str,
) {
    let (shop, server) = begun(fault);
    trusting(&shop);
    let ended = run(&shop, "load");
    assert!(
        ended.code == Some(code) && ended.out.contains("gauge_1.csv") && ended.out.contains(words),
        "{}{}",
        ended.out,
        ended.err
    );
    let loaded = shop.query("h.db", "SELECT path, rows_loaded FROM hd_files WHERE outcome = 'loaded'");
    // The small one comes in one answer, which is cut to its size by its end.
    assert!(loaded.iter().all(|line| line == "gauge_2.csv|10"), "{loaded:?}");
    server.turn(Fault::None);
    assert_eq!(run(&shop, "load").code, Some(0));
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM gauge"), [(ROWS + 10).to_string()]);
    assert!(run(&shop, "tally").out.contains("all figures agree"));
}

#[rstest]
#[case::expired(Fault::AsksNewPassword, "asks `Your password has expired. New password:`")]
#[case::expired_in_words(Fault::Speaks, "`WARNING: Your password has expired. Change it")]
fn a_server_that_wants_something_of_a_person_is_quoted(#[case] fault: Fault, #[case] words: &str) {
    let (shop, server) = begun(fault);
    trusting(&shop);
    let ended = run(&shop, "load");
    let said = format!("{}{}", ended.out, ended.err);
    assert!(ended.code == Some(4) && said.contains(words) && said.contains("by hand once"), "{said}");
    assert!(!said.contains('\u{1b}') && !said.contains(PASSWORD), "{said}");
    let checked = run(&shop, "check");
    assert!(checked.code == Some(4) && checked.out.contains(words), "{}", checked.out);
    server.turn(Fault::None);
    assert_eq!(run(&shop, "load").code, Some(0));
}

#[rstest]
#[case::in_the_middle_of_a_file(Fault::Stalls)]
#[case::at_the_door(Fault::Ponders)]
fn a_server_that_stalls_is_left_for_later(#[case] fault: Fault) {
    let (shop, server) = begun(fault);
    trusting(&shop);
    let ended = run(&shop, "load");
    let said = format!("{}{}", ended.out, ended.err);
    assert!(ended.code == Some(4) && said.contains("the server does not answer"), "{:?} {said}", ended.code);
    server.turn(Fault::None);
    assert_eq!(run(&shop, "load").code, Some(0));
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM gauge"), [(ROWS + 10).to_string()]);
}

/// Answers that come, and hardly bring anything: after a minute of that the file fails.
#[test]
fn a_server_that_gives_a_byte_at_a_time_is_not_waited_for_without_end() {
    let (shop, server) = begun(Fault::Drips);
    trusting(&shop);
    let ended = run(&shop, "load");
    let words = "it arrives too slowly";
    assert!(ended.code == Some(1) && ended.out.contains(words), "{}{}", ended.out, ended.err);
    server.turn(Fault::None);
    assert_eq!(run(&shop, "load").code, Some(0));
    assert_eq!(shop.query("h.db", "SELECT count(*) FROM gauge"), [(ROWS + 10).to_string()]);
}
