//! `hypodoke demo`: the harbour of Quillane, from its files to its tables.

mod gauges;
mod unwritable;
mod yard;

use std::path::Path;

use hypodoke_core::outcome::Outcome;
use hypodoke_demo::{CONFIGURATION, DATABASE, Figures, MARK, Step, expected, write_step};
use hypodoke_engine::batch::{RunOptions, run_job};
use hypodoke_engine::decide::Settlement;
use hypodoke_engine::discover::discover;
use hypodoke_engine::event::Silent;
use hypodoke_engine::receipt::Receipt;
use serde::Serialize;

use self::gauges::GAUGES;
use self::unwritable::unwritable;
use super::context::Context;
use super::settle;
use crate::cli::DemoArguments;
use crate::connections;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::receipt_json::{self, ReceiptDocument};
use crate::render::settle::Settled;
use crate::render::{self, Tone, json, receipt};
use crate::settings::{FILE_NAME, Settings};

/// The version of the demo's JSON.
///
/// 1: folder, receipts, as_expected.
const DEMO_JSON_VERSION: u32 = 1;

#[derive(Serialize)]
struct DemoDocument<'a> {
    version: u32,
    folder: String,
    receipts: Vec<ReceiptDocument<'a>>,
    as_expected: bool,
}

/// Runs the command.
pub fn run(arguments: &DemoArguments, context: &Context) -> Result<Exit, Failure> {
    let folder = &arguments.folder;
    if arguments.office {
        return keep_office(folder);
    }
    prepare(folder)?;
    let tell = |text: &str| {
        if !context.json {
            render::print(text);
        }
    };
    let inbox = folder.join("inbox");
    let mut receipts = Vec::new();
    tell(&format!("The harbour of Quillane is made up, and stands in {}/.\n", folder.display()));
    let steps = [
        (Some(Step::First), "Monday to Thursday: three quays have sent their berth movements."),
        (
            Some(Step::Second),
            "Friday to Sunday: more files, and a correction of Thursday's from the east quay.",
        ),
        (
            Some(Step::Third),
            "Monday again: that is settled, and two quays have sent the whole of what came cut short.",
        ),
        (None, "The same again: nothing is new, and nothing is loaded twice."),
    ];
    for (step, title) in steps {
        if let Some(step) = step {
            write_step(&inbox, step).map_err(|error| unwritable(folder, &error))?;
        }
        tell(&format!("\n{}\n$ hypodoke load\n", context.screen.paint(Tone::Heading, title)));
        let receipt = load_once(folder)?;
        tell(&receipt::text(&receipt, context.detail(), context.screen));
        receipts.push(receipt);
        if step == Some(Step::Second) {
            let title = "Four files are held. Two came cut short; two have a column under a new name: somebody says so, once and for all.";
            tell(&format!(
                "\n{}\n$ hypodoke settle {HELD} --rename {}={} --write\n",
                context.screen.paint(Tone::Heading, title),
                RENAME.0,
                RENAME.1
            ));
            let settled = settle_held(folder)?;
            tell(&render::settle::settled(&settled, context.screen));
        }
    }
    let title = "The tide-gauge office has a server of its own: its readings are fetched by SFTP.";
    let office = gauges::open(folder)?;
    receipts.push(load_from(folder, (title, GAUGES), context, &tell)?);
    drop(office);
    if let Some(_yard) = yard::open(folder)? {
        let title = "The crane yard keeps its telemetry in a bucket, as Parquet in folders by quay and day.";
        receipts.push(load_from(folder, (title, yard::CONFIGURATION), context, &tell)?);
    } else {
        tell(&format!("\n{}\n", yard::LEFT_OUT));
    }
    end(folder, &receipts, context)
}

/// Loads by a configuration of its own, under a title.
fn load_from(
    folder: &Path,
    (title, configuration): (&str, &str),
    context: &Context,
    tell: &dyn Fn(&str),
) -> Result<Receipt, Failure> {
    let title = context.screen.paint(Tone::Heading, title);
    tell(&format!("\n{title}\n$ hypodoke load --config {configuration}\n"));
    let receipt = load_by(&folder.join(configuration))?;
    tell(&receipt::text(&receipt, context.detail(), context.screen));
    Ok(receipt)
}

