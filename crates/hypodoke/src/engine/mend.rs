//! Rejects on their way out, as a file to be mended, and back again as rows.
//!
//! Out they go with what leads back to them (`hd_reject`), where they stood, why they would not
//! do, and their fields under the names that their file has for them. Back come the same rows;
//! they are cast as their file was, and loaded with the file and line they came from.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::io::Cursor;
use std::path::{Path, PathBuf};

use hypodoke_core::cast::Rows;
use hypodoke_core::event::Outcome;
use hypodoke_core::layout::Layout;
use hypodoke_core::record::{Field, Records};
use hypodoke_formats::text::{DialectWishes, TableWishes, TextWishes};
use hypodoke_formats::{ReadError, TableHead, Wishes};
use hypodoke_places::Seen;
use hypodoke_stores::{FileEntry, FileQuery, FileSummary, LoadPlan, PartSummary, RejectEntry, Store};

use super::approach::TableApproach;
use super::differ::Written;
use super::ground::{Base, Ground};
use super::source::header;
use super::{Candidate, Feed, clock};
use crate::failure::{Failure, clean};

/// The column that leads back to a reject.
pub const REJECT: &str = "hd_reject";

/// The columns that go before a row's own.
pub const ORIGIN: [&str; 6] = [REJECT, "hd_file", "hd_line", "hd_column", "hd_value", "hd_reason"];

/// The column of a record that has no fields to be told apart.
pub const RECORD: &str = "hd_record";

/// A reject with its fields, as far as they can be told apart.
pub struct Outgoing {
    /// The reject.
    pub reject: RejectEntry,
    /// The path of its file.
    pub path: String,
    /// Its fields by the names its file has for them; `None` where the record is broken or is JSON.
    pub fields: Option<Vec<(String, String)>>,
}

/// Takes rejects of one file apart.
pub fn outgoing(entry: &FileEntry, rejects: Vec<RejectEntry>) -> Vec<Outgoing> {
    let written: Written =
        entry.shape.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
    let out = |reject: RejectEntry| Outgoing {
        fields: fields(&written, &reject),
        path: entry.arrival.path.clone(),
        reject,
    };
    rejects.into_iter().map(out).collect()
}

/// The names of the columns of a reject's table in its file, and the sheet it stands on.
fn names_of<'a>(written: &'a Written, reject: &RejectEntry) -> (&'a [String], Option<&'a str>) {
    let sheet = reject.place.as_deref().and_then(|place| place.rsplit_once(", row ")).map(|(sheet, _)| sheet);
    match sheet.and_then(|sheet| written.sheets.get_key_value(sheet)) {
        Some((sheet, names)) => (names, Some(sheet)),
        None => (&written.names, None),
    }
}

fn fields(written: &Written, reject: &RejectEntry) -> Option<Vec<(String, String)>> {
    let (names, _) = names_of(written, reject);
    let head = TableHead { names: names.to_vec(), ..TableHead::default() };
    let names = header(&head, &[]);
    let raw = String::from_utf8_lossy(&reject.raw).into_owned();
    let values = match (written.format.as_str(), written.dialect) {
        ("text", Some(dialect)) => split(&raw, dialect)?,
        ("workbook", _) => raw.split('\t').map(str::to_owned).collect(),
        _ => return None,
    };
    // What stands beyond the header is kept under names of its own, so that nothing is cut off.
    let beyond = (names.len()..values.len()).map(|at| format!("hd_field_{}", at + 1));
    let names: Vec<String> = names.into_iter().chain(beyond).collect();
    let values = values.into_iter().chain(std::iter::repeat(String::new()));
    Some(names.into_iter().zip(values).collect())
}

