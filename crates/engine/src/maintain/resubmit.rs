//! Corrected rejects, loaded as rows: they are cast as their file was, and loaded with the file and line
//! they came from.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::io::Cursor;
use std::path::Path;

use hypodoke_core::cast::Rows;
use hypodoke_core::layout::Layout;
use hypodoke_core::outcome::Outcome;
use hypodoke_core::record::{Field, Records};
use hypodoke_formats::json::path;
use hypodoke_formats::{ByteSource, FormatOptions, ReadError, TableHead};
use hypodoke_stores::{
    CorrectedReject, FileEntry, FileOrder, FileQuery, FileSummary, LoadPlan, PartSummary, RejectEntry,
    Restore, TablePlan, Tables,
};
use serde_json::Value;

use super::corrected::{CorrectedRow, read_corrected};
use super::rejects::{RECORD, format_of, mark_of, names_of, required_columns};
use super::retract::{planned_tables, rules_of};
use crate::clock;
use crate::decide::FailReason;
use crate::error::{EngineError, NotOpen, ResubmitProblem};
use crate::file_format::FileFormat;
use crate::plan::{TableMapping, TableState, TargetState};
use crate::profile::header;
use crate::sources::FoundFile;

/// What came of corrected rows.
#[derive(Clone, Debug, Default)]
pub struct Resubmission {
    /// Rows of the file.
    pub read: u64,
    /// Rows that are loaded now.
    pub loaded: u64,
    /// Rows that are still rejected: their reject, and why.
    pub refused: Vec<(i64, String)>,
    /// Columns that no reject of the file has, and that are left out.
    pub left_out: Vec<String>,
}

/// Gives the feed that the file of an entry came by, and the file.
pub type FeedOfEntry<'f> = dyn Fn(&FileEntry) -> Result<FoundFile, EngineError> + 'f;

/// A corrected row with its reject.
pub(super) type Corrected = (RejectEntry, CorrectedRow);

/// Loads corrected rows. All rows are checked before the first is loaded; those of one file are
/// one transaction.
///
/// # Errors
///
/// A row does not lead back to a reject that is one still, or its file's columns are no longer those
/// of the table.
pub fn resubmit(
    store: &mut dyn Tables,
    path: &Path,
    feed_of: &FeedOfEntry<'_>,
) -> Result<Resubmission, EngineError> {
    let rows = read_corrected(path)?;
    let mut done = Resubmission { read: rows.len() as u64, ..Resubmission::default() };
    let mut unknown: BTreeSet<String> = rows.iter().flat_map(|row| row.values.keys().cloned()).collect();
    unknown.retain(|name| !name.starts_with("hd_") && !name.trim().is_empty());
    for (entry, rows) in by_file(store, path, rows)? {
        let found = feed_of(&entry)?;
        let format = format_of(&entry)?;
        let rows = as_exported(&format, rows, &mut unknown, &mut done);
        let target = TargetState::of(store, &found.feed)?;
        OfFile { entry: &entry, found: &found, format: &format, target: &target }
            .resubmit(store, rows, &mut done)?;
    }
    done.left_out = unknown.into_iter().collect();
    Ok(done)
}

/// Returns the rows that still belong to their rejects and have all their columns; the others are refused. Removes the
/// columns of the rejects from the `unknown` ones.
fn as_exported(
    format: &FileFormat,
    rows: Vec<Corrected>,
    unknown: &mut BTreeSet<String>,
    done: &mut Resubmission,
) -> Vec<Corrected> {
    let mut kept = Vec::new();
    for (reject, row) in rows {
        let required = required_columns(format, &reject);
        for name in &required {
            unknown.remove(name);
        }
        let missing: Vec<String> = required
            .iter()
            .filter(|name| !row.values.contains_key(*name))
            .map(|name| format!("`{name}`"))
            .collect();
        // A record that cannot be split into fields was exported whole.
        let is_whole = row.values.contains_key(RECORD) && missing.len() == required.len();
        let why = if row.mark != mark_of(format, &reject) {
            Some("its `hd_mark` belongs to another reject: `hd_reject` was changed, or the row is from another ledger".to_owned())
        } else if missing.is_empty() || is_whole {
            None
        } else {
            Some(format!("it lacks {}, which the export had", missing.join(", ")))
        };
        match why {
            Some(why) => done.refused.push((reject.reject, why)),
            None => kept.push((reject, row)),
        }
    }
    kept
}

