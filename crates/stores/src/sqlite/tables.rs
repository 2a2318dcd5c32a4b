//! Tables: what they are, and the SQL that makes and changes them.
//!
//! SQLite gives a column an affinity by its declared type. The declarations below are chosen
//! so that every value is kept exactly: a decimal of up to 15 digits is a REAL that gives the
//! same digits back; a longer one is text, in a column that takes both as they are; and nothing
//! that is text can pass for a number.

use hypodoke_core::cast::Limit;
use hypodoke_core::drift::Change;
use hypodoke_core::names::{Lineage, VALID_FROM_COLUMN, is_own};
use hypodoke_core::types::Type;
use rusqlite::{Connection, Result, types::ValueRef};

use super::decimals::{self, REAL_DIGITS};
use crate::load_plan::TablePlan;
use crate::sql::quote;
use crate::tables::catalog::{SampleRows, TableColumn, TableShape, Takes};

/// How a column of a type is declared.
pub fn declared(ty: Type) -> String {
    match ty {
        Type::Unknown => String::new(),
        Type::Boolean => "BOOLEAN".to_owned(),
        Type::Integer => "INTEGER".to_owned(),
        Type::Decimal { precision, scale } if precision <= REAL_DIGITS => {
            format!("DECIMAL({precision},{scale})")
        }
        // A column of this affinity leaves numbers numbers and texts texts.
        Type::Decimal { precision, scale } => format!("DECIMAL_BLOB({precision},{scale})"),
        Type::Float => "REAL".to_owned(),
        Type::Date => "DATE".to_owned(),
        Type::Time => "TIME".to_owned(),
        Type::Timestamp => "TIMESTAMP".to_owned(),
        Type::TimestampTz => "TIMESTAMPTZ".to_owned(),
        Type::Uuid => "UUID".to_owned(),
        Type::Json => "JSON_TEXT".to_owned(),
        Type::Text => "TEXT".to_owned(),
    }
}

/// What a declaration comes to, ours or anybody's.
pub fn understood(declaration: &str) -> Type {
    let upper = declaration.trim().to_ascii_uppercase();
    let (word, size) = upper.split_once('(').unwrap_or((&upper, ""));
    let mut sizes = size.trim_end_matches(')').split(',').filter_map(|n| n.trim().parse::<u16>().ok());
    match word.trim() {
        "" => Type::Unknown,
        "BOOLEAN" | "BOOL" => Type::Boolean,
        "DECIMAL" | "NUMERIC" | "DECIMAL_BLOB" | "DECIMAL_TEXT" | "NUMBER" => {
            match (sizes.next(), sizes.next()) {
                (Some(precision), scale) if (1..=38).contains(&precision) => {
                    Type::Decimal { precision, scale: scale.unwrap_or(0).min(precision) }
                }
                _ => Type::Float,
            }
        }
        "DATE" => Type::Date,
        "TIME" => Type::Time,
        "TIMESTAMP" | "DATETIME" => Type::Timestamp,
        "TIMESTAMPTZ" => Type::TimestampTz,
        "UUID" => Type::Uuid,
        "JSON" | "JSON_TEXT" | "JSONB" => Type::Json,
        word if word.contains("INT") => Type::Integer,
        word if ["REAL", "FLOA", "DOUB"].iter().any(|part| word.contains(part)) => Type::Float,
        _ => Type::Text,
    }
}

/// A table as it is.
pub fn shape(connection: &Connection, name: &str) -> Result<Option<TableShape>> {
    let mut statement = connection.prepare_cached(
        "SELECT name, type, \"notnull\", dflt_value IS NOT NULL, pk, hidden FROM pragma_table_xinfo(?1)",
    )?;
    let mut rows = statement.query([name])?;
    let takes = takes(connection, name)?;
    let mut found = TableShape { name: name.to_owned(), columns: Vec::new(), lineage: Lineage::None, takes };
    let mut lineage = Vec::new();
    while let Some(row) = rows.next()? {
        let column: String = row.get(0)?;
        if is_own(&column) {
            lineage.push(column);
            continue;
        }
        let declaration: String = row.get(1)?;
        let (not_null, default, key, hidden): (bool, bool, i64, i64) =
            (row.get(2)?, row.get(3)?, row.get(4)?, row.get(5)?);
        let numbered = key > 0 && declaration.eq_ignore_ascii_case("INTEGER");
        // Generated columns (hidden 2 and 3) take no values.
        let filled = default || numbered || hidden >= 2;
        found.columns.push(TableColumn {
            name: column,
            ty: understood(&declaration),
            required: not_null,
            filled,
            generated: hidden >= 2,
            limit: limit(&declaration),
        });
    }
    found.lineage = Lineage::of(&lineage.iter().map(String::as_str).collect::<Vec<_>>());
    Ok((!lineage.is_empty() || !found.columns.is_empty()).then_some(found))
}

