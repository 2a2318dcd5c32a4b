//! Profiling: all values of a file, read for the evidence they give.

use std::collections::HashSet;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use hypodoke_core::evidence::{ColumnEvidence, Decision, Example, Forced, Hints, TableEvidence, decide_all};
use hypodoke_core::layout::{Column, Layout, Part, rule_for};
use hypodoke_core::names::numbered;
use hypodoke_formats::text::Delimiter;
use hypodoke_formats::{FormatFacts, TableHead};

use super::cache::BatchCache;
use super::file_profile::{FileProfile, TableProfile, is_virtual};
use super::gather::{GatherOptions, gather};
use super::hints::FormatHints;
use super::source::Source;
use crate::error::EngineError;
use crate::event::{Event, Listener, Step};
use crate::isolate::isolated;
use crate::job::{Candidate, Feed};

/// How a file is profiled.
#[derive(Clone, Copy, Debug)]
pub struct ProfileOptions {
    /// What examples in the evidence are marked with.
    pub number: u32,
    /// How many threads look at values.
    pub threads: usize,
    /// Whether the content's hash is wanted.
    pub hashed: bool,
    /// Up to how many bytes of records are kept, of files that are slow to read.
    pub keep: u64,
    /// Only so many batches of records are looked at; `None` for all.
    pub most_batches: Option<u64>,
}

impl ProfileOptions {
    /// The whole file, on all cores.
    pub fn whole() -> ProfileOptions {
        ProfileOptions { number: 0, threads: threads(), hashed: false, keep: 0, most_batches: None }
    }

    /// The whole of a file that is loaded meanwhile, on one core.
    pub fn background() -> ProfileOptions {
        ProfileOptions { threads: 1, ..ProfileOptions::whole() }
    }

    /// The beginning of a file.
    pub fn sample() -> ProfileOptions {
        ProfileOptions { threads: 1, most_batches: Some(SAMPLE), ..ProfileOptions::whole() }
    }

    /// The whole of a file that is loaded next.
    pub fn before_load() -> ProfileOptions {
        ProfileOptions { hashed: true, keep: MOST_KEPT, ..ProfileOptions::whole() }
    }
}

/// How many bytes of records are kept of files that are slow to read, all together.
pub const MOST_KEPT: u64 = 192 << 20;

/// A file of fewer bytes is profiled by one thread, and takes longer to open than to read.
pub const SMALL: u64 = 1 << 20;

/// How many batches of records are the beginning of a file: a few megabytes.
const SAMPLE: u64 = 8;

/// How often a file is profiled anew because keys turned out to be objects here and lists there.
const MOST_PASSES: usize = 4;

/// How many threads look at values.
pub fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Profiles one file. A panic of a reader is an error of this file.
///
/// # Errors
///
/// The file cannot be fetched, opened or read.
pub fn profile_file(
    file: &Candidate,
    feed: &Feed,
    options: ProfileOptions,
    hints: &FormatHints,
    listener: &dyn Listener,
) -> Result<FileProfile, EngineError> {
    let profiled = isolated(|| profile(file, feed, options, hints, listener));
    profiled.unwrap_or_else(|reason| Err(EngineError::unloadable(&file.shown, reason)))
}

fn profile(
    file: &Candidate,
    feed: &Feed,
    options: ProfileOptions,
    hints: &FormatHints,
    listener: &dyn Listener,
) -> Result<FileProfile, EngineError> {
    let bytes = file.seen.arrival.bytes;
    listener.on(&Event::FileBegan { path: file.shown.clone(), step: Step::Profiling, bytes });
    let mut hints = hints.clone();
    for _ in 0..MOST_PASSES {
        let profile = profile_once(file, feed, options, &hints, listener)?;
        let late = profile.facts.late_lists.clone();
        if late.is_empty() {
            return Ok(profile);
        }
        let sheets = hints.sheets();
        let before = std::mem::take(&mut hints.lists).into_iter().filter(|head| head.is_child);
        hints = hints.with_lists(before.map(|head| head.path).chain(late)).with_sheets(sheets);
    }
    profile_once(file, feed, options, &hints, listener)
}

