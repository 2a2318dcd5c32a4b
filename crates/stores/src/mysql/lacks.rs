//! What a table lacks of what its plan says: the parts of a statement that changes it.

use hypodoke_core::drift::Change;
use hypodoke_core::layout::Column;
use hypodoke_core::types::{Domain, Type};

use super::native::NativeTable;
use super::tables::{column_sql, column_words, indexes, moment_sql};
use crate::load_plan::TablePlan;
use crate::sql::quote;

/// What a table lacks of what its plan says.
#[derive(Debug, PartialEq, Eq)]
pub enum Lack {
    /// Nothing.
    Nothing,
    /// It is not there.
    Table,
    /// It was made by a load that was not finished, and is empty and other than it is to be.
    TableAnew,
    /// The parts of a statement that changes it, and for each column that becomes another what it becomes.
    Parts(Vec<String>, Vec<(String, String)>),
    /// It is something else than it was when the load was planned.
    Changed,
}

/// A change that was written down, of a column or of the whole table.
pub struct Pending {
    /// The column; nothing where it is the table itself.
    pub column: String,
    /// What it becomes.
    pub to: String,
}

/// Whether the ledger knows no layout of a table yet.
pub fn is_new(table: &TablePlan) -> bool {
    table.based_on.is_none_or(|version| version == 0)
}

/// Whether a table lacks columns that say since when or until when a row holds.
pub fn lacks_moments(table: &TablePlan, found: &NativeTable) -> bool {
    table.moments().iter().any(|name| !found.own.iter().any(|own| own == *name))
}

/// What a table lacks of what its plan says. `ahead` holds the plans of later files of the group whose changes were
/// made before it began: what they made of a column is not undone for an earlier file.
pub fn lack_of(
    table: &TablePlan,
    found: Option<&NativeTable>,
    pending: &[Pending],
    ahead: &[TablePlan],
) -> Lack {
    let was_made = pending.iter().any(|change| change.column.is_empty());
    let Some(found) = found else { return Lack::Table };
    let (mut parts, mut columns) = (Vec::new(), Vec::new());
    for column in &table.layout.columns {
        match column_lack(table, column, found, pending) {
            ColumnLack::Nothing => {}
            _ if is_ahead(ahead, table, column, found) => {}
            ColumnLack::Part(part) => {
                columns.push((column.name.clone(), column_words(table, column, column.ty())));
                parts.push(part);
            }
            ColumnLack::Changed if is_new(table) && was_made => return Lack::TableAnew,
            ColumnLack::Changed => return Lack::Changed,
        }
    }
    let missing = table.moments().iter().filter(|name| !found.own.iter().any(|own| own == *name));
    parts.extend(missing.map(|name| format!("ADD COLUMN {}", moment_sql(name))));
    let missing = indexes(table).into_iter().filter(|index| !found.indexes.contains(&index.name));
    parts.extend(missing.map(|index| format!("ADD {}", index.sql)));
    if parts.is_empty() { Lack::Nothing } else { Lack::Parts(parts, columns) }
}

/// Whether a column is what a later file of the group needs, and holds what this one does.
pub fn is_ahead(ahead: &[TablePlan], table: &TablePlan, column: &Column, found: &NativeTable) -> bool {
    let Some(there) = found.column(&column.name) else { return false };
    ahead.iter().filter(|plan| plan.table == table.table).any(|plan| {
        let later = plan.layout.columns.iter().find(|later| later.name == column.name);
        later.is_some_and(|later| {
            let joined = Domain::of(later.ty()).join(Domain::of(column.ty()));
            joined.ty() == later.ty() && there.native.is(&column_words(plan, later, later.ty()))
        })
    })
}

/// What a column lacks of what the plan says.
enum ColumnLack {
    Nothing,
    Part(String),
    Changed,
}

fn column_lack(table: &TablePlan, column: &Column, found: &NativeTable, pending: &[Pending]) -> ColumnLack {
    let words = column_words(table, column, column.ty());
    let before = table.type_before(column).map(|ty| column_words(table, column, ty));
    let sql = || column_sql(table, column, column.ty());
    let Some(there) = found.column(&column.name) else {
        return match before {
            None => ColumnLack::Part(format!("ADD COLUMN {}", sql())),
            Some(_) => ColumnLack::Changed,
        };
    };
    if there.native.is(&words) {
        // Of what others have added meanwhile, nothing is known.
        return ColumnLack::Nothing;
    }
    let is_pending = |change: &Pending| {
        change.column.to_lowercase() == column.name.to_lowercase() && there.native.is(&change.to)
    };
    // A column of texts gets a length where it becomes part of a key, and loses it where it is none any more.
    let is_text = column.ty() == Type::Text && matches!(there.native.word.as_str(), "longtext" | "varchar");
    let is_before = before.is_some_and(|before| there.native.is(&before));
    match is_before || is_text || pending.iter().any(is_pending) {
        true => ColumnLack::Part(format!("MODIFY COLUMN {}", sql())),
        false => ColumnLack::Changed,
    }
}

/// A value of a column that became text, as it is spelled in other databases; `None` where it is spelled so.
pub fn spelled(column: &str, from: Type) -> Option<String> {
    let without_zeros = |text: &str| {
        format!(
            "CASE WHEN {text} LIKE '%.%' THEN TRIM(TRAILING '.' FROM TRIM(TRAILING '0' FROM {text})) ELSE {text} END"
        )
    };
    match from {
        Type::Boolean => {
            Some(format!("CASE {column} WHEN '1' THEN 'true' WHEN '0' THEN 'false' ELSE {column} END"))
        }
        Type::Decimal { .. } | Type::Time | Type::Timestamp => Some(without_zeros(column)),
        Type::TimestampTz => {
            let bare = without_zeros(column);
            Some(format!("CASE WHEN {column} LIKE '%+00:00' THEN {column} ELSE ({bare}) || '+00:00' END"))
        }
        _ => None,
    }
}

/// What changes of a table come to, in words of SQL.
pub fn alter_sql(plan: &TablePlan) -> Option<String> {
    let part = |change: &Change| {
        let column = |name: &String| plan.layout.columns.iter().find(|column| column.name == *name);
        match change {
            Change::Added { column: name, to } => {
                Some(format!("ADD COLUMN {}", column_sql(plan, column(name)?, *to)))
            }
            Change::Widened { column: name, from, to } => {
                let found = column(name)?;
                let is_other = column_words(plan, found, *from) != column_words(plan, found, *to);
                is_other.then(|| format!("MODIFY COLUMN {}", column_sql(plan, found, *to)))
            }
            _ => None,
        }
    };
    let parts: Vec<String> = plan.changes.iter().filter_map(part).collect();
    (!parts.is_empty()).then(|| format!("ALTER TABLE {}\n  {}", quote(&plan.table), parts.join(",\n  ")))
}