/// What a column of somebody else's keeps of the numbers of its type: it makes a REAL of every text of digits.
fn limit(declaration: &str) -> Option<Limit> {
    let is_ours = declaration.to_ascii_uppercase().starts_with("DECIMAL_");
    let is_long = decimals::may_be_text(understood(declaration));
    (is_long && !is_ours).then_some(Limit::Digits(REAL_DIGITS as u8))
}

/// How rows get in: into a view, where a trigger says how.
fn takes(connection: &Connection, name: &str) -> Result<Takes> {
    let sql =
        "SELECT NOT EXISTS (SELECT 1 FROM sqlite_schema WHERE type = 'view' AND name = ?1 COLLATE NOCASE)
         OR EXISTS (SELECT 1 FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ?1 COLLATE NOCASE)";
    let may = connection.prepare_cached(sql)?.query_row([name], |row| row.get(0))?;
    Ok(if may { Takes::Rows } else { Takes::Nothing })
}

/// Whether a table has triggers, which may leave rows out.
pub fn has_triggers(connection: &Connection, name: &str) -> Result<bool> {
    let sql = "SELECT EXISTS (SELECT 1 FROM sqlite_schema t JOIN sqlite_schema o ON o.name = t.tbl_name
         WHERE t.type = 'trigger' AND o.type = 'table' AND o.name = ?1 COLLATE NOCASE)";
    connection.prepare_cached(sql)?.query_row([name], |row| row.get(0))
}

/// The SQL that makes a table.
pub fn create_sql(name: &str, plan: &TablePlan) -> String {
    let TablePlan { layout, lineage, .. } = plan;
    let mut columns: Vec<String> = layout
        .columns
        .iter()
        .map(|column| format!("{} {}", quote(&column.name), declared(column.ty())).trim_end().to_owned())
        .collect();
    columns.extend(lineage.columns().iter().map(|name| format!("{} INTEGER NOT NULL", quote(name))));
    columns.extend(plan.moments().iter().map(|name| {
        let always = if *name == VALID_FROM_COLUMN { " NOT NULL" } else { "" };
        format!("{name} TIMESTAMPTZ{always}")
    }));
    format!("CREATE TABLE {} (\n  {}\n)", quote(name), columns.join(",\n  "))
}

/// Brings a table up to a layout: columns added, and wider types by writing the table anew,
/// since SQLite cannot change a column's type in place.
pub fn alter(connection: &Connection, plan: &TablePlan) -> Result<()> {
    let TablePlan { table, changes, .. } = plan;
    if changes.iter().any(|change| matches!(change, Change::Widened { .. }))
        || has_decimals_as_text(connection, plan)?
    {
        return rebuild(connection, plan);
    }
    for change in changes {
        if let Change::Added { column, to } = change {
            let declaration = declared(*to);
            connection.execute_batch(&format!(
                "ALTER TABLE {} ADD COLUMN {} {declaration}",
                quote(table),
                quote(column)
            ))?;
        }
    }
    Ok(())
}

/// Whether a column was declared when every long decimal was kept as text.
fn has_decimals_as_text(connection: &Connection, plan: &TablePlan) -> Result<bool> {
    if !plan.layout.columns.iter().any(|column| decimals::may_be_text(column.ty())) {
        return Ok(false);
    }
    let there = declarations(connection, &plan.table)?;
    let is_fixed = there.iter().any(|column| column.is_generated);
    Ok(!is_fixed && there.iter().any(|column| column.words.starts_with("DECIMAL_TEXT")))
}

/// A column of a table as it stands in its declaration.
struct Declared {
    name: String,
    words: String,
    not_null: bool,
    default: Option<String>,
    key: i64,
    is_generated: bool,
}

fn declarations(connection: &Connection, table: &str) -> Result<Vec<Declared>> {
    let sql = "SELECT name, type, \"notnull\", dflt_value, pk, hidden FROM pragma_table_xinfo(?1)";
    let column = |row: &rusqlite::Row<'_>| {
        Ok(Declared {
            name: row.get(0)?,
            words: row.get(1)?,
            not_null: row.get(2)?,
            default: row.get(3)?,
            key: row.get(4)?,
            is_generated: row.get::<_, i64>(5)? >= 2,
        })
    };
    connection.prepare_cached(sql)?.query_map([table], column)?.collect()
}

fn is_same(a: &str, b: &str) -> bool {
    a.eq_ignore_ascii_case(b)
}