/// The rows by the files they came from, each checked to be a reject still.
fn by_file(
    store: &mut dyn Tables,
    path: &Path,
    rows: Vec<CorrectedRow>,
) -> Result<Vec<(FileEntry, Vec<Corrected>)>, EngineError> {
    let known = rejects_of(store, &rows)?;
    let mut seen = HashSet::new();
    let mut sorted: BTreeMap<i64, (FileEntry, Vec<Corrected>)> = BTreeMap::new();
    for row in rows {
        let found = known.values().find_map(|(entry, all)| Some((entry, all.get(&row.reject)?)));
        let why = match &found {
            _ if !seen.insert(row.reject) => Some(NotOpen::Twice),
            None => Some(NotOpen::Unknown),
            Some((_, reject)) if reject.corrected.is_some() => Some(NotOpen::Loaded),
            Some((entry, _)) if entry.replaced_by.is_some() => Some(NotOpen::Replaced),
            Some(_) => None,
        };
        if let Some(why) = why {
            let (shown, line, reject) = (path.display().to_string(), row.line, row.reject);
            return Err(ResubmitProblem::NotOpen { shown, line, reject, why }.into());
        }
        if let Some((entry, reject)) = found {
            let group = sorted.entry(entry.file).or_insert_with(|| (entry.clone(), Vec::new()));
            group.1.push((reject.clone(), row));
        }
    }
    Ok(sorted.into_values().collect())
}

/// Files of the ledger with their rejects by number.
type KnownRejects = BTreeMap<i64, (FileEntry, HashMap<i64, RejectEntry>)>;

/// The rejects that rows name, with the others of their files.
fn rejects_of(store: &mut dyn Tables, rows: &[CorrectedRow]) -> Result<KnownRejects, EngineError> {
    let mut known = KnownRejects::new();
    let mut missing: HashSet<i64> = rows.iter().map(|row| row.reject).collect();
    let mut entries =
        store.ledger().files(&FileQuery { outcome: Some(Outcome::Loaded), ..FileQuery::default() })?;
    // Files that have rejects still come first: the others are only asked for what was corrected before.
    entries.sort_by_key(|entry| entry.rejected == 0);
    for entry in entries {
        if missing.is_empty() {
            break;
        }
        let rejects = store.ledger().rejects(entry.file, usize::MAX >> 1)?;
        rejects.iter().for_each(|reject| {
            missing.remove(&reject.reject);
        });
        if !rejects.is_empty() {
            let rejects = rejects.into_iter().map(|reject| (reject.reject, reject)).collect();
            known.insert(entry.file, (entry, rejects));
        }
    }
    Ok(known)
}

/// Corrected rows of one file, and what is known of it.
pub(super) struct OfFile<'a> {
    pub entry: &'a FileEntry,
    pub found: &'a FoundFile,
    pub format: &'a FileFormat,
    pub target: &'a TargetState,
}

/// A table that rows of the file go to.
struct OfTable<'a> {
    table: String,
    state: &'a TableState,
    head: TableHead,
}

