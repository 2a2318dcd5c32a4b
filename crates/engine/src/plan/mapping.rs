//! Which column of a file goes to which column of a table, and how its values become the table's.

use std::collections::{BTreeMap, HashMap};

use hypodoke_core::cast::{Caster, Limit, Source as CellSource, Target};
use hypodoke_core::drift::{Drift, Judged, NewColumn, judge};
use hypodoke_core::layout::{Column, Expected, Format, Layout, Otherwise, rule_for};
use hypodoke_core::names::{Lineage, is_reserved_table, match_key};
use hypodoke_core::pattern::PartValue;
use hypodoke_core::reconcile::{Fit, reconcile};
use hypodoke_core::spelling::NullSet;
use hypodoke_core::types::{Domain, Type};
use hypodoke_formats::TableHead;
use hypodoke_stores::{Mode, TableColumn, TablePlan, TableShape, Vanished};

use super::constraints::{self, Constrained};
use super::target::TableState;
use crate::decide::{
    ConstraintProblem, FailReason, OtherColumns, key_column, on_columns_of, on_key, on_view,
};
use crate::file_format::ColumnFormat;
use crate::job::{Candidate, Feed};

/// How one of a file's tables is to go in.
#[derive(Clone, Debug)]
pub struct TableMapping {
    /// The table.
    pub table: String,
    /// Where in the file its rows stand, and the columns they have there.
    pub head: TableHead,
    /// How it fits.
    pub fit: Fit,
    /// For each column of the layout, how the file writes it and what its numbers carry.
    pub formats: Vec<(Format, Domain)>,
    /// The lineage columns of the table.
    pub lineage: Lineage,
    /// The ledger keeps its layout.
    pub keeps_layout: bool,
    /// It has no rows of its own.
    pub is_virtual: bool,
    /// The columns that tell rows apart.
    pub key: Vec<String>,
    /// How the file differs, with what is done about it.
    pub drift: Vec<Drift>,
    /// What its values leave open and was not known before, and how it is read.
    pub open: Vec<String>,
    /// The file's columns whose values are kept in the column of extras.
    extras: Vec<(String, usize)>,
    /// Columns whose type stays whatever the file holds.
    firm: Vec<String>,
    /// What the table asks of its columns, where somebody else made it: whether they take nulls,
    /// and how much they hold.
    demands: HashMap<String, (bool, Option<Limit>)>,
}

impl TableMapping {
    fn new(
        table: String,
        head: &TableHead,
        fit: Fit,
        formats: Vec<(Format, Domain)>,
        lineage: Lineage,
    ) -> TableMapping {
        TableMapping {
            table,
            head: head.clone(),
            fit,
            formats,
            lineage,
            keeps_layout: true,
            is_virtual: false,
            key: Vec::new(),
            drift: Vec::new(),
            open: Vec::new(),
            extras: Vec::new(),
            firm: Vec::new(),
            demands: HashMap::new(),
        }
    }

    /// The same with what was judged of the file, besides how it fits; `fields` are those of its records.
    fn with_judged(self, judged: Judged, file: &Layout, fields: usize) -> TableMapping {
        let extra = |at: &usize| (file.columns[*at].source.clone(), *at);
        TableMapping {
            extras: judged.extras.iter().filter(|at| **at < fields).map(extra).collect(),
            firm: judged.firm,
            drift: judged.drift,
            ..self
        }
    }

    /// Finds the columns of the feed's key in the table. What is nested in records of a main table goes
    /// with them, unless it has a key of its own.
    ///
    /// # Errors
    ///
    /// The key has a column that the table lacks, or there is none and no record to go with.
    pub fn resolve_key(&mut self, feed: &Feed, main_is_virtual: bool) -> Result<(), FailReason> {
        let (path, is_child) = (self.head.path.as_str(), self.head.is_child);
        if self.is_virtual || !feed.mode_of(path, is_child).has_key() {
            return Ok(());
        }
        let key = feed.key_of(path, is_child);
        on_key(feed.mode, path, key, is_child && !main_is_virtual)?;
        for wanted in key {
            self.key.push(key_column(&self.fit.layout, wanted)?.name.clone());
        }
        Ok(())
    }

