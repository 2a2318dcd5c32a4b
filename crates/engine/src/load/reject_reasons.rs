//! Why rows of a file are rejected, in short.

use hypodoke_core::cast::Reject;

use crate::receipt::RejectReason;

/// The most reasons that are told apart; a file with more has a list of its own.
const MOST_REASONS: usize = 8;

/// Counts the reasons of a file's rejects.
#[derive(Clone, Debug, Default)]
pub struct RejectReasons(Vec<RejectReason>);

impl RejectReasons {
    /// Takes rejects in.
    pub fn add(&mut self, rejects: &[Reject]) {
        for reject in rejects {
            let is_same =
                |known: &&mut RejectReason| known.column == reject.column && known.reason == reject.reason;
            let is_full = self.0.len() >= MOST_REASONS;
            match self.0.iter_mut().find(is_same) {
                Some(known) => known.rows += 1,
                None if is_full => {}
                None => self.0.push(RejectReason {
                    column: reject.column.clone(),
                    reason: reject.reason.clone(),
                    rows: 1,
                    line: reject.line,
                    value: reject.value.clone(),
                }),
            }
        }
    }

    /// The reasons, the commonest first.
    pub fn finish(mut self) -> Vec<RejectReason> {
        self.0.sort_by_key(|reason| (std::cmp::Reverse(reason.rows), reason.line));
        self.0
    }
}
