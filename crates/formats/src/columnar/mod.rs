//! Columnar files: Parquet, and Arrow IPC as file and as stream. Their columns are declared, and their
//! values travel as what they are.
//!
//! [`parquet`] and [`ipc`] give batches of columns; [`shape`] says which tables and columns these make;
//! [`values`] turns them into cells, [`rows`] lists into the rows of child tables, [`json`] what stays
//! nested into JSON; [`reader`] puts it into batches of records.

mod ipc;
mod json;
mod parquet;
mod reader;
mod rows;
mod shape;
mod values;

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;

pub use reader::ColumnarReader;

use crate::bytes::SeekableBytes;
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
trait BatchSource: Send {
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

fn open(bytes: SeekableBytes, format: Columnar) -> Result<Box<dyn BatchSource>, ReadError> {
    Ok(match format {
        Columnar::Parquet => Box::new(parquet::ParquetSource::open(bytes)?),
        Columnar::ArrowFile => Box::new(ipc::IpcSource::of_file(bytes)?),
        Columnar::ArrowStream => Box::new(ipc::IpcSource::of_stream(bytes)?),
    })
}
