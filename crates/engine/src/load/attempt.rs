//! One attempt to load a file: plan it, run it, verify what came of it, commit it.

use std::collections::VecDeque;

use hypodoke_core::cast::{Reject, Unmet};
use hypodoke_core::count;
use hypodoke_core::figures::{FileFigures, Unusual};
use hypodoke_core::layout::{Layout, Otherwise, UnusualValues};
use hypodoke_core::spelling::Number;
use hypodoke_core::types::{Digits, Domain};
use hypodoke_stores::{FileSummary, Finished, LoadPlan, PartSummary, Tables, Writer};

use super::figures::{as_drift, figures_of, unusual_in};
use super::pipeline::{self, Interrupted, PipelineResult, RefusedRecords, Stages};
use super::reconcile::{Reconciled, format_of};
use super::request::{FileRequest, HeldFile, Loaded, NotLoaded};
use super::sums;
use super::verification::{Verification, with_all_values};
use crate::clock;
use crate::decide::{FailReason, RowFacts, SkipReason, Violation, on_rows, on_table_name};
use crate::error::EngineError;
use crate::file_format::FileFormat;
use crate::job::{Control, Feed};
use crate::plan::{TableMapping, TargetState, file_order, load_rules, table_plans};
use crate::profile::{Source, control_line};
use crate::receipt::PartLine;

/// What an attempt goes by.
#[derive(Clone, Copy)]
pub enum Strategy<'v> {
    /// By the table's layout: the first value that does not fit it ends the attempt.
    ByLayout,
    /// By what the file's beginning shows, until it is known what all of it holds.
    BySample(&'v Verification),
    /// By the file's profile.
    ByProfile,
    /// By the file's profile, in small lots, since the database refused some row.
    InSmallLots,
}

/// How an attempt ended, where it did not fail.
pub enum Ended {
    /// The file is loaded.
    Loaded(Box<Loaded>),
    /// Its values are not what the strategy took them for; nothing of it was kept.
    Surprised,
    /// The database refused parts of these records: they are to be rejected whole. Nothing was kept.
    Refused(RefusedRecords),
}

/// One attempt to load a file.
pub struct Attempt<'a, 'r> {
    /// The file.
    pub request: &'a FileRequest<'r>,
    /// How its tables go in.
    pub reconciled: &'a Reconciled,
    /// What it goes by.
    pub strategy: Strategy<'a>,
    /// Records that are rejected for what the database refused of them before.
    pub refused: &'a RefusedRecords,
}

/// What was verified of an attempt before it is committed.
struct Verified {
    summary: FileSummary,
    notes: Vec<String>,
    footer: Vec<String>,
    figures: Option<FileFigures>,
}

impl Attempt<'_, '_> {
    /// Makes the attempt. Where it is committed, the tables are known from now on as it left them.
    ///
    /// # Errors
    ///
    /// The file cannot be read, does not meet expectations, or the database does not take it.
    pub fn run(
        &self,
        store: &mut dyn Tables,
        target: &mut TargetState,
        mut source: Source<'_>,
    ) -> Result<Ended, NotLoaded> {
        let format = self.format(&source);
        let plan = self.plan(&source, &format, target)?;
        let takes_nul = store.capabilities().takes_nul;
        let Some(mut writer) = store.begin(&plan)? else {
            return Err(NotLoaded::Skipped(SkipReason::LoadedMeanwhile));
        };
        let result = match self.send(&plan, &mut source, writer.as_mut(), takes_nul)? {
            Some(result) => result,
            None => return Ok(Ended::Surprised),
        };
        if !result.refused.is_empty() {
            return Ok(Ended::Refused(result.refused));
        }
        let all_values = match self.strategy {
            Strategy::BySample(verification) => match verification.confirmed() {
                Some(layout) => Some(layout),
                None => return Ok(Ended::Surprised),
            },
            _ => None,
        };
        let verified = self.verify(&plan, &source, &result, all_values.as_ref(), &target.figures)?;
        let finished = writer.commit(&verified.summary)?;
        self.adopt(target, &verified, format);
        Ok(Ended::Loaded(Box::new(self.loaded(&source, result, verified, finished))))
    }

    fn mappings(&self) -> &[TableMapping] {
        &self.reconciled.mappings
    }

    /// How the file is written, for the ledger.
    fn format(&self, source: &Source<'_>) -> FileFormat {
        let mut format = format_of(source);
        if let Some(names) = &self.reconciled.by_place {
            (format.names, format.by_place) = (names.clone(), true);
        }
        format.formats = self.mappings().iter().flat_map(TableMapping::column_formats).collect();
        format
    }

