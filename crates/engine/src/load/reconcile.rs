//! How a file's columns go into its tables, or why it is held: by its header alone, or by its profile.

use hypodoke_core::drift::{
    Cause, Change, Drift, Judged, KindChange, Policy, RenamedColumn, judge, keep_kinds,
};
use hypodoke_core::evidence::{Ambiguity, Chosen, Decision, FINE, FormatHint};
use hypodoke_core::layout::{Column, Layout, rule_for};
use hypodoke_core::names::Lineage;
use hypodoke_core::types::Type;
use hypodoke_formats::{FormatFacts, TableHead};
use hypodoke_stores::Tables;

use super::other_layout::other_layout;
use super::request::{FileRequest, HeldFile, NotLoaded};
use crate::decide::{
    FailReason, FileDecision, HoldReason, LayoutFacts, PartDecision, PartFacts, goes_by_place, missing_sheet,
    new_part, on_changes, on_header, on_layout, on_places, on_width,
};
use crate::file_format::FileFormat;
use crate::job::Feed;
use crate::plan::{KnownTable, TableMapping, TableState, TargetState, renames};
use crate::profile::{FileProfile, Source, TableProfile, header, is_virtual};

/// How the tables of a file go in.
#[derive(Clone, Debug)]
pub struct Reconciled {
    /// One mapping for each of its tables, the main one first.
    pub mappings: Vec<TableMapping>,
    /// The names that columns were matched with by their place, where they were.
    pub by_place: Option<Vec<String>>,
}

/// How a file that is open is written.
pub fn format_of(source: &Source<'_>) -> FileFormat {
    let encoding = source.reader.encoding().map(|encoding| encoding.name());
    FileFormat::of(&source.reader.facts(), encoding, source.reader.tables())
}

/// How the file is written otherwise than the one before it.
pub fn format_drift(target: &TargetState, now: &FileFormat) -> Vec<Drift> {
    target.last_format.as_ref().map(|last| now.drift_from(last)).unwrap_or_default()
}

/// Whether the tables are as wide as the database lets them be.
///
/// # Errors
///
/// One of them is too wide.
pub fn check_width(
    store: &dyn Tables,
    request: &FileRequest<'_>,
    mappings: &[TableMapping],
) -> Result<(), NotLoaded> {
    for mapping in mappings.iter().filter(|mapping| !mapping.is_virtual) {
        let (columns, lineage) = (mapping.fit.layout.columns.len(), mapping.lineage.columns().len());
        let decision = on_width(columns, lineage, store.capabilities().most_columns, &store.shown());
        NotLoaded::by(decision, request.file, HeldFile::default)?;
    }
    Ok(())
}

/// The mappings of a file that has no table and no column but those known, and is written like the
/// one before it; `None` if its values have to be profiled first.
///
/// # Errors
///
/// The feed's key does not fit the tables.
pub fn from_header(
    request: &FileRequest<'_>,
    target: &TargetState,
    source: &Source<'_>,
) -> Result<Option<Reconciled>, NotLoaded> {
    let feed = request.feed;
    let TableState::Managed { layout: main, .. } = &target.main else { return Ok(None) };
    if let Some(last) = &target.last_format {
        let now = format_of(source);
        let is_known = matches!(on_header(&now, last, &feed.policy), FileDecision::Load(_));
        if !is_known || goes_by_place(&now, last, &feed.policy) {
            return Ok(None);
        }
    }
    let heads = source.reader.tables();
    // A sheet that is missing is drift.
    let is_there = |path: &str| heads.iter().any(|head| head.path == path);
    let mut sheets = target.parts.iter().filter(|(_, state)| state.lineage(true) != Lineage::Children);
    if sheets.any(|(part, _)| !is_there(&part.path)) {
        return Ok(None);
    }
    let mut mappings = Vec::new();
    for (at, head) in heads.iter().enumerate() {
        let named = Layout::named(&source.header(at), &feed.namer, &feed.rules_of(&head.path));
        if at == 0 && is_virtual(heads) {
            let file = Layout { columns: Vec::new(), parts: main.parts.clone() };
            mappings.push(TableMapping::parts_only(feed.table.clone(), head, &target.main, &file));
            continue;
        }
        let (table, state) = if at == 0 {
            (feed.table.clone(), &target.main)
        } else {
            match target.parts.iter().find(|(part, _)| part.path == head.path) {
                Some((part, state)) => (part.table.clone(), state),
                None => return Ok(None),
            }
        };
        let Some(mut mapping) = TableMapping::from_header(table, head, state, &named, feed) else {
            return Ok(None);
        };
        mapping
            .resolve_key(feed, is_virtual(heads))
            .map_err(|reason| NotLoaded::failed(request.file, reason))?;
        mappings.push(mapping);
    }
    Ok(Some(Reconciled { mappings, by_place: None }))
}

