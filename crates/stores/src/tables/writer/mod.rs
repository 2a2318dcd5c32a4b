//! One file going into the tables of a database: its rows in bulk, and its entry in the ledger.

mod begin;
mod file_writer;
mod finish;
mod merging;
mod rejected_keys;
mod sending;
mod withholding;

pub use file_writer::FileWriter;