/// Whether the columns of a table of ours are by now what its layout says they are before the load. Others
/// may stand beside them, and stay.
pub fn is_as_planned(connection: &Connection, plan: &TablePlan) -> Result<bool> {
    let there = declarations(connection, &plan.table)?;
    Ok(plan.layout.columns.iter().all(|column| {
        let found = there.iter().find(|found| is_same(&found.name, &column.name));
        match (plan.type_before(column), found) {
            (None, None) => true,
            (Some(ty), Some(found)) => understood(&found.words) == understood(&declared(ty)),
            _ => false,
        }
    }))
}

/// A column that keeps a table from being written anew, where that is what its change takes.
pub fn kept_from_change(connection: &Connection, plan: &TablePlan) -> Result<Option<String>> {
    if !plan.changes.iter().any(|change| matches!(change, Change::Widened { .. })) {
        return Ok(None);
    }
    let there = declarations(connection, &plan.table)?;
    Ok(there.into_iter().find(|column| column.is_generated).map(|column| column.name))
}

/// What a change of a table comes to, in words of SQL: a wider type writes the table anew.
pub fn alter_sql(plan: &TablePlan) -> Vec<String> {
    let table = quote(&plan.table);
    let statement = |change: &Change| match change {
        Change::Added { column, to } => {
            Some(format!("ALTER TABLE {table} ADD COLUMN {} {}", quote(column), declared(*to)))
        }
        Change::Widened { column, from, to } => {
            Some(format!("-- {table} is written anew: {} becomes {to}, until now {from}", quote(column)))
        }
        _ => None,
    };
    plan.changes.iter().filter_map(statement).collect()
}

fn rebuild(connection: &Connection, plan: &TablePlan) -> Result<()> {
    let TablePlan { table, layout, changes, lineage, .. } = plan;
    // What stands on the table goes with it, and is made again.
    let kept: Vec<String> = connection
        .prepare("SELECT sql FROM sqlite_schema WHERE tbl_name = ?1 AND type IN ('index', 'trigger') AND sql IS NOT NULL")?
        .query_map([table], |row| row.get(0))?
        .collect::<Result<_>>()?;
    let fresh = free_name(connection, table)?;
    let others = added_by_others(connection, plan)?;
    connection.execute_batch(&create_with_others(&fresh, plan, &others))?;
    let added =
        |name: &str| changes.iter().any(|c| matches!(c, Change::Added { column, .. } if column == name));
    let (mut names, mut values) = (Vec::new(), Vec::new());
    for column in layout.columns.iter().filter(|column| !added(&column.name)) {
        let widened = changes.iter().find_map(|change| match change {
            Change::Widened { column: name, from, to } if *name == column.name => Some((*from, *to)),
            _ => None,
        });
        names.push(quote(&column.name));
        values.push(match widened {
            Some((from, to)) => converted(&quote(&column.name), from, to),
            None if decimals::may_be_text(column.ty()) => decimals::decimal_sql(&quote(&column.name)),
            None => quote(&column.name),
        });
    }
    for name in lineage.columns().iter().chain(plan.moments()) {
        names.push(quote(name));
        values.push(quote(name));
    }
    for column in &others {
        names.push(quote(&column.name));
        values.push(quote(&column.name));
    }
    let (fresh, old) = (quote(&fresh), quote(table));
    connection.execute_batch(&format!(
        "INSERT INTO {fresh} ({}) SELECT {} FROM {old} ORDER BY rowid;\nDROP TABLE {old};\nALTER TABLE {fresh} RENAME TO {old}",
        names.join(", "),
        values.join(", "),
    ))?;
    kept.iter().try_for_each(|sql| connection.execute_batch(sql))
}

/// A name that no table has.
fn free_name(connection: &Connection, table: &str) -> Result<String> {
    let mut number = 1u32;
    loop {
        let name = format!("hd_new_{number}_{table}");
        if shape(connection, &name)?.is_none() {
            return Ok(name);
        }
        number += 1;
    }
}

/// The columns of a table of ours that somebody else has added to it.
fn added_by_others(connection: &Connection, plan: &TablePlan) -> Result<Vec<Declared>> {
    let is_planned = |name: &str| {
        plan.layout.columns.iter().any(|column| is_same(&column.name, name))
            || plan.lineage.columns().iter().chain(plan.moments()).any(|own| is_same(own, name))
    };
    let there = declarations(connection, &plan.table)?;
    Ok(there.into_iter().filter(|column| !is_planned(&column.name)).collect())
}

/// The SQL that makes a table with the columns that others have added to it.
fn create_with_others(name: &str, plan: &TablePlan, others: &[Declared]) -> String {
    let column = |column: &Declared| {
        let not_null = if column.not_null { " NOT NULL" } else { "" };
        let default = column.default.as_ref().map(|value| format!(" DEFAULT {value}")).unwrap_or_default();
        let key = if column.key > 0 { " UNIQUE" } else { "" };
        format!(",\n  {} {}{not_null}{default}{key}", quote(&column.name), column.words)
    };
    let others: String = others.iter().map(column).collect();
    let sql = create_sql(name, plan);
    format!("{}{others}\n)", sql.trim_end_matches([')', '\n']))
}