/// Sheets and lists that the feed says have new names bear the names they are known by.
pub fn rename_parts(request: &FileRequest<'_>, profile: &mut FileProfile) {
    for (new, known) in &request.feed.part_names {
        for table in profile.tables.iter_mut().skip(1).filter(|table| table.head.path == *new) {
            table.head.path.clone_from(known);
        }
        for part in profile.tables.iter_mut().take(1).flat_map(|main| &mut main.layout.parts) {
            if part.path == *new {
                part.path.clone_from(known);
            }
        }
    }
}

/// The mappings of a file whose profile is known.
///
/// # Errors
///
/// The file is held, does not fit its tables, or the database does not answer.
pub fn from_profile(
    store: &mut dyn Tables,
    request: &FileRequest<'_>,
    target: &mut TargetState,
    profile: &mut FileProfile,
) -> Result<Reconciled, NotLoaded> {
    let now = FileFormat::of(&profile.facts, profile.encoding, &profile.heads());
    let drift = format_drift(target, &now);
    let by_place = match_by_place(request, target, profile, &now, &drift)?;
    let mut reconciler = Reconciler { store, request, drift, held: Vec::new() };
    let mut mappings = reconciler.map_tables(target, profile)?;
    let Reconciler { drift, held, .. } = reconciler;
    let own = mappings.first().map(|main| main.drift.clone()).unwrap_or_default();
    let main = profile.tables.first().zip(mappings.first()).filter(|_| !profile.is_virtual);
    let other = match main {
        Some(main) => other_layout(store, request.feed, target, main)?,
        None => None,
    };
    // What else differs follows from that.
    let held = other.map_or(held, |reason| vec![reason]);
    let decision = on_layout(LayoutFacts { held, drift: &own, now: &now, policy: &request.feed.policy });
    if let Some(main) = mappings.first_mut() {
        main.drift.splice(0..0, drift);
        // The names that parts got here are those that the main layout tells.
        for part in &mut main.fit.layout.parts {
            if let Some((known, _)) = target.parts.iter().find(|(known, _)| known.path == part.path) {
                part.table.clone_from(&known.table);
            }
        }
    }
    NotLoaded::by(decision, request.file, || HeldFile {
        drift: HeldFile::drift_of(&mappings),
        kind: Some(profile.kind.clone()),
        ..HeldFile::default()
    })?;
    Ok(Reconciled { mappings, by_place })
}

/// Decides by the header; where columns are matched by their place, gives them the names that columns
/// there had in the file before, and gives those names.
fn match_by_place(
    request: &FileRequest<'_>,
    target: &TargetState,
    profile: &mut FileProfile,
    now: &FileFormat,
    drift: &[Drift],
) -> Result<Option<Vec<String>>, NotLoaded> {
    let feed = request.feed;
    let Some(last) = &target.last_format else { return Ok(None) };
    // Without its names nothing more can be said of its columns.
    NotLoaded::by(on_header(now, last, &feed.policy), request.file, || HeldFile {
        drift: drift.iter().map(|drift| (feed.table.clone(), drift.clone())).collect(),
        kind: Some(profile.kind.clone()),
        ..HeldFile::default()
    })?;
    if !goes_by_place(now, last, &feed.policy) {
        return Ok(None);
    }
    let before = header(&TableHead { names: last.names.clone(), ..TableHead::default() }, &[]);
    let (Some(base), Some(table)) = (target.main.layout(), profile.tables.first_mut()) else {
        return Ok(Some(last.names.clone()));
    };
    let same_places = on_places(table.head.names.len(), before.len());
    same_places.map_err(|reason| NotLoaded::failed(request.file, reason))?;
    let named = Layout::named(&before, &feed.namer, &feed.rules);
    for (column, known) in table.layout.columns.iter_mut().zip(named.columns) {
        if let Some(own) = base.find(&known.name).and_then(|at| base.columns.get(at)) {
            column.name.clone_from(&own.name);
            column.source.clone_from(&known.source);
        }
    }
    Ok(Some(last.names.clone()))
}

struct Reconciler<'a, 'r> {
    store: &'a mut dyn Tables,
    request: &'a FileRequest<'r>,
    /// How the file differs, apart from the columns of its tables.
    drift: Vec<Drift>,
    /// What the policy does not let through.
    held: Vec<HoldReason>,
}