/// Says how the figures compare with those that are expected.
fn end(folder: &Path, receipts: &[Receipt], context: &Context) -> Result<Exit, Failure> {
    let differences = compare(folder, receipts)?;
    if context.json {
        let folder = folder.display().to_string();
        json::print(&DemoDocument {
            version: DEMO_JSON_VERSION,
            folder,
            receipts: receipts.iter().map(receipt_json::document).collect(),
            as_expected: differences.is_empty(),
        })?;
    } else {
        show_rows(folder, context)?;
        render::print(&closing(folder, &differences, context));
    }
    Ok(if differences.is_empty() { Exit::Done } else { Exit::Failed })
}

/// Makes the folder, or clears what an earlier demo left in it; anybody else's is not touched.
fn prepare(folder: &Path) -> Result<(), Failure> {
    let failed = |error: std::io::Error| unwritable(folder, &error);
    if folder.exists() {
        let ours = std::fs::read_to_string(folder.join(FILE_NAME)).is_ok_and(|text| text.starts_with(MARK));
        let empty = std::fs::read_dir(folder).map_err(failed)?.next().is_none();
        if !ours && !empty {
            let what = format!("`{}` holds other files, and the demo does not touch those", folder.display());
            return Err(Failure::usage(what).advise("name a new folder: hypodoke demo DIR"));
        }
        for name in [DATABASE, "quillane.db-journal"] {
            let old = folder.join(name);
            if old.exists() {
                std::fs::remove_file(&old).map_err(failed)?;
            }
        }
        let inbox = folder.join("inbox");
        if ours && inbox.is_dir() {
            std::fs::remove_dir_all(&inbox).map_err(failed)?;
        }
    }
    std::fs::create_dir_all(folder).map_err(failed)?;
    std::fs::write(folder.join(FILE_NAME), CONFIGURATION).map_err(failed)
}

fn settings(folder: &Path) -> Result<Settings, Failure> {
    Settings::read(&folder.join(FILE_NAME))
}

/// The file that the demo settles, and what is said of it.
const HELD: &str = "east/EAST260307.tsv";
const RENAME: (&str, &str) = ("DraughtM", "Draft");

fn settle_held(folder: &Path) -> Result<Settled, Failure> {
    let settings = settings(folder)?;
    let mut store = connections::tables(&settings.staging)?;
    let wish = settle::decide::Wish {
        settlement: Settlement {
            rename: vec![(RENAME.0.to_owned(), RENAME.1.to_owned())],
            ..Settlement::default()
        },
        why: Some("their program has new headings".to_owned()),
        write: true,
        dry_run: false,
    };
    settle::decide::by_path(store.as_mut(), &settings, &folder.join(FILE_NAME), HELD, &wish)
}

/// Keeps the office and the yard open until it is interrupted.
fn keep_office(folder: &Path) -> Result<Exit, Failure> {
    if !folder.join(FILE_NAME).exists() {
        let what = format!("there is no harbour in `{}`", folder.display());
        return Err(Failure::usage(what).advise("make it first: hypodoke demo DIR"));
    }
    let (office, yard) = (gauges::open(folder)?, yard::open(folder)?);
    let mut configurations = vec![GAUGES];
    configurations.extend(yard.as_ref().map(|_| yard::CONFIGURATION));
    let mut text = format!("The tide-gauge office is open on port {}", office.port());
    if let Some(yard) = &yard {
        text.push_str(&format!(", the store of the crane yard at {}", yard.endpoint()));
    }
    text.push_str(&format!(". In another window:\n  cd {}\n", folder.display()));
    for configuration in configurations {
        for command in ["check", "load"] {
            text.push_str(&format!("  hypodoke {command} --config {configuration}\n"));
        }
    }
    render::print(&format!("{text}Ctrl-C closes it.\n"));
    loop {
        std::thread::park();
    }
}

