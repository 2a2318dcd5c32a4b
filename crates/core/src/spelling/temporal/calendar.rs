//! The Gregorian calendar: days to dates and back, and how moments are written (ISO 8601).

/// Microseconds in a second.
pub const SECOND: i64 = 1_000_000;
/// Microseconds in a day.
pub const DAY: i64 = 86_400 * SECOND;

/// Days since 1970-01-01 of a date of the Gregorian calendar, if there is such a date.
///
/// ```
/// use hypodoke_core::spelling::temporal::{civil, days};
///
/// assert_eq!(days(1970, 1, 2), Some(1));
/// assert_eq!(days(2026, 2, 29), None);
/// assert_eq!(days(2026, 3, 2).map(civil), Some((2026, 3, 2)));
/// ```
pub fn days(year: i32, month: u32, day: u32) -> Option<i32> {
    if !(1..=9999).contains(&year) || day == 0 || day > days_in_month(year, month)? {
        return None;
    }
    // The civil calendar shifted to begin in March, so that a leap day ends its year.
    let shifted = if month <= 2 { year - 1 } else { year };
    let era = shifted.div_euclid(400);
    let year_of_era = shifted.rem_euclid(400);
    let day_of_year = (153 * ((month + 9) % 12) + 2) / 5 + day - 1;
    let day_of_era = year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year as i32;
    Some(era * 146_097 + day_of_era - 719_468)
}

/// Year, month and day of a count of days since 1970-01-01.
pub fn civil(days: i32) -> (i32, u32, u32) {
    let shifted = days + 719_468;
    let era = shifted.div_euclid(146_097);
    let day_of_era = shifted.rem_euclid(146_097);
    let year_of_era = (day_of_era - day_of_era / 1460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month_index = (5 * day_of_year + 2) / 153;
    let day = (day_of_year - (153 * month_index + 2) / 5 + 1) as u32;
    let month = if month_index < 10 { month_index + 3 } else { month_index - 9 } as u32;
    (year_of_era + era * 400 + (month <= 2) as i32, month, day)
}

fn days_in_month(year: i32, month: u32) -> Option<u32> {
    let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    Some(match month {
        1 | 3 | 5 | 7 | 8 | 10 | 12 => 31,
        4 | 6 | 9 | 11 => 30,
        2 => 28 + leap as u32,
        _ => return None,
    })
}

/// Writes a date as ISO 8601 has it: `2026-03-02`.
pub fn write_date(days: i32, out: &mut Vec<u8>) {
    let (year, month, day) = civil(days);
    write_digits(year as u32, 4, out);
    out.push(b'-');
    write_digits(month, 2, out);
    out.push(b'-');
    write_digits(day, 2, out);
}

/// Writes a time of day: `07:15:00`, with a fraction only where there is one.
pub fn write_time(micros: i64, out: &mut Vec<u8>) {
    let seconds = (micros / SECOND) as u32;
    write_digits(seconds / 3600, 2, out);
    out.push(b':');
    write_digits(seconds / 60 % 60, 2, out);
    out.push(b':');
    write_digits(seconds % 60, 2, out);
    let fraction = (micros % SECOND) as u32;
    if fraction != 0 {
        out.push(b'.');
        write_digits(fraction, 6, out);
    }
}

/// Writes a timestamp: `2026-03-02 07:15:00`.
pub fn write_timestamp(micros: i64, out: &mut Vec<u8>) {
    write_date(micros.div_euclid(DAY) as i32, out);
    out.push(b' ');
    write_time(micros.rem_euclid(DAY), out);
}

#[inline]
fn write_digits(value: u32, width: u32, out: &mut Vec<u8>) {
    for place in (0..width).rev() {
        out.push(b'0' + (value / 10u32.pow(place) % 10) as u8);
    }
}
