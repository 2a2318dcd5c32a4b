//! Looking at a file: all its values, on all cores, for the evidence they give.

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use hypodoke_core::event::{Event, Listener, Step};
use hypodoke_core::evidence::{Decision, Forced, Hints, TableEvidence, decide_all};
use hypodoke_core::layout::{Column, ColumnRule, Format, Layout, rule_for};
use hypodoke_core::record::Records;
use hypodoke_formats::ReadError;
use hypodoke_formats::text::{Delimiter, TextReader, TextShape};

use super::source::Source;
use super::{Candidate, Feed};
use crate::failure::Failure;

/// What a look at a file found.
pub struct Looked {
    /// The evidence of its fields, the named parts of its path left out.
    pub evidence: TableEvidence,
    /// What was decided of each column.
    pub decisions: Vec<Decision>,
    /// The file's layout, named parts included.
    pub layout: Layout,
    /// How the text is written.
    pub shape: TextShape,
    /// The file in a few words.
    pub kind: String,
    /// Its encoding.
    pub encoding: &'static str,
    /// How it is compressed.
    pub compression: Option<&'static str>,
    /// The hash of its content, where that was wanted.
    pub hash: Option<String>,
    /// Its header, named parts included.
    pub header: Vec<String>,
}

/// How to look.
#[derive(Clone, Copy, Debug)]
pub struct Way {
    /// What examples in the evidence are marked with.
    pub number: u32,
    /// How many threads look at values.
    pub threads: usize,
    /// Whether the content's hash is wanted.
    pub hashed: bool,
}

impl Way {
    /// One file on all cores.
    pub fn alone() -> Way {
        Way { number: 0, threads: threads(), hashed: false }
    }
}

/// Looks at one file.
pub fn look(file: &Candidate, feed: &Feed, way: Way, listener: &dyn Listener) -> Result<Looked, Failure> {
    let bytes = file.seen.arrival.bytes;
    listener.on(Event::FileBegan { path: file.shown.clone(), step: Step::Looking, bytes });
    let mut source = Source::open(file, feed, way.hashed, listener)?;
    let width = source.reader.shape().names.len();
    let threads = if bytes < 1 << 20 && source.compression.is_none() { 1 } else { way.threads };
    let rules: Vec<Option<&ColumnRule>> =
        source.header.iter().map(|name| rule_for(&feed.rules, name)).collect();
    let mut blank = TableEvidence::new(width);
    for (column, rule) in blank.columns.iter_mut().zip(&rules) {
        column.also_null = rule.map_or_else(Vec::new, |rule| rule.also_null.clone());
    }
    let evidence = gather(&mut source.reader, &blank, way.number, threads)
        .map_err(|error| Failure::reading(&file.shown, &error))?;
    // Whatever was found of a file that changed meanwhile is true of neither version.
    let hash = Some(source.meter.finish()?.0).filter(|_| way.hashed);
    let forced: Vec<Forced> =
        rules.iter().map(|rule| rule.map(|rule| rule.forced).unwrap_or_default()).collect();
    let decisions = decide_all(&evidence, hints(source.reader.shape()), &forced);
    let mut layout =
        Layout::observed(&source.header, &with_parts(&decisions, file), &feed.namer, &feed.rules);
    mark_ragged(&mut layout, &evidence);
    Ok(Looked {
        kind: source.kind(),
        encoding: source.reader.encoding().name(),
        compression: source.compression,
        hash,
        shape: source.reader.shape().clone(),
        header: source.header,
        evidence,
        decisions,
        layout,
    })
}

/// A semicolon between fields suggests that the comma is the decimal mark.
pub fn hints(shape: &TextShape) -> Hints {
    let comma = match shape.dialect.delimiter {
        Delimiter::Char(';') => Some(true),
        Delimiter::Char(',') => Some(false),
        _ => None,
    };
    Hints { likely_comma: comma, ..Hints::default() }
}

/// Named parts of a path are decided by the pattern, not by evidence.
fn with_parts(decisions: &[Decision], file: &Candidate) -> Vec<Decision> {
    let part = |domain| Decision {
        domain,
        format: Format::default(),
        nullable: false,
        nulls: 0,
        ambiguity: None,
        against: Vec::new(),
    };
    decisions.iter().cloned().chain(file.parts.iter().map(|(p, _)| part(p.domain()))).collect()
}

fn mark_ragged(layout: &mut Layout, evidence: &TableEvidence) {
    if evidence.rows == 0 {
        layout.columns.iter_mut().for_each(|column: &mut Column| column.nullable = true);
    }
}

/// Reads all records and takes their evidence in. The reader is shared: whoever is free reads
/// the next batch, then looks at its values while another reads on. `blank` is evidence of
/// nothing yet, with what is known of the columns beforehand.
pub fn gather(
    reader: &mut TextReader<'_>,
    blank: &TableEvidence,
    file: u32,
    threads: usize,
) -> Result<TableEvidence, ReadError> {
    let shared = Mutex::new(reader);
    let work = || -> Result<TableEvidence, ReadError> {
        let mut evidence = blank.clone();
        let mut records = Records::default();
        loop {
            let more = {
                let mut reader = shared.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
                reader.next(&mut records)?
            };
            if !more {
                return Ok(evidence);
            }
            evidence.add(&records, file);
        }
    };
    if threads <= 1 {
        return work();
    }
    std::thread::scope(|scope| {
        let others: Vec<_> = (1..threads).map(|_| scope.spawn(work)).collect();
        let mut whole = work()?;
        for other in others {
            let part = other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
            whole.merge(&part);
        }
        Ok(whole)
    })
}

/// How many threads look at values.
pub fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Looks at many files: side by side where there are many, each on all cores where few.
/// `keep` makes of each look what is wanted of it, so that evidence is not held for all.
pub fn look_at_all<T: Send>(
    files: &[(&Candidate, &Feed)],
    hashed: impl Fn(usize) -> bool + Sync,
    listener: &dyn Listener,
    keep: impl Fn(usize, Result<Looked, Failure>) -> T + Sync,
) -> Vec<T> {
    let threads = threads();
    let numbered = |at: usize, threads: usize| {
        let (file, feed) = files[at];
        let way = Way { number: at as u32, threads, hashed: hashed(at) };
        keep(at, look(file, feed, way, listener))
    };
    if files.len() < 2 * threads {
        return (0..files.len()).map(|at| numbered(at, threads)).collect();
    }
    let next = AtomicUsize::new(0);
    let done: Mutex<Vec<(usize, T)>> = Mutex::new(Vec::with_capacity(files.len()));
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                loop {
                    let at = next.fetch_add(1, Ordering::Relaxed);
                    if at >= files.len() {
                        return;
                    }
                    let kept = numbered(at, 1);
                    done.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).push((at, kept));
                }
            });
        }
    });
    let mut done = done.into_inner().unwrap_or_else(|poisoned| poisoned.into_inner());
    done.sort_by_key(|(at, _)| *at);
    done.into_iter().map(|(_, kept)| kept).collect()
}