/// An expression that gives a column's values in a wider type, none of them changed.
fn converted(column: &str, from: Type, to: Type) -> String {
    match (from, to) {
        // Days that were written as digits are digits again.
        (Type::Date | Type::Timestamp, Type::Integer | Type::Decimal { .. } | Type::Float) => {
            let bare = ["-", ":", " "]
                .iter()
                .fold(column.to_owned(), |all, mark| format!("replace({all}, '{mark}', '')"));
            let number = if to == Type::Float { "REAL" } else { "INTEGER" };
            format!("CAST({bare} AS {number})")
        }
        (Type::Boolean, Type::Text) => format!("CASE {column} WHEN 1 THEN 'true' WHEN 0 THEN 'false' END"),
        // The shortest way to spell a number, whatever its column kept.
        (Type::Decimal { scale, .. }, Type::Text) => {
            decimals::digits_sql(&decimals::digits_sql(column, Some(scale)), None)
        }
        (Type::Integer | Type::Float, Type::Text) => decimals::digits_sql(column, None),
        (_, Type::Decimal { scale, .. }) if decimals::may_be_text(to) => {
            decimals::decimal_sql(&decimals::digits_sql(column, Some(scale)))
        }
        // Numbers turn out to be days, or moments, which are written as digits alone.
        (Type::Integer, Type::Date | Type::Timestamp) => {
            let part = |from: u8, many: u8| format!("substr({column}, {from}, {many})");
            let day = [part(1, 4), part(5, 2), part(7, 2)].join(" || '-' || ");
            let time = [part(9, 2), part(11, 2), part(13, 2)].join(" || ':' || ");
            let time = format!("CASE length({column}) WHEN 14 THEN {time} ELSE '00:00:00' END");
            if to == Type::Date { day } else { format!("{day} || ' ' || {time}") }
        }
        // Floats hold what was kept as text as well.
        (_, Type::Float) => format!("CAST({column} AS REAL)"),
        (Type::Date, Type::Timestamp) => format!("{column} || ' 00:00:00'"),
        _ => column.to_owned(),
    }
}

/// The columns of long decimals in which some values are texts.
pub fn texts_among_numbers(connection: &Connection, table: &str) -> Result<Vec<String>> {
    let Some(shape) = shape(connection, table)? else { return Ok(Vec::new()) };
    let mut found = Vec::new();
    for column in shape.columns.into_iter().filter(|column| decimals::may_be_text(column.ty)) {
        let (name, table) = (quote(&column.name), quote(table));
        let sql = format!("SELECT EXISTS (SELECT 1 FROM {table} WHERE typeof({name}) = 'text')");
        if connection.query_row(&sql, [], |row| row.get(0))? {
            found.push(column.name);
        }
    }
    Ok(found)
}

/// The first rows of a table in the order they came, values as people read them.
pub fn first_rows(connection: &Connection, table: &str, most: usize) -> Result<SampleRows> {
    let mut statement = connection.prepare(&format!("SELECT * FROM {} LIMIT {most}", quote(table)))?;
    let columns: Vec<String> = statement.column_names().into_iter().map(str::to_owned).collect();
    let types: Vec<Type> =
        statement.columns().iter().map(|c| understood(c.decl_type().unwrap_or(""))).collect();
    let mut rows = statement.query([])?;
    let mut sample = SampleRows { columns, rows: Vec::new() };
    while let Some(row) = rows.next()? {
        let values = types.iter().enumerate().map(|(at, ty)| row.get_ref(at).map(|value| shown(value, *ty)));
        sample.rows.push(values.collect::<Result<_>>()?);
    }
    Ok(sample)
}

fn shown(value: ValueRef<'_>, ty: Type) -> Option<String> {
    Some(match value {
        ValueRef::Null => return None,
        ValueRef::Integer(value) if ty == Type::Boolean => (value != 0).to_string(),
        ValueRef::Integer(value) => match ty {
            Type::Decimal { scale, .. } if scale > 0 => format!("{value}.{}", "0".repeat(scale as usize)),
            _ => value.to_string(),
        },
        ValueRef::Real(value) => match ty {
            Type::Decimal { scale, .. } => format!("{value:.*}", scale as usize),
            // With an exponent where the digits alone would run on.
            _ => format!("{value:?}"),
        },
        ValueRef::Text(text) | ValueRef::Blob(text) => String::from_utf8_lossy(text).into_owned(),
    })
}
