//! Rows on their way to the server: by COPY, or in lots that are undone by themselves.

use bytes::{BufMut, BytesMut};
use futures_util::SinkExt;
use hypodoke_core::cast::Rows;
use tokio_postgres::Error;

use super::writer::{Copying, PostgresWriter};
use crate::error::StoreError;
use crate::postgres::copy::{HEADER, RowOrigin, TRAILER, put_row};
use crate::sink::Sink as _;
use crate::sql::{Scope, SqlConnection};

/// How much is put together before it is handed to the connection, in bytes: about what the
/// processors on both sides keep at hand.
const CHUNK: usize = 32 * 1024;

impl PostgresWriter<'_> {
    /// Sends rows by the COPY that is open, or a new one.
    pub(super) fn send(
        &mut self,
        table: usize,
        rows: &Rows,
        range: std::ops::Range<usize>,
    ) -> Result<u64, StoreError> {
        if self.copying.as_ref().is_none_or(|copying| copying.table != table) {
            self.close_copy()?;
            self.open_copy(table)?;
        }
        let (Some(target), Some(copying)) = (&mut self.targets[table], &mut self.copying) else {
            return Ok(0);
        };
        let lineage = self.plan.tables[table].lineage;
        let count = range.len() as u64;
        copying.rows += count;
        for index in range {
            target.sent += 1;
            let sequence = target.staged.then_some(target.sent);
            let origin = RowOrigin { file: self.file, lineage, sequence };
            put_row(&mut copying.buffer, rows, index, &target.wires, origin);
            if copying.buffer.len() >= CHUNK {
                let chunk = copying.buffer.split().freeze();
                let fed = self.store.runtime.block_on(copying.sink.feed(chunk));
                if let Err(error) = fed {
                    return Err(self.copy_failure(&error));
                }
                copying.buffer.reserve(CHUNK + 4096);
            }
        }
        Ok(count)
    }

    /// Why a COPY broke off. The server's own reason comes with its answer.
    fn copy_failure(&mut self, error: &Error) -> StoreError {
        if error.code().is_none()
            && let Some(mut copying) = self.copying.take()
            && let Err(answer) = self.store.runtime.block_on(copying.sink.as_mut().finish())
        {
            return self.store.fail(&answer);
        }
        self.store.fail(error)
    }

    fn open_copy(&mut self, table: usize) -> Result<(), StoreError> {
        let Some(target) = &self.targets[table] else { return Ok(()) };
        let sink = match self.store.run(self.store.client.copy_in(&target.sql)) {
            Ok(sink) => sink,
            Err(error) => {
                // The connection is of no use after this. Within a group there is no going on, and
                // whoever goes on with another file finds one that is.
                if self.store.group.is_none() {
                    let _ = self.store.reconnect();
                }
                return Err(error);
            }
        };
        let mut buffer = BytesMut::with_capacity(CHUNK + 4096);
        buffer.put_slice(HEADER);
        self.copying = Some(Copying { table, sink: Box::pin(sink), buffer, rows: 0 });
        Ok(())
    }

    pub(super) fn close_copy(&mut self) -> Result<(), StoreError> {
        let Some(mut copying) = self.copying.take() else { return Ok(()) };
        copying.buffer.put_i16(TRAILER);
        let rest = copying.buffer.split().freeze();
        let done = self.store.runtime.block_on(async {
            copying.sink.feed(rest).await?;
            copying.sink.as_mut().finish().await
        });
        let taken = done.map_err(|error| self.store.fail(&error))?;
        if let Some(target) = &mut self.targets[copying.table] {
            target.missing += copying.rows.saturating_sub(taken);
        }
        Ok(())
    }

    /// Sends rows in lots, each undone by itself: one that the server refuses is halved until the
    /// row is found that it will not have.
    pub(super) fn send_carefully(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        let mut lots = Vec::from([(0, rows.len())]);
        let mut refused = Vec::new();
        let mut sent = 0;
        while let Some((from, to)) = lots.pop() {
            let lot = from..to;
            if lot.is_empty() {
                continue;
            }
            self.close_copy()?;
            self.store.begin(Scope::Lot)?;
            let count = lot.len() as u64;
            let done = self.send(table, rows, lot.clone()).and_then(|_| self.close_copy());
            match done {
                Ok(()) => {
                    self.store.commit(Scope::Lot)?;
                    sent += count;
                }
                Err(StoreError::RowRefused { why, .. }) => {
                    self.copying = None;
                    self.store.rollback(Scope::Lot)?;
                    if lot.len() == 1 {
                        refused.push((from, why));
                    } else {
                        let middle = from + lot.len() / 2;
                        lots.push((middle, to));
                        lots.push((from, middle));
                    }
                }
                Err(error) => return Err(error),
            }
        }
        for (index, why) in refused {
            let reject = rows.refuse(index, None, format!("the table refused it: {why}"));
            rows.rejects.push(reject);
        }
        Ok(sent)
    }
}
