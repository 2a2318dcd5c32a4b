//! The receipt, collected of a batch's events.

use std::sync::{Mutex, PoisonError};

use crate::event::{Event, Listener};
use crate::receipt::{Conflict, ReceiptLine};

/// Collects what a receipt tells of.
#[derive(Debug, Default)]
pub struct Collector(Mutex<Collected>);

#[derive(Debug, Default)]
struct Collected {
    lines: Vec<((usize, usize), ReceiptLine)>,
    conflicts: Vec<(usize, Conflict)>,
}

impl Collector {
    /// The lines and the conflicts, in the order of the feeds and their files.
    pub fn finish(self) -> (Vec<ReceiptLine>, Vec<Conflict>) {
        let Collected { mut lines, mut conflicts } =
            self.0.into_inner().unwrap_or_else(PoisonError::into_inner);
        lines.sort_by_key(|(position, _)| *position);
        conflicts.sort_by_key(|(feed, _)| *feed);
        let lines = lines.into_iter().map(|(_, line)| line).collect();
        (lines, conflicts.into_iter().map(|(_, conflict)| conflict).collect())
    }
}

impl Listener for Collector {
    fn on(&self, event: &Event) {
        let collected = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match event {
            Event::FileEnded { position, line, .. } => {
                collected().lines.push((*position, ReceiptLine::clone(line)));
            }
            Event::ConflictFound { feed, conflict } => collected().conflicts.push((*feed, conflict.clone())),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;

    #[test]
    fn lines_stand_in_the_order_of_feeds_and_files_whoever_was_first() {
        let collector = Collector::default();
        for (feed, at) in [(1, 0), (0, 1), (0, 0)] {
            let line = Arc::new(ReceiptLine { path: format!("{feed}/{at}"), ..ReceiptLine::default() });
            collector.on(&Event::FileEnded { batch: 1, position: (feed, at), line });
        }
        let paths: Vec<String> = collector.finish().0.into_iter().map(|line| line.path).collect();
        assert_eq!(paths, ["0/0", "0/1", "1/0"]);
    }
}
