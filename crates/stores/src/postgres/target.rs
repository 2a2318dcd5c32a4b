//! A table of a plan, made or changed as it is to be, and ready to take rows.

use super::connection::PostgresStore;
use super::copy::{CopyForm, Wire};
use super::tables::{self, NativeTable};
use crate::error::StoreError;
use crate::load_plan::TablePlan;
use crate::sql::quote;
use crate::tables::merge::SEQUENCE;
use crate::tables::target_table::TargetTable;

impl PostgresStore {
    /// Makes or changes a table, and its stage where rows go there first.
    pub(super) fn ready_table(
        &self,
        table: &TablePlan,
        stage: Option<String>,
    ) -> Result<TargetTable<CopyForm>, StoreError> {
        let store = self;
        let qualified = store.qualified(&table.table);
        let found = made(store, table, &qualified)?;
        for index in table.indexes(&qualified) {
            // To ask for an index that is there takes the owner.
            let name = store.qualified(&index.name);
            let sql = "SELECT to_regclass($1) IS NULL";
            if store.run(store.client.query_one(sql, &[&name]))?.get(0) {
                store.run(store.client.batch_execute(&index.sql))?;
            }
        }
        let wires = wires(store, table, &found)?;
        let names = table.layout.columns.iter().map(|column| quote(&column.name));
        let names = names.chain(table.lineage.columns().iter().map(|name| quote(name)));
        let mut names: Vec<String> = names.collect();
        let list = names.join(", ");
        let mut into = qualified.clone();
        let staged = stage.is_some();
        if let Some(stage) = stage {
            store.run(store.client.batch_execute(&format!(
                "CREATE TEMP TABLE {stage} ON COMMIT DROP AS SELECT {list}, 0::bigint AS {SEQUENCE} FROM {qualified} WITH NO DATA"
            )))?;
            names.push(SEQUENCE.to_owned());
            into = stage;
        } else {
            // A COPY that is refused takes the connection with it: what it may be refused for, a
            // missing right or a lock, is asked for by a statement that does nothing.
            let nulls = vec!["NULL"; names.len()].join(", ");
            let asking = format!("EXPLAIN INSERT INTO {qualified} ({list}) SELECT {nulls} WHERE FALSE");
            store.run(store.client.batch_execute(&asking))?;
        }
        let sql = format!("COPY {into} ({}) FROM STDIN (FORMAT binary)", names.join(", "));
        let own = table.layout.columns.iter().map(|column| column.name.clone());
        let columns = own.chain(table.lineage.columns().iter().map(|name| (*name).to_owned())).collect();
        Ok(TargetTable { form: CopyForm { sql, wires }, columns, staged, sent: 0, missing: 0 })
    }
}

/// The table as it is once it is made or changed.
fn made(store: &PostgresStore, table: &TablePlan, qualified: &str) -> Result<NativeTable, StoreError> {
    let read = || store.run(tables::read(&store.client, &store.schema, &table.table));
    let changed = || StoreError::Changed { table: table.table.clone() };
    let alter = tables::alter_sql(qualified, table);
    let Some(mut there) = read()? else {
        // Two loads may want to make it: the second finds it made, and is planned anew.
        let key = format!("hypodoke table {qualified}");
        let lock = "SELECT pg_advisory_xact_lock(hashtextextended($1, 0))::text";
        store.run(store.client.query_one(lock, &[&key]))?;
        if read()?.is_some() {
            return Err(changed());
        }
        let sql = tables::create_sql(qualified, table);
        store.run(store.client.batch_execute(&sql))?;
        return read()?.ok_or_else(changed);
    };
    if table.keeps_layout {
        // From here on nobody changes the table under the rows: they are sent in the form that
        // its columns have now.
        let mode = if alter.is_some() { "ACCESS EXCLUSIVE" } else { "ROW EXCLUSIVE" };
        store.run(store.client.batch_execute(&format!("LOCK TABLE {qualified} IN {mode} MODE")))?;
        there = read()?.ok_or_else(changed)?;
        if !tables::is_as_planned(&there, table) {
            return Err(changed());
        }
        if let Some(sql) = alter {
            store.run(store.client.batch_execute(&sql))?;
            there = read()?.ok_or_else(changed)?;
        }
    }
    Ok(there)
}

/// The form in which the values of each column are sent.
fn wires(store: &PostgresStore, table: &TablePlan, found: &NativeTable) -> Result<Vec<Wire>, StoreError> {
    let wire = |name: &String| {
        let native = found.column(name);
        let native = native.ok_or_else(|| StoreError::Changed { table: table.table.clone() })?;
        native.wire.ok_or_else(|| {
            let (table, words) = (&table.table, &native.words);
            let why = format!("column `{name}` of `{table}` is of type {words}, which is not known here");
            StoreError::Refused { shown: store.shown.clone(), why }
        })
    };
    table.layout.columns.iter().map(|column| wire(&column.name)).collect()
}