    fn plan(
        &self,
        source: &Source<'_>,
        format: &FileFormat,
        target: &TargetState,
    ) -> Result<LoadPlan, NotLoaded> {
        let FileRequest { feed, file, .. } = self.request;
        let shape = format.to_json().map_err(|why| EngineError::not_recorded("format", &file.shown, why))?;
        let mut tables = self.mappings().iter().map(|mapping| on_table_name(&mapping.table));
        tables.try_for_each(|named| named).map_err(|reason| NotLoaded::failed(file, reason))?;
        Ok(LoadPlan {
            batch: self.request.batch,
            arrival: file.seen.arrival.clone(),
            feed: feed.name.clone(),
            tables: table_plans(feed, target, self.mappings()),
            shape: Some(shape),
            resubmits: None,
            keeps_for: None,
            restore: self.request.restore,
            retracts: false,
            replaces: self.request.replaces,
            known_until: self.request.known_until,
            kind: source.kind(),
            began: self.request.began,
            order: file_order(feed, file),
            rules: load_rules(feed, file, self.mappings())
                .map_err(|reason| NotLoaded::failed(file, reason))?,
            sql_before: feed.sql_before.clone(),
            sql_after: feed.sql_after.clone(),
            careful: matches!(self.strategy, Strategy::InSmallLots),
        })
    }

    /// Sends all rows; `None` where a value came that the strategy was not made for.
    fn send(
        &self,
        plan: &LoadPlan,
        source: &mut Source<'_>,
        writer: &mut dyn Writer,
        takes_nul: bool,
    ) -> Result<Option<PipelineResult>, NotLoaded> {
        let FileRequest { feed, file, .. } = self.request;
        let mappings = self.mappings();
        let rows_at: Vec<Option<String>> =
            (0..mappings.len()).map(|table| source.reader.rows_at(table)).collect();
        let locate = |table: usize, reject: &mut Reject, offset: Option<u64>| {
            let rows_at = rows_at.get(table).and_then(Option::as_deref);
            reject.place = place_of(rows_at, reject.line, offset);
            reject.sheet = rows_at.filter(|_| offset.is_none()).map(str::to_owned);
        };
        let takes_figures = feed.looks_at_values();
        let caster = |mapping: &TableMapping| {
            let caster = mapping.caster(file, feed)?.with_nul(takes_nul);
            Ok(if takes_figures { caster.with_figures() } else { caster })
        };
        let casters = mappings.iter().map(caster).collect::<Result<_, _>>();
        let strategy = self.strategy;
        let stages = Stages {
            casters: casters.map_err(|problem| NotLoaded::failed(file, FailReason::Constraint(problem)))?,
            sums: vec![self.summed()],
            keys: plan.tables.iter().map(|table| plan.vanishing_key(table)).collect(),
            order: plan.rules.order.as_ref().and_then(|name| self.mappings().first()?.fit.layout.find(name)),
            heads: mappings.iter().map(|mapping| mapping.head.clone()).collect(),
            refused: self.refused,
            stops_at_surprise: matches!(strategy, Strategy::ByLayout | Strategy::BySample(_)),
            is_refuted: &|| matches!(strategy, Strategy::BySample(verification) if verification.is_refuted()),
            locate: &locate,
        };
        match pipeline::run(source.reader.as_mut(), stages, writer, file.seen.arrival.bytes) {
            Ok(result) => Ok(Some(result)),
            Err(Interrupted::Surprise) => Ok(None),
            Err(Interrupted::Read(error)) => Err(EngineError::reading(&file.shown, error).into()),
            Err(Interrupted::Store(error)) => Err(NotLoaded::Store(error)),
        }
    }

    /// The columns of the main table whose sums are wanted, by their places in its layout.
    fn summed(&self) -> Vec<usize> {
        let Some(main) = self.mappings().first() else { return Vec::new() };
        if self.request.sum_all {
            let columns = main.fit.layout.columns.iter().enumerate();
            return columns.filter(|(_, c)| sums::scale_of(c.ty()).is_some()).map(|(at, _)| at).collect();
        }
        control_columns(self.request.feed, main).into_iter().flatten().collect()
    }

