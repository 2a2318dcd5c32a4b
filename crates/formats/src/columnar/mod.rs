//! Columnar files: Parquet, and Arrow IPC as file and as stream. Their columns are declared, and their
//! values travel as what they are.
//!
//! `parquet` and `ipc` give batches of columns; `shape` says which tables and columns these make;
//! `values` turns them into cells, `rows` lists into the rows of child tables, `json` what stays
//! nested into JSON; `reader` puts it into batches of records.

mod ipc;
mod json;
mod lists;
mod parquet;
mod reader;
mod rows;
mod shape;
mod source;
mod values;

pub use reader::ColumnarReader;
pub use source::Columnar;