/// One record of a delimited text taken apart; `None` where it is no whole record.
fn split(raw: &str, dialect: hypodoke_formats::text::Dialect) -> Option<Vec<String>> {
    let wishes = TextWishes {
        encoding: hypodoke_formats::bytes::Encoding::named("utf-8").ok(),
        dialect: DialectWishes {
            delimiter: Some(dialect.delimiter),
            quote: Some(dialect.quote),
            escape: Some(dialect.escape),
            comment: Some(None),
        },
        table: TableWishes { header_lines: Some(0), skip_lines: Some(0), short_rows: Some(false) },
        ..TextWishes::default()
    };
    let source = Box::new(Cursor::new(format!("{raw}\n").into_bytes()));
    let opened =
        hypodoke_formats::open(source, "reject.csv", &Wishes { text: wishes, ..Wishes::default() }, &[]);
    let mut reader = opened.ok()?.reader;
    let mut batch = Vec::new();
    reader.next(&mut batch).ok()?;
    let records = batch.first().filter(|records| records.len() == 1 && records.faults().is_empty())?;
    let text = |field: &Field| String::from_utf8_lossy(records.value(*field)).into_owned();
    let mut values: Vec<String> = records.fields(0).iter().map(text).collect();
    if dialect.trailing_delimiter && values.last().is_some_and(String::is_empty) {
        values.pop();
    }
    Some(values)
}

/// The rejects as CSV.
pub fn export(all: &[Outgoing]) -> Result<Vec<u8>, Failure> {
    let mut names: Vec<&str> = Vec::new();
    let mut known: HashSet<&str> = HashSet::new();
    for (name, _) in all.iter().filter_map(|one| one.fields.as_ref()).flatten() {
        if known.insert(name) {
            names.push(name);
        }
    }
    let with_record = all.iter().any(|one| one.fields.is_none());
    let failed = |error: csv::Error| Failure::load(format!("the rejects could not be written: {error}"));
    let mut out = csv::Writer::from_writer(Vec::new());
    let last = with_record.then_some(RECORD);
    out.write_record(ORIGIN.iter().chain(&names).copied().chain(last)).map_err(failed)?;
    for one in all {
        let reject = &one.reject;
        let own: HashMap<&str, &str> =
            one.fields.iter().flatten().map(|(name, value)| (name.as_str(), value.as_str())).collect();
        let raw = String::from_utf8_lossy(&reject.raw);
        let origin = [
            reject.reject.to_string(),
            one.path.clone(),
            reject.line.to_string(),
            reject.column.clone().unwrap_or_default(),
            reject.value.clone().unwrap_or_default(),
            reject.reason.clone(),
        ];
        let values = names.iter().map(|name| own.get(name).copied().unwrap_or_default().to_owned());
        let record = with_record.then(|| if one.fields.is_none() { raw.into_owned() } else { String::new() });
        out.write_record(origin.into_iter().chain(values).chain(record)).map_err(failed)?;
    }
    out.into_inner().map_err(|error| Failure::load(format!("the rejects could not be written: {error}")))
}

/// A mended row.
struct Incoming {
    reject: i64,
    /// The line of the mended file, for complaints.
    line: u64,
    values: HashMap<String, String>,
}

/// What came of mended rows.
#[derive(Clone, Debug, Default)]
pub struct Taken {
    /// Rows of the mended file.
    pub read: u64,
    /// Rows that are loaded now.
    pub loaded: u64,
    /// Rows that still will not do: their reject, and why.
    pub refused: Vec<(i64, String)>,
}

