//! The laws of loading, on lives of a feed that nobody chose: files come, are sent again and are taken
//! away, commits are lost and readers panic. Whatever happened, once it is calm the table holds the rows
//! of every file as it was last sent, each once.

mod quay;

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};

use hypodoke_engine::event::{Event, Listener};
use proptest::prelude::*;
use quay::Quay;

/// What happens to a feed.
#[derive(Clone, Debug)]
enum Happening {
    /// A file is sent, or sent again, with so many rows from a number on.
    Sent { file: u8, first: u8, rows: u8 },
    /// What comes is loaded.
    Load,
    /// The next commits are lost with the connection.
    CommitsLost(u32),
    /// A reader panics over the first file of the next load.
    Panic,
}

fn happening() -> impl Strategy<Value = Happening> {
    prop_oneof![
        4 => (0..5u8, 0..9u8, 1..4u8).prop_map(|(file, first, rows)| Happening::Sent { file, first, rows }),
        3 => Just(Happening::Load),
        1 => (1..2u32).prop_map(Happening::CommitsLost),
        1 => Just(Happening::Panic),
    ]
}

/// Panics over the first bytes that are read, once it is told to.
#[derive(Default)]
struct Faulty(AtomicBool);

impl Listener for Faulty {
    fn on(&self, event: &Event) {
        let is_read = matches!(event, Event::Progress { .. });
        assert!(!(is_read && self.0.swap(false, Ordering::SeqCst)), "a fault in a reader");
    }
}

fn rows_of(file: u8, first: u8, rows: u8) -> Vec<String> {
    (first..first + rows).map(|row| format!("F{file}-{row},{row}.5")).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    #[test]
    fn the_table_holds_the_rows_of_every_file_as_it_was_last_sent(
        happenings in prop::collection::vec(happening(), 1..16),
    ) {
        let mut quay = Quay::with(&[]);
        let faulty = Faulty::default();
        let mut sent: BTreeMap<u8, Vec<String>> = BTreeMap::new();
        for happening in happenings {
            match happening {
                Happening::Sent { file, first, rows } => {
                    let lines = rows_of(file, first, rows);
                    quay.place.put(&format!("f{file}.csv"), &format!("berth,draught\n{}\n", lines.join("\n")));
                    sent.insert(file, lines);
                }
                Happening::Load => drop(quay.load_told(&faulty)),
                Happening::CommitsLost(times) => quay.store.lost_commits = times,
                Happening::Panic => faulty.0.store(true, Ordering::SeqCst),
            }
        }
        // Calm: nothing fails any more.
        quay.store.lost_commits = 0;
        quay.load();
        let mut expected: Vec<String> = sent.into_values().flatten().collect();
        expected.sort();
        prop_assert_eq!(quay.rows(), expected);
        // The same again changes nothing.
        prop_assert_eq!(quay.load().receipt.totals.files_loaded, 0);
    }
}
