//! The bulk path into SQLite: one prepared INSERT, its values bound in place.
//!
//! Texts are bound as SQLITE_STATIC: SQLite reads them from the batch's own buffer while it
//! steps, and never keeps them, so no value is copied but into its page. This is the only
//! module that calls SQLite's C interface directly, and the only one with `unsafe` in it.
#![allow(unsafe_code)]

use std::ffi::{CStr, c_char, c_int};
use std::ptr::{self, NonNull};

use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::names::Lineage;
use hypodoke_core::spelling::{Number, temporal};
use rusqlite::{Connection, ffi};

use super::decimals;

/// The most bytes that a value takes which is written out to be bound.
const WRITTEN: usize = 48;

/// A prepared INSERT for the rows of one table. SQLite closes no connection that has a statement left, so the
/// handles stay good for as long as this is.
pub struct BulkInsert {
    statement: NonNull<ffi::sqlite3_stmt>,
    database: *mut ffi::sqlite3,
    /// Values that are written out (dates, long decimals) for the row in hand. It never grows
    /// beyond its first capacity, so what is bound stays where it is until the step is done.
    scratch: Vec<u8>,
    /// The table has triggers, which may leave rows out.
    guarded: bool,
}

/// What became of a row.
pub enum Stepped {
    /// It is in.
    In,
    /// A trigger of the table left it out.
    LeftOut,
    /// A constraint of the table kept it out; the database's own words.
    Refused(String),
}

impl BulkInsert {
    /// Prepares the statement, whose parameters are so many cells, then file and line. `guarded` says
    /// that the table has triggers.
    pub fn prepare(
        connection: &Connection,
        sql: &str,
        cells: usize,
        guarded: bool,
    ) -> rusqlite::Result<BulkInsert> {
        let mut statement = ptr::null_mut();
        // SAFETY: the handle is that of a live connection; the text is given with its length.
        let (code, database) = unsafe {
            let database = connection.handle();
            let flags = ffi::SQLITE_PREPARE_PERSISTENT;
            let text = sql.as_ptr().cast::<c_char>();
            (
                ffi::sqlite3_prepare_v3(
                    database,
                    text,
                    sql.len() as c_int,
                    flags,
                    &mut statement,
                    ptr::null_mut(),
                ),
                database,
            )
        };
        match NonNull::new(statement) {
            Some(statement) if code == ffi::SQLITE_OK => {
                let scratch = Vec::with_capacity(cells * WRITTEN);
                Ok(BulkInsert { statement, database, scratch, guarded })
            }
            _ => Err(failure(database, code)),
        }
    }

    /// Binds the lineage's file, the same for every row.
    pub fn bind_file(&mut self, parameter: usize, file: i64) -> rusqlite::Result<()> {
        // SAFETY: the statement is live; SQLite checks the parameter's number.
        let code = unsafe { ffi::sqlite3_bind_int64(self.statement.as_ptr(), parameter as c_int, file) };
        self.check(code)
    }

    /// Inserts one row. Behind the cells and the file its lineage is bound.
    #[inline]
    pub fn insert(&mut self, rows: &Rows, index: usize, lineage: Lineage) -> rusqlite::Result<Stepped> {
        self.scratch.clear();
        let cells = rows.row(index);
        let mut worst = ffi::SQLITE_OK;
        for (at, cell) in cells.iter().enumerate() {
            worst |= self.bind(at as c_int + 1, *cell, rows);
        }
        if lineage.is_kept() {
            worst |= self.bind_number(cells.len() + 2, rows.line(index));
        }
        if lineage == Lineage::Children {
            let link = rows.link(index);
            worst |= self.bind_number(cells.len() + 3, link.row);
            worst |= self.bind_number(cells.len() + 4, link.parent);
            worst |= self.bind_number(cells.len() + 5, link.position);
        }
        self.check(worst)?;
        // SAFETY: the statement is live, and everything bound (the batch, the scratch) is
        // borrowed or owned here until it was stepped and reset.
        let code = unsafe {
            let code = ffi::sqlite3_step(self.statement.as_ptr());
            ffi::sqlite3_reset(self.statement.as_ptr());
            code
        };
        match code {
            // SAFETY: the handle is that of the live connection.
            ffi::SQLITE_DONE if self.guarded && unsafe { ffi::sqlite3_changes(self.database) } == 0 => {
                Ok(Stepped::LeftOut)
            }
            ffi::SQLITE_DONE => Ok(Stepped::In),
            _ if code & 0xFF == ffi::SQLITE_CONSTRAINT => Ok(Stepped::Refused(message(self.database))),
            _ => Err(failure(self.database, code)),
        }
    }

