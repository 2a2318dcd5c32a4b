//! When a feed is loaded, and when its files are due.

use std::time::Duration;

use jiff::civil::Time;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use super::cron::{Around, Cron};

/// When a feed is loaded. Without `every` and `cron` it is loaded as its files arrive.
#[derive(Clone, Debug)]
pub struct Schedule {
    /// So long after the last time.
    pub every: Option<Duration>,
    /// At times of the calendar.
    pub cron: Option<Cron>,
    /// As its files arrive, also where it has times.
    pub on_arrival: bool,
    /// Whose clock and calendar.
    pub zone: TimeZone,
    /// Only between these times of day; past midnight where the second is the earlier.
    pub hours: Option<(Time, Time)>,
    /// By when files should be there.
    pub due: Option<Cron>,
}

impl Default for Schedule {
    fn default() -> Schedule {
        let zone = TimeZone::system();
        Schedule { every: None, cron: None, on_arrival: true, zone, hours: None, due: None }
    }
}

/// A moment by which files should have been there, and the time that its files belong to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Due {
    /// By when.
    pub at: Timestamp,
    /// Files count for it from here on: half way from the moment before.
    pub from: Timestamp,
    /// Until here: half way to the next.
    pub until: Timestamp,
}

impl Schedule {
    /// The first time after another at which the feed is to be loaded by the clock; `None` if it is
    /// only loaded on arrival.
    pub fn next(&self, last: Timestamp) -> Option<Timestamp> {
        let by_span = self.every.and_then(|span| last.checked_add(signed(span)).ok());
        let by_calendar = self.cron.as_ref().and_then(|cron| cron.next(last, &self.zone));
        let next = by_span.into_iter().chain(by_calendar).min()?;
        Some(self.opening(next))
    }

    /// That moment, or the next at which the feed may be loaded.
    pub fn opening(&self, at: Timestamp) -> Timestamp {
        let Some((from, until)) = self.hours else { return at };
        let local = self.zone.to_datetime(at);
        let (time, is_over_night) = (local.time(), until <= from);
        let is_open = if is_over_night { time >= from || time < until } else { time >= from && time < until };
        if is_open {
            return at;
        }
        let day = if time < from { Ok(local.date()) } else { local.date().tomorrow() };
        let opening = day.and_then(|day| self.zone.to_timestamp(day.to_datetime(from)));
        opening.unwrap_or(at).max(at)
    }

    /// The last moment up to now by which files should have been there.
    pub fn due(&self, now: Timestamp) -> Option<Due> {
        let Around { before, last, next } = self.due.as_ref()?.around(now, &self.zone)?;
        Some(Due { at: last, from: between(before, last), until: between(last, next) })
    }

    /// The next such moment.
    pub fn next_due(&self, now: Timestamp) -> Option<Timestamp> {
        self.due.as_ref()?.next(now, &self.zone)
    }
}

fn between(a: Timestamp, b: Timestamp) -> Timestamp {
    let half = a.duration_until(b).checked_div(2).unwrap_or(SignedDuration::ZERO);
    a.checked_add(half).unwrap_or(b)
}

/// A span as the calendar's library has it.
pub fn signed(span: Duration) -> SignedDuration {
    SignedDuration::try_from(span).unwrap_or(SignedDuration::MAX)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn moment(text: &str) -> Timestamp {
        text.parse().expect("a moment")
    }

    fn schedule() -> Schedule {
        Schedule { zone: TimeZone::get("Europe/Berlin").expect("a zone"), ..Schedule::default() }
    }

    fn time(text: &str) -> Time {
        text.parse().expect("a time")
    }

    #[rstest]
    #[case::open("06:00", "20:00", "2026-03-02T09:00:00Z", "2026-03-02T09:00:00Z")]
    #[case::too_early("06:00", "20:00", "2026-03-02T03:00:00Z", "2026-03-02T05:00:00Z")]
    #[case::just_closed("06:00", "20:00", "2026-03-02T19:00:00Z", "2026-03-03T05:00:00Z")]
    #[case::over_night_open("22:00", "04:00", "2026-03-02T23:00:00Z", "2026-03-02T23:00:00Z")]
    #[case::over_night_closed("22:00", "04:00", "2026-03-02T03:00:00Z", "2026-03-02T21:00:00Z")]
    #[case::opens_in_the_gap("02:30", "05:00", "2026-03-29T00:00:00Z", "2026-03-29T01:30:00Z")]
    #[case::last_of_the_month("06:00", "20:00", "2026-02-28T21:00:00Z", "2026-03-01T05:00:00Z")]
    fn loads_wait_for_their_hours(
        #[case] from: &str,
        #[case] until: &str,
        #[case] at: &str,
        #[case] opening: &str,
    ) {
        let schedule = Schedule { hours: Some((time(from), time(until))), ..schedule() };
        assert_eq!(schedule.opening(moment(at)), moment(opening));
    }

    #[test]
    fn the_earlier_of_span_and_calendar_comes_first() {
        let cron = Some(Cron::parse("0 10 * * *").expect("a cron line"));
        let schedule = Schedule { every: Some(Duration::from_secs(3600)), cron, ..schedule() };
        assert_eq!(schedule.next(moment("2026-03-02T08:30:00Z")), Some(moment("2026-03-02T09:00:00Z")));
        assert_eq!(schedule.next(moment("2026-03-02T09:00:00Z")), Some(moment("2026-03-02T10:00:00Z")));
    }

    #[test]
    fn files_count_for_the_nearest_moment_they_are_due() {
        let due = Some(Cron::parse("0 7 * * *").expect("a cron line"));
        let schedule = Schedule { due, zone: TimeZone::UTC, ..schedule() };
        let found = schedule.due(moment("2026-03-03T08:00:00Z")).expect("one");
        assert_eq!(found.at, moment("2026-03-03T07:00:00Z"));
        assert_eq!(
            (found.from, found.until),
            (moment("2026-03-02T19:00:00Z"), moment("2026-03-03T19:00:00Z"))
        );
    }
}
