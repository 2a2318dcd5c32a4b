//! Moments as people read them: by the clock of this machine; `TZ` decides which that is.

use jiff::Timestamp;
use jiff::tz::TimeZone;

/// `2026-03-02 07:15`, in the machine's time zone.
pub fn minute(micros: i64) -> String {
    at(micros, TimeZone::system(), "%Y-%m-%d %H:%M")
}

/// `2026-03-02 07:15:20`, in the machine's time zone.
pub fn second(micros: i64) -> String {
    at(micros, TimeZone::system(), "%Y-%m-%d %H:%M:%S")
}

/// `2026-03-02`: a day that stands for itself, in no zone.
pub fn day(micros: i64) -> String {
    at(micros, TimeZone::UTC, "%Y-%m-%d")
}

/// The machine's time zone as people call it now: `CET`, `UTC`.
pub fn zone() -> String {
    Timestamp::now().to_zoned(TimeZone::system()).strftime("%Z").to_string()
}

/// The heading of a column of such moments: `when (CET)`.
pub fn heading() -> String {
    format!("when ({})", zone())
}

fn at(micros: i64, zone: TimeZone, pattern: &str) -> String {
    let moment = Timestamp::from_microsecond(micros).unwrap_or_default();
    moment.to_zoned(zone).strftime(pattern).to_string()
}
