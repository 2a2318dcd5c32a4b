//! Tables in PostgreSQL: what they are, and the SQL that makes and changes them.

use hypodoke_core::cast::Limit;
use hypodoke_core::drift::Change;
use hypodoke_core::names::{Lineage, VALID_FROM_COLUMN, is_own};
use hypodoke_core::types::{MAX_DIGITS, Type};
use tokio_postgres::types::Type as Native;
use tokio_postgres::{Client, Error};

use super::copy::Wire;
use crate::load_plan::TablePlan;
use crate::sql::quote;
use crate::tables::catalog::{TableColumn, TableShape, Takes};

/// How a column of a type is declared.
pub fn declared(ty: Type) -> String {
    match ty {
        Type::Boolean => "boolean".to_owned(),
        Type::Integer => "bigint".to_owned(),
        Type::Decimal { precision, scale } => format!("numeric({precision},{scale})"),
        Type::Float => "double precision".to_owned(),
        Type::Date => "date".to_owned(),
        Type::Time => "time".to_owned(),
        Type::Timestamp => "timestamp".to_owned(),
        Type::TimestampTz => "timestamptz".to_owned(),
        Type::Uuid => "uuid".to_owned(),
        Type::Json => "jsonb".to_owned(),
        Type::Text | Type::Unknown => "text".to_owned(),
    }
}

/// A column with how it takes its values.
#[derive(Clone, Debug)]
pub struct NativeColumn {
    /// What it is to everybody.
    pub column: TableColumn,
    /// Its type in PostgreSQL's words.
    pub words: String,
    /// How it takes its values; `None` where its binary form is not known.
    pub wire: Option<Wire>,
}

/// A table with its columns as PostgreSQL has them.
#[derive(Clone, Debug)]
pub struct NativeTable {
    /// Its name.
    pub name: String,
    /// Its columns, our own left out.
    pub columns: Vec<NativeColumn>,
    /// The lineage columns it has.
    pub lineage: Lineage,
    /// How rows get into it.
    pub takes: Takes,
}

impl NativeTable {
    /// The table as others see it.
    pub fn shape(&self) -> TableShape {
        TableShape {
            name: self.name.clone(),
            columns: self.columns.iter().map(|column| column.column.clone()).collect(),
            lineage: self.lineage,
            takes: self.takes,
        }
    }

    /// The column of that name.
    pub fn column(&self, name: &str) -> Option<&NativeColumn> {
        self.columns.iter().find(|column| column.column.name == name)
    }
}

const COLUMNS: &str = "
SELECT a.attname, a.atttypid, a.atttypmod, format_type(a.atttypid, a.atttypmod), a.attnotnull,
       a.atthasdef OR a.attidentity <> '', a.attgenerated <> '' OR a.attidentity = 'a', c.relkind::text,
       EXISTS (SELECT 1 FROM pg_trigger t WHERE t.tgrelid = c.oid AND t.tgtype & 4 <> 0 AND t.tgtype & 64 <> 0)
FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = $1 AND c.relname = $2 AND c.relkind IN ('r', 'p', 'v', 'f', 'm')
  AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum";

/// A table as it is, if it is. It is looked for in the catalogue itself, which shows what others
/// have committed by now.
pub async fn read(client: &Client, schema: &str, name: &str) -> Result<Option<NativeTable>, Error> {
    let rows = client.query_typed(COLUMNS, &[(&schema, Native::TEXT), (&name, Native::TEXT)]).await?;
    if rows.is_empty() {
        return Ok(None);
    }
    let (mut columns, mut ours) = (Vec::new(), Vec::new());
    for row in &rows {
        let column: String = row.get(0);
        if is_own(&column) {
            ours.push(column);
            continue;
        }
        let (oid, modifier): (u32, i32) = (row.get(1), row.get(2));
        let native = Native::from_oid(oid);
        let generated: bool = row.get(6);
        columns.push(NativeColumn {
            wire: native.as_ref().and_then(Wire::of),
            words: row.get(3),
            column: TableColumn {
                name: column,
                ty: native.as_ref().map_or(Type::Text, |native| understood(native, modifier)),
                required: row.get(4),
                filled: row.get(5),
                generated,
                limit: native.as_ref().and_then(|native| limit(native, modifier)),
            },
        });
    }
    let names: Vec<&str> = ours.iter().map(String::as_str).collect();
    // A view takes a COPY where a trigger says what becomes of each row.
    let (kind, by_trigger): (String, bool) = (rows[0].get(7), rows[0].get(8));
    let takes = match kind.as_str() {
        "m" => Takes::Nothing,
        "v" if !by_trigger => Takes::Statements,
        _ => Takes::Rows,
    };
    Ok(Some(NativeTable { name: name.to_owned(), columns, lineage: Lineage::of(&names), takes }))
}

