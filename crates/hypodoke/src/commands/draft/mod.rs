//! `hypodoke draft`: a configuration for files that are there.

mod interview;

use std::path::{Path, PathBuf};

use hypodoke_core::count;
use hypodoke_engine::discover::{NamedAs, NamedFiles, named_files};
use hypodoke_engine::error::EngineError;
use hypodoke_engine::inspect::find_key;
use hypodoke_engine::job::Candidate;
use hypodoke_stores::{Mode, Tables};

use self::interview::Interview;
use super::context::{Context, store_url};
use super::named_place::{self, Named};
use super::survey::watched;
use crate::ask;
use crate::cli::{DraftArguments, LoadArguments};
use crate::connections;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render;
use crate::render::draft::{DraftInputs, FeedDraft, draft, feeds};
use crate::render::feed_plan::{FeedPlan, LoadTimes};
use crate::settings::{DEFAULT_DATABASE, internal_files};

/// Runs the command.
pub fn run(arguments: &DraftArguments, context: &Context) -> Result<Exit, Failure> {
    let to_stdout = arguments.output == Path::new("-");
    let file = &arguments.output;
    if arguments.ask && !ask::is_possible() {
        return Err(Failure::usage("there is no terminal to ask on")
            .advise("--mode, --key, --table, --on-change, --rejected-rows, --at and --every say the same"));
    }
    if !to_stdout && file.exists() && !arguments.force {
        let what = format!("`{}` is there already, and is not written over", file.display());
        return Err(Failure::usage(what)
            .advise("give --force to write over it, -o FILE for another, or -o - to print it"));
    }
    let base = if to_stdout { Path::new("") } else { file.parent().unwrap_or(Path::new("")) };
    let Drafted { files, errors, place, is_of_place, _named } = drafted(&arguments.paths, base, context)?;
    let feed = arguments.reading.plain_feed(String::new())?;
    let survey = watched(&files, &feed, false, context);
    if survey.groups.is_empty() {
        let first = survey.files.into_iter().find_map(|file| file.found.err());
        return Err(
            first.map_or_else(|| Failure::load("there is nothing to draft a feed from"), Failure::from)
        );
    }
    let keys: Vec<Vec<String>> = survey.groups.iter().map(|group| find_key(group, &files, &feed)).collect();
    let (feeds, prose) = feeds(&survey, &keys);
    let mut plans = plans(arguments, &feeds)?;
    let database = arguments.database.into.as_deref().unwrap_or(DEFAULT_DATABASE);
    if arguments.ask {
        let store = existing_database(database)?;
        Interview { files: &files, feed: &feed, store, context }.about(&feeds, &mut plans)?;
    }
    let wanted: Vec<(FeedDraft<'_>, FeedPlan)> = feeds.into_iter().zip(plans).collect();
    let inputs = DraftInputs { place: &place, is_of_place, database, feeds: &wanted, prose: &prose };
    let text = draft(&survey, &inputs);
    let many = wanted.iter().filter(|(_, plan)| plan.is_wanted).count();
    if to_stdout {
        render::print(&text);
    } else if arguments.ask && !is_confirmed(file, &text, context)? {
        render::print("nothing is written\n");
        return Ok(Exit::Done);
    } else {
        write(file, &text, many, files.len(), context)?;
    }
    let failed = survey.files.into_iter().filter_map(|file| file.found.err());
    errors.into_iter().chain(failed).for_each(|error| context.complain(&error.into()));
    if to_stdout {
        return Ok(Exit::Done);
    }
    let loads =
        arguments.load || arguments.ask && ask::confirm("Load now what is there?", "", true)? == Some(true);
    match loads {
        true => first_load(file, context),
        false => Ok(Exit::Done),
    }
}

/// What a draft is made of.
struct Drafted {
    files: Vec<Candidate>,
    errors: Vec<EngineError>,
    /// Where the files are, as the configuration will say it.
    place: String,
    /// It is a place of a configuration that is there already.
    is_of_place: bool,
    /// Keeps files at hand that are fetched.
    _named: Named,
}

/// The files that were named, by paths, or by an address or a place of the configuration.
fn drafted(paths: &[PathBuf], base: &Path, context: &Context) -> Result<Drafted, Failure> {
    if let [only] = paths
        && !only.exists()
    {
        let settings = named_place::settings_for(paths, context)?;
        let internal = internal_files(None, Vec::new());
        let named = named_place::find(paths, NamedAs::PathInFolder, &internal, settings.as_ref())?;
        let NamedFiles { files, errors } = named.files.clone();
        let place = named.place.clone().unwrap_or_default();
        let is_of_place = !named_place::is_address(only);
        return Ok(Drafted { files, errors, place, is_of_place, _named: named });
    }
    let place = common_folder(paths)?;
    let NamedFiles { files, errors } = files_in(&place, paths)?;
    let place = relative(&place, base).to_string_lossy().into_owned();
    Ok(Drafted { files, errors, place, is_of_place: false, _named: Named::default() })
}

/// The files that were named. Their paths are seen from the place, as patterns are.
fn files_in(place: &Path, paths: &[PathBuf]) -> Result<NamedFiles, Failure> {
    let internal = internal_files(None, Vec::new());
    let mut named = named_files(paths, NamedAs::PathInFolder, &internal)?;
    for candidate in &mut named.files {
        let container = candidate.container().file.clone();
        let inside = container.strip_prefix(place).unwrap_or(&container);
        let inside = hypodoke_places::path_text(inside.as_os_str());
        candidate.seen.arrival.path = match &candidate.member {
            Some(member) => format!("{inside}/{}", member.entry.name),
            None => inside,
        };
    }
    Ok(named)
}

/// What is wanted of each feed, as far as the arguments say it and the files suggest it.
fn plans(arguments: &DraftArguments, feeds: &[FeedDraft<'_>]) -> Result<Vec<FeedPlan>, Failure> {
    if let (Some(table), false) = (&arguments.table, feeds.len() == 1) {
        let feeds = count::of(feeds.len() as u64, "feed", "feeds");
        return Err(Failure::usage(format!(
            "--table {table} is for files of one kind, and these are {feeds}"
        )));
    }
    let mode = match &arguments.mode {
        Some(word) => {
            Mode::WORDS.iter().find(|(known, _)| known == word).map(|(_, mode)| *mode).ok_or_else(|| {
                let all: Vec<&str> = Mode::WORDS.iter().map(|(word, _)| *word).collect();
                Failure::usage(format!("--mode: `{word}` is none of {}", all.join(", ")))
            })?
        }
        None => Mode::default(),
    };
    if let Some(feed) =
        feeds.iter().find(|feed| mode.has_key() && arguments.key.is_empty() && feed.key.is_empty())
    {
        let what = format!(
            "mode `{}` tells rows apart by a key, and nothing tells those of `{}` apart",
            mode.word(),
            feed.name
        );
        return Err(Failure::usage(what).advise("name the columns that do: --key station,day"));
    }
    let lacks = |feed: &&FeedDraft<'_>| arguments.key.iter().any(|name| !feed.has_column(name));
    if let Some(feed) = feeds.iter().filter(|_| arguments.reading.header.is_empty()).find(lacks) {
        let what = format!("--key {}: `{}` has not all of these columns", arguments.key.join(","), feed.name);
        return Err(Failure::usage(what).advise("draft files of different kinds one after another, with -o"));
    }
    let when = match (&arguments.at, &arguments.every) {
        (Some(time), _) => LoadTimes::Daily(time_of_day(time)?),
        (None, Some(span)) => LoadTimes::Every(span.clone()),
        (None, None) => LoadTimes::OnArrival,
    };
    let plan = |_: &FeedDraft<'_>| FeedPlan {
        is_wanted: true,
        table: arguments.table.clone(),
        header: arguments.reading.header.clone(),
        mode,
        key: arguments.key.clone(),
        on_change: arguments.on_change.unwrap_or_default(),
        rejects: arguments.rejected_rows.clone(),
        when: when.clone(),
        zone: arguments.time_zone.clone(),
        ..FeedPlan::default()
    };
    Ok(feeds.iter().map(plan).collect())
}

fn time_of_day(text: &str) -> Result<String, Failure> {
    let is_time = text.contains(':') && text.parse::<jiff::civil::Time>().is_ok();
    if is_time {
        Ok(text.to_owned())
    } else {
        Err(Failure::usage(format!("--at: `{text}` is not a time; write 07:00")))
    }
}

/// The database, if it is there already.
fn existing_database(url: &str) -> Result<Option<Box<dyn Tables>>, Failure> {
    let url = store_url(url)?;
    Ok(if url.exists() { Some(connections::tables(&url.into())?) } else { None })
}

/// Shows what would be written, and asks.
fn is_confirmed(file: &Path, text: &str, context: &Context) -> Result<bool, Failure> {
    let before = std::fs::read_to_string(file).unwrap_or_default();
    let name = file.display().to_string();
    let diff = similar::TextDiff::from_lines(before.as_str(), text);
    let diff = diff.unified_diff().context_radius(2).header(&name, &name).to_string();
    render::print(&format!("\n{}", render::settle::colored_diff(&diff, context.screen)));
    let question = format!("Write {name}?");
    Ok(ask::confirm(&question, "nothing is written until then", true)? == Some(true))
}

fn write(file: &Path, text: &str, feeds: usize, files: usize, context: &Context) -> Result<(), Failure> {
    std::fs::write(file, text)
        .map_err(|error| Failure::load(format!("`{}` could not be written: {error}", file.display())))?;
    let feeds = count::of(feeds as u64, "feed", "feeds");
    render::print(&format!("wrote {} with {feeds} for {}\n", file.display(), count::files(files as u64)));
    context.remark("next: read it, then `hypodoke load`");
    Ok(())
}

/// The first load by what was written.
fn first_load(file: &Path, context: &Context) -> Result<Exit, Failure> {
    let context = context.with_config(file);
    super::load::run(&LoadArguments::default(), &context)
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
