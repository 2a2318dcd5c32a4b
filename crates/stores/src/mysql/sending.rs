//! Rows on their way to the server: by LOAD DATA LOCAL, or by INSERT statements of many rows where that is
//! switched off or every row is to be checked.
//!
//! With LOCAL, a value that does not fit becomes a warning and a wrong row. So every value is cast before it
//! is sent, and when a statement ends, its rows have to be all there without a warning: else the file is
//! undone, and its rows are sent in lots by INSERT, which fails instead of warning.

use std::ops::Range;

use bytes::Bytes;
use futures_util::{StreamExt, stream};
use mysql_async::prelude::Queryable;
use tokio::sync::mpsc;

use super::connection::MysqlStore;
use super::stream::{Form, Loaded, Sending};
use super::wire::{RowOrigin, Spelling, put_row};
use crate::error::StoreError;
use crate::tables::load_target::{RowsOfFile, Sent};
use crate::tables::target_table::TargetTable;

/// How much is put together before it is handed to the connection, in bytes.
const CHUNK: usize = 64 * 1024;

/// How many of these wait at the most.
const WAITING: usize = 8;

/// How large an INSERT statement grows, in bytes, where the server takes so much.
const STATEMENT: usize = 256 << 10;

impl MysqlStore {
    /// Sends rows by the statement that is open, or a new one.
    pub(super) fn send_rows(
        &mut self,
        at: usize,
        target: &mut TargetTable<Form>,
        of_file: RowsOfFile<'_>,
        range: Range<usize>,
    ) -> Result<Sent, StoreError> {
        if !self.facts.takes_local {
            return self.insert_rows(target, of_file, range);
        }
        if self.sending.is_none() {
            self.open_stream(at, target)?;
        }
        let Some(sending) = &mut self.sending else { return Ok(Sent::default()) };
        let RowsOfFile { file, lineage, rows } = of_file;
        let count = range.len() as u64;
        sending.rows += count;
        for index in range {
            target.sent += 1;
            let sequence = target.staged.then_some(target.sent);
            let origin = RowOrigin { file, lineage, sequence };
            put_row(&mut sending.buffer, Spelling::Line, (rows, index), &target.form.wires, origin);
            if sending.buffer.len() >= CHUNK {
                let next = Vec::with_capacity(CHUNK + 4096);
                let chunk = Bytes::from(std::mem::replace(&mut sending.buffer, next));
                // The server may have ended the statement, and says why.
                if self.runtime.block_on(sending.sender.send(chunk)).is_err() {
                    let error = self.end_stream().err();
                    return Err(error.unwrap_or_else(|| self.lost("it took no more rows")));
                }
            }
        }
        Ok(Sent { taken: count, refused: Vec::new() })
    }

    fn open_stream(&mut self, table: usize, target: &TargetTable<Form>) -> Result<(), StoreError> {
        // A transaction that is undone by now takes nothing.
        self.with(async |_| Ok(()))?;
        self.note_write();
        let Some(mut conn) = self.conn.take() else { return Err(self.lost("it is closed")) };
        let (sender, mut receiver) = mpsc::channel::<Bytes>(WAITING);
        let sql = target.form.load.clone();
        let done = self.runtime.spawn(async move {
            let rows = stream::poll_fn(move |context| receiver.poll_recv(context));
            conn.set_infile_handler(async move { Ok(rows.map(Ok).boxed()) });
            let done = conn.query_drop(sql).await;
            let loaded = Loaded { affected: conn.affected_rows(), warnings: conn.get_warnings() };
            (conn, done.map(|()| loaded))
        });
        let replaces = target.form.replaces;
        self.sending = Some(Sending {
            table,
            sender,
            buffer: Vec::with_capacity(CHUNK + 4096),
            rows: 0,
            replaces,
            done,
        });
        Ok(())
    }