impl OfFile<'_> {
    /// Whether its rejects are records of JSON.
    fn is_json(&self) -> bool {
        self.format.format == "json" || self.is_declared()
    }

    /// Whether its columns are those that the file declares, whatever a record says.
    fn is_declared(&self) -> bool {
        self.format.format == "columnar"
    }

    fn other_columns(&self, table: &str) -> EngineError {
        let (path, table) = (self.entry.arrival.path.clone(), table.to_owned());
        ResubmitProblem::OtherColumns { path, table }.into()
    }

    /// Loads the rows, each sheet's in one transaction.
    pub fn resubmit(
        &self,
        store: &mut dyn Tables,
        rows: Vec<Corrected>,
        done: &mut Resubmission,
    ) -> Result<(), EngineError> {
        if self.is_json() && !self.target.parts.is_empty() {
            return Err(ResubmitProblem::NestedLists { path: self.entry.arrival.path.clone() }.into());
        }
        let mut groups: Vec<(Option<String>, Vec<Corrected>)> = Vec::new();
        for (reject, row) in rows {
            if !self.is_json() && row.is_blank() {
                // A record that could not be taken apart went out whole: nobody has taken it apart since.
                done.refused.push((reject.reject, "its columns are all blank".to_owned()));
                continue;
            }
            let sheet = names_of(self.format, &reject).1.map(str::to_owned);
            match groups.iter_mut().find(|(known, _)| *known == sheet) {
                Some((_, rows)) => rows.push((reject, row)),
                None => groups.push((sheet, vec![(reject, row)])),
            }
        }
        for (sheet, rows) in groups {
            let Some(of_table) = self.table_of(sheet.clone()) else {
                let sheet = sheet.unwrap_or_default();
                let why = format!("the tables know no sheet `{sheet}` any more");
                done.refused.extend(rows.iter().map(|(reject, _)| (reject.reject, why.clone())));
                continue;
            };
            self.load_rows(store, of_table, rows, done)?;
        }
        Ok(())
    }

    fn table_of(&self, sheet: Option<String>) -> Option<OfTable<'_>> {
        let Some(sheet) = sheet else {
            let head = TableHead { names: self.format.names.clone(), ..TableHead::default() };
            return Some(OfTable { table: self.found.feed.table.clone(), state: &self.target.main, head });
        };
        let (part, state) = self.target.parts.iter().find(|(part, _)| part.path == sheet)?;
        let names = self.format.sheets.get(&sheet)?.clone();
        let head = TableHead { path: sheet, names, ..TableHead::default() };
        Some(OfTable { table: part.table.clone(), state, head })
    }

    fn load_rows(
        &self,
        store: &mut dyn Tables,
        mut of_table: OfTable<'_>,
        rows: Vec<Corrected>,
        done: &mut Resubmission,
    ) -> Result<(), EngineError> {
        let FoundFile { feed, file } = self.found;
        let records = if self.is_declared() {
            declared_records(&rows, &of_table.head)?
        } else if self.is_json() {
            let (records, names) = self.json_records(&rows, of_table.state.layout())?;
            of_table.head.names = names;
            records
        } else {
            field_records(&rows, &of_table.head)
        };
        let mapping = self.mapping(&of_table)?;
        let unloadable = |reason| EngineError::unloadable(&file.shown, reason);
        let caster = mapping.caster(file, feed);
        let caster = caster.map_err(|problem| unloadable(FailReason::Constraint(problem)))?;
        let mut caster = caster.with_nul(store.capabilities().takes_nul);
        let mut batch = Rows { records, ..Rows::default() };
        caster.cast(&mut batch);
        let plan = self.plan(store, &mapping)?;
        let at = plan.tables.iter().position(|table| table.table == of_table.table).unwrap_or_default();
        let loader = store.begin(&plan)?;
        let mut loader = loader.ok_or_else(|| self.other_columns(&of_table.table))?;
        loader.write(at, &mut batch)?;
        let refused = refused_rows(&batch, rows.len());
        let is_loaded = |at: usize| u32::try_from(at).is_ok_and(|at| !refused.contains_key(&at));
        let own = rows.iter().enumerate().filter(|(at, _)| is_loaded(*at));
        let corrected =
            |(reject, row): &Corrected| CorrectedReject { reject: reject.reject, values: row.as_json() };
        let resubmitted: Vec<CorrectedReject> = own.map(|(_, row)| corrected(row)).collect();
        let loaded = resubmitted.len() as u64;
        let layout = mapping.fit.layout.clone();
        loader.commit(&FileSummary {
            loaded,
            resubmitted,
            parts: vec![PartSummary { read: 0, loaded, layout, drift: Vec::new() }],
            order: None,
            ended: clock::now(),
            ..FileSummary::default()
        })?;
        done.loaded += loaded;
        for (at, (reject, _)) in rows.iter().enumerate() {
            if let Some(why) = u32::try_from(at).ok().and_then(|at| refused.get(&at)) {
                done.refused.push((reject.reject, why.clone()));
            }
        }
        Ok(())
    }

    fn mapping(&self, of_table: &OfTable<'_>) -> Result<TableMapping, EngineError> {
        let FoundFile { feed, file } = self.found;
        let OfTable { table, state, head } = of_table;
        let unloadable = |reason| EngineError::unloadable(&file.shown, reason);
        let names = header(head, &file.part_names());
        let named = Layout::named(&names, &feed.namer, &feed.rules_of(&head.path));
        let mapping = match state {
            TableState::Managed { .. } => TableMapping::from_header(table.clone(), head, state, &named, feed)
                .ok_or_else(|| self.other_columns(table))?,
            TableState::External(shape) => {
                TableMapping::to_external(head, shape, &named, feed).map_err(unloadable)?
            }
            TableState::New { .. } => return Err(self.other_columns(table)),
        };
        let mut mapping = mapping.with_formats(&self.format.formats);
        mapping.drift.clear();
        let is_alone = !head.is_child && !head.path.is_empty();
        mapping.resolve_key(feed, is_alone).map_err(unloadable)?;
        Ok(mapping)
    }

    fn plan(&self, store: &mut dyn Tables, mapping: &TableMapping) -> Result<LoadPlan, EngineError> {
        let feed = &self.found.feed;
        let rules = rules_of(feed, self.entry);
        let own = mapping.plan(feed);
        let mut tables = vec![own.clone()];
        if !rules.tables.is_empty() {
            tables = planned_tables(store, feed, self.target, &rules)?;
            // Its layout has what the rows' cells are.
            for table in tables.iter_mut().filter(|table| table.table == own.table) {
                let key = if table.key.is_empty() { own.key.clone() } else { std::mem::take(&mut table.key) };
                *table = TablePlan { mode: table.mode, key, ..own.clone() };
            }
        }
        Ok(LoadPlan {
            known_until: None,
            batch: self.entry.batch,
            arrival: self.entry.arrival.clone(),
            feed: self.entry.feed.clone(),
            tables,
            replaces: None,
            kind: self.entry.kind.clone().unwrap_or_default(),
            began: clock::now(),
            order: FileOrder::default(),
            rules,
            sql_before: Vec::new(),
            sql_after: Vec::new(),
            careful: true,
            shape: None,
            resubmits: Some(self.entry.file),
            keeps_for: None,
            restore: Restore::Nothing,
            retracts: false,
        })
    }

    /// Records of corrected JSON, each of which has to be a record still, and the names of their columns.
    fn json_records(
        &self,
        rows: &[Corrected],
        base: Option<&Layout>,
    ) -> Result<(Records, Vec<String>), EngineError> {
        let mut text = Vec::new();
        for (_, row) in rows {
            json_object(row)?;
            let record = row.values.get(RECORD).map(String::as_str).unwrap_or_default();
            text.extend(record.bytes().map(|b| if b == b'\n' || b == b'\r' { b' ' } else { b }));
            text.push(b'\n');
        }
        let parts = self.found.file.part_names();
        let columns = base.map(|layout| layout.columns.as_slice()).unwrap_or_default();
        let own = columns.iter().map(|column| &column.source).filter(|source| !parts.contains(source));
        let heads = [TableHead { names: own.cloned().collect(), ..TableHead::default() }];
        let failed = |error: ReadError| EngineError::reading(&self.entry.arrival.path, error);
        let opened = hypodoke_formats::open(
            ByteSource::of_stream(Cursor::new(text)),
            "corrected.jsonl",
            &FormatOptions::default(),
            &heads,
        );
        let mut reader = opened.map_err(failed)?.reader;
        let mut batch = Vec::new();
        reader.next(&mut batch).map_err(failed)?;
        let mut records = batch.into_iter().next().unwrap_or_default();
        for (at, (reject, _)) in rows.iter().enumerate() {
            records.set_line(at, reject.line);
        }
        let names = reader.tables().first().map(|head| head.names.clone()).unwrap_or_default();
        Ok((records, names))
    }
}