    /// Holds what came against what the feed expects.
    fn verify(
        &self,
        plan: &LoadPlan,
        source: &Source<'_>,
        result: &PipelineResult,
        all_values: Option<&Layout>,
        before: &VecDeque<FileFigures>,
    ) -> Result<Verified, NotLoaded> {
        let hash = source.hash()?;
        let footer = source.reader.footer();
        let mut notes = source.notes();
        notes.extend(self.mappings().iter().flat_map(|mapping| mapping.open.iter().cloned()));
        notes.extend(footer_note(&footer));
        notes.extend(result.tables.iter().flat_map(|table| &table.rounded).map(rounded_note));
        let (read, loaded) = self.records(result);
        let tables: Vec<(&TableMapping, &pipeline::TableResult)> =
            self.mappings().iter().zip(&result.tables).collect();
        let figures = figures_of(self.request.feed, read, &tables);
        let mut drift = Vec::new();
        let mut warnings = self.request.warnings.clone();
        if !self.request.sum_all {
            let unusual = figures.as_ref().filter(|_| self.request.replaces.is_none());
            let unusual = unusual.map(|now| unusual_in(self.request.feed, now, before, self.mappings()));
            let of_rows = self.check_rows(source, result, read, &footer, &unusual.unwrap_or_default())?;
            drift.extend(of_rows.iter().filter_map(as_drift));
            warnings.extend(of_rows);
        }
        warnings.extend(tables.iter().filter_map(|(mapping, table)| unreadable_keys(mapping, table)));
        let part = |(mapping, table): (&TableMapping, &pipeline::TableResult)| {
            let layout = mapping.fit.layout.clone();
            let layout = all_values.map_or(layout.clone(), |all| with_all_values(layout, all));
            let layout = with_digits(layout, &table.digits);
            PartSummary { read: table.read, loaded: table.loaded, layout, drift: Vec::new() }
        };
        let mut parts: Vec<PartSummary> = tables.into_iter().map(part).collect();
        if let Some(main) = parts.first_mut() {
            main.drift.extend(drift);
        }
        let text = figures.as_ref().map(serde_json::to_string).transpose();
        let text =
            text.map_err(|error| EngineError::not_recorded("figures", &self.request.file.shown, error))?;
        let summary = FileSummary {
            hash,
            read,
            loaded,
            rejected: result.rejected,
            left_out: result.tables.iter().map(|table| table.left_out).sum(),
            message: (!notes.is_empty()).then(|| notes.join("\n")),
            reasons: warnings.iter().map(Violation::warning).collect(),
            parts,
            figures: text,
            ended: clock::now(),
            resubmitted: Vec::new(),
            order: plan.rules.order.as_ref().map(|_| result.greatest.key()),
        };
        Ok(Verified { summary, notes, footer, figures })
    }

    /// Decides by what the rows came to; gives what is only to be said.
    fn check_rows(
        &self,
        source: &Source<'_>,
        result: &PipelineResult,
        read: u64,
        footer: &[String],
        unusual: &[(Unusual, UnusualValues)],
    ) -> Result<Vec<Violation>, NotLoaded> {
        let FileRequest { feed, file, rows_before, .. } = self.request;
        let mut totals = result.tables.first().map(|main| main.sums.iter()).into_iter().flatten();
        let sums: Vec<Option<Number>> = match self.mappings().first() {
            Some(main) => control_columns(feed, main)
                .into_iter()
                .map(|at| {
                    let ty = main.fit.layout.columns.get(at?)?.ty();
                    sums::number(totals.next().copied().unwrap_or(0), ty)
                })
                .collect(),
            None => Vec::new(),
        };
        let of_table = |(mapping, table): (&TableMapping, &pipeline::TableResult)| {
            let with_rule = |unmet: &Unmet| (unmet.clone(), mapping.otherwise(&unmet.column, feed));
            table.unmet.iter().map(with_rule).collect::<Vec<_>>()
        };
        let unmet: Vec<(Unmet, Otherwise)> =
            self.mappings().iter().zip(&result.tables).flat_map(of_table).collect();
        let facts = RowFacts {
            read,
            rejected: result.rejected,
            sums: &sums,
            control: control_line(file, &feed.expect, footer),
            unmet: &unmet,
            before: rows_before,
            cut: source.reader.cut_at(),
            unusual,
        };
        let terms = NotLoaded::by(on_rows(&feed.expect, &facts), file, || HeldFile {
            drift: HeldFile::drift_of(self.mappings()),
            kind: Some(source.kind()),
            read,
            ..HeldFile::default()
        })?;
        Ok(terms.warnings)
    }

    /// Records read and loaded, children not counted: they are parts of records.
    fn records(&self, result: &PipelineResult) -> (u64, u64) {
        let own = self.mappings().iter().zip(&result.tables).filter(|(mapping, _)| !mapping.head.is_child);
        own.fold((0, 0), |(read, loaded), (_, table)| (read + table.read, loaded + table.loaded))
    }

    /// The tables are known from now on, with the layouts that the file left them.
    fn adopt(&self, target: &mut TargetState, verified: &Verified, format: FileFormat) {
        if let Some(figures) = &verified.figures {
            target.add_figures(figures.clone());
        }
        for (at, (mapping, part)) in self.mappings().iter().zip(&verified.summary.parts).enumerate() {
            if at == 0 {
                target.main.adopt(part.layout.clone(), mapping.lineage, !mapping.fit.changes.is_empty());
            } else if let Some((_, state)) =
                target.parts.iter_mut().find(|(known, _)| known.path == mapping.head.path)
            {
                state.adopt(part.layout.clone(), mapping.lineage, !mapping.fit.changes.is_empty());
            }
        }
        target.last_format = Some(format);
    }

