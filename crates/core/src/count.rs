//! Counts and lists in words, worded in this one place.

/// `1,234,567`
///
/// ```
/// assert_eq!(hypodoke_core::count::number(1_234_567), "1,234,567");
/// ```
pub fn number(value: u64) -> String {
    let digits = value.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// `1 row`, `2 rows`
///
/// ```
/// use hypodoke_core::count;
///
/// assert_eq!(count::of(1, "sheet", "sheets"), "1 sheet");
/// assert_eq!(count::of(1200, "sheet", "sheets"), "1,200 sheets");
/// ```
pub fn of(value: u64, one: &str, many: &str) -> String {
    format!("{} {}", number(value), if value == 1 { one } else { many })
}

/// `1 file`, `2 files`
pub fn files(value: u64) -> String {
    of(value, "file", "files")
}

/// `1 row`, `2 rows`
pub fn rows(value: u64) -> String {
    of(value, "row", "rows")
}

/// `a, b and c`
///
/// ```
/// let quays = ["north", "south", "east"].map(str::to_owned);
/// assert_eq!(hypodoke_core::count::list(&quays), "north, south and east");
/// ```
pub fn list(words: &[String]) -> String {
    match words {
        [] => String::new(),
        [one] => one.clone(),
        [most @ .., last] => format!("{} and {last}", most.join(", ")),
    }
}

/// `812 B`, `1.4 MB`
///
/// ```
/// assert_eq!(hypodoke_core::count::bytes(812), "812 B");
/// ```
pub fn bytes(value: u64) -> String {
    const UNITS: [&str; 5] = ["B", "kB", "MB", "GB", "TB"];
    let (mut scaled, mut unit) = (value as f64, 0);
    while scaled >= 999.5 && unit + 1 < UNITS.len() {
        scaled /= 1000.0;
        unit += 1;
    }
    if unit == 0 { format!("{value} B") } else { format!("{scaled:.1} {}", UNITS[unit]) }
}

/// `0.03 s`, `12.4 s`, `3 min 20 s`
///
/// ```
/// assert_eq!(hypodoke_core::count::seconds(200.0), "3 min 20 s");
/// ```
pub fn seconds(value: f64) -> String {
    if value < 10.0 {
        format!("{value:.2} s")
    } else if value < 120.0 {
        format!("{value:.1} s")
    } else {
        format!("{} min {} s", value as u64 / 60, value as u64 % 60)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(0, "0")]
    #[case(999, "999")]
    #[case(1000, "1,000")]
    #[case(1234567, "1,234,567")]
    fn thousands_are_marked(#[case] value: u64, #[case] text: &str) {
        assert_eq!(number(value), text);
    }

    #[rstest]
    #[case(812, "812 B")]
    #[case(1400, "1.4 kB")]
    #[case(210_000_000, "210.0 MB")]
    #[case(999_999, "1.0 MB")]
    fn bytes_are_scaled(#[case] value: u64, #[case] text: &str) {
        assert_eq!(bytes(value), text);
    }

    #[test]
    fn lists_and_counts_are_worded() {
        assert_eq!(list(&["a".into(), "b".into(), "c".into()]), "a, b and c");
        assert_eq!((rows(1), rows(2)), ("1 row".into(), "2 rows".into()));
        assert_eq!((seconds(0.034), seconds(200.0)), ("0.03 s".into(), "3 min 20 s".into()));
    }
}
