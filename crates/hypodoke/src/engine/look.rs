//! Looking at a file: all its values, on all cores, for the evidence they give.

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use hypodoke_core::event::{Event, Listener, Step};
use hypodoke_core::evidence::{ColumnEvidence, Decision, Example, Forced, Hints, TableEvidence, decide_all};
use hypodoke_core::layout::{Column, Format, Layout, Part, Reading, rule_for};
use hypodoke_formats::text::Delimiter;
use hypodoke_formats::{ReadError, RecordReader, Shape, TableHead};

use super::prior::Prior;
use super::replay::{Keeper, Replay};
use super::source::Source;
use super::{Candidate, Feed};
use crate::failure::Failure;

/// What a look found of one table.
pub struct LookedTable {
    /// Where it stands in the file, and its columns.
    pub head: TableHead,
    /// Its header, named parts of the path included.
    pub header: Vec<String>,
    /// The evidence of its fields, the named parts of the path left out.
    pub evidence: TableEvidence,
    /// What was decided of each column.
    pub decisions: Vec<Decision>,
    /// Of each field, the first value of the widest class met: what its type is for.
    pub examples: Vec<Option<Example>>,
    /// Its layout, named parts included.
    pub layout: Layout,
    /// Where in the file its rows are, in words of the format.
    pub rows_at: Option<String>,
}

/// What a look at a file found.
pub struct Looked {
    /// Its tables, the main one first.
    pub tables: Vec<LookedTable>,
    /// The main one has no rows of its own: the file's rows are all in the others.
    pub is_virtual: bool,
    /// How the file is written.
    pub shape: Shape,
    /// The file in a few words.
    pub kind: String,
    /// Its encoding.
    pub encoding: Option<&'static str>,
    /// How it is compressed.
    pub compression: Option<&'static str>,
    /// The hash of its content, where that was wanted.
    pub hash: Option<String>,
    /// It is something else than its name says.
    pub remark: Option<String>,
    /// What else there is to say of it.
    pub notes: Vec<String>,
    /// Its records, where they were kept.
    pub kept: Option<Replay>,
    /// Lines after the table that were left out.
    pub footer: Vec<String>,
}

impl Looked {
    /// The heads of its tables.
    pub fn heads(&self) -> Vec<TableHead> {
        self.tables.iter().map(|table| table.head.clone()).collect()
    }

    /// The tables that have rows: all but a virtual main one.
    pub fn real_tables(&self) -> impl Iterator<Item = &LookedTable> {
        self.tables.iter().skip(usize::from(self.is_virtual))
    }

    /// The layout of the main table, which names its parts.
    pub fn layout(&self) -> &Layout {
        &self.tables[0].layout
    }

    /// The paths of its child tables.
    pub fn lists(&self) -> impl Iterator<Item = &str> {
        self.tables.iter().filter(|table| table.head.is_child).map(|table| table.head.path.as_str())
    }

    /// Whether it has columns that a list of another file holds: looked at again, knowing that
    /// list, its objects are lists of one.
    pub fn would_join(&self, lists: &[String]) -> bool {
        lists.iter().filter(|list| !self.lists().any(|own| own == *list)).any(|list| {
            self.tables
                .iter()
                .flat_map(|table| table.head.names.iter().map(|name| path_of(&table.head, name)))
                .any(|path| path.strip_prefix(list.as_str()).is_some_and(|rest| rest.starts_with(['.', '['])))
        })
    }
}

fn path_of(head: &TableHead, name: &str) -> String {
    match (head.path.is_empty(), name.starts_with('[')) {
        (true, _) => name.to_owned(),
        (false, true) => format!("{}{name}", head.path),
        (false, false) => format!("{}.{name}", head.path),
    }
}

/// Whether the first of these tables has no rows of its own.
pub fn is_virtual(heads: &[TableHead]) -> bool {
    heads.iter().skip(1).any(|head| !head.is_child)
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
    /// Up to how many bytes of records are kept, of files that are slow to read.
    pub keep: u64,
    /// Only so many batches of records are looked at; `None` for all.
    pub only: Option<u64>,
}

impl Way {
    /// One file on all cores.
    pub fn alone() -> Way {
        Way { number: 0, threads: threads(), hashed: false, keep: 0, only: None }
    }

    /// A file that is loaded meanwhile.
    pub fn beside() -> Way {
        Way { threads: 1, ..Way::alone() }
    }

    /// The beginning of a file.
    pub fn beginning() -> Way {
        Way { threads: 1, only: Some(BEGINNING), ..Way::alone() }
    }

