use rstest::rstest;

use super::*;

fn shown(text: &str) -> Option<(Class, Orders, String)> {
    let Some(Recognised::Temporal(sight)) =
        recognise(text.as_bytes(), text.find(|c: char| !c.is_ascii_digit()).unwrap_or(0))
    else {
        return None;
    };
    let order = DateOrder::ALL.into_iter().find(|o| sight.orders & o.bit() != 0)?;
    let mut out = Vec::new();
    write_timestamp(sight.micros[order as usize], &mut out);
    Some((sight.class, sight.orders, String::from_utf8(out).unwrap()))
}

#[rstest]
#[case("2026-03-02", Class::Date, "2026-03-02 00:00:00")]
#[case("2026/3/2", Class::Date, "2026-03-02 00:00:00")]
#[case("2026.03.02", Class::Date, "2026-03-02 00:00:00")]
#[case("31.12.2025", Class::Date, "2025-12-31 00:00:00")]
#[case("12/31/2025", Class::Date, "2025-12-31 00:00:00")]
#[case("31/12/99", Class::Date, "1999-12-31 00:00:00")]
#[case("2 Mar 2026", Class::Date, "2026-03-02 00:00:00")]
#[case("02-MAR-26", Class::Date, "2026-03-02 00:00:00")]
#[case("March 2, 2026", Class::Date, "2026-03-02 00:00:00")]
#[case("Mon, 2 Mar 2026", Class::Date, "2026-03-02 00:00:00")]
#[case("2nd March 2026", Class::Date, "2026-03-02 00:00:00")]
#[case("2. March 2026", Class::Date, "2026-03-02 00:00:00")]
#[case("2. März 2026", Class::Date, "2026-03-02 00:00:00")]
#[case("03. Mär. 2026", Class::Date, "2026-03-03 00:00:00")]
#[case("2 févr. 2026", Class::Date, "2026-02-02 00:00:00")]
#[case("1er août 2026", Class::Date, "2026-08-01 00:00:00")]
#[case("2 de marzo de 2026", Class::Date, "2026-03-02 00:00:00")]
#[case("2-mrt-2026", Class::Date, "2026-03-02 00:00:00")]
#[case("5 października 2026", Class::Date, "2026-10-05 00:00:00")]
#[case("5 МАЯ 2026", Class::Date, "2026-05-05 00:00:00")]
#[case("14.mars.2026", Class::Date, "2026-03-14 00:00:00")]
#[case("2026-03-02 07:15", Class::Timestamp, "2026-03-02 07:15:00")]
#[case("2026-03-02T07:15:30.25", Class::Timestamp, "2026-03-02 07:15:30.250000")]
#[case("2026-03-02T07:15:30.123456000", Class::Timestamp, "2026-03-02 07:15:30.123456")]
#[case("2026-03-02T07:15:30.1234567", Class::FineTimestamp, "2026-03-02 07:15:30.123456")]
#[case("2026-03-02T07:15:30.1234567Z", Class::FineTimestampTz, "2026-03-02 07:15:30.123456")]
#[case("02.03.2026 19:15:00", Class::Timestamp, "2026-03-02 19:15:00")]
#[case("3/25/2026 7:15 PM", Class::Timestamp, "2026-03-25 19:15:00")]
#[case("2026-03-02T07:15:00Z", Class::TimestampTz, "2026-03-02 07:15:00")]
#[case("2026-03-02 07:15:00+02:00", Class::TimestampTz, "2026-03-02 05:15:00")]
#[case("20260302T071500Z", Class::TimestampTz, "2026-03-02 07:15:00")]
#[case("Mon, 02 Mar 2026 07:15:00 GMT", Class::TimestampTz, "2026-03-02 07:15:00")]
fn usual_spellings_are_dates(#[case] text: &str, #[case] class: Class, #[case] value: &str) {
    let (found, _, shown) = shown(text).expect("a date");
    assert_eq!((found, shown.as_str()), (class, value));
}

#[rstest]
#[case("2026-02-29")]
#[case("2026-13-01")]
#[case("31/31/2026")]
#[case("2026-W10-1")]
#[case("2026-061")]
#[case("2026-03-02T24:00:00")]
#[case("1.5")]
#[case("1.2.3")]
#[case("192.168.1.10")]
#[case("0000-00-00")]
fn what_is_no_date_is_left_alone(#[case] text: &str) {
    assert_eq!(shown(text), None);
}

#[rstest]
#[case("03/04/2026", DateOrder::Dmy.bit() | DateOrder::Mdy.bit())]
#[case("13/04/2026", DateOrder::Dmy.bit())]
#[case("04/13/2026", DateOrder::Mdy.bit())]
#[case("26-03-22", DateOrder::Dmy.bit() | DateOrder::Ymd.bit())]
#[case("2026-03-04", ANY_ORDER)]
fn orders_are_all_admitted(#[case] text: &str, #[case] orders: Orders) {
    assert_eq!(shown(text).expect("a date").1, orders);
}

#[rstest]
#[case("7:05", Some(7 * 3600 + 5 * 60))]
#[case("23:59:59", Some(86_399))]
#[case("12:30 am", Some(1800))]
#[case("36:15", None)]
#[case("7:5", None)]
fn times_of_day(#[case] text: &str, #[case] seconds: Option<i64>) {
    assert_eq!(read_time(text.as_bytes()), seconds.map(|s| s * SECOND));
}

#[test]
fn the_calendar_goes_both_ways() {
    for day in (-719_162..2_932_896).step_by(97) {
        let (year, month, of_month) = civil(day);
        assert_eq!(days(year, month, of_month), Some(day));
    }
}