    #[inline]
    fn bind_number(&self, parameter: usize, value: u64) -> c_int {
        // SAFETY: the statement is live; SQLite checks the parameter's number.
        unsafe { ffi::sqlite3_bind_int64(self.statement.as_ptr(), parameter as c_int, value as i64) }
    }

    #[inline]
    fn bind(&mut self, parameter: c_int, cell: Cell, rows: &Rows) -> c_int {
        let statement = self.statement.as_ptr();
        // SAFETY: the statement is live; integers and floats are passed by value.
        unsafe {
            match cell {
                Cell::Null => return ffi::sqlite3_bind_null(statement, parameter),
                Cell::Boolean(value) => return ffi::sqlite3_bind_int64(statement, parameter, value as i64),
                Cell::Integer(value) => return ffi::sqlite3_bind_int64(statement, parameter, value),
                Cell::Float(value) => return ffi::sqlite3_bind_double(statement, parameter, value),
                Cell::Decimal { mantissa, scale } if decimals::is_real(mantissa.into()) => {
                    let number = Number { mantissa: mantissa as i128, scale: scale as u16 };
                    return ffi::sqlite3_bind_double(statement, parameter, number.to_f64());
                }
                _ => {}
            }
        }
        match cell {
            Cell::Wide { index, scale } if decimals::is_real(rows.wide(index, scale).mantissa) => {
                let value = rows.wide(index, scale).to_f64();
                // SAFETY: the statement is live; a float is passed by value.
                unsafe { ffi::sqlite3_bind_double(statement, parameter, value) }
            }
            Cell::Text { start, len } => self.bind_text(parameter, rows.bytes(start, len)),
            Cell::Uuid { start } => self.bind_text(parameter, rows.bytes(start, 36)),
            other => self.bind_written(parameter, other, rows),
        }
    }

    /// Binds a value that is written out as text first.
    #[inline]
    fn bind_written(&mut self, parameter: c_int, cell: Cell, rows: &Rows) -> c_int {
        let start = self.scratch.len();
        match cell {
            Cell::Date(days) => temporal::write_date(days, &mut self.scratch),
            Cell::Time(micros) => temporal::write_time(micros, &mut self.scratch),
            Cell::Timestamp(micros) => temporal::write_timestamp(micros, &mut self.scratch),
            Cell::TimestampTz(micros) => {
                temporal::write_timestamp(micros, &mut self.scratch);
                self.scratch.extend_from_slice(b"+00:00");
            }
            Cell::Decimal { mantissa, scale } => {
                write_number(Number { mantissa: mantissa as i128, scale: scale as u16 }, &mut self.scratch);
            }
            Cell::Wide { index, scale } => write_number(rows.wide(index, scale), &mut self.scratch),
            _ => {}
        }
        let written = &self.scratch[start..];
        debug_assert!(written.len() <= WRITTEN);
        let (pointer, length) = (written.as_ptr(), written.len());
        self.bind_static(parameter, pointer, length)
    }

    #[inline]
    fn bind_text(&self, parameter: c_int, text: &[u8]) -> c_int {
        self.bind_static(parameter, text.as_ptr(), text.len())
    }

    #[inline]
    fn bind_static(&self, parameter: c_int, pointer: *const u8, length: usize) -> c_int {
        // SAFETY: the pointer stays good until the statement is stepped and reset: it points
        // into the batch, borrowed for the whole of `insert`, or into the scratch, which does
        // not move. SQLite does not look at a static text once another is bound.
        unsafe {
            ffi::sqlite3_bind_text(
                self.statement.as_ptr(),
                parameter,
                pointer.cast::<c_char>(),
                length as c_int,
                ffi::SQLITE_STATIC(),
            )
        }
    }

    fn check(&self, code: c_int) -> rusqlite::Result<()> {
        if code == ffi::SQLITE_OK { Ok(()) } else { Err(failure(self.database, code)) }
    }
}

fn write_number(number: Number, out: &mut Vec<u8>) {
    out.extend_from_slice(number.to_string().as_bytes());
}

fn message(database: *mut ffi::sqlite3) -> String {
    // SAFETY: the handle is live, and the message is copied before anything else is called.
    unsafe { CStr::from_ptr(ffi::sqlite3_errmsg(database)).to_string_lossy().into_owned() }
}

fn failure(database: *mut ffi::sqlite3, code: c_int) -> rusqlite::Error {
    rusqlite::Error::SqliteFailure(ffi::Error::new(code), Some(message(database)))
}

impl Drop for BulkInsert {
    fn drop(&mut self) {
        // SAFETY: the statement is live and not used again.
        unsafe { ffi::sqlite3_finalize(self.statement.as_ptr()) };
    }
}