fn profile_once(
    file: &Candidate,
    feed: &Feed,
    options: ProfileOptions,
    hints: &FormatHints,
    listener: &dyn Listener,
) -> Result<FileProfile, EngineError> {
    let mut source = Source::open(file, feed, options.hashed, &hints.lists, listener)?;
    let is_small = file.seen.arrival.bytes < SMALL && source.compression.is_none();
    let strings_are_text = feed.format_options.json.strings_are_text;
    let blank = |head: &TableHead, column: usize| {
        let rules = feed.rules_of(&head.path);
        let rule = head.names.get(column).and_then(|name| rule_for(&rules, name));
        let mut evidence = ColumnEvidence::default();
        evidence.also_null = rule.map_or_else(Vec::new, |rule| rule.also_null.clone());
        evidence.strings_are_text = strings_are_text;
        evidence.declared = head.declared.get(column).copied();
        evidence
    };
    let facts = source.reader.facts();
    let (is_slow, is_small_text) = (facts.is_slow, is_small && facts.text.is_some());
    let is_kept = options.keep > 0 && options.hashed && (is_slow || is_small_text);
    let cache = is_kept.then(|| BatchCache::new(options.keep));
    let how = GatherOptions {
        blank: &blank,
        number: options.number,
        most_batches: options.most_batches.unwrap_or(u64::MAX),
        threads: if is_small { 1 } else { options.threads },
        cache: cache.as_ref(),
    };
    let evidence =
        gather(source.reader.as_mut(), &how).map_err(|error| EngineError::reading(&file.shown, error))?;
    // Whatever was found of a file that changed meanwhile is true of neither version.
    let hash =
        if options.most_batches.is_none() { Some(source.hash()?).filter(|_| options.hashed) } else { None };
    let kept = cache.and_then(|cache| cache.finish(source.reader.as_ref()));
    let heads = source.reader.tables().to_vec();
    Ok(FileProfile {
        tables: table_profiles(file, feed, &source, evidence, hints),
        is_virtual: is_virtual(&heads),
        facts: source.reader.facts(),
        kind: source.kind(),
        encoding: source.reader.encoding().map(|encoding| encoding.name()),
        compression: source.compression,
        footer: source.reader.footer(),
        notes: source.notes(),
        remark: source.remark,
        kept,
        hash,
    })
}

/// What the evidence says of each table.
fn table_profiles(
    file: &Candidate,
    feed: &Feed,
    source: &Source<'_>,
    evidence: Vec<TableEvidence>,
    hints: &FormatHints,
) -> Vec<TableProfile> {
    let heads = source.reader.tables();
    let dialect = dialect_hints(&source.reader.facts());
    let mut tables = Vec::new();
    for (at, (head, evidence)) in heads.iter().zip(evidence).enumerate() {
        let rules = feed.rules_of(&head.path);
        let header = if at == 0 && is_virtual(heads) { Vec::new() } else { source.header(at) };
        let forced: Vec<Forced> = header
            .iter()
            .map(|name| rule_for(&rules, name).map(|rule| rule.forced).unwrap_or_default())
            .collect();
        let known = hints.of_columns(&head.path, &Layout::named(&header, &feed.namer, &rules));
        let dialect = Hints { day: file.day(), ..dialect };
        let decisions = decide_all(&evidence, dialect, &forced, &known);
        let all = if head.is_child && !feed.appends_children {
            decisions.clone()
        } else {
            with_parts(&decisions, file)
        };
        let mut layout = Layout::observed(&header, &all, &feed.namer, &rules);
        if evidence.rows == 0 {
            layout.columns.iter_mut().for_each(|column: &mut Column| column.nullable = true);
        }
        if at == 0 {
            layout.parts = parts_of(heads, feed);
        }
        // A value that a narrower type does not hold, where one stood against it.
        let example = |(column, decision): (&ColumnEvidence, &Decision)| {
            let against = decision.against.last();
            let against = against.map(|one| Example { spot: one.spot, value: one.value.as_str().into() });
            against.or_else(|| column.classes().last().and_then(|(_, tally)| tally.first.clone()))
        };
        let examples = evidence.columns.iter().zip(&decisions).map(example).collect();
        let (head, rows_at) = (head.clone(), source.reader.rows_at(at));
        tables.push(TableProfile { head, header, evidence, decisions, examples, layout, rows_at });
    }
    tables
}

