//! Times by the five fields of cron, in a time zone.

use cronexpr::{Crontab, FallbackTimezoneOption, ParseOptions, parse_crontab_with};
use jiff::civil::DateTime;
use jiff::tz::{AmbiguousOffset, TimeZone};
use jiff::{SignedDuration, Timestamp};

/// Longer than any clock is put forward or back.
const SHIFT: SignedDuration = SignedDuration::from_hours(3);

/// Minutes of the calendar: minute, hour, day of the month, month, day of the week.
///
/// Where the clock is put forward, a time of day that is left out comes when the clock has been put
/// forward; where it is put back, it comes once. Times that come every hour come every real hour.
#[derive(Clone, Debug)]
pub struct Cron {
    table: Crontab,
    /// Its hours are named, so that it means times of day.
    by_the_day: bool,
}

impl Cron {
    /// Reads `0 10 * * 1-5`.
    pub fn parse(text: &str) -> Result<Cron, String> {
        let fields: Vec<&str> = text.split_whitespace().collect();
        if fields.len() != 5 {
            return Err(format!(
                "`{text}` has {}, and cron has five: minute, hour, day of the month, month, day of the week; \
                 \"0 10 * * 1-5\" is ten o'clock from Monday to Friday",
                hypodoke_core::count::of(fields.len() as u64, "field", "fields")
            ));
        }
        let mut options = ParseOptions::default();
        options.fallback_timezone_option = FallbackTimezoneOption::UTC;
        let table = parse_crontab_with(text, options).map_err(|error| {
            let last = error.to_string();
            let last = last.lines().last().unwrap_or_default().trim_start_matches([' ', '^']).to_owned();
            format!("`{text}`: {last}")
        })?;
        Ok(Cron { table, by_the_day: !fields[1].contains('*') })
    }

    /// The first moment after another; `None` if none comes within some years.
    pub fn next(&self, after: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        // The calendar is walked as if it were UTC's, and each of its minutes is then looked up in
        // the zone, which may not have it, or may have it twice.
        let begin = as_utc(zone.to_datetime(after))?.checked_sub(SHIFT).ok()?;
        let mut best: Option<(Timestamp, DateTime)> = None;
        for minute in self.table.iter_after(begin).ok()? {
            let minute = minute.ok()?.datetime();
            // A later minute of the calendar may come earlier, where the clock is put back.
            if best.is_some_and(|(_, found)| minute > found.checked_add(SHIFT).unwrap_or(DateTime::MAX)) {
                break;
            }
            for moment in self.moments(minute, zone).into_iter().flatten().filter(|moment| *moment > after) {
                if best.is_none_or(|(found, _)| moment < found) {
                    best = Some((moment, zone.to_datetime(moment)));
                }
            }
        }
        best.map(|(moment, _)| moment)
    }

    /// The last moments up to one, and the first after it: those two between which it lies come
    /// last. `None` where there are none within a year.
    pub fn around(&self, now: Timestamp, zone: &TimeZone) -> Option<Around> {
        for days in [3, 14, 60, 400] {
            let mut all = Vec::new();
            let mut at = now.checked_sub(SignedDuration::from_hours(24 * days)).ok()?;
            loop {
                at = self.next(at, zone)?;
                all.push(at);
                if at > now {
                    break;
                }
            }
            if let [.., before, last, next] = all[..] {
                return Some(Around { before, last, next });
            }
        }
        None
    }

    fn moments(&self, minute: DateTime, zone: &TimeZone) -> [Option<Timestamp>; 2] {
        let found = zone.to_ambiguous_timestamp(minute);
        match found.offset() {
            AmbiguousOffset::Unambiguous { .. } => [found.compatible().ok(), None],
            AmbiguousOffset::Gap { .. } => [found.compatible().ok().filter(|_| self.by_the_day), None],
            AmbiguousOffset::Fold { .. } => {
                [found.earlier().ok(), found.later().ok().filter(|_| !self.by_the_day)]
            }
        }
    }
}

/// Where a moment lies among others.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Around {
    /// The last but one up to it.
    pub before: Timestamp,
    /// The last up to it.
    pub last: Timestamp,
    /// The first after it.
    pub next: Timestamp,
}