/// Reads a mended file.
fn incoming(path: &Path) -> Result<Vec<Incoming>, Failure> {
    let shown = path.display().to_string();
    let failed = |error: ReadError| Failure::reading(&shown, &error);
    let file = std::fs::File::open(path)
        .map_err(|error| Failure::usage(format!("{shown} could not be read: {error}")))?;
    let table = TableWishes { header_lines: Some(1), skip_lines: Some(0), ..TableWishes::default() };
    let wishes = Wishes { text: TextWishes { table, ..TextWishes::default() }, ..Wishes::default() };
    let mut reader =
        hypodoke_formats::open(Box::new(file), "mended.csv", &wishes, &[]).map_err(failed)?.reader;
    let names = reader.tables().first().map(|head| head.names.clone()).unwrap_or_default();
    let Some(key) = names.iter().position(|name| name.trim() == REJECT) else {
        let what = format!("{shown} has no column `{REJECT}`, which leads back to the rejects");
        return Err(Failure::usage(what)
            .advise("mend a file that `hypodoke rejects --export` wrote, and keep its columns"));
    };
    let named = names.iter().filter(|name| !name.trim().is_empty()).count();
    let mut rows = Vec::new();
    let mut batch = Vec::new();
    while reader.next(&mut batch).map_err(failed)? {
        let Some(records) = batch.first() else { continue };
        for at in 0..records.len() {
            let line = records.line(at);
            let found = records.fields(at).len();
            if records.fault(at).is_some() || found > named {
                let what = format!("{shown}, line {line}: it has {found} fields, the header {named}");
                return Err(
                    Failure::usage(what).advise("nothing of it was loaded; mend the line and take it again")
                );
            }
            let text = |field: &Field| String::from_utf8_lossy(records.value(*field)).into_owned();
            let values: HashMap<String, String> =
                names.iter().cloned().zip(records.fields(at).iter().map(text)).collect();
            let reject = values.get(&names[key]).and_then(|text| text.trim().parse().ok());
            let Some(reject) = reject else {
                let found = values.get(&names[key]).cloned().unwrap_or_default();
                let what = format!(
                    "{shown}, line {line}: `{REJECT}` is `{}`, which is no number of a reject",
                    clean(&found)
                );
                return Err(Failure::usage(what)
                    .advise("nothing of it was loaded; keep the column as it was exported"));
            };
            rows.push(Incoming { reject, line, values });
        }
    }
    if let Some(line) = reader.footer().first() {
        let what = format!("{shown}: `{}` is no row under its header", clean(line));
        return Err(Failure::usage(what).advise("nothing of it was loaded; mend the line and take it again"));
    }
    Ok(rows)
}

/// Finds the feed that a file came by, and the file with the parts of its path.
type FeedOf<'f> = dyn Fn(&FileEntry) -> Result<(Feed, Candidate), Failure> + 'f;

/// Loads what was mended. All rows are checked before the first is loaded; those of one file are
/// one transaction. `feed_of` gives the feed that a file came by, and the parts of its path.
pub fn take(store: &mut dyn Store, path: &Path, feed_of: &FeedOf<'_>) -> Result<Taken, Failure> {
    let rows = incoming(path)?;
    let mut taken = Taken { read: rows.len() as u64, ..Taken::default() };
    for (entry, rows) in by_file(store, path, rows)? {
        let (feed, file) = feed_of(&entry)?;
        take_file(store, &entry, &feed, &file, rows, &mut taken)?;
    }
    Ok(taken)
}

type OfFile = Vec<(RejectEntry, Incoming)>;

/// The rows by the files they came from, each checked to be a reject still.
fn by_file(
    store: &mut dyn Store,
    path: &Path,
    rows: Vec<Incoming>,
) -> Result<Vec<(FileEntry, OfFile)>, Failure> {
    let mut known: BTreeMap<i64, (FileEntry, HashMap<i64, RejectEntry>)> = BTreeMap::new();
    let mut missing: HashSet<i64> = rows.iter().map(|row| row.reject).collect();
    let mut entries = store.files(&FileQuery { outcome: Some(Outcome::Loaded), ..FileQuery::default() })?;
    // Files that have rejects still come first: the others are only asked for what was mended before.
    entries.sort_by_key(|entry| entry.rejected == 0);
    for entry in entries {
        if missing.is_empty() {
            break;
        }
        let rejects = store.rejects(entry.file, usize::MAX >> 1)?;
        rejects.iter().for_each(|reject| {
            missing.remove(&reject.reject);
        });
        if !rejects.is_empty() {
            let rejects = rejects.into_iter().map(|reject| (reject.reject, reject)).collect();
            known.insert(entry.file, (entry, rejects));
        }
    }
    let wrong = |row: &Incoming, why: &str| {
        let what = format!("{}, line {}: reject {} {why}", path.display(), row.line, row.reject);
        Failure::usage(what).advise("nothing of it was loaded; take the line out, or export the rejects anew")
    };
    let mut seen = HashSet::new();
    let mut sorted: BTreeMap<i64, (FileEntry, OfFile)> = BTreeMap::new();
    for row in rows {
        if !seen.insert(row.reject) {
            return Err(wrong(&row, "is there twice"));
        }
        let found = known.values().find_map(|(entry, all)| Some((entry, all.get(&row.reject)?)));
        let Some((entry, reject)) = found else { return Err(wrong(&row, "is not known to this ledger")) };
        if reject.mended.is_some() {
            return Err(wrong(&row, "was mended before, and its row is in the table"));
        }
        if entry.replaced_by.is_some() {
            return Err(wrong(&row, "is of a file that a later version has taken the place of"));
        }
        let group = sorted.entry(entry.file).or_insert_with(|| (entry.clone(), Vec::new()));
        group.1.push((reject.clone(), row));
    }
    Ok(sorted.into_values().collect())
}

