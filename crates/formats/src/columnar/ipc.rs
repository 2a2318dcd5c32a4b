//! Arrow IPC, as file and as stream (the Arrow columnar format, "Serialization and Interprocess
//! Communication"). A file holds a stream between its marks; both are read message by message.

use std::io::{BufReader, Read, Seek, SeekFrom};
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_buffer::Buffer;
use arrow_ipc::reader::StreamDecoder;
use arrow_ipc::{CompressionType, MessageHeader, root_as_message};
use arrow_schema::{ArrowError, Schema, SchemaRef};
use hypodoke_core::count;

use super::source::BatchSource;
use crate::bytes::SeekableBytes;
use crate::bytes::source::MOST_UNPACKED;
use crate::error::ReadError;

/// How a file begins and ends.
pub const MARK: &[u8; 6] = b"ARROW1";

/// Where the stream in a file begins.
const FILE_HEAD: u64 = 8;

/// What stands before the length of a message.
const CONTINUATION: [u8; 4] = [0xFF; 4];

/// How a stream says that it is over.
const END: &[u8] = &[0xFF, 0xFF, 0xFF, 0xFF, 0, 0, 0, 0];

/// The longest description of a message, in bytes.
const MOST_METADATA: u64 = 256 << 20;

/// The most rows of a batch.
const MOST_ROWS: i64 = 1 << 31;

/// The batches of a stream.
pub struct IpcSource {
    bytes: BufReader<SeekableBytes>,
    decoder: StreamDecoder,
    schema: SchemaRef,
    /// The first batch, which is met where the columns are looked for.
    first: Option<RecordBatch>,
    /// What the decoder is given once there is nothing more.
    ending: Option<Buffer>,
    is_cut: bool,
    batches: u64,
    codec: Option<&'static str>,
}

/// What comes next in a stream.
enum Next {
    /// A message: its kind, and all of it as it stands in the stream.
    Message { kind: MessageHeader, bytes: Vec<u8>, codec: Option<&'static str> },
    /// The stream says that it is over.
    End,
    /// There is nothing more, and nothing that says so.
    Nothing,
}

fn broken(error: ArrowError) -> ReadError {
    ReadError::Columnar { what: "Arrow", error: error.to_string() }
}

fn wrong(error: &str) -> ReadError {
    ReadError::Columnar { what: "Arrow", error: error.to_owned() }
}

impl IpcSource {
    /// The batches of a file.
    pub fn of_file(bytes: SeekableBytes) -> Result<IpcSource, ReadError> {
        let mut end = [0; 6];
        let mut reader = bytes.reader();
        let long_enough = bytes.length() >= FILE_HEAD + MARK.len() as u64;
        if long_enough {
            reader.seek(SeekFrom::End(-(MARK.len() as i64))).map_err(ReadError::from_io)?;
            reader.read_exact(&mut end).map_err(ReadError::from_io)?;
        }
        if end != *MARK {
            return Err(wrong("its end is missing: it was cut short, or is still being written"));
        }
        IpcSource::at(bytes, FILE_HEAD)
    }

    /// The batches of a stream.
    pub fn of_stream(bytes: SeekableBytes) -> Result<IpcSource, ReadError> {
        IpcSource::at(bytes, 0)
    }

    fn at(bytes: SeekableBytes, begin: u64) -> Result<IpcSource, ReadError> {
        let mut bytes = bytes.reader();
        bytes.seek(SeekFrom::Start(begin)).map_err(ReadError::from_io)?;
        let Next::Message { kind: MessageHeader::Schema, bytes: columns, .. } = next(&mut bytes)? else {
            return Err(wrong("it does not begin with its columns"));
        };
        let mut decoder = StreamDecoder::new();
        decoder.decode(&mut Buffer::from_vec(columns)).map_err(broken)?;
        // A message without a body is decoded once something follows it.
        let mut source = IpcSource {
            bytes,
            decoder,
            schema: Arc::new(Schema::empty()),
            first: None,
            ending: None,
            is_cut: false,
            batches: 0,
            codec: None,
        };
        source.first = source.decode_next()?;
        let Some(schema) = source.decoder.schema() else {
            return Err(wrong("it does not say what its columns are"));
        };
        source.schema = schema;
        Ok(source)
    }