    fn loaded(
        &self,
        source: &Source<'_>,
        result: PipelineResult,
        verified: Verified,
        finished: Finished,
    ) -> Loaded {
        let Verified { summary, mut notes, footer, .. } = verified;
        let Finished { file: number, counts, superseded, left_keys } = finished;
        notes.extend(counts.notes());
        if superseded {
            notes.push(
                "the table holds a newer delivery: its rows are kept, and come when that one is taken out"
                    .to_owned(),
            );
        }
        let totals = result.tables.first().map(|main| main.sums.clone()).unwrap_or_default();
        let columns = self.mappings().first().map(|main| main.fit.layout.columns.as_slice());
        let sum = |(at, sum): (usize, i128)| {
            let column = columns?.get(at)?;
            Some((column.name.clone(), column.ty(), sum))
        };
        let parts = self.mappings().iter().zip(&result.tables).skip(1);
        let planned = self.mappings().iter().flat_map(|mapping| mapping.drift.iter().cloned());
        let unusual = summary.parts.iter().flat_map(|part| part.drift.iter().cloned());
        Loaded {
            number,
            read: summary.read,
            loaded: summary.loaded - counts.left_out.min(summary.loaded) + counts.carried,
            rejected: result.rejected.saturating_sub(counts.carried),
            reject_reasons: result.reasons.clone().finish(),
            left_out: summary.left_out + counts.left_out,
            counts,
            superseded,
            left_keys,
            parts: parts
                .map(|(mapping, table)| PartLine {
                    table: mapping.table.clone(),
                    path: mapping.head.path.clone(),
                    rows_read: table.read,
                    rows_loaded: table.loaded,
                })
                .collect(),
            kind: source.kind(),
            hash: summary.hash,
            drift: planned.chain(unusual).collect(),
            footer,
            warnings: summary.reasons,
            notes,
            sums: self.summed().into_iter().zip(totals).filter_map(sum).collect(),
        }
    }
}

/// What to warn of where no key of a table vanished, since keys of rejected rows cannot be read.
fn unreadable_keys(mapping: &TableMapping, table: &pipeline::TableResult) -> Option<Violation> {
    let rows = table.unreadable_keys;
    (rows > 0).then(|| Violation::UnreadableKeys { table: mapping.table.clone(), rows })
}

/// For each figure of the control line, the column of the main table whose sum it is.
fn control_columns(feed: &Feed, main: &TableMapping) -> Vec<Option<usize>> {
    let column = |control: &Control| match control {
        Control::Rows | Control::Digest => None,
        Control::Sum(name) => {
            let at = main.fit.layout.find_as_in_files(name)?;
            sums::scale_of(main.fit.layout.columns.get(at)?.ty()).map(|_| at)
        }
    };
    feed.expect.control.iter().map(column).collect()
}

/// Where a reject stands, in words of its format.
fn place_of(rows_at: Option<&str>, line: u64, offset: Option<u64>) -> Option<String> {
    let byte = offset.map(|byte| format!("byte {byte}"));
    match (rows_at, byte) {
        (Some(path), Some(byte)) => {
            let path = match path.strip_suffix("[*]") {
                Some(list) => format!("{list}[{}]", line.saturating_sub(1)),
                None => format!("{path}, record {line}"),
            };
            Some(format!("{path}, {byte}"))
        }
        (Some(sheet), None) => Some(format!("{sheet}, row {line}")),
        (None, byte) => byte,
    }
}

/// What is said of the lines after the table, so that the ledger accounts for them too.
fn footer_note(footer: &[String]) -> Option<String> {
    let first = footer.first()?;
    let lines = count::of(footer.len() as u64, "line", "lines");
    Some(format!("{lines} after the table left out: {first}"))
}

/// What is said of numbers that lost digits, as the user wants it.
fn rounded_note((column, values): &(String, u64)) -> String {
    let values = count::of(*values, "value", "values");
    format!("column `{column}`: {values} with more digits than it keeps, shortened as `fraction` says")
}

/// The layout with the digits that the values needed, as evidence would have counted them.
fn with_digits(mut layout: Layout, digits: &[Digits]) -> Layout {
    for (column, met) in layout.columns.iter_mut().zip(digits) {
        if let Domain::Number(digits) = &mut column.domain
            && column.pinned.is_none()
        {
            *digits = digits.join(*met);
        }
    }
    layout
}