fn take_file(
    store: &mut dyn Store,
    entry: &FileEntry,
    feed: &Feed,
    file: &Candidate,
    rows: OfFile,
    taken: &mut Taken,
) -> Result<(), Failure> {
    let written: Written =
        entry.shape.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
    let ground = Ground::of(store, feed)?;
    if written.format == "json" && !ground.parts.is_empty() {
        let what = format!(
            "{}: its records have lists with tables of their own, and cannot be taken back one by one",
            clean(&entry.arrival.path)
        );
        return Err(
            Failure::load(what).advise("mend the file itself; loaded again it takes the place of the first")
        );
    }
    let mut groups: Vec<(Option<String>, OfFile)> = Vec::new();
    for (reject, row) in rows {
        if written.format != "json" && is_blank(&row) {
            // A record that could not be taken apart went out whole: nobody has taken it apart since.
            taken.refused.push((reject.reject, "its columns are all blank".to_owned()));
            continue;
        }
        let sheet = names_of(&written, &reject).1.map(str::to_owned);
        match groups.iter_mut().find(|(known, _)| *known == sheet) {
            Some((_, rows)) => rows.push((reject, row)),
            None => groups.push((sheet, vec![(reject, row)])),
        }
    }
    for (sheet, rows) in groups {
        let (table, base, names) = match &sheet {
            None => (feed.table.clone(), &ground.main, &written.names),
            Some(sheet) => {
                let part = ground.parts.iter().find(|(part, _)| part.path == *sheet);
                let Some((part, base)) = part else { continue };
                (part.table.clone(), base, &written.sheets[sheet])
            }
        };
        let head =
            TableHead { path: sheet.clone().unwrap_or_default(), names: names.clone(), is_child: false };
        take_rows(store, (entry, feed, file), (table, base, head), &written, rows, taken)?;
    }
    Ok(())
}

/// Whether nothing is in a row but where it came from.
fn is_blank(row: &Incoming) -> bool {
    row.values.iter().all(|(name, value)| value.trim().is_empty() || name.starts_with("hd_"))
}

fn take_rows(
    store: &mut dyn Store,
    (entry, feed, file): (&FileEntry, &Feed, &Candidate),
    (table, base, mut head): (String, &Base, TableHead),
    written: &Written,
    rows: OfFile,
    taken: &mut Taken,
) -> Result<(), Failure> {
    let shown = clean(&entry.arrival.path);
    let parts: Vec<String> = file.parts.iter().map(|(part, _)| part.name.clone()).collect();
    let records = if written.format == "json" {
        let (records, names) = of_json(&rows, base.layout(), &parts, &shown)?;
        head.names = names;
        records
    } else {
        of_fields(&rows, &head)
    };
    let named = Layout::named(&header(&head, &parts), &feed.namer, &feed.rules_of(&head.path));
    let changed = || {
        Failure::load(format!("{shown}: its columns are no longer those of the table `{table}`"))
            .advise("mend the file itself; loaded again it takes the place of the first")
    };
    let mut approach = match base {
        Base::Ours { layout, lineage } => {
            TableApproach::optimistic(table.clone(), &head, layout, &named, feed, *lineage)
                .ok_or_else(changed)?
        }
        Base::Foreign(shape) => TableApproach::foreign(file, &head, shape, &named, feed)?,
        Base::New { .. } => return Err(changed()),
    }
    .spelled(&written.formats);
    approach.drift.clear();
    approach.find_key(file, feed)?;
    let mut caster = approach.caster(file, feed)?;
    let mut batch = Rows { records, ..Rows::default() };
    caster.cast(&mut batch);
    let plan = LoadPlan {
        batch: entry.batch,
        arrival: entry.arrival.clone(),
        feed: entry.feed.clone(),
        tables: vec![approach.plan(feed.mode)],
        replaces: None,
        kind: entry.kind.clone().unwrap_or_default(),
        began: clock::now(),
        first_of_delivery: false,
        sql_before: Vec::new(),
        sql_after: Vec::new(),
        careful: true,
        shape: None,
        mends: Some(entry.file),
        retracts: false,
    };
    let mut loader = store.begin_load(&plan)?.ok_or_else(changed)?;
    loader.rows(0, &mut batch)?;
    let refused: HashMap<u32, String> = batch
        .rejects
        .iter()
        .map(|reject| {
            let column = reject.column.as_ref().map(|column| format!("{column}: ")).unwrap_or_default();
            (reject.record, format!("{column}{}", reject.reason))
        })
        .collect();
    let mended: Vec<i64> = rows
        .iter()
        .enumerate()
        .filter(|(at, _)| !refused.contains_key(&(*at as u32)))
        .map(|(_, (reject, _))| reject.reject)
        .collect();
    let loaded = mended.len() as u64;
    let layout = approach.fit.layout.clone();
    let summary = FileSummary {
        loaded,
        mended,
        parts: vec![PartSummary { read: 0, loaded, layout }],
        ended: clock::now(),
        ..FileSummary::default()
    };
    loader.finish(&summary)?;
    taken.loaded += loaded;
    let why = |(at, (reject, _)): (usize, &(RejectEntry, Incoming))| {
        Some((reject.reject, refused.get(&(at as u32))?.clone()))
    };
    taken.refused.extend(rows.iter().enumerate().filter_map(why));
    Ok(())
}

