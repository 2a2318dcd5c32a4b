//! Moments as people read them.

use jiff::Timestamp;
use jiff::tz::TimeZone;

/// `2026-03-02 07:15`, in the machine's time zone; `TZ` decides it.
pub fn minute(micros: i64) -> String {
    let moment = Timestamp::from_microsecond(micros).unwrap_or_default();
    moment.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string()
}
