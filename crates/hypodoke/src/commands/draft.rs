//! `hypodoke draft`: a configuration for files that are there.

use std::path::{Path, PathBuf};

use hypodoke_core::count;
use hypodoke_engine::discover::{NamedAs, NamedFiles, named_files};
use hypodoke_engine::inspect::find_key;

use super::context::Context;
use super::survey::watched;
use crate::cli::DraftArguments;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render;
use crate::render::draft::{Draft, DraftInputs, draft};
use crate::settings::{DEFAULT_DATABASE, internal_files};

/// Runs the command.
pub fn run(arguments: &DraftArguments, context: &Context) -> Result<Exit, Failure> {
    let to_stdout = arguments.output == Path::new("-");
    let file = &arguments.output;
    if !to_stdout && file.exists() && !arguments.force {
        let what = format!("`{}` is there already, and is not written over", file.display());
        return Err(Failure::usage(what)
            .advise("give --force to write over it, -o FILE for another, or -o - to print it"));
    }
    let place = common_folder(&arguments.paths)?;
    let internal = internal_files(None, Vec::new());
    let NamedFiles { mut files, errors } = named_files(&arguments.paths, NamedAs::PathInFolder, &internal)?;
    for candidate in &mut files {
        // Patterns are meant from the place, whatever was named on the command line.
        let container = candidate.container().file.clone();
        let inside = container.strip_prefix(&place).unwrap_or(&container);
        let inside = hypodoke_places::path_text(inside.as_os_str());
        candidate.seen.arrival.path = match &candidate.member {
            Some(member) => format!("{inside}/{}", member.entry.name),
            None => inside,
        };
    }
    let feed = arguments.reading.plain_feed(String::new())?;
    let survey = watched(&files, &feed, false, context);
    if survey.groups.is_empty() {
        let first = survey.files.into_iter().find_map(|file| file.found.err());
        return Err(
            first.map_or_else(|| Failure::load("there is nothing to draft a feed from"), Failure::from)
        );
    }
    let keys: Vec<Vec<String>> = survey.groups.iter().map(|group| find_key(group, &files, &feed)).collect();
    let database = arguments.database.into.as_deref().unwrap_or(DEFAULT_DATABASE);
    let base = if to_stdout { Path::new("") } else { file.parent().unwrap_or(Path::new("")) };
    let place = relative(&place, base);
    let Draft { text, feeds } = draft(&survey, &DraftInputs { place: &place, database, keys: &keys });
    if to_stdout {
        render::print(&text);
    } else {
        std::fs::write(file, &text)
            .map_err(|error| Failure::load(format!("`{}` could not be written: {error}", file.display())))?;
        let feeds = count::of(feeds as u64, "feed", "feeds");
        render::print(&format!(
            "wrote {} with {feeds} for {}\n",
            file.display(),
            count::files(files.len() as u64)
        ));
        context.remark("next: read it, then `hypodoke load`");
    }
    let failed = survey.files.into_iter().filter_map(|file| file.found.err());
    errors.into_iter().chain(failed).for_each(|error| context.complain(&error.into()));
    Ok(Exit::Done)
}

/// The folder that all that was named stands in.
fn common_folder(paths: &[PathBuf]) -> Result<PathBuf, Failure> {
    let folder = |path: &PathBuf| {
        if path.is_dir() { path.clone() } else { path.parent().map(Path::to_path_buf).unwrap_or_default() }
    };
    let folders: Vec<PathBuf> = paths.iter().map(folder).collect();
    let mut common = folders.first().cloned().unwrap_or_default();
    while !folders.iter().all(|folder| folder.starts_with(&common)) {
        if !common.pop() {
            return Err(Failure::usage("the files stand in folders that have nothing in common")
                .advise("draft one configuration per folder"));
        }
    }
    Ok(common)
}

/// The folder as seen from the configuration's own.
fn relative(folder: &Path, base: &Path) -> PathBuf {
    let shown =
        |path: &Path| if path.as_os_str().is_empty() { PathBuf::from(".") } else { path.to_path_buf() };
    if base.as_os_str().is_empty() || folder.is_absolute() {
        return shown(folder);
    }
    match folder.strip_prefix(base) {
        Ok(inside) => shown(inside),
        Err(_) => folder.canonicalize().unwrap_or_else(|_| folder.to_path_buf()),
    }
}