    /// One file on all cores, that is loaded next.
    pub fn before_load() -> Way {
        Way { hashed: true, keep: MOST_KEPT, ..Way::alone() }
    }
}

/// How many bytes of records are kept of files that are slow to read, all together.
pub const MOST_KEPT: u64 = 256 << 20;

/// How many batches of records are the beginning of a file: a few megabytes.
const BEGINNING: u64 = 8;

/// How often a file is looked at anew because keys turned out to be objects here and lists there.
const MOST_LOOKS: usize = 4;

/// Looks at one file.
pub fn look(
    file: &Candidate,
    feed: &Feed,
    way: Way,
    prior: &Prior,
    listener: &dyn Listener,
) -> Result<Looked, Failure> {
    let bytes = file.seen.arrival.bytes;
    listener.on(Event::FileBegan { path: file.shown.clone(), step: Step::Looking, bytes });
    let mut prior = prior.clone();
    for _ in 0..MOST_LOOKS {
        let looked = look_once(file, feed, way, &prior, listener)?;
        let torn = match &looked.shape {
            Shape::Json(shape) if !shape.torn.is_empty() => shape.torn.clone(),
            _ => return Ok(looked),
        };
        let before = std::mem::take(&mut prior.lists).into_iter().filter(|head| head.is_child);
        prior = prior.with_lists(before.map(|head| head.path).chain(torn));
    }
    look_once(file, feed, way, &prior, listener)
}

fn look_once(
    file: &Candidate,
    feed: &Feed,
    way: Way,
    prior: &Prior,
    listener: &dyn Listener,
) -> Result<Looked, Failure> {
    let mut source = Source::open(file, feed, way.hashed, &prior.lists, listener)?;
    let small = file.seen.arrival.bytes < 1 << 20 && source.compression.is_none();
    let threads = if small { 1 } else { way.threads };
    let strings_are_text = feed.wishes.json.strings_are_text;
    let blank = |head: &TableHead, column: usize| {
        let rules = feed.rules_of(&head.path);
        let rule = rule_for(&rules, &head.names[column]);
        let also_null = rule.map_or_else(Vec::new, |rule| rule.also_null.clone());
        let mut evidence = ColumnEvidence::default();
        (evidence.also_null, evidence.strings_are_text) = (also_null, strings_are_text);
        evidence
    };
    let is_slow = matches!(source.reader.shape(), Shape::Workbook(_));
    let keeper = (way.keep > 0 && way.hashed && is_slow).then(|| Keeper::new(way.keep));
    let most = way.only.unwrap_or(u64::MAX);
    let evidence = gather(source.reader.as_mut(), &blank, (way.number, most), threads, keeper.as_ref())
        .map_err(|error| Failure::reading(&file.shown, &error))?;
    // Whatever was found of a file that changed meanwhile is true of neither version.
    let hash = if way.only.is_none() { Some(source.hash()?).filter(|_| way.hashed) } else { None };
    let kept = keeper.and_then(|keeper| keeper.finish(source.reader.as_ref()));
    let shape = source.reader.shape();
    let heads = source.reader.tables().to_vec();
    let is_virtual = is_virtual(&heads);
    let mut tables = Vec::new();
    for (at, (head, evidence)) in heads.iter().zip(evidence).enumerate() {
        let rules = feed.rules_of(&head.path);
        let header = if at == 0 && is_virtual { Vec::new() } else { source.header(at) };
        let forced: Vec<Forced> = header
            .iter()
            .map(|name| rule_for(&rules, name).map(|rule| rule.forced).unwrap_or_default())
            .collect();
        let habits = prior.habits(&head.path, &Layout::named(&header, &feed.namer, &rules));
        let decisions = decide_all(&evidence, hints(&shape), &forced, &habits);
        let all = if head.is_child { decisions.clone() } else { with_parts(&decisions, file) };
        let mut layout = Layout::observed(&header, &all, &feed.namer, &rules);
        mark_ragged(&mut layout, &evidence);
        if at == 0 {
            layout.parts = parts_of(&heads, feed);
        }
        let rows_at = source.reader.rows_at(at);
        let example =
            |column: &ColumnEvidence| column.classes().last().and_then(|(_, tally)| tally.first.clone());
        let examples = evidence.columns.iter().map(example).collect();
        let head = head.clone();
        tables.push(LookedTable { head, header, evidence, decisions, examples, layout, rows_at });
    }
    Ok(Looked {
        kind: source.kind(),
        encoding: source.reader.encoding().map(|encoding| encoding.name()),
        compression: source.compression,
        footer: source.reader.footer(),
        notes: source.notes(),
        remark: source.remark,
        kept,
        hash,
        tables,
        is_virtual,
        shape,
    })
}

