//! Tables of a plan made ready to take rows, and stages that rows come to first.

use hypodoke_core::types::Type;

use super::connection::MysqlStore;
use super::lacks::is_ahead;
use super::native::{KEY_COLUMN, NativeColumn, NativeTable};
use super::stream::Form;
use super::tables::column_words;
use super::types::NativeType;
use super::wire::Wire;
use crate::error::StoreError;
use crate::load_plan::TablePlan;
use crate::sql::quote;
use crate::tables::merge::SEQUENCE;
use crate::tables::target_table::TargetTable;

/// How many characters of a long text are in the index of a stage.
const PREFIX: usize = 190;

impl MysqlStore {
    /// Makes a table of a plan ready to take rows: it is what the plan says, since that was made before the
    /// transaction began; from here on nobody changes it under the rows.
    pub(super) fn ready_table(
        &mut self,
        table: &TablePlan,
        stage: Option<String>,
    ) -> Result<TargetTable<Form>, StoreError> {
        let name = quote(&table.table);
        let changed = || StoreError::Changed { table: table.table.clone() };
        if !self.group.as_ref().is_some_and(|group| group.tables.contains_key(&table.table)) {
            self.run_script(&format!("SELECT 1 FROM {name} LIMIT 0"))?;
        }
        let found = self.known_table(&table.table)?.ok_or_else(changed)?;
        if let Some(group) = &mut self.group {
            group.tables.insert(table.table.clone(), found.clone());
        }
        let is_planned = |column: &hypodoke_core::layout::Column| {
            let there = found.column(&column.name);
            there.is_some_and(|there| there.native.is(&column_words(table, column, column.ty())))
                || is_ahead(&self.ahead, table, column, &found)
        };
        if table.keeps_layout && !table.layout.columns.iter().all(is_planned) {
            return Err(changed());
        }
        self.respell(table)?;
        let wires = self.wires(table, &found)?;
        let names = table.layout.columns.iter().map(|column| quote(&column.name));
        let mut names: Vec<String> =
            names.chain(table.lineage.columns().iter().map(|name| quote(name))).collect();
        let staged = stage.is_some();
        let (mut into, mut replaces) = (name, false);
        if let Some(stage) = stage {
            replaces = self.make_merge_stage(&stage, table, &found, &names)?;
            names.push(SEQUENCE.to_owned());
            into = stage;
        }
        let form = Form::new(&into, &names, wires, replaces, found.takes_plain_bytes());
        let own = table.layout.columns.iter().map(|column| column.name.clone());
        let columns = own.chain(table.lineage.columns().iter().map(|name| (*name).to_owned())).collect();
        Ok(TargetTable { form, columns, staged, sent: 0, missing: 0 })
    }

    /// How each column takes its values.
    fn wires(&self, table: &TablePlan, found: &NativeTable) -> Result<Vec<Wire>, StoreError> {
        let wire = |name: &String| {
            let native = found.column(name).map(|column| &column.native);
            native.map(wire_of).ok_or_else(|| StoreError::Changed { table: table.table.clone() })
        };
        table.layout.columns.iter().map(|column| wire(&column.name)).collect()
    }

    /// Makes the stage for rows that are brought into a table by key. Whether a later row of a key takes the
    /// place of an earlier one there: not where a text of the key has no length.
    fn make_merge_stage(
        &mut self,
        stage: &str,
        table: &TablePlan,
        found: &NativeTable,
        columns: &[String],
    ) -> Result<bool, StoreError> {
        let key: Vec<String> = table.key.iter().map(|name| quote(name)).collect();
        let is_whole = |name: &String| found.column(name).is_some_and(|column| !column.native.wants_prefix());
        let replaces = !key.is_empty() && table.key.iter().all(is_whole);
        let number = format!("{SEQUENCE} bigint NOT NULL DEFAULT 0");
        let head = match replaces {
            true => format!("{number}, PRIMARY KEY ({})", key.join(", ")),
            false if key.is_empty() => format!("{number} PRIMARY KEY"),
            false => format!("{number} PRIMARY KEY, INDEX ({})", index_parts(&key, found)),
        };
        self.make_temporary(stage, &head, &table.table, columns)?;
        Ok(replaces)
    }

    /// Makes a temporary table with columns of another, their rows found by a key.
    pub(super) fn make_keyed_stage(
        &mut self,
        stage: &str,
        table: &str,
        columns: &[String],
        key: &[String],
    ) -> Result<(), StoreError> {
        let found = self.known_table(table)?;
        let changed = || StoreError::Changed { table: table.to_owned() };
        let mut head: Vec<String> = Vec::new();
        if self.facts.wants_primary_key {
            head.push(format!("{KEY_COLUMN} bigint NOT NULL AUTO_INCREMENT PRIMARY KEY"));
        }
        if !key.is_empty() {
            head.push(format!("INDEX ({})", index_parts(key, &found.ok_or_else(changed)?)));
        }
        self.make_temporary(stage, &head.join(", "), table, columns)
    }

    fn make_temporary(
        &mut self,
        stage: &str,
        head: &str,
        table: &str,
        columns: &[String],
    ) -> Result<(), StoreError> {
        // One that was left when a file was undone.
        let head = if head.is_empty() { String::new() } else { format!(" ({head})") };
        let options = self.facts.table_options();
        self.run_script(&format!(
            "DROP TEMPORARY TABLE IF EXISTS {stage};
             CREATE TEMPORARY TABLE {stage}{head}{options} AS SELECT {} FROM {} WHERE FALSE",
            columns.join(", "),
            quote(table)
        ))
    }
}

/// Columns as the parts of an index: of a long text its beginning.
fn index_parts(columns: &[String], found: &NativeTable) -> String {
    let part = |quoted: &String| {
        let is_it = |column: &&NativeColumn| quote(&column.column.name) == *quoted;
        let wants_prefix =
            found.columns.iter().find(is_it).is_some_and(|column| column.native.wants_prefix());
        if wants_prefix { format!("{quoted}({PREFIX})") } else { quoted.clone() }
    };
    columns.iter().map(part).collect::<Vec<_>>().join(", ")
}

pub(super) fn wire_of(native: &NativeType) -> Wire {
    if native.word == "bit" {
        return Wire::Bits;
    }
    match native.understood() {
        Type::Boolean | Type::Integer | Type::Float | Type::Decimal { .. } => Wire::Number,
        Type::Date | Type::Time | Type::Timestamp | Type::TimestampTz => Wire::Moment,
        _ => Wire::Text,
    }
}
