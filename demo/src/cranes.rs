//! Telemetry of the cranes: every lift of a quay and a day as a Parquet file, in folders that say which.

use std::io;
use std::sync::Arc;

use arrow_array::builder::{
    Decimal128Builder, Float64Builder, ListBuilder, StringBuilder, StringDictionaryBuilder, StructBuilder,
    TimestampMicrosecondBuilder,
};
use arrow_array::types::Int16Type;
use arrow_array::{ArrayRef, RecordBatch};
use arrow_schema::{DataType, Field, Fields};
use parquet::arrow::ArrowWriter;
use parquet::basic::Compression;
use parquet::file::properties::WriterProperties;

use crate::movements::iso;
use crate::random::Random;

/// The quays that have cranes.
pub const QUAYS: [&str; 2] = ["north", "south"];

const CRANES: [&str; 3] = ["Heron", "Bittern", "Egret"];
const ALARMS: [&str; 3] = ["overload", "wind", "slack rope"];

/// Microseconds from 1970 to the first of January 2026.
const YEAR_2026: i64 = 1_767_225_600_000_000;
const DAY: i64 = 86_400_000_000;

/// From this day of the week on the spreaders are told, too.
const WITH_SPREADER: u32 = 4;

/// How many lifts a quay has on a day.
pub fn count(quay: usize, day: u32) -> usize {
    40 + (day as usize * 13 + quay * 5) % 23
}

/// The key of a quay's file of a day, which is counted from the first of January.
pub fn key(quay: usize, date: u32) -> String {
    let quay = QUAYS.get(quay).copied().unwrap_or_default();
    format!("telemetry/quay={quay}/day={}/part-0.parquet", iso(date))
}

/// The file of a quay and a day of a week that begins on `monday`.
pub fn file(quay: usize, monday: u32, day: u32) -> io::Result<Vec<u8>> {
    lifts(quay, monday + day, count(quay, day), day >= WITH_SPREADER)
}

/// A file of so many lifts of a day.
pub fn lifts(quay: usize, date: u32, count: usize, with_spreader: bool) -> io::Result<Vec<u8>> {
    let mut random = Random::new(9_000 + 100 * quay as u64 + u64::from(date));
    let mut columns = Columns::new();
    for at in 0..count {
        columns.add(&mut random, date, at, count);
    }
    let batch = columns.finish(with_spreader).map_err(io::Error::other)?;
    let properties = WriterProperties::builder().set_compression(Compression::SNAPPY).build();
    let mut out = Vec::new();
    let mut writer =
        ArrowWriter::try_new(&mut out, batch.schema(), Some(properties)).map_err(io::Error::other)?;
    writer.write(&batch).map_err(io::Error::other)?;
    writer.close().map_err(io::Error::other)?;
    Ok(out)
}

/// The columns of a file being made.
struct Columns {
    cranes: StringDictionaryBuilder<Int16Type>,
    lifted: TimestampMicrosecondBuilder,
    gross: Decimal128Builder,
    wind: Float64Builder,
    spreaders: StringBuilder,
    alarms: ListBuilder<StructBuilder>,
}

impl Columns {
    fn new() -> Columns {
        let fields = Fields::from(vec![
            Field::new("code", DataType::Utf8, true),
            Field::new("seconds", DataType::Float64, true),
        ]);
        Columns {
            cranes: StringDictionaryBuilder::new(),
            lifted: TimestampMicrosecondBuilder::new().with_timezone("UTC"),
            gross: Decimal128Builder::new().with_data_type(DataType::Decimal128(7, 3)),
            wind: Float64Builder::new(),
            spreaders: StringBuilder::new(),
            alarms: ListBuilder::new(StructBuilder::from_fields(fields, 8)),
        }
    }

    fn add(&mut self, random: &mut Random, date: u32, at: usize, count: usize) {
        let step = DAY / count.max(1) as i64;
        self.cranes.append_value(random.pick(&CRANES));
        self.lifted.append_value(
            YEAR_2026 + i64::from(date) * DAY + at as i64 * step + random.below(60_000_000) as i64,
        );
        self.gross.append_value(i128::from(random.between(2_200, 41_000)));
        // The gauge of the wind ices up now and then.
        self.wind.append_option((!random.once_in(29)).then(|| random.below(2_400) as f64 / 100.0));
        self.spreaders.append_value(if random.once_in(3) { "40 ft" } else { "20 ft" });
        for _ in 0..if random.once_in(5) { 1 + random.below(2) } else { 0 } {
            let alarm = self.alarms.values();
            if let Some(code) = alarm.field_builder::<StringBuilder>(0) {
                code.append_value(random.pick(&ALARMS));
            }
            if let Some(seconds) = alarm.field_builder::<Float64Builder>(1) {
                seconds.append_value(random.below(900) as f64 / 10.0);
            }
            alarm.append(true);
        }
        self.alarms.append(true);
    }

    fn finish(mut self, with_spreader: bool) -> Result<RecordBatch, arrow_schema::ArrowError> {
        let gross = self.gross.finish();
        let mut columns: Vec<(&str, ArrayRef)> = vec![
            ("crane", Arc::new(self.cranes.finish())),
            ("lifted_at", Arc::new(self.lifted.finish())),
            ("gross_t", Arc::new(gross)),
            ("wind_ms", Arc::new(self.wind.finish())),
            ("alarms", Arc::new(self.alarms.finish())),
        ];
        if with_spreader {
            columns.push(("spreader", Arc::new(self.spreaders.finish())));
        }
        RecordBatch::try_from_iter(columns)
    }
}
