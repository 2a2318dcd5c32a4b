//! Windows of modified time: `2026-03-02..2026-03-04`, or all since three days ago.

use jiff::Timestamp;
use jiff::civil::{Date, DateTime};
use jiff::tz::TimeZone;

use hypodoke_engine::discover::Window;

use crate::failure::Failure;
use crate::values::duration;

/// What `--modified` and `--since` say; `now` in microseconds since 1970.
pub fn window(modified: Option<&str>, since: Option<&str>, now: i64) -> Result<Window, Failure> {
    let mut window = Window::default();
    if let Some(text) = modified {
        let (from, to) = text.split_once("..").unwrap_or((text, text));
        if !from.is_empty() {
            window.from = edge(from, text, false)?;
        }
        if !to.is_empty() {
            window.to = edge(to, text, true)?;
        }
        if window.from > window.to {
            let what = format!("--modified {text}: it ends before it begins");
            return Err(Failure::usage(what).advise("write the earlier day first"));
        }
    }
    if let Some(text) = since {
        window.from = window.from.max(moment_since("since", text, now)?);
    }
    Ok(window)
}

/// So long ago, or since a day or a moment: microseconds since 1970.
pub fn moment_since(option: &str, text: &str, now: i64) -> Result<i64, Failure> {
    if let Some(span) = duration(text) {
        return Ok(now.saturating_sub(i64::try_from(span.as_micros()).unwrap_or(i64::MAX)));
    }
    edge(text, text, false).map_err(|_| {
        Failure::usage(format!("--{option} {text}: that is not a duration, a day or a moment"))
            .advise("write 12h, 3d, 2026-03-02 or 2026-03-02T06:00")
    })
}

/// When the day of a moment began, by the machine's own clock: microseconds since 1970.
pub fn midnight(now: Timestamp) -> i64 {
    let day = now.to_zoned(TimeZone::system()).start_of_day();
    day.map_or(now, |day| day.timestamp()).as_microsecond()
}

/// A day or a moment in the machine's own zone; of a day, its first instant or its last.
fn edge(text: &str, whole: &str, last: bool) -> Result<i64, Failure> {
    let wrong = || {
        Failure::usage(format!("--modified {whole}: `{text}` is neither a day nor a moment"))
            .advise("write 2026-03-02..2026-03-04, or 2026-03-02T06:00..")
    };
    let zoned = |moment: DateTime| moment.to_zoned(TimeZone::system()).map_err(|_| wrong());
    let micros = |moment: DateTime| zoned(moment).map(|zoned| zoned.timestamp().as_microsecond());
    if let Ok(day) = text.parse::<Date>()
        && !text.contains(['T', ' ', ':'])
    {
        if !last {
            return micros(day.to_datetime(jiff::civil::Time::midnight()));
        }
        let next = day.tomorrow().map_err(|_| wrong())?;
        return Ok(micros(next.to_datetime(jiff::civil::Time::midnight()))? - 1);
    }
    micros(text.parse::<DateTime>().map_err(|_| wrong())?)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const DAY: i64 = 86_400_000_000;

    #[rstest]
    #[case(Some("1970-01-02..1970-01-03"), None, DAY, 3 * DAY - 1)]
    #[case(Some("1970-01-02"), None, DAY, 2 * DAY - 1)]
    #[case(Some("1970-01-02T06:00.."), None, DAY + DAY / 4, i64::MAX)]
    #[case(Some("..1970-01-01"), None, i64::MIN, DAY - 1)]
    #[case(None, Some("2d"), 8 * DAY, i64::MAX)]
    #[case(Some("1970-01-02.."), Some("9d"), DAY, i64::MAX)]
    fn windows_are_read(
        #[case] modified: Option<&str>,
        #[case] since: Option<&str>,
        #[case] from: i64,
        #[case] to: i64,
    ) {
        // The tests run in UTC; elsewhere the days begin at other instants, as far apart.
        let offset = edge("1970-01-01", "", false).expect("a day");
        let shift = |edge: i64| {
            if modified.is_some() && edge > i64::MIN && edge < i64::MAX { edge + offset } else { edge }
        };
        assert_eq!(window(modified, since, 10 * DAY), Ok(Window { from: shift(from), to: shift(to) }));
    }

    #[rstest]
    #[case(Some("1970-01-03..1970-01-02"), None, "ends before it begins")]
    #[case(Some("soon"), None, "neither a day nor a moment")]
    #[case(None, Some("3 weeks"), "not a duration")]
    fn wrong_windows_are_told(
        #[case] modified: Option<&str>,
        #[case] since: Option<&str>,
        #[case] words: &str,
    ) {
        assert!(window(modified, since, 0).expect_err("wrong").message.contains(words));
    }
}