/// What a native type comes to.
fn understood(native: &Native, modifier: i32) -> Type {
    match *native {
        Native::BOOL => Type::Boolean,
        Native::INT2 | Native::INT4 | Native::INT8 => Type::Integer,
        Native::FLOAT4 | Native::FLOAT8 => Type::Float,
        Native::NUMERIC if modifier >= 4 => {
            let (precision, scale) = digits_of(modifier);
            // A scale below zero says how many digits before the mark are not kept.
            let before = u16::try_from(-scale).unwrap_or(0);
            let scale = u16::try_from(scale).unwrap_or(0);
            Type::Decimal { precision: (precision + before).min(MAX_DIGITS), scale: scale.min(MAX_DIGITS) }
        }
        // Without limits of its own: as many digits as are kept exactly, half of them behind the mark.
        Native::NUMERIC => Type::Decimal { precision: MAX_DIGITS, scale: 12 },
        Native::DATE => Type::Date,
        Native::TIME => Type::Time,
        Native::TIMESTAMP => Type::Timestamp,
        Native::TIMESTAMPTZ => Type::TimestampTz,
        Native::UUID => Type::Uuid,
        Native::JSON | Native::JSONB => Type::Json,
        _ => Type::Text,
    }
}

/// The precision and the scale of a numeric, of the modifier of its column: the scale is a number of eleven bits
/// with a sign (PostgreSQL's `numeric.c`, `numeric_typmod_scale`).
fn digits_of(modifier: i32) -> (u16, i16) {
    let packed = modifier - 4;
    let scale = ((packed & 0x7FF) ^ 0x400) - 0x400;
    ((packed >> 16 & 0xFFFF) as u16, scale as i16)
}

fn limit(native: &Native, modifier: i32) -> Option<Limit> {
    match *native {
        Native::NUMERIC if modifier >= 4 && digits_of(modifier).1 < 0 => {
            u8::try_from(-digits_of(modifier).1).ok().map(Limit::LastZeros)
        }
        Native::INT2 => Some(Limit::Bits(16)),
        Native::INT4 => Some(Limit::Bits(32)),
        Native::FLOAT4 => Some(Limit::SingleFloat),
        // Without digits of its own, it keeps six.
        Native::TIME | Native::TIMESTAMP | Native::TIMESTAMPTZ if (0..6).contains(&modifier) => {
            Some(Limit::SecondDigits(modifier as u8))
        }
        Native::VARCHAR | Native::BPCHAR if modifier > 4 => Some(Limit::Characters(modifier as u32 - 4)),
        _ => None,
    }
}

/// The SQL that makes a table.
pub fn create_sql(qualified: &str, plan: &TablePlan) -> String {
    let own =
        |column: &hypodoke_core::layout::Column| format!("{} {}", quote(&column.name), declared(column.ty()));
    let mut columns: Vec<String> = plan.layout.columns.iter().map(own).collect();
    columns.extend(plan.lineage.columns().iter().map(|name| format!("{} bigint NOT NULL", quote(name))));
    columns.extend(plan.moments().iter().map(|name| {
        let always = if *name == VALID_FROM_COLUMN { " NOT NULL" } else { "" };
        format!("{name} timestamptz{always}")
    }));
    format!("CREATE TABLE {qualified} (\n  {}\n)", columns.join(",\n  "))
}

