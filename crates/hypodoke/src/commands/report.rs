//! `hypodoke report`: a page to look at.

use std::path::Path;

use hypodoke_core::count;
use jiff::Timestamp;
use serde::Serialize;

use super::context::Context;
use crate::cli::ReportArguments;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, json};
use crate::report::{Report, page};

/// The version of the JSON that tells of a report.
///
/// 1: file, bytes, feeds.
const REPORT_JSON_VERSION: u32 = 1;

#[derive(Serialize)]
struct ReportDocument {
    version: u32,
    file: String,
    bytes: u64,
    feeds: Vec<String>,
}

/// Runs the command.
pub fn run(arguments: &ReportArguments, context: &Context) -> Result<Exit, Failure> {
    let settings = if arguments.database.into.is_some() { None } else { context.settings()? };
    let mut store = context.ledger(&arguments.database)?;
    let report = Report::of(store.as_mut(), settings.as_ref(), arguments.days, Timestamp::now())?;
    let page = page::page(&report);
    if arguments.output == Path::new("-") {
        render::print(&page);
        return Ok(Exit::Done);
    }
    write(&arguments.output, &page)?;
    let (file, bytes) = (arguments.output.display().to_string(), page.len() as u64);
    if context.json {
        let feeds = report.feeds.into_iter().map(|feed| feed.name).collect();
        json::print(&ReportDocument { version: REPORT_JSON_VERSION, file, bytes, feeds })?;
    } else {
        let feeds = count::of(report.feeds.len() as u64, "feed", "feeds");
        render::print(&format!("{file}: {feeds}, {}; open it in a browser\n", count::bytes(bytes)));
    }
    Ok(Exit::Done)
}

/// Writes the page beside its place and moves it there, so that nobody is served half of one.
fn write(path: &Path, page: &str) -> Result<(), Failure> {
    let failed = |error: std::io::Error| {
        Failure::usage(format!("the report `{}` cannot be written: {error}", path.display()))
            .advise("name a file in a folder that can be written, with -o")
    };
    let mut name = path.file_name().unwrap_or_default().to_os_string();
    name.push(".part");
    let part = path.with_file_name(name);
    std::fs::write(&part, page).map_err(failed)?;
    std::fs::rename(&part, path).map_err(|error| {
        let _ = std::fs::remove_file(&part);
        failed(error)
    })
}
