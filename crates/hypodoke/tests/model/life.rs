//! Lives of a feed that nobody chose.

use proptest::prelude::*;

/// A row of a file: its key, what it says, and what is nested in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    pub key: u8,
    /// `None` is a value that the column does not take.
    pub value: Option<u8>,
    pub legs: Vec<u8>,
}

/// What happens to a feed.
#[derive(Clone, Debug)]
pub enum Step {
    /// A file is sent, for the first time or again; `at` is when it was modified where it is new.
    Send { day: u8, part: u8, at: u16, rows: Vec<Row> },
    /// A file is sent again as it is.
    SendAgain(usize),
    /// A file comes under another name with what another holds.
    Copy { from: usize, day: u8, part: u8, at: u16 },
    /// What has come is loaded.
    Load,
    /// What has come is loaded by a process that ends at one of the points of a load, by its number; then what
    /// is left is loaded.
    Killed(u16),
    /// The rows of a file are taken out.
    Retract(usize),
    /// A file is loaded again.
    Replay(usize),
    /// The rejects of a file are corrected and loaded.
    Mend(usize),
    /// A file goes from its place.
    Remove(usize),
    /// Something happens to the tables, and then all files are loaded again.
    Lose(Loss),
}

/// What happens to the tables.
#[derive(Clone, Copy, Debug)]
pub enum Loss {
    Dropped,
    Emptied,
    /// The rows of every other key are deleted.
    SomeKeys,
    /// The rows of the file that was loaded last are deleted.
    NewestFile,
}

fn row() -> impl Strategy<Value = Row> {
    let value = prop_oneof![8 => (0..4u8).prop_map(Some), 1 => Just(None)];
    (0..5u8, value, prop::collection::vec(0..3u8, 0..3)).prop_map(|(key, value, legs)| Row {
        key,
        value,
        legs,
    })
}

fn rows() -> impl Strategy<Value = Vec<Row>> {
    prop::collection::vec(row(), 1..6)
}

fn loss() -> impl Strategy<Value = Loss> {
    prop_oneof![Just(Loss::Dropped), Just(Loss::Emptied), Just(Loss::SomeKeys), Just(Loss::NewestFile)]
}

fn step() -> impl Strategy<Value = Step> {
    let send = (0..5u8, 0..2u8, 0..500u16, rows());
    prop_oneof![
        6 => send.prop_map(|(day, part, at, rows)| Step::Send { day, part, at, rows }),
        1 => any::<usize>().prop_map(Step::SendAgain),
        1 => (any::<usize>(), 0..5u8, 0..2u8, 0..500u16)
            .prop_map(|(from, day, part, at)| Step::Copy { from, day, part, at }),
        5 => Just(Step::Load),
        1 => (0..400u16).prop_map(Step::Killed),
        2 => any::<usize>().prop_map(Step::Retract),
        2 => any::<usize>().prop_map(Step::Replay),
        2 => any::<usize>().prop_map(Step::Mend),
        1 => any::<usize>().prop_map(Step::Remove),
        1 => loss().prop_map(Step::Lose),
    ]
}

/// A life of a feed.
pub fn life() -> impl Strategy<Value = Vec<Step>> {
    prop::collection::vec(step(), 1..18)
}