/// The SQL that brings a table up to a layout: one statement, so that it is written anew once.
pub fn alter_sql(qualified: &str, plan: &TablePlan) -> Option<String> {
    let mut parts = Vec::new();
    for change in &plan.changes {
        match change {
            Change::Added { column, to } => {
                parts.push(format!("ADD COLUMN {} {}", quote(column), declared(*to)));
            }
            Change::Widened { column, from, to } if declared(*from) != declared(*to) => {
                let name = quote(column);
                let using = converted(&name, *from, *to);
                parts.push(format!("ALTER COLUMN {name} TYPE {} USING {using}", declared(*to)));
            }
            _ => {}
        }
    }
    (!parts.is_empty()).then(|| format!("ALTER TABLE {qualified}\n  {}", parts.join(",\n  ")))
}

/// An expression that gives a column's values in a wider type, none of them changed.
fn converted(column: &str, from: Type, to: Type) -> String {
    match (from, to) {
        // A column that was empty until now.
        (Type::Unknown, _) => format!("NULL::{}", declared(to)),
        (Type::TimestampTz, Type::Text) => {
            format!("to_char({column} AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS.US') || '+00:00'")
        }
        // The shortest way to spell a number, whatever its column kept.
        (Type::Decimal { .. }, Type::Text) => format!("trim_scale({column})::text"),
        (_, Type::Text) => format!("{column}::text"),
        // Days that were written as digits are digits again.
        (Type::Date, Type::Integer | Type::Decimal { .. } | Type::Float) => {
            format!("to_char({column}, 'YYYYMMDD')::{}", declared(to))
        }
        (Type::Timestamp, Type::Integer | Type::Decimal { .. } | Type::Float) => {
            format!("to_char({column}, 'YYYYMMDDHH24MISS')::{}", declared(to))
        }
        // Numbers turn out to be days, or moments, which are written as digits alone.
        (Type::Integer, Type::Date) => format!("{column}::text::date"),
        (Type::Integer, Type::Timestamp) => {
            format!("overlay(rpad({column}::text, 14, '0') PLACING ' ' FROM 9 FOR 0)::timestamp")
        }
        // Without the text, only 15 digits of a float would come along.
        (Type::Float, _) => format!("{column}::text::{}", declared(to)),
        _ => format!("{column}::{}", declared(to)),
    }
}

/// Whether the columns of a table of ours are what its layout says they are by now.
pub fn is_as_planned(table: &NativeTable, plan: &TablePlan) -> bool {
    plan.layout.columns.iter().all(|column| match (plan.type_before(column), table.column(&column.name)) {
        (None, None) => true,
        (Some(ty), Some(found)) => native_words(ty) == found.words,
        _ => false,
    })
}

/// A declaration in the words that PostgreSQL gives back for it.
fn native_words(ty: Type) -> String {
    match ty {
        Type::Time => "time without time zone".to_owned(),
        Type::Timestamp => "timestamp without time zone".to_owned(),
        Type::TimestampTz => "timestamp with time zone".to_owned(),
        other => declared(other),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// The modifiers as a server of PostgreSQL 15 gives them.
    #[rstest]
    #[case::amount(655_366, 10, 2)]
    #[case::whole(1_966_084, 30, 0)]
    #[case::of_hundreds(329_730, 5, -2)]
    #[case::only_behind_the_mark(196_617, 3, 5)]
    fn the_digits_of_a_numeric_are_in_its_modifier(
        #[case] modifier: i32,
        #[case] precision: u16,
        #[case] scale: i16,
    ) {
        assert_eq!(digits_of(modifier), (precision, scale));
    }

    #[test]
    fn a_numeric_of_hundreds_holds_whole_numbers_and_rounds_none() {
        let ty = understood(&Native::NUMERIC, 329_730);
        assert_eq!(ty, Type::Decimal { precision: 7, scale: 0 });
        assert_eq!(limit(&Native::NUMERIC, 329_730), Some(Limit::LastZeros(2)));
        assert_eq!(limit(&Native::NUMERIC, 655_366), None);
    }
}