impl Reconciler<'_, '_> {
    fn map_tables(
        &mut self,
        target: &mut TargetState,
        profile: &FileProfile,
    ) -> Result<Vec<TableMapping>, NotLoaded> {
        let (file, feed) = (self.request.file, self.request.feed);
        let failed = |reason: FailReason| NotLoaded::failed(file, reason);
        let mut all: Vec<TableMapping> = Vec::new();
        self.note_missing_sheets(target, profile);
        for (at, table) in profile.tables.iter().enumerate() {
            let (name, state) = if at == 0 {
                (feed.table.clone(), &target.main)
            } else {
                self.note_new_part(target, profile, table);
                let part = target.part(self.store, feed, table)?;
                let (part, state) = &target.parts[part];
                (part.table.clone(), state)
            };
            if at == 0 && profile.is_virtual {
                all.push(TableMapping::parts_only(name, &table.head, state, &table.layout));
                continue;
            }
            let lineage = state.lineage(table.head.is_child);
            let mut mapping = match state {
                TableState::New { layout, .. } => self.map_new(name, table, layout, lineage, &profile.facts),
                TableState::Managed { layout, .. } => {
                    let names_columns = !profile.facts.names_in_records;
                    let known = target.last_format.as_ref().filter(|_| at == 0);
                    let before = known.map(|format| format.names.as_slice()).unwrap_or_default();
                    self.map_managed(name, table, layout, lineage, (names_columns, before))?
                }
                TableState::External(shape) => {
                    TableMapping::to_external(&table.head, shape, &table.layout, feed).map_err(failed)?
                }
            };
            mapping.open = left_open(table, state);
            mapping.open.extend(renamed(table, state, feed));
            mapping.resolve_key(feed, profile.is_virtual).map_err(failed)?;
            all.push(mapping);
        }
        Ok(all)
    }

    /// A table that is made for the files at hand: what this one lacks of the others is told.
    fn map_new(
        &self,
        name: String,
        table: &TableProfile,
        base: &Layout,
        lineage: Lineage,
        facts: &FormatFacts,
    ) -> TableMapping {
        let ignore = self.request.feed.policy_of(&table.head.path).ignore;
        let judged = judge(base, &table.layout, &Policy { ignore, ..Policy::default() }, &[]);
        let mut mapping = TableMapping::from_profile(name, &table.head, judged, &table.layout, lineage);
        mapping.fit.changes.clear();
        let is_missing = |drift: &Drift| matches!(drift.change, Change::Missing { .. });
        mapping.drift.retain(|drift| is_missing(drift) && !facts.names_in_records);
        mapping
    }

    /// A table that is there: the feed's policy says what becomes of what differs. A format that does
    /// not name its columns, as JSON, tells nothing by a key that no record of the file has.
    fn map_managed(
        &mut self,
        name: String,
        table: &TableProfile,
        base: &Layout,
        lineage: Lineage,
        (names_columns, before): (bool, &[String]),
    ) -> Result<TableMapping, NotLoaded> {
        let mut policy = self.request.feed.policy_of(&table.head.path);
        if !names_columns {
            policy.missing_column = Default::default();
        }
        let mut likely = match policy.renamed_column {
            RenamedColumn::Apart => Vec::new(),
            _ => {
                let known = KnownTable { name: &name, layout: base, header: before };
                renames(self.store, known, table, &policy)?
            }
        };
        let mut file = table.layout.clone();
        if policy.renamed_column == RenamedColumn::Follow {
            // What is in doubt is held.
            policy.renamed_column = RenamedColumn::Hold;
            for rename in likely.extract_if(.., |rename| rename.alike.is_certain()) {
                file.columns[rename.new].name.clone_from(&base.columns[rename.gone].name);
            }
        }
        let kinds = self.keep_kinds(table, base, &mut file, &policy);
        let mut judged = judge(base, &file, &policy, &likely);
        judged.note_kinds(kinds);
        name_causes(&mut judged, &file, table);
        if !names_columns {
            judged.drift.retain(|drift| !matches!(drift.change, Change::Missing { .. }));
        }
        self.held.extend(on_changes(judged.held.drain(..)));
        Ok(TableMapping::from_profile(name, &table.head, judged, &file, lineage))
    }

    /// Leaves values of another kind than the table's columns out of the file's layout, by the policy.
    fn keep_kinds(
        &self,
        table: &TableProfile,
        base: &Layout,
        file: &mut Layout,
        policy: &Policy,
    ) -> Vec<KindChange> {
        let rules = self.request.feed.rules_of(&table.head.path);
        keep_kinds(base, file, policy, |at, old| {
            let source = &table.layout.columns.get(at)?.source;
            let forced = rule_for(&rules, source).map(|rule| rule.forced).unwrap_or_default();
            table.evidence.columns.get(at)?.within(old.domain, old.format, forced)
        })
    }

    /// Sheets of the tables that the file lacks.
    fn note_missing_sheets(&mut self, target: &TargetState, profile: &FileProfile) {
        if profile.facts.family != "workbook" {
            return;
        }
        let is_there = |path: &str| profile.tables.iter().any(|table| table.head.path == path);
        for (part, state) in &target.parts {
            if state.lineage(true) == Lineage::Children || is_there(&part.path) {
                continue;
            }
            let PartDecision { drift, hold } = missing_sheet(&part.path, &self.request.feed.policy);
            self.drift.push(drift);
            self.held.extend(hold);
        }
    }