/// Records of the fields that a mended row has under the names of its file.
fn of_fields(rows: &OfFile, head: &TableHead) -> Records {
    let names = header(head, &[]);
    let mut records = Records::default();
    for (reject, row) in rows {
        let begin = records.bytes.len();
        for name in &names {
            let start = records.bytes.len();
            records.bytes.extend_from_slice(row.values.get(name).map_or(&[][..], |value| value.as_bytes()));
            records.push_field(Field::new(start..records.bytes.len(), false));
        }
        records.end_record(begin..records.bytes.len(), reject.line);
    }
    records
}

/// Records of mended JSON, each of which has to be a record still.
fn of_json(
    rows: &OfFile,
    base: Option<&Layout>,
    parts: &[String],
    shown: &str,
) -> Result<(Records, Vec<String>), Failure> {
    let mut text = Vec::new();
    for (_, row) in rows {
        let record = row.values.get(RECORD).map(String::as_str).unwrap_or_default();
        let value: Result<serde_json::Value, _> = serde_json::from_str(record);
        if !value.as_ref().is_ok_and(serde_json::Value::is_object) {
            let why = value.err().map_or_else(|| "it is no object".to_owned(), |error| error.to_string());
            let what = format!("line {}: `{RECORD}` is no JSON record: {why}", row.line);
            return Err(
                Failure::usage(what).advise("nothing of it was loaded; mend the line and take it again")
            );
        }
        text.extend(record.bytes().map(|b| if b == b'\n' || b == b'\r' { b' ' } else { b }));
        text.push(b'\n');
    }
    let columns = base.map(|layout| layout.columns.as_slice()).unwrap_or_default();
    let own = columns.iter().map(|column| &column.source).filter(|source| !parts.contains(source));
    let known: Vec<String> = own.cloned().collect();
    let heads = [TableHead { names: known, ..TableHead::default() }];
    let failed = |error: ReadError| Failure::reading(shown, &error);
    let opened =
        hypodoke_formats::open(Box::new(Cursor::new(text)), "mended.jsonl", &Wishes::default(), &heads);
    let mut reader = opened.map_err(failed)?.reader;
    let mut batch = Vec::new();
    reader.next(&mut batch).map_err(failed)?;
    let mut records = if batch.is_empty() { Records::default() } else { batch.remove(0) };
    for (at, (reject, _)) in rows.iter().enumerate() {
        records.set_line(at, reject.line);
    }
    let names = reader.tables().first().map(|head| head.names.clone()).unwrap_or_default();
    Ok((records, names))
}

/// A file of the ledger as the engine names files, with the parts of its path.
pub fn named(entry: &FileEntry) -> Candidate {
    let file = PathBuf::from(&entry.arrival.path);
    Candidate::of(Seen { arrival: entry.arrival.clone(), file, remote: None })
}
