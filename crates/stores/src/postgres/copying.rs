//! Rows on their way to the server by COPY.

use std::ops::Range;

use bytes::{BufMut, BytesMut};
use futures_util::SinkExt;
use tokio_postgres::Error;

use super::connection::PostgresStore;
use super::copy::{CopyForm, HEADER, RowOrigin, TRAILER, put_row};
use super::open_copy::Copying;
use crate::error::StoreError;
use crate::sql::{SqlConnection, SqlDatabase};
use crate::tables::load_target::{RowsOfFile, Sent};
use crate::tables::target_table::TargetTable;

/// How much is put together before it is handed to the connection, in bytes: about what the
/// processors on both sides keep at hand.
const CHUNK: usize = 32 * 1024;

impl PostgresStore {
    /// Sends rows by the COPY that is open, or a new one.
    pub(super) fn copy_rows(
        &mut self,
        at: usize,
        target: &mut TargetTable<CopyForm>,
        of_file: RowsOfFile<'_>,
        range: Range<usize>,
    ) -> Result<Sent, StoreError> {
        if self.copying.is_none() {
            self.open_copy(at, &target.form.sql)?;
        }
        let Some(copying) = &mut self.copying else { return Ok(Sent::default()) };
        let RowsOfFile { file, lineage, rows } = of_file;
        let count = range.len() as u64;
        copying.rows += count;
        for index in range {
            target.sent += 1;
            let sequence = target.staged.then_some(target.sent);
            let origin = RowOrigin { file, lineage, sequence };
            put_row(&mut copying.buffer, rows, index, &target.form.wires, origin);
            if copying.buffer.len() >= CHUNK {
                let chunk = copying.buffer.split().freeze();
                let fed = self.runtime.block_on(copying.sink.feed(chunk));
                if let Err(error) = fed {
                    return Err(self.copy_failure(&error));
                }
                copying.buffer.reserve(CHUNK + 4096);
            }
        }
        Ok(Sent { taken: count, refused: Vec::new() })
    }

    /// Why a COPY broke off. The server's own reason comes with its answer.
    fn copy_failure(&mut self, error: &Error) -> StoreError {
        if error.code().is_none()
            && let Some(mut copying) = self.copying.take()
            && let Err(answer) = self.runtime.block_on(copying.sink.as_mut().finish())
        {
            return self.fail(&answer);
        }
        self.fail(error)
    }

    fn open_copy(&mut self, table: usize, sql: &str) -> Result<(), StoreError> {
        let sink = match self.run(self.client.copy_in(sql)) {
            Ok(sink) => sink,
            Err(error) => {
                // The connection is of no use after this. Within a group there is no going on, and
                // whoever goes on with another file finds one that is.
                if !self.is_shared() {
                    let _ = self.connect_anew();
                }
                return Err(error);
            }
        };
        let mut buffer = BytesMut::with_capacity(CHUNK + 4096);
        buffer.put_slice(HEADER);
        self.copying = Some(Copying { table, sink: Box::pin(sink), buffer, rows: 0 });
        Ok(())
    }

    /// Ends the COPY that is open; gives its table's place in the plan, and how many rows the server did not
    /// put in.
    pub(super) fn close_copy(&mut self) -> Result<Option<(usize, u64)>, StoreError> {
        let Some(mut copying) = self.copying.take() else { return Ok(None) };
        copying.buffer.put_i16(TRAILER);
        let rest = copying.buffer.split().freeze();
        let done = self.runtime.block_on(async {
            copying.sink.feed(rest).await?;
            copying.sink.as_mut().finish().await
        });
        let taken = done.map_err(|error| self.fail(&error))?;
        Ok(Some((copying.table, copying.rows.saturating_sub(taken))))
    }
}