/// The tables that the parts of a file go to.
fn parts_of(heads: &[TableHead], feed: &Feed) -> Vec<Part> {
    let mut taken = HashSet::from([feed.table.to_lowercase()]);
    let mut parts = Vec::new();
    for head in heads.iter().skip(1) {
        let base = feed.table_of(&head.path);
        let mut table = base.clone();
        let mut number = 2;
        while !taken.insert(table.to_lowercase()) {
            table = numbered(&base, number);
            number += 1;
        }
        parts.push(Part { path: head.path.clone(), table });
    }
    parts
}

/// What the dialect suggests: a semicolon between fields, that the comma is the decimal mark.
pub fn dialect_hints(facts: &FormatFacts) -> Hints {
    let comma = match facts.text.as_ref().map(|text| text.dialect.delimiter) {
        Some(Delimiter::Char(';')) => Some(true),
        Some(Delimiter::Char(',')) => Some(false),
        _ => None,
    };
    Hints { likely_comma: comma, ..Hints::default() }
}

/// Named parts of a path are decided by the pattern, not by evidence.
fn with_parts(decisions: &[Decision], file: &Candidate) -> Vec<Decision> {
    let parts = file.parts.iter().map(|(part, _)| Decision::of_domain(part.domain()));
    decisions.iter().cloned().chain(parts).collect()
}

/// Profiles many files: side by side where there are many, each on all cores where few.
/// `finish` makes of each profile what is wanted of it, so that evidence is not held for all; of
/// slow files up to `most_kept` bytes of records are kept.
pub fn profile_files<T: Send>(
    files: &[(&Candidate, &Feed)],
    hashed: impl Fn(usize) -> bool + Sync,
    most_kept: u64,
    listener: &dyn Listener,
    finish: impl Fn(usize, Result<FileProfile, EngineError>) -> T + Sync,
) -> Vec<T> {
    let cores = threads();
    let keep = most_kept / (files.len() as u64).max(1);
    let one = |at: usize, file: &Candidate, feed: &Feed, threads: usize| {
        let number = u32::try_from(at).unwrap_or(u32::MAX);
        let options = ProfileOptions { number, threads, hashed: hashed(at), keep, most_batches: None };
        finish(at, profile_file(file, feed, options, &FormatHints::default(), listener))
    };
    // A workbook takes one thread to walk, whatever cores there are.
    let are_workbooks = files.len() > 1 && files.iter().all(|(file, _)| file.is_named_as_workbook());
    if files.len() < 2 * cores && !are_workbooks {
        return files.iter().enumerate().map(|(at, (file, feed))| one(at, file, feed, cores)).collect();
    }
    let next = AtomicUsize::new(0);
    let done: Mutex<Vec<(usize, T)>> = Mutex::new(Vec::with_capacity(files.len()));
    std::thread::scope(|scope| {
        for _ in 0..cores {
            scope.spawn(|| {
                loop {
                    let at = next.fetch_add(1, Ordering::Relaxed);
                    let Some((file, feed)) = files.get(at) else { return };
                    let finished = one(at, file, feed, 1);
                    done.lock().unwrap_or_else(PoisonError::into_inner).push((at, finished));
                }
            });
        }
    });
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_by_key(|(at, _)| *at);
    done.into_iter().map(|(_, finished)| finished).collect()
}