    /// The mapping of a table whose evidence is in, and that the policy has judged.
    pub fn from_profile(
        table: String,
        head: &TableHead,
        mut judged: Judged,
        file: &Layout,
        lineage: Lineage,
    ) -> TableMapping {
        let format = |(column, source): (&Column, &Option<usize>)| match source {
            // Values that are not of the column's kind say nothing of how the others are written.
            Some(at) if judged.firm.contains(&column.name) => (column.format, file.columns[*at].domain),
            Some(at) => (file.columns[*at].format, file.columns[*at].domain),
            None => (column.format, column.domain),
        };
        let formats = judged.fit.layout.columns.iter().zip(&judged.fit.sources).map(format).collect();
        let fit = std::mem::take(&mut judged.fit);
        let mapping = TableMapping::new(table, head, fit, formats, lineage);
        mapping.with_judged(judged, file, head.names.len())
    }

    /// The mapping of a table without a policy: for a preview, or for one that is not there yet.
    pub fn without_policy(
        table: String,
        head: &TableHead,
        base: &Layout,
        file: &Layout,
        lineage: Lineage,
    ) -> TableMapping {
        let judged = Judged { fit: reconcile(base, file), ..Judged::default() };
        TableMapping::from_profile(table, head, judged, file, lineage)
    }

    /// The mapping of a table of which only the header is known, into one whose layout is known; `None`
    /// if the values have to be profiled first: the table would change, or a person has to decide.
    pub fn from_header(
        table: String,
        head: &TableHead,
        state: &TableState,
        named: &Layout,
        feed: &Feed,
    ) -> Option<TableMapping> {
        let TableState::Managed { layout: base, lineage, .. } = state else { return None };
        let mut judged = judge(base, named, &feed.policy_of(&head.path), &[]);
        let gone = judged
            .fit
            .sources
            .iter()
            .zip(&base.columns)
            .any(|(source, column)| source.is_none() && !column.holds_extras());
        let strange = named.columns.len() > judged.fit.sources.iter().flatten().count();
        if !judged.fit.changes.is_empty() || !judged.held.is_empty() || gone && strange {
            return None;
        }
        let formats = base.columns.iter().map(|column| (column.format, column.domain)).collect();
        let fit = std::mem::take(&mut judged.fit);
        let mapping = TableMapping::new(table, head, fit, formats, *lineage);
        Some(mapping.with_judged(judged, named, head.names.len()))
    }

