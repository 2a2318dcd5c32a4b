//! What the next load of a feed would do, without doing it.

use hypodoke_core::layout::Layout;
use hypodoke_core::names::Lineage;
use hypodoke_stores::{LoadPlan, LoadRules, Restore, TableShape, Tables};

use crate::clock;
use crate::decide::{FailReason, on_keyed_parts, on_view};
use crate::discover::KnownFiles;
use crate::error::EngineError;
use crate::event::Silent;
use crate::job::{Candidate, Feed, FeedFiles};
use crate::plan::{TableMapping, TableState, TargetState, file_order};
use crate::profile::{FileProfile, ProfileOptions, Source, is_virtual, profile_file};

/// What the next load would do.
#[derive(Clone, Debug, Default)]
pub struct Forecast {
    /// How many files are new.
    pub new: u64,
    /// Tables whose rows do not lead back to their files, so that a corrected file cannot replace the
    /// first version.
    pub without_lineage: Vec<String>,
    /// Columns of decimals, with their tables, in which some values are texts.
    pub texts_among_numbers: Vec<(String, String)>,
    /// The SQL that would make or change tables, where it was asked for.
    pub ddl: Vec<String>,
}

/// Finds out what is new, and with `ddl` profiles it.
///
/// # Errors
///
/// The files do not fit the feed's table, or cannot be read; the database does not answer.
pub fn forecast(store: &mut dyn Tables, files: &FeedFiles, ddl: bool) -> Result<Forecast, EngineError> {
    let feed = &files.feed;
    let entries = if store.ledger().has_ledger()? { store.ledger().loaded_files()? } else { Vec::new() };
    let known = KnownFiles::of(entries);
    let new: Vec<&Candidate> =
        files.files.iter().filter(|file| !known.is_known(&file.seen.arrival, &feed.table)).collect();
    let mut target = TargetState::of(store, feed)?;
    if let TableState::External(shape) = &target.main {
        on_view(&shape.name, shape.takes, feed.mode)
            .map_err(|reason| EngineError::unloadable(&feed.table, reason))?;
        // What has to be fetched first is checked when it is loaded.
        if let Some(file) = new.iter().find(|file| file.seen.is_local()) {
            check_header(file, feed, shape)?;
        }
    }
    if let Some(file) = new.iter().find(|file| file.seen.is_local()).filter(|_| feed.mode.has_key()) {
        check_keys(file, feed, &target)?;
    }
    let mut forecast = Forecast {
        new: new.len() as u64,
        without_lineage: without_lineage(&target, feed),
        texts_among_numbers: texts_among_numbers(store, &target, feed)?,
        ddl: Vec::new(),
    };
    if !ddl || new.is_empty() {
        return Ok(forecast);
    }
    let hints = target.hints();
    let profiled = |file: &&Candidate| profile_file(file, feed, ProfileOptions::whole(), &hints, &Silent);
    let profiles: Vec<FileProfile> = new.iter().map(profiled).collect::<Result<_, _>>()?;
    target.add_profiles(store, feed, profiles.iter())?;
    for (file, profile) in new.iter().zip(&profiles) {
        let plan = plan_of(store, file, feed, profile, &mut target)?;
        for statement in store.ddl(&plan)? {
            // A table that is not there yet is made once, whole.
            if !forecast.ddl.contains(&statement) {
                forecast.ddl.push(statement);
            }
        }
    }
    Ok(forecast)
}

