//! Batches of columns, and which of the formats they come in.

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;

use crate::error::ReadError;

/// Which of the formats a file has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Columnar {
    /// Parquet.
    Parquet,
    /// An Arrow IPC file.
    ArrowFile,
    /// An Arrow IPC stream.
    ArrowStream,
}

/// Batches of columns, one after another.
pub trait BatchSource: Send {
    /// The columns.
    fn schema(&self) -> SchemaRef;

    /// The next rows, as few as memory asks for; `None` at the end.
    fn next(&mut self) -> Result<Option<RecordBatch>, ReadError>;

    /// What is worth knowing of how the file is written, each in a few words.
    fn remarks(&self) -> Vec<String>;

    /// Whether the end of the file is missing, known once it is read.
    fn is_cut(&self) -> bool {
        false
    }
}