    /// Ends the statement that is open; gives its table's place in the plan, and how many rows of it took the
    /// place of others.
    pub(super) fn end_stream(&mut self) -> Result<Option<(usize, u64)>, StoreError> {
        let Some(mut sending) = self.sending.take() else { return Ok(None) };
        let (table, rows, replaces) = (sending.table, sending.rows, sending.replaces);
        let rest = Bytes::from(std::mem::take(&mut sending.buffer));
        if !rest.is_empty() {
            // Whether the server has ended the statement is told by its end.
            let _ = self.runtime.block_on(sending.sender.send(rest));
        }
        let Loaded { affected, warnings } = self.ended(sending)?;
        // A row that takes the place of another counts twice.
        let doubles = if replaces { affected.saturating_sub(rows) } else { 0 };
        if warnings > 0 || affected != rows + doubles {
            return Err(self.refused_rows(rows, affected));
        }
        Ok(Some((table, doubles)))
    }

    /// Gives up what is on its way: what was sent is undone with the transaction it belongs to.
    pub(super) fn give_up_stream(&mut self) {
        if let Some(sending) = self.sending.take() {
            let _ = self.ended(sending);
        }
    }

    /// What the server says at the end of the rows. The connection is free from then on.
    fn ended(&mut self, sending: Sending) -> Result<Loaded, StoreError> {
        let Sending { sender, done, .. } = sending;
        drop(sender);
        let Ok((conn, loaded)) = self.runtime.block_on(done) else {
            return Err(self.lost("the driver panicked"));
        };
        self.conn = Some(conn);
        loaded.map_err(|error| self.failed(&error))
    }

    /// Why the server did not take all rows as they are: its first warning.
    fn refused_rows(&mut self, sent: u64, affected: u64) -> StoreError {
        let warnings =
            self.with(async |conn| conn.query::<(String, u32, String), _>("SHOW WARNINGS LIMIT 1").await);
        let first = warnings.unwrap_or_default().into_iter().next().map(|(_, _, message)| message);
        let why = first.unwrap_or_else(|| format!("of {sent} rows, it took {affected}"));
        StoreError::RowRefused { shown: self.shown.clone(), why }
    }

    /// Sends rows by INSERT statements, which fail where a row does not fit.
    pub(super) fn insert_rows(
        &mut self,
        target: &mut TargetTable<Form>,
        of_file: RowsOfFile<'_>,
        range: Range<usize>,
    ) -> Result<Sent, StoreError> {
        let RowsOfFile { file, lineage, rows } = of_file;
        let most = STATEMENT.min(self.facts.largest_packet / 2).max(1024);
        let head = target.form.insert.clone();
        self.note_write();
        let (count, mut statement, mut in_it) = (range.len() as u64, Vec::new(), 0u64);
        for index in range {
            target.sent += 1;
            let sequence = target.staged.then_some(target.sent);
            statement.extend_from_slice(if in_it == 0 { head.as_bytes() } else { b"," });
            let origin = RowOrigin { file, lineage, sequence };
            put_row(&mut statement, Spelling::Values, (rows, index), &target.form.wires, origin);
            in_it += 1;
            if statement.len() >= most {
                target.missing += self.insert_statement(&statement, in_it)?;
                statement.clear();
                in_it = 0;
            }
        }
        if in_it > 0 {
            target.missing += self.insert_statement(&statement, in_it)?;
        }
        Ok(Sent { taken: count, refused: Vec::new() })
    }

    /// Runs an INSERT of so many rows; gives how many took the place of others.
    fn insert_statement(&mut self, statement: &[u8], rows: u64) -> Result<u64, StoreError> {
        if statement.len() + 1024 > self.facts.largest_packet {
            let why = format!(
                "a row of {} bytes is more than the server takes at once; raise its max_allowed_packet, now {}",
                statement.len(),
                self.facts.largest_packet
            );
            return Err(StoreError::RowRefused { shown: self.shown.clone(), why });
        }
        let loaded = self.with(async |conn| {
            conn.query_drop(statement).await?;
            Ok(Loaded { affected: conn.affected_rows(), warnings: conn.get_warnings() })
        })?;
        match loaded.affected.checked_sub(rows) {
            Some(doubles) if loaded.warnings == 0 => Ok(doubles),
            _ => Err(self.refused_rows(rows, loaded.affected)),
        }
    }
}