fn as_utc(moment: DateTime) -> Option<Timestamp> {
    TimeZone::UTC.to_timestamp(moment).ok()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn moments(text: &str, zone: &str, after: &str, most: usize) -> Vec<String> {
        let cron = Cron::parse(text).expect("a cron line");
        let zone = TimeZone::get(zone).expect("a zone");
        let mut at: Timestamp = after.parse().expect("a moment");
        let mut found = Vec::new();
        for _ in 0..most {
            at = cron.next(at, &zone).expect("one more");
            found.push(at.to_zoned(zone.clone()).strftime("%m-%d %H:%M%:z").to_string());
        }
        found
    }

    #[rstest]
    #[case::weekdays("0 10 * * 1-5", "UTC", "2026-04-03T12:00:00Z", &["04-06 10:00+00:00", "04-07 10:00+00:00"])]
    #[case::end_of_the_month("0 7 31 * *", "UTC", "2026-04-01T00:00:00Z", &["05-31 07:00+00:00", "07-31 07:00+00:00"])]
    #[case::leap_day("0 0 29 2 *", "UTC", "2026-04-01T00:00:00Z", &["02-29 00:00+00:00"])]
    #[case::turn_of_the_year("59 23 31 12 *", "UTC", "2026-12-31T23:58:59Z", &["12-31 23:59+00:00", "12-31 23:59+00:00"])]
    #[case::left_out_in_spring("30 2 * * *", "Europe/Berlin", "2026-03-28T12:00:00Z", &["03-29 03:30+02:00", "03-30 02:30+02:00"])]
    #[case::asked_within_the_gap("30 2 * * *", "Europe/Berlin", "2026-03-29T01:05:00Z", &["03-29 03:30+02:00", "03-30 02:30+02:00"])]
    #[case::once_in_autumn("30 2 * * *", "Europe/Berlin", "2026-10-24T12:00:00Z", &["10-25 02:30+02:00", "10-26 02:30+01:00"])]
    #[case::asked_between_the_two("30 2 * * *", "Europe/Berlin", "2026-10-25T00:45:00Z", &["10-26 02:30+01:00"])]
    #[case::every_half_hour_in_spring("*/30 * * * *", "Europe/Berlin", "2026-03-29T00:15:00Z",
        &["03-29 01:30+01:00", "03-29 03:00+02:00", "03-29 03:30+02:00"])]
    #[case::every_half_hour_in_autumn("*/30 * * * *", "Europe/Berlin", "2026-10-25T00:15:00Z",
        &["10-25 02:30+02:00", "10-25 02:00+01:00", "10-25 02:30+01:00", "10-25 03:00+01:00"])]
    #[case::southern_spring("15 2 * * *", "Australia/Hobart", "2026-10-03T12:00:00Z", &["10-04 03:15+11:00", "10-05 02:15+11:00"])]
    #[case::half_an_hour_of_shift("10 2 * * *", "Australia/Lord_Howe", "2026-10-03T12:00:00Z", &["10-04 02:40+11:00", "10-05 02:10+11:00"])]
    #[case::zone_without_shifts("30 2 * * *", "Asia/Kolkata", "2026-03-28T12:00:00Z", &["03-29 02:30+05:30", "03-30 02:30+05:30"])]
    #[case::behind_utc("0 7 * * *", "Pacific/Honolulu", "2026-03-28T12:00:00Z", &["03-28 07:00-10:00", "03-29 07:00-10:00"])]
    fn times_of_the_calendar_come_when_they_should(
        #[case] text: &str,
        #[case] zone: &str,
        #[case] after: &str,
        #[case] expected: &[&str],
    ) {
        assert_eq!(moments(text, zone, after, expected.len()), expected);
    }

    #[rstest]
    #[case::too_few("0 10 * *", "has 4 fields")]
    #[case::zone_behind("0 10 * * * UTC", "has 6 fields")]
    #[case::no_such_minute("61 10 * * *", "0..=59")]
    #[case::word("a b c d e", "`a b c d e`")]
    fn what_is_no_cron_line_is_said_to_be_none(#[case] text: &str, #[case] why: &str) {
        let error = Cron::parse(text).expect_err("none");
        assert!(error.contains(why), "{error}");
    }

    #[test]
    fn what_never_comes_is_found_out() {
        let cron = Cron::parse("0 0 30 2 *").expect("a cron line");
        assert_eq!(cron.next("2026-04-01T00:00:00Z".parse().expect("a moment"), &TimeZone::UTC), None);
    }

    #[test]
    fn a_moment_is_found_among_those_before_and_after() {
        let cron = Cron::parse("0 7 * * 1-5").expect("a cron line");
        let around = cron.around("2026-03-09T07:30:00Z".parse().expect("a moment"), &TimeZone::UTC);
        let Around { before, last, next } = around.expect("three");
        let all = [before, last, next].map(|moment| moment.to_string());
        assert_eq!(all, ["2026-03-06T07:00:00Z", "2026-03-09T07:00:00Z", "2026-03-10T07:00:00Z"]);
    }
}
