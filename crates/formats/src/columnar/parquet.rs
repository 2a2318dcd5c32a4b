//! Parquet: its row groups, one after another, a few thousand rows at a time.

use std::collections::BTreeSet;
use std::io::{BufReader, Read, Seek, SeekFrom};
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_schema::{DataType, Field, FieldRef, Schema, SchemaRef, TimeUnit};
use bytes::Bytes;
use hypodoke_core::count;
use parquet::arrow::arrow_reader::{
    ArrowReaderMetadata, ArrowReaderOptions, ParquetRecordBatchReader, ParquetRecordBatchReaderBuilder,
};
use parquet::basic::{Compression, Type as Physical};
use parquet::errors::ParquetError;
use parquet::file::metadata::ParquetMetaData;
use parquet::file::reader::{ChunkReader, Length};

use super::source::BatchSource;
use crate::bytes::SeekableBytes;
use crate::error::ReadError;

/// How a file ends whose description is encrypted.
const ENCRYPTED: &[u8; 4] = b"PARE";

/// How a file begins and ends.
pub const MARK: &[u8; 4] = b"PAR1";

/// How many values are decoded at a time, over all columns.
const VALUES: usize = 1 << 18;

/// The most rows that are decoded at a time.
const MOST_ROWS: usize = 8192;

/// The row groups of a file.
pub struct ParquetSource {
    reader: ParquetRecordBatchReader,
    schema: SchemaRef,
    /// Rows that the file says it has, and those that came.
    expected: u64,
    came: u64,
    remarks: Vec<String>,
}

fn broken(error: impl std::fmt::Display) -> ReadError {
    let error = error.to_string();
    match error.to_lowercase().contains("encrypt") {
        true => ReadError::Encrypted { what: "Parquet" },
        false => ReadError::Columnar { what: "Parquet", error },
    }
}

impl ParquetSource {
    /// Opens a file.
    pub fn open(bytes: SeekableBytes) -> Result<ParquetSource, ReadError> {
        let mut end = [0; 4];
        if bytes.length() >= 12 {
            let mut reader = bytes.reader();
            reader.seek(SeekFrom::End(-4)).map_err(ReadError::from_io)?;
            reader.read_exact(&mut end).map_err(ReadError::from_io)?;
        }
        match &end {
            MARK => {}
            ENCRYPTED => return Err(ReadError::Encrypted { what: "Parquet" }),
            _ => return Err(broken("its end is missing: it was cut short, or is still being written")),
        }
        let chunks = Chunks::of(bytes).map_err(broken)?;
        let described = ArrowReaderMetadata::load(&chunks, ArrowReaderOptions::new()).map_err(broken)?;
        let described = as_read(described);
        let metadata = described.metadata().clone();
        let leaves = metadata.file_metadata().schema_descr().num_columns().max(1);
        let schema = described.schema().clone();
        let reader = ParquetRecordBatchReaderBuilder::new_with_metadata(chunks, described)
            .with_batch_size((VALUES / leaves).clamp(1, MOST_ROWS))
            .build()
            .map_err(broken)?;
        let expected = u64::try_from(metadata.file_metadata().num_rows()).unwrap_or_default();
        Ok(ParquetSource { reader, schema, expected, came: 0, remarks: remarks(&metadata) })
    }
}

impl BatchSource for ParquetSource {
    fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }

    fn next(&mut self) -> Result<Option<RecordBatch>, ReadError> {
        let Some(batch) = self.reader.next().transpose().map_err(broken)? else {
            if self.came != self.expected {
                let (expected, came) = (self.expected, self.came);
                return Err(broken(format!("it says that it has {expected} rows, and has {came}")));
            }
            return Ok(None);
        };
        self.came += batch.num_rows() as u64;
        Ok(Some(batch))
    }

    fn remarks(&self) -> Vec<String> {
        self.remarks.clone()
    }
}

fn remarks(metadata: &ParquetMetaData) -> Vec<String> {
    let groups = metadata.row_groups();
    let codecs: BTreeSet<&str> =
        groups.iter().flat_map(|group| group.columns()).map(|column| word(column.compression())).collect();
    let mut remarks = vec![count::of(groups.len() as u64, "row group", "row groups")];
    remarks.extend(codecs.into_iter().filter(|codec| !codec.is_empty()).map(str::to_owned));
    remarks
}