    /// The next batch of rows; `None` at the end.
    fn decode_next(&mut self) -> Result<Option<RecordBatch>, ReadError> {
        loop {
            if let Some(ending) = &mut self.ending {
                return self.decoder.decode(ending).map_err(broken);
            }
            match next(&mut self.bytes)? {
                Next::Message { bytes, codec, .. } => {
                    self.codec = codec.or(self.codec);
                    if let Some(batch) = self.decoder.decode(&mut Buffer::from_vec(bytes)).map_err(broken)? {
                        return Ok(Some(batch));
                    }
                }
                Next::End => self.ending = Some(Buffer::from(END)),
                // A writer that was not broken off says that it has ended.
                Next::Nothing => (self.ending, self.is_cut) = (Some(Buffer::from(END)), true),
            }
        }
    }
}

impl BatchSource for IpcSource {
    fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }

    fn next(&mut self) -> Result<Option<RecordBatch>, ReadError> {
        let found = match self.first.take() {
            Some(first) => Some(first),
            None => self.decode_next()?,
        };
        self.batches += u64::from(found.is_some());
        Ok(found)
    }

    fn remarks(&self) -> Vec<String> {
        let batches = (self.batches > 0).then(|| count::of(self.batches, "batch", "batches"));
        batches.into_iter().chain(self.codec.map(str::to_owned)).collect()
    }

    fn is_cut(&self) -> bool {
        self.is_cut
    }
}

/// Reads the next message, without taking the file's word for how much memory it needs.
fn next(bytes: &mut impl Read) -> Result<Next, ReadError> {
    let mut whole = Vec::new();
    read_up_to(bytes, 4, &mut whole)?;
    if whole.is_empty() {
        return Ok(Next::Nothing);
    }
    let is_marked = whole == CONTINUATION;
    if is_marked {
        read_up_to(bytes, 4, &mut whole)?;
    }
    let length = whole.get(if is_marked { 4.. } else { 0.. }).and_then(|length| length.first_chunk::<4>());
    let length = u64::from(u32::from_le_bytes(*length.ok_or_else(cut_short)?));
    if length == 0 {
        return Ok(Next::End);
    }
    if length > MOST_METADATA {
        return Err(wrong("the description of a batch is longer than is possible"));
    }
    let begin = whole.len();
    read_up_to(bytes, length, &mut whole)?;
    let described = whole.get(begin..).filter(|described| described.len() as u64 == length);
    let message =
        root_as_message(described.ok_or_else(cut_short)?).map_err(|error| wrong(&error.to_string()))?;
    let kind = message.header_type();
    let body = u64::try_from(message.bodyLength()).map_err(|_| wrong("a batch is less than nothing"))?;
    let batch = match kind {
        MessageHeader::DictionaryBatch => message.header_as_dictionary_batch().and_then(|batch| batch.data()),
        _ => message.header_as_record_batch(),
    };
    let rows = batch.map_or(0, |batch| batch.length());
    if !(0..=MOST_ROWS).contains(&rows) {
        return Err(wrong("a batch has more rows than are possible"));
    }
    let compression = batch.and_then(|batch| batch.compression()).map(|compression| compression.codec());
    let buffers: Vec<(i64, i64)> =
        compression.and(batch).and_then(|batch| batch.buffers()).map_or_else(Vec::new, |buffers| {
            buffers.iter().map(|buffer| (buffer.offset(), buffer.length())).collect()
        });
    let begin = whole.len();
    read_up_to(bytes, body, &mut whole)?;
    let body_read = whole.get(begin..).unwrap_or_default();
    if body_read.len() as u64 != body {
        return Err(cut_short());
    }
    if unpacked(body_read, &buffers) > MOST_UNPACKED {
        return Err(ReadError::TooLarge { limit: MOST_UNPACKED });
    }
    let codec = compression.map(|codec| if codec == CompressionType::ZSTD { "zstd" } else { "lz4" });
    Ok(Next::Message { kind, bytes: whole, codec })
}

fn cut_short() -> ReadError {
    wrong("it breaks off within a batch")
}

/// Reads so many bytes behind those that are there, fewer where there are no more.
fn read_up_to(bytes: &mut impl Read, count: u64, into: &mut Vec<u8>) -> Result<(), ReadError> {
    Read::by_ref(bytes).take(count).read_to_end(into).map(|_| ()).map_err(ReadError::from_io)
}

/// How many bytes the buffers of a batch say that they are once they are unpacked. Each says so before
/// itself, or that it is not packed.
fn unpacked(body: &[u8], buffers: &[(i64, i64)]) -> u64 {
    let said = buffers.iter().filter_map(|(offset, length)| {
        let at = usize::try_from(*offset).ok().filter(|_| *length > 0)?;
        Some(i64::from_le_bytes(*body.get(at..)?.first_chunk::<8>()?))
    });
    said.filter_map(|bytes| u64::try_from(bytes).ok()).fold(0, u64::saturating_add)
}
