//! The clock.

/// Now: microseconds since 1970-01-01T00:00:00Z.
pub fn now() -> i64 {
    jiff::Timestamp::now().as_microsecond()
}