    /// The mapping of a file into a table that somebody else made.
    ///
    /// # Errors
    ///
    /// The table takes no rows, lacks a column of the file, or requires one that the file lacks.
    pub fn to_external(
        head: &TableHead,
        shape: &TableShape,
        profile: &Layout,
        feed: &Feed,
    ) -> Result<TableMapping, FailReason> {
        on_view(&shape.name, shape.takes, feed.mode)?;
        let matched = |column: &Column| {
            let key = match_key(&column.name);
            // What the database numbers or works out itself is left to it.
            let taken = || shape.columns.iter().filter(|c| !c.generated);
            let by_key = || taken().find(|c| match_key(&c.name) == key);
            // A name that databases keep may be one of a table of theirs all the same.
            let by_source =
                || taken().find(|c| c.name == column.source).filter(|_| !is_reserved_table(&column.source));
            taken().find(|c| c.name == column.name).or_else(by_key).or_else(by_source)
        };
        let policy = feed.policy_of(&head.path);
        let is_ignored =
            |column: &Column| policy.ignore.iter().any(|name| match_key(name) == match_key(&column.source));
        let (found, mut strange): (Vec<_>, Vec<_>) = profile
            .columns
            .iter()
            .enumerate()
            .filter(|(_, column)| !is_ignored(column))
            .partition(|(_, c)| matched(c).is_some());
        if policy.new_column == NewColumn::Ignore {
            strange.clear();
        }
        let is_given =
            |name: &str| found.iter().any(|(_, c)| matched(c).is_some_and(|known| known.name == name));
        let lacking = shape.columns.iter().filter(|c| c.required && !c.filled && !is_given(&c.name));
        let lacking = lacking.map(|column| column.name.clone());
        let of_name = strange.iter().filter(|(at, _)| *at >= head.names.len());
        let others = OtherColumns {
            of_name: of_name.map(|(_, column)| column.source.clone()).collect(),
            unknown: strange.iter().map(|(_, column)| column.name.clone()).collect(),
            required: lacking.collect(),
        };
        on_columns_of(&shape.name, others)?;
        let mut fit = Fit { layout: Layout::default(), sources: Vec::new(), changes: Vec::new() };
        let mut formats = Vec::new();
        for (at, column) in found {
            let Some(target) = matched(column) else { continue };
            let ty = if target.ty == Type::Unknown { Type::Text } else { target.ty };
            fit.layout.columns.push(Column { name: target.name.clone(), pinned: Some(ty), ..column.clone() });
            fit.sources.push(Some(at));
            formats.push((column.format, column.domain));
        }
        let mut mapping = TableMapping::new(shape.name.clone(), head, fit, formats, shape.lineage);
        mapping.keeps_layout = false;
        let demand = |column: &TableColumn| (column.name.clone(), (column.required, column.limit));
        mapping.demands = shape.columns.iter().map(demand).collect();
        Ok(mapping)
    }

    /// The mapping of a main table that only names its parts.
    pub fn parts_only(table: String, head: &TableHead, base: &TableState, file: &Layout) -> TableMapping {
        let mut layout = base.layout().cloned().unwrap_or_default();
        layout.parts =
            reconcile(&layout, &Layout { columns: Vec::new(), parts: file.parts.clone() }).layout.parts;
        let fit = Fit { sources: vec![None; layout.columns.len()], changes: Vec::new(), layout };
        let mut mapping = TableMapping::new(table, head, fit, Vec::new(), Lineage::None);
        mapping.is_virtual = true;
        mapping
    }

    /// The table's part of the plan.
    pub fn plan(&self, feed: &Feed) -> TablePlan {
        let mode = feed.mode_of(&self.head.path, self.head.is_child);
        TablePlan {
            table: self.table.clone(),
            path: self.head.path.clone(),
            layout: self.fit.layout.clone(),
            based_on: None,
            changes: self.fit.changes.clone(),
            drift: self.drift.clone(),
            lineage: self.lineage,
            keeps_layout: self.keeps_layout,
            is_virtual: self.is_virtual,
            mode,
            key: self.key.clone(),
            of_file: self.of_file(),
            marks_gone: feed.vanished == Vanished::Mark && mode == Mode::Upsert,
        }
    }

    /// The columns that are filled from the file's name.
    fn of_file(&self) -> Vec<String> {
        let fields = self.head.names.len();
        let columns = self.fit.layout.columns.iter().zip(&self.fit.sources);
        let named = columns.filter(|(_, source)| source.is_some_and(|at| at >= fields));
        named.map(|(column, _)| column.name.clone()).collect()
    }

    /// The caster of its records.
    ///
    /// # Errors
    ///
    /// What the feed says of columns does not fit them.
    pub fn caster(&self, file: &Candidate, feed: &Feed) -> Result<Caster, ConstraintProblem> {
        if self.is_virtual {
            return Ok(Caster::new(Vec::new(), 0));
        }
        let fields = self.head.names.len();
        let conditions =
            if self.head.is_child { Vec::new() } else { constraints::conditions(&self.constrained(), feed)? };
        Ok(Caster::new(self.targets(file, feed, fields)?, fields).keeping(conditions))
    }