/// The tables that the parts of a file go to.
fn parts_of(heads: &[TableHead], feed: &Feed) -> Vec<Part> {
    let mut taken = std::collections::HashSet::from([feed.table.to_lowercase()]);
    let mut parts = Vec::new();
    for head in heads.iter().skip(1) {
        let base = feed.table_of(&head.path);
        let mut table = base.clone();
        let mut number = 2;
        while !taken.insert(table.to_lowercase()) {
            table = format!("{base}_{number}");
            number += 1;
        }
        parts.push(Part { path: head.path.clone(), table });
    }
    parts
}

/// A semicolon between fields suggests that the comma is the decimal mark.
pub fn hints(shape: &Shape) -> Hints {
    let comma = match shape {
        Shape::Text(text) => match text.dialect.delimiter {
            Delimiter::Char(';') => Some(true),
            Delimiter::Char(',') => Some(false),
            _ => None,
        },
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
        reading: Reading::Shown,
        against: Vec::new(),
    };
    decisions.iter().cloned().chain(file.parts.iter().map(|(p, _)| part(p.domain()))).collect()
}

fn mark_ragged(layout: &mut Layout, evidence: &TableEvidence) {
    if evidence.rows == 0 {
        layout.columns.iter_mut().for_each(|column: &mut Column| column.nullable = true);
    }
}

/// Reads all records and takes their evidence in, one table's after another's. The reader is
/// shared: whoever is free reads the next batch, then looks at its values while another reads on.
/// `blank` is evidence of nothing yet, with what is known of a column beforehand; `file` is what
/// examples are marked with, `most` how many batches are read.
pub fn gather(
    reader: &mut dyn RecordReader,
    blank: &(dyn Fn(&TableHead, usize) -> ColumnEvidence + Sync),
    (file, most): (u32, u64),
    threads: usize,
    keeper: Option<&Keeper>,
) -> Result<Vec<TableEvidence>, ReadError> {
    let shared = Mutex::new((reader, 0u64));
    let work = || -> Result<Vec<TableEvidence>, ReadError> {
        let mut evidence: Vec<TableEvidence> = Vec::new();
        let mut batch = Vec::new();
        loop {
            let (more, number) = {
                let mut shared = shared.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
                let (reader, number) = &mut *shared;
                let more = *number < most && reader.next(&mut batch)?;
                widen(&mut evidence, reader.tables(), blank);
                *number += 1;
                (more, *number)
            };
            if !more {
                return Ok(evidence);
            }
            for (table, records) in evidence.iter_mut().zip(&batch) {
                table.add(records, file);
            }
            if let Some(keeper) = keeper {
                keeper.take(number, &mut batch);
            }
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
            let tables = whole.len().max(part.len());
            whole.resize_with(tables, TableEvidence::default);
            whole.iter_mut().zip(&part).for_each(|(whole, part)| whole.merge(part));
        }
        Ok(whole)
    })
}

/// Makes room for the tables and columns that are known by now.
fn widen(
    evidence: &mut Vec<TableEvidence>,
    heads: &[TableHead],
    blank: &(dyn Fn(&TableHead, usize) -> ColumnEvidence + Sync),
) {
    evidence.resize_with(heads.len().max(evidence.len()), TableEvidence::default);
    for (table, head) in evidence.iter_mut().zip(heads) {
        table.widen(head.names.len(), |column| blank(head, column));
    }
}

/// How many threads look at values.
pub fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Looks at many files: side by side where there are many, each on all cores where few.
/// `finish` makes of each look what is wanted of it, so that evidence is not held for all; of
/// slow files up to `most_kept` bytes of records are kept.
pub fn look_at_all<T: Send>(
    files: &[(&Candidate, &Feed)],
    hashed: impl Fn(usize) -> bool + Sync,
    most_kept: u64,
    listener: &dyn Listener,
    finish: impl Fn(usize, Result<Looked, Failure>) -> T + Sync,
) -> Vec<T> {
    let threads = threads();
    let keep = most_kept / (files.len() as u64).max(1);
    let numbered = |at: usize, threads: usize| {
        let (file, feed) = files[at];
        let way = Way { number: at as u32, threads, hashed: hashed(at), keep, only: None };
        finish(at, look(file, feed, way, &Prior::default(), listener))
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