fn word(codec: Compression) -> &'static str {
    match codec {
        Compression::UNCOMPRESSED => "",
        Compression::SNAPPY => "snappy",
        Compression::GZIP(_) => "gzip",
        Compression::LZO => "lzo",
        Compression::BROTLI(_) => "brotli",
        Compression::LZ4 | Compression::LZ4_RAW => "lz4",
        Compression::ZSTD(_) => "zstd",
    }
}

/// The columns as they are best read: texts as views, which are not written out once more for every row of a
/// dictionary, and old moments of twelve bytes as microseconds, which reach further than nanoseconds do.
fn as_read(described: ArrowReaderMetadata) -> ArrowReaderMetadata {
    let metadata = described.metadata().clone();
    let leaves = metadata.file_metadata().schema_descr().columns();
    let is_old = |field: &Field| {
        let own = leaves.iter().find(|leaf| leaf.path().parts() == [field.name().clone()]);
        own.is_some_and(|leaf| leaf.physical_type() == Physical::INT96)
    };
    let top = |field: &FieldRef| -> FieldRef {
        match field.data_type() {
            DataType::Timestamp(TimeUnit::Nanosecond, zone) if is_old(field) => {
                let wider = DataType::Timestamp(TimeUnit::Microsecond, zone.clone());
                Arc::new(field.as_ref().clone().with_data_type(wider))
            }
            _ => viewed(field),
        }
    };
    let fields: Vec<FieldRef> = described.schema().fields().iter().map(top).collect();
    let schema = Schema::new_with_metadata(fields, described.schema().metadata().clone());
    let options = ArrowReaderOptions::new().with_schema(Arc::new(schema));
    ArrowReaderMetadata::try_new(metadata, options).unwrap_or(described)
}

fn viewed(field: &FieldRef) -> FieldRef {
    let data_type = match field.data_type() {
        DataType::Utf8 | DataType::LargeUtf8 => DataType::Utf8View,
        DataType::Binary | DataType::LargeBinary => DataType::BinaryView,
        DataType::Dictionary(_, value) => match value.as_ref() {
            DataType::Utf8 | DataType::LargeUtf8 => DataType::Utf8View,
            DataType::Binary | DataType::LargeBinary => DataType::BinaryView,
            other => other.clone(),
        },
        DataType::Struct(fields) => DataType::Struct(fields.iter().map(viewed).collect()),
        DataType::List(item) => DataType::List(viewed(item)),
        DataType::LargeList(item) => DataType::LargeList(viewed(item)),
        DataType::FixedSizeList(item, size) => DataType::FixedSizeList(viewed(item), *size),
        DataType::Map(entries, sorted) => DataType::Map(viewed(entries), *sorted),
        other => other.clone(),
    };
    Arc::new(field.as_ref().clone().with_data_type(data_type))
}

/// The bytes of a file, handed out in pieces.
struct Chunks {
    bytes: SeekableBytes,
    /// All of them, where they are in memory anyway.
    whole: Option<Bytes>,
}

impl Chunks {
    fn of(bytes: SeekableBytes) -> Result<Chunks, ParquetError> {
        Ok(Chunks { whole: bytes.in_memory().map(Bytes::from_owner), bytes })
    }
}

impl Length for Chunks {
    fn len(&self) -> u64 {
        self.bytes.length()
    }
}

impl ChunkReader for Chunks {
    type T = BufReader<SeekableBytes>;

    fn get_read(&self, start: u64) -> Result<Self::T, ParquetError> {
        let mut reader = self.bytes.reader();
        reader.seek(SeekFrom::Start(start))?;
        Ok(reader)
    }

    fn get_bytes(&self, start: u64, length: usize) -> Result<Bytes, ParquetError> {
        let beyond = || ParquetError::EOF("it points beyond its own end".to_owned());
        let end = start.checked_add(length as u64).filter(|end| *end <= self.len()).ok_or_else(beyond)?;
        if let Some(whole) = &self.whole {
            let range = usize::try_from(start).ok().zip(usize::try_from(end).ok());
            return range.map(|(start, end)| whole.slice(start..end)).ok_or_else(beyond);
        }
        let mut found = vec![0; length];
        self.get_read(start)?.read_exact(&mut found)?;
        Ok(found.into())
    }
}