    fn constrained(&self) -> Constrained<'_> {
        let (layout, sources) = (&self.fit.layout, &self.fit.sources);
        Constrained { layout, sources, formats: &self.formats, names: &self.head.names }
    }

    /// The columns that are not written in the usual way, by their names in the file: those of a
    /// sheet with its path before them.
    pub fn column_formats(&self) -> impl Iterator<Item = (String, ColumnFormat)> {
        let columns = self.fit.layout.columns.iter().zip(&self.formats);
        columns.filter_map(|(column, (format, _))| {
            let own = ColumnFormat::of(*format);
            (own != ColumnFormat::default()).then(|| (format_name(&self.head.path, &column.source), own))
        })
    }

    /// The same mapping for a file whose columns are written as these say, and else as is usual.
    pub fn with_formats(mut self, column_formats: &BTreeMap<String, ColumnFormat>) -> TableMapping {
        for (column, (format, _)) in self.fit.layout.columns.iter().zip(&mut self.formats) {
            let name = format_name(&self.head.path, &column.source);
            *format = column_formats.get(&name).copied().unwrap_or_default().over(*format);
        }
        self
    }

    /// What becomes of rows whose values in this column are not as expected.
    pub fn otherwise(&self, column: &str, feed: &Feed) -> Otherwise {
        let rules = feed.rules_of(&self.head.path);
        rule_for(&rules, column).map(|rule| rule.expected.otherwise).unwrap_or_default()
    }

    /// What is to become of each column of the layout.
    fn targets(
        &self,
        file: &Candidate,
        feed: &Feed,
        fields: usize,
    ) -> Result<Vec<Target>, ConstraintProblem> {
        let rules = feed.rules_of(&self.head.path);
        let target = |(at, column): (usize, &Column)| {
            let ty = column.ty();
            let (format, domain) = self.formats[at];
            let demand = self.demands.get(&column.name);
            let rule = rule_for(&rules, &column.source);
            let is_extras = column.holds_extras() && !self.extras.is_empty();
            // Whether a word is a null follows from the table's type alone, so that it does not
            // depend on which file came first.
            let nulls = match ty {
                Type::Text => NullSet::ALWAYS,
                // The first such word is a surprise: the file is profiled, and the layout records the word.
                Type::Unknown => column.format.nulls,
                _ => NullSet::ALL,
            };
            let nothing = Expected::default();
            if let Some(part) = self.fit.sources[at].and_then(|source| source.checked_sub(fields))
                && let Some((_, PartValue::Text(text))) = file.parts.get(part)
            {
                constraints::constant(text, column)?;
            }
            Ok(Target {
                source_name: column.source.clone(),
                ty,
                digits: Target::digits_of(domain),
                source: match self.fit.sources[at] {
                    None if is_extras => CellSource::Extras(self.extras.clone()),
                    Some(field) if field < fields => CellSource::Field(field),
                    Some(part) => file
                        .parts
                        .get(part - fields)
                        .map_or(CellSource::Nothing, |(_, value)| CellSource::Constant(value.clone())),
                    None => CellSource::Nothing,
                },
                format: Format { nulls, ..format },
                day: file.day(),
                fraction: rule.and_then(|rule| rule.forced.fraction),
                also_null: rule.map_or_else(Vec::new, |rule| rule.also_null.clone()),
                strings_are_text: feed.format_options.json.strings_are_text,
                pinned: column.pinned.is_some() || self.firm.contains(&column.name),
                required: self.key.contains(&column.name) || demand.is_some_and(|(required, _)| *required),
                limit: demand.and_then(|(_, limit)| *limit),
                trim: rule.is_some_and(|rule| rule.trim),
                default: match rule.and_then(|rule| rule.default.clone()) {
                    Some(text) => Some(constraints::default(text, column)?),
                    None => None,
                },
                demand: constraints::demand(rule.map_or(&nothing, |rule| &rule.expected), column)?,
            })
        };
        self.fit.layout.columns.iter().enumerate().map(target).collect()
    }
}

fn format_name(path: &str, source: &str) -> String {
    if path.is_empty() { source.to_owned() } else { format!("{path}.{source}") }
}
