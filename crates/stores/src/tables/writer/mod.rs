//! One file going into the tables of a database: its rows in bulk, and its entry in the ledger.

mod careful;
mod file_writer;
mod merging;

pub use file_writer::FileWriter;
