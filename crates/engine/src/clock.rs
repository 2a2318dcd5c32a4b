//! The clock.

/// Now: microseconds since 1970-01-01T00:00:00Z.
pub fn now() -> i64 {
    jiff::Timestamp::now().as_microsecond()
}

/// A moment as RFC 3339 writes it, to the second. `micros` are microseconds since 1970.
///
/// ```
/// assert_eq!(hypodoke_engine::clock::rfc3339(1_500_000), "1970-01-01T00:00:02Z");
/// ```
pub fn rfc3339(micros: i64) -> String {
    let moment = jiff::Timestamp::from_microsecond(micros).unwrap_or_default();
    moment.round(jiff::Unit::Second).unwrap_or(moment).to_string()
}
