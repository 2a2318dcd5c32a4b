//! Help, completions and man pages come from the same definitions.

use crate::workshop;

#[test]
fn help_shows_examples_and_exit_codes() {
    let shop = workshop();
    let help = shop.ok("--help").out;
    assert!(
        help.contains("Exit codes:") && help.contains("hypodoke load movements.csv --into sqlite:harbour.db")
    );
    assert!(shop.ok("load --help").out.contains("Examples:"));
}

#[test]
fn completions_and_man_pages_name_the_commands() {
    let shop = workshop();
    assert!(shop.ok("completions bash").out.contains("receipt"));
    shop.ok("man man1");
    let page = std::fs::read_to_string(shop.path("man1/hypodoke-load.1")).unwrap();
    assert!(page.contains("\\-\\-into"));
}

#[test]
fn a_misspelled_command_is_wrong_usage() {
    let run = workshop().run("laod");
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("load"), "{}", run.err);
}