fn load_once(folder: &Path) -> Result<Receipt, Failure> {
    load_by(&folder.join(FILE_NAME))
}

fn load_by(file: &Path) -> Result<Receipt, Failure> {
    let job = Settings::read(file)?.job();
    let found = discover(&job, &[])?;
    let mut store = connections::tables(&job.staging)?;
    let report = run_job(&job, &found, store.as_mut(), RunOptions::new(&Silent))?;
    match report.broken_off {
        Some(error) => Err(error.into()),
        None => Ok(report.receipt),
    }
}

/// Holds what was loaded against the figures kept beside the generator.
fn compare(folder: &Path, receipts: &[Receipt]) -> Result<Vec<String>, Failure> {
    let mut expected = expected();
    if let Some(cranes) = expected.cranes.take().filter(|_| yard::IS_BUILT_IN) {
        expected.loads.push(cranes.load);
        expected.tables.extend(cranes.tables);
    }
    let mut differences = Vec::new();
    let found: Vec<Figures> = receipts.iter().map(figures).collect();
    for (at, (found, wanted)) in found.iter().zip(&expected.loads).enumerate() {
        if found != wanted {
            differences.push(format!("load {}: expected {wanted:?}, found {found:?}", at + 1));
        }
    }
    if found.len() != expected.loads.len() {
        differences.push(format!("{} loads expected, {} made", expected.loads.len(), found.len()));
    }
    let mut store = connections::tables(&settings(folder)?.staging)?;
    for (table, wanted) in &expected.tables {
        let found = store.count_rows(table)?;
        if found != *wanted {
            differences.push(format!("table {table}: {wanted} rows expected, {found} found"));
        }
    }
    Ok(differences)
}

fn figures(receipt: &Receipt) -> Figures {
    let same = receipt.files.iter().filter(|line| line.outcome == Outcome::Same).count();
    Figures {
        files_loaded: receipt.totals.files_loaded,
        rows_read: receipt.totals.rows_read,
        rows_loaded: receipt.totals.rows_loaded,
        rows_rejected: receipt.totals.rows_rejected,
        files_same: same as u64,
        unmatched: receipt.unmatched.len() as u64,
        files_held: receipt.totals.files_held,
    }
}

fn show_rows(folder: &Path, context: &Context) -> Result<(), Failure> {
    let mut store = connections::tables(&settings(folder)?.staging)?;
    let title = "Some rows, with the file and the line that each came from:";
    render::print(&format!("\n{}\n", context.screen.paint(Tone::Heading, title)));
    let sample = store.first_rows("south_movements", 4)?;
    render::print(&render::ledger::sample(&sample, context.screen));
    Ok(())
}

fn closing(folder: &Path, differences: &[String], context: &Context) -> String {
    let mut out = String::from("\n");
    if differences.is_empty() {
        let text = "All figures are those the generator expects.";
        out.push_str(&format!("{}\n", context.screen.paint(Tone::Good, text)));
    }
    for difference in differences {
        out.push_str(&format!("{}\n", context.screen.paint(Tone::Bad, difference)));
    }
    out.push_str(&format!("\n{}\n", context.screen.paint(Tone::Heading, "What to try next:")));
    let tries = [
        ("hypodoke ledger", "which files were loaded, when, with what result"),
        ("hypodoke drift", "what changed in the files, and what was done about it"),
        ("hypodoke rejects 1 --export bad.csv", "the rows that could not be loaded, to be corrected"),
        ("hypodoke tally", "the figures of files, tables and ledger held against one another"),
        ("hypodoke report", "a page to look at: hypodoke-report.html"),
        ("hypodoke watch", "put files of your own into inbox/, and see them loaded"),
        ("hypodoke load", "nothing new: put a file of your own into inbox/"),
        ("hypodoke load FILE --into sqlite:my.db", "one of your own files, without a configuration"),
    ];
    out.push_str(&format!("  cd {}\n", folder.display()));
    for (command, what) in tries {
        out.push_str(&format!("  {command:<40} {what}\n"));
    }
    out
}