    /// A sheet or a nested list that the tables know nothing of.
    fn note_new_part(&mut self, target: &TargetState, profile: &FileProfile, table: &TableProfile) {
        let path = &table.head.path;
        let TableState::Managed { layout: main, .. } = &target.main else { return };
        if target.parts.iter().any(|(part, _)| part.path == *path) {
            return;
        }
        let like = target.parts.iter().find(|(known, state)| {
            !profile.tables.iter().any(|table| table.head.path == known.path)
                && state.layout().is_some_and(|known| have_same_columns(known, &table.layout))
        });
        let feed = self.request.feed;
        let part = new_part(PartFacts {
            path,
            table: &feed.table_of(path),
            is_child: table.head.is_child,
            like: like.map(|(known, _)| known.path.as_str()),
            was_object: main.columns.iter().any(|column| column.source.starts_with(&format!("{path}."))),
            policy: &feed.policy,
        });
        self.drift.push(part.drift);
        self.held.extend(part.hold);
    }
}

/// Gives changes of type the value of the file that forced them.
fn name_causes(judged: &mut Judged, file: &Layout, table: &TableProfile) {
    let columns = || judged.fit.layout.columns.iter().zip(&judged.fit.sources);
    let cause = |name: &str| {
        let (_, source) = columns().find(|(column, _)| column.name == name)?;
        let at = (*source)?;
        file.columns.get(at)?;
        Some(Cause::from(table.examples.get(at)?.clone()?))
    };
    let of = |drift: &Drift| match &drift.change {
        Change::Widened { column, from, .. } if *from != Type::Unknown && drift.cause.is_none() => {
            cause(column)
        }
        _ => None,
    };
    let causes: Vec<Option<Cause>> = judged.drift.iter().map(of).collect();
    for (drift, cause) in judged.drift.iter_mut().zip(causes) {
        drift.cause = drift.cause.take().or(cause);
    }
}

/// What a table's values leave open and nothing tells that was there before.
fn left_open(table: &TableProfile, state: &TableState) -> Vec<String> {
    let before = match state {
        TableState::Managed { layout, .. } => layout.columns.as_slice(),
        TableState::New { .. } | TableState::External(_) => &[],
    };
    let known_hint = |column: &Column| {
        let known = before.iter().find(|known| known.name == column.name);
        known.map(|known| FormatHint::of(known.domain, known.format)).unwrap_or_default()
    };
    let columns = table.layout.columns.iter().zip(&table.decisions);
    // What was read in one way until now is told only where something speaks against it.
    let speaks_against = |decision: &Decision, known: FormatHint| match decision.ambiguity {
        Some(Ambiguity::DateOrder { chosen, by, is_marked_anew }) => {
            is_marked_anew || by == Chosen::FileName && known.order != Some(chosen)
        }
        _ => false,
    };
    let is_new = |column: &Column| !before.iter().any(|known| known.name == column.name);
    let fine = table.layout.columns.iter().zip(&table.decisions);
    let fine = fine.filter(|(column, decision)| decision.is_too_fine && is_new(column));
    let fine = fine.map(|(column, _)| format!("column `{}`: {FINE}", column.source));
    let open = columns.filter(|(column, decision)| {
        let known = known_hint(column);
        known == FormatHint::default() || speaks_against(decision, known)
    });
    open.filter_map(|(column, decision)| {
        decision.ambiguity.map(|open| format!("column `{}`: {open}", column.source))
    })
    .chain(fine)
    .collect()
}

/// The columns that cannot have the names which the header gives them, and that nothing tells was there
/// before.
fn renamed(table: &TableProfile, state: &TableState, feed: &Feed) -> Vec<String> {
    let before = match state {
        TableState::New { .. } => &[],
        TableState::Managed { layout, .. } => layout.columns.as_slice(),
        // Its columns are called as whoever made it wanted.
        TableState::External(_) => return Vec::new(),
    };
    let is_known = |column: &Column| before.iter().any(|known| known.source == column.source);
    let renamed = table.layout.columns.iter().filter(|column| feed.namer.renames(&column.source));
    let told = renamed.filter(|column| !is_known(column));
    told.map(|column| {
        format!(
            "column `{}`: that name is the ledger's or the databases'; it is `{}`",
            column.source, column.name
        )
    })
    .collect()
}

/// Whether two sheets have much the same columns.
fn have_same_columns(a: &Layout, b: &Layout) -> bool {
    let common = a.columns.iter().filter(|column| b.find(&column.name).is_some()).count();
    common > 1 && common * 5 >= a.columns.len().max(b.columns.len()) * 4
}
