//! `hypodoke survey`: what files are.

use hypodoke_core::evidence::ColumnReport;
use hypodoke_core::names::match_key;
use hypodoke_engine::discover::{NamedAs, NamedFiles};
use hypodoke_engine::inspect::{Survey, survey};
use hypodoke_engine::job::{Candidate, Feed};

use super::context::Context;
use super::named_place;
use crate::cli::SurveyArguments;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::{self, json};
use crate::settings::internal_files;
use crate::settings::reader::suggest;

/// Surveys with a progress bar.
pub fn watched(files: &[Candidate], feed: &Feed, keep_evidence: bool, context: &Context) -> Survey {
    survey(files, feed, keep_evidence, context.listener().as_ref())
}

/// Runs the command.
pub fn run(arguments: &SurveyArguments, context: &Context) -> Result<Exit, Failure> {
    let internal = internal_files(None, Vec::new());
    let settings =
        if arguments.paths.iter().all(|path| path.exists()) { None } else { context.settings()? };
    let named = named_place::find(&arguments.paths, NamedAs::PathInFolder, &internal, settings.as_ref())?;
    let NamedFiles { files, errors } = named.files.clone();
    let feed = arguments.reading.plain_feed(String::new())?;
    let keep_evidence = arguments.why.is_some();
    if keep_evidence && files.len() > 20 {
        return Err(Failure::usage("--why looks at the evidence of single files; name at most 20"));
    }
    let found = watched(&files, &feed, keep_evidence, context);
    if context.json {
        json::print(&render::survey_json::document(&found))?;
    } else if let Some(column) = &arguments.why {
        render::print(&why(&found, column, context)?);
    } else {
        // A file that was named is shown by itself; the files of a folder by their layouts.
        let single = arguments.each || arguments.paths.iter().all(|path| !path.is_dir()) && files.len() <= 3;
        render::print(&render::survey::text(&found, single, context.screen));
    }
    errors.into_iter().for_each(|error| context.complain(&error.into()));
    let failed = found.files.into_iter().filter_map(|file| file.found.err());
    Ok(failed.map(|error| Failure::from(error).exit).max().unwrap_or(Exit::Done))
}

fn why(found: &Survey, column: &str, context: &Context) -> Result<String, Failure> {
    let key = match_key(column);
    let mut out = String::new();
    let mut names = Vec::new();
    for file in &found.files {
        let Ok(found) = &file.found else { continue };
        for table in &found.tables {
            let Some(evidence) = &table.evidence else { continue };
            names.extend(table.columns.iter().map(|c| c.name.clone()));
            let wanted =
                |c: &ColumnReport| c.name == column || c.source == column || match_key(&c.name) == key;
            if let Some(at) = table.columns.iter().position(wanted) {
                let report = &table.columns[at];
                out.push_str(&render::survey::why(&file.path, report, &evidence.columns[at], context.screen));
            }
        }
    }
    if out.is_empty() {
        names.dedup();
        let all: Vec<&str> = names.iter().map(String::as_str).collect();
        let what = format!("no column is called `{column}`; there are {}", all.join(", "));
        return Err(suggest(Failure::usage(what), column, &all));
    }
    Ok(out)
}
