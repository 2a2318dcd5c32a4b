//! The book is run as it stands: its files are written, its commands are run, and what it shows of their
//! output is there. And every setting that the program knows is in its reference.

use std::path::PathBuf;

use hypodoke_testkit::{Workshop, finish};
use rstest::rstest;

use crate::workshop;

const REFERENCE: &str = include_str!("../../../../docs/book/reference.md");

fn page(name: &str) -> String {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/book").join(name);
    std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()))
}

/// Runs the blocks of a page in their order: a block with a file's name is written, one of commands is run.
fn run(shop: &Workshop, text: &str) -> usize {
    let folder = if text.contains("<!-- in the demo -->") { "quillane" } else { "" };
    if !folder.is_empty() {
        shop.ok("demo");
    }
    let (mut commands, mut output) = (0, String::new());
    let mut block: Option<(&str, Vec<&str>)> = None;
    for line in text.lines() {
        match (&mut block, line.strip_prefix("```")) {
            (None, Some(info)) => block = Some((info, Vec::new())),
            (Some((info, lines)), Some("")) => {
                if let Some((_, name)) = info.split_once(' ') {
                    let path = format!("{folder}/{name}");
                    shop.write(path.trim_start_matches('/'), lines.join("\n") + "\n");
                } else if *info == "console" {
                    for line in lines.iter() {
                        match line.strip_prefix("$ hypodoke ") {
                            Some(arguments) => {
                                let mut command = shop.command(arguments);
                                command.current_dir(shop.path(folder));
                                let run = finish(command);
                                output = format!("{}{}", run.out, run.err);
                                assert!(matches!(run.code, Some(0 | 3)), "{arguments}\n{output}");
                                commands += 1;
                            }
                            None => assert!(output.contains(line), "`{line}` is not in\n{output}"),
                        }
                    }
                }
                block = None;
            }
            (Some((_, lines)), _) => lines.push(line),
            (None, None) => {}
        }
    }
    commands
}

#[rstest]
#[case("first-file.md", 6)]
#[case("first-folder.md", 5)]
#[case("daily-feeds.md", 3)]
#[case("drift.md", 3)]
#[case("rejects.md", 3)]
#[case("unattended.md", 2)]
#[case("sqlite.md", 2)]
#[case("ledger-apart.md", 3)]
#[case("workbooks.md", 2)]
#[case("json.md", 2)]
fn the_commands_of_a_page_work(#[case] name: &str, #[case] least: usize) {
    let commands = run(&workshop(), &page(name));
    assert!(commands >= least, "{commands} commands in {name}");
}

/// A setting that is not known is answered with all that are: each of them has its line in the reference.
#[rstest]
#[case::staging("[staging]\nurl = \"sqlite:h.db\"\nnonsense = 1\n")]
#[case::place("[place.p]\npath = \"in\"\nnonsense = 1\n")]
#[case::feed("[feed.f]\nplace = \"p\"\nfiles = \"*\"\nnonsense = 1\n")]
#[case::column("[feed.f]\nplace = \"p\"\nfiles = \"*\"\n[feed.f.columns.c]\nnonsense = 1\n")]
#[case::drift("[feed.f]\nplace = \"p\"\nfiles = \"*\"\n[feed.f.drift]\nnonsense = 1\n")]
#[case::expect("[feed.f]\nplace = \"p\"\nfiles = \"*\"\n[feed.f.expect]\nnonsense = 1\n")]
#[case::schedule("[feed.f]\nplace = \"p\"\nfiles = \"*\"\n[feed.f.schedule]\nnonsense = 1\n")]
#[case::watch("[watch]\nnonsense = 1\n")]
#[case::log("[log]\nnonsense = 1\n")]
#[case::spool("[spool]\nnonsense = 1\n")]
fn every_setting_is_in_the_reference(#[case] text: &str) {
    let shop = workshop();
    let place = if text.contains("[place.p]") { "" } else { "[place.p]\npath = \"in\"\n" };
    shop.write("hypodoke.toml", format!("{place}{text}"));
    let run = shop.run("check");
    assert_eq!(run.code, Some(2), "{}{}", run.out, run.err);
    let list = run.err.split("it may hold ").nth(1).unwrap_or_else(|| panic!("{}", run.err));
    let list = list.lines().next().expect("a line");
    // What it was called once is answered, and not known.
    let known = list.split(", ").filter(|name| *name != "stitched");
    let missing: Vec<&str> = known.filter(|name| !REFERENCE.contains(&format!("`{name}`"))).collect();
    assert!(missing.is_empty(), "{missing:?} of {list}");
}

#[test]
fn links_of_the_book_lead_somewhere() {
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/book");
    let pages = std::fs::read_dir(&folder).expect("the book").flatten();
    for page in pages {
        let text = std::fs::read_to_string(page.path()).expect("a page");
        for link in text.split("](").skip(1).filter_map(|rest| rest.split(')').next()) {
            if !link.starts_with("http") {
                let path = folder.join(link.split('#').next().unwrap_or(link));
                assert!(path.exists(), "{} leads to {link}", page.path().display());
            }
        }
    }
}