/// The plan of one file. The next file meets the tables as this one leaves them.
fn plan_of(
    store: &mut dyn Tables,
    file: &Candidate,
    feed: &Feed,
    profile: &FileProfile,
    target: &mut TargetState,
) -> Result<LoadPlan, EngineError> {
    let mut tables = Vec::new();
    for (at, table) in profile.tables.iter().enumerate() {
        let (name, state) = if at == 0 {
            (feed.table.clone(), target.main.clone())
        } else {
            let part = target.part(store, feed, table)?;
            (target.parts[part].0.table.clone(), target.parts[part].1.clone())
        };
        if at == 0 && profile.is_virtual {
            continue;
        }
        let lineage = state.lineage(table.head.is_child);
        let Some(layout) = state.layout() else { continue };
        let mut mapping = TableMapping::without_policy(name, &table.head, layout, &table.layout, lineage);
        mapping
            .resolve_key(feed, profile.is_virtual)
            .map_err(|reason| EngineError::unloadable(&file.shown, reason))?;
        tables.push(mapping.plan(feed));
        let version = state.version().unwrap_or(0);
        let after = TableState::Managed { layout: mapping.fit.layout.clone(), lineage, version };
        if at == 0 {
            target.main = after;
        } else if let Some((_, state)) =
            target.parts.iter_mut().find(|(part, _)| part.path == table.head.path)
        {
            *state = after;
        }
    }
    Ok(LoadPlan {
        batch: 0,
        arrival: file.seen.arrival.clone(),
        feed: feed.name.clone(),
        tables,
        known_until: None,
        replaces: None,
        kind: String::new(),
        began: clock::now(),
        order: file_order(feed, file),
        rules: LoadRules { mode: feed.mode, ..LoadRules::default() },
        sql_before: Vec::new(),
        sql_after: Vec::new(),
        careful: false,
        shape: None,
        resubmits: None,
        keeps_for: None,
        restore: Restore::Nothing,
        retracts: false,
    })
}

/// Whether the sheets and the main table of a file have the columns of their keys: its header tells.
fn check_keys(file: &Candidate, feed: &Feed, target: &TargetState) -> Result<(), EngineError> {
    let source = Source::open(file, feed, false, &target.known_heads(file, feed), &Silent)?;
    // Records that name their own columns tell more when they are read.
    if source.reader.facts().names_in_records {
        return Ok(());
    }
    let heads = source.reader.tables();
    let failed = |reason: FailReason| EngineError::unloadable(&file.shown, reason);
    for (at, head) in heads.iter().enumerate().filter(|(at, _)| *at > 0 || !is_virtual(heads)) {
        let named = Layout::named(&source.header(at), &feed.namer, &feed.rules_of(&head.path));
        let mut mapping = TableMapping::without_policy(
            feed.table_of(&head.path),
            head,
            &Layout::default(),
            &named,
            Lineage::Rows,
        );
        mapping.resolve_key(feed, is_virtual(heads)).map_err(failed)?;
    }
    // A sheet that is missing in this one file is told when it is loaded.
    let is_known = |path: &String| target.parts.iter().any(|(part, _)| part.path == *path);
    let wanted = feed.keys.iter().map(|(path, _)| path).filter(|path| !is_known(path));
    let there: Vec<&str> =
        heads.iter().map(|head| head.path.as_str()).filter(|path| !path.is_empty()).collect();
    on_keyed_parts(wanted, &there).map_err(failed)
}

/// Whether the columns of a file find theirs in a table that somebody else made: its header tells.
fn check_header(file: &Candidate, feed: &Feed, shape: &TableShape) -> Result<(), EngineError> {
    let source = Source::open(file, feed, false, &[], &Silent)?;
    let heads = source.reader.tables();
    let Some(head) = heads.first().filter(|_| !is_virtual(heads)) else { return Ok(()) };
    let named = Layout::named(&source.header(0), &feed.namer, &feed.rules_of(&head.path));
    let failed = |reason: FailReason| EngineError::unloadable(&file.shown, reason);
    TableMapping::to_external(head, shape, &named, feed).map(drop).map_err(failed)
}

/// The columns of decimals of the feed's tables in which some values are texts.
fn texts_among_numbers(
    store: &mut dyn Tables,
    target: &TargetState,
    feed: &Feed,
) -> Result<Vec<(String, String)>, EngineError> {
    let mut found = Vec::new();
    let parts = target.parts.iter().map(|(part, _)| &part.table);
    for table in std::iter::once(&feed.table).chain(parts) {
        let columns = store.texts_among_numbers(table)?;
        found.extend(columns.into_iter().map(|column| (table.clone(), column)));
    }
    Ok(found)
}

/// The feed's table, where somebody else made it or a part of it without lineage columns.
fn without_lineage(target: &TargetState, feed: &Feed) -> Vec<String> {
    let mut states = std::iter::once(&target.main).chain(target.parts.iter().map(|(_, state)| state));
    let is_without =
        |state: &TableState| matches!(state, TableState::External(shape) if !shape.lineage.is_kept());
    if states.any(is_without) { vec![feed.table.clone()] } else { Vec::new() }
}