/// The rows that were refused, by their places in the batch, with why.
fn refused_rows(batch: &Rows, rows: usize) -> HashMap<u32, String> {
    let words = |reject: &hypodoke_core::cast::Reject| {
        let column = reject.column.as_ref().map(|column| format!("{column}: ")).unwrap_or_default();
        (reject.record, format!("{column}{}", reject.reason))
    };
    let mut refused: HashMap<u32, String> = batch.rejects.iter().map(words).collect();
    for record in (0..rows).filter_map(|record| u32::try_from(record).ok()) {
        if !batch.kept.contains(&record) {
            refused.entry(record).or_insert_with(|| "the feed's `keep` leaves it out".to_owned());
        }
    }
    refused
}

/// The record of a corrected row, which has to be a JSON object still.
fn json_object(row: &CorrectedRow) -> Result<serde_json::Map<String, Value>, ResubmitProblem> {
    let record = row.values.get(RECORD).map(String::as_str).unwrap_or_default();
    let no_json = |why: String| ResubmitProblem::NoJson { line: row.line, why };
    match serde_json::from_str(record) {
        Ok(Value::Object(object)) => Ok(object),
        Ok(_) => Err(no_json("it is not an object".to_owned())),
        Err(error) => Err(no_json(error.to_string())),
    }
}

/// Records of what the corrected JSON of rows has for the columns that their file declares.
fn declared_records(rows: &[Corrected], head: &TableHead) -> Result<Records, ResubmitProblem> {
    let mut records = Records::default();
    for (reject, row) in rows {
        let object = json_object(row)?;
        let begin = records.bytes.len();
        for name in &head.names {
            let start = records.bytes.len();
            let value = object.get(name).or_else(|| value_at(&object, &path::keys(name)));
            let field = match value {
                None | Some(Value::Null) => Field::ABSENT,
                Some(Value::String(text)) => {
                    records.bytes.extend_from_slice(text.as_bytes());
                    Field::text(start..records.bytes.len())
                }
                Some(other) => {
                    records.bytes.extend_from_slice(other.to_string().as_bytes());
                    Field::new(start..records.bytes.len(), false)
                }
            };
            records.push_field(field);
        }
        records.end_record(begin..records.bytes.len(), reject.line);
    }
    Ok(records)
}

/// What stands under keys, from the outermost on.
fn value_at<'v>(object: &'v serde_json::Map<String, Value>, keys: &[String]) -> Option<&'v Value> {
    let (first, inner) = keys.split_first()?;
    inner.iter().try_fold(object.get(first)?, |value, key| value.get(key))
}

/// Records of the fields that a corrected row has under the names of its file.
fn field_records(rows: &[Corrected], head: &TableHead) -> Records {
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
