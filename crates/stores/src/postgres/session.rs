//! PostgreSQL's way of running the ledger's statements.

use std::error::Error;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use bytes::BytesMut;
use tokio_postgres::Row;
use tokio_postgres::types::{IsNull, ToSql, Type, to_sql_checked};

use crate::sql::{Misread, SqlRow, SqlValue};

impl ToSql for SqlValue {
    fn to_sql(&self, ty: &Type, out: &mut BytesMut) -> Result<IsNull, Box<dyn Error + Sync + Send>> {
        match self {
            SqlValue::Null => Ok(IsNull::Yes),
            SqlValue::Integer(value) => value.to_sql(ty, out),
            // A text of the server's holds no NUL.
            SqlValue::Text(value) if value.contains('\0') => value.replace('\0', "\u{fffd}").to_sql(ty, out),
            SqlValue::Text(value) => value.to_sql(ty, out),
            SqlValue::Bytes(value) => value.to_sql(ty, out),
            SqlValue::Moment(micros) => moment(*micros).to_sql(ty, out),
        }
    }

    fn accepts(_: &Type) -> bool {
        // Which of them a statement takes, its columns say.
        true
    }

    to_sql_checked!();
}

/// A moment as PostgreSQL takes it.
pub fn moment(micros: i64) -> SystemTime {
    let span = Duration::from_micros(micros.unsigned_abs());
    if micros < 0 { UNIX_EPOCH - span } else { UNIX_EPOCH + span }
}

fn micros(moment: SystemTime) -> i64 {
    let micros = |span: Duration| i64::try_from(span.as_micros()).unwrap_or(i64::MAX);
    match moment.duration_since(UNIX_EPOCH) {
        Ok(span) => micros(span),
        Err(before) => -micros(before.duration()),
    }
}

/// A row as the ledger reads it.
pub fn row_of(row: &Row) -> Result<SqlRow, Misread> {
    let values = (0..row.len()).map(|at| value_of(row, at));
    values.collect::<Result<_, _>>().map(SqlRow)
}

fn value_of(row: &Row, at: usize) -> Result<SqlValue, Misread> {
    let column = row.columns().get(at).map(|column| (column.name().to_owned(), column.type_().clone()));
    let (name, ty) = column.unwrap_or_else(|| (String::new(), Type::UNKNOWN));
    let wrong = |error: tokio_postgres::Error| Misread(format!("column `{name}` cannot be read: {error}"));
    let value = match ty {
        Type::INT8 => row.try_get::<_, Option<i64>>(at).map_err(wrong)?.map(SqlValue::Integer),
        Type::INT4 => row.try_get::<_, Option<i32>>(at).map_err(wrong)?.map(|v| SqlValue::Integer(v.into())),
        Type::TEXT | Type::VARCHAR => {
            row.try_get::<_, Option<String>>(at).map_err(wrong)?.map(SqlValue::Text)
        }
        Type::BYTEA => row.try_get::<_, Option<Vec<u8>>>(at).map_err(wrong)?.map(SqlValue::Bytes),
        Type::TIMESTAMPTZ => {
            row.try_get::<_, Option<SystemTime>>(at).map_err(wrong)?.map(|at| SqlValue::Moment(micros(at)))
        }
        other => return Err(Misread(format!("column `{name}` is of type {other}, which no ledger has"))),
    };
    Ok(value.unwrap_or_default())
}
