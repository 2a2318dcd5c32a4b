//! The order of a table's files: what its rows follow from, whatever came when.

use hypodoke_core::spelling::Number;

use crate::load_plan::Mode;

/// Where a file stands among those of its table.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileOrder {
    /// The day in its name, or the greatest value of the column that gives the order, written so that
    /// texts compare as the values do; empty where there is neither.
    pub key: String,
    /// When its first version was modified: microseconds since 1970.
    pub modified: i64,
    /// The entry of its first version; 0 where this is the first.
    pub first: i64,
    /// From when on its rows hold, where its name says so or it is known by now: microseconds since
    /// 1970.
    pub effective: Option<i64>,
    /// The delivery that it is part of; its own where unsaid.
    pub delivery: Option<String>,
}

/// A file whose rows count: neither replaced nor retracted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileInForce {
    /// Its number in the ledger.
    pub file: i64,
    /// Its path, for people and for the order.
    pub path: String,
    /// Where it stands.
    pub order: FileOrder,
    /// Its rows are kept in the ledger.
    pub is_kept: bool,
    /// How many rows were loaded of it.
    pub rows: u64,
}

impl FileInForce {
    /// What files are ordered by: in `insert-new` when they came, else what they say.
    fn rank(&self, mode: Mode) -> (&str, i64, &str, i64) {
        let FileOrder { key, modified, first, .. } = &self.order;
        let first = if *first == 0 { self.file } else { *first };
        match mode {
            Mode::InsertNew => ("", 0, "", first),
            _ => (key, *modified, &self.path, first),
        }
    }

    /// Whether it stands behind another.
    pub fn is_after(&self, other: &FileInForce, mode: Mode) -> bool {
        self.rank(mode) > other.rank(mode)
    }

    /// The delivery it is part of.
    pub fn delivery(&self) -> String {
        let first = if self.order.first == 0 { self.file } else { self.order.first };
        self.order.delivery.clone().unwrap_or_else(|| format!("file {first}"))
    }
}

/// Puts files in order, the first to load first.
pub fn sort(files: &mut [FileInForce], mode: Mode) {
    files.sort_by(|a, b| a.rank(mode).cmp(&b.rank(mode)));
}

/// The files of the newest delivery, of files in order.
pub fn newest_delivery(files: &[FileInForce]) -> Vec<i64> {
    let Some(newest) = files.last().map(FileInForce::delivery) else { return Vec::new() };
    files.iter().filter(|file| file.delivery() == newest).map(|file| file.file).collect()
}

/// From when on the rows of a file hold that says nothing of it: from its load on where it comes in order;
/// where it comes late, from when it was modified, or from some moment between the file before and the one
/// behind it.
pub fn effective_at(loaded: i64, modified: i64, before: Option<i64>, behind: Option<i64>) -> i64 {
    let Some(behind) = behind else {
        return before.map_or(loaded, |before| loaded.max(before.saturating_add(1)));
    };
    if modified < behind && before.is_none_or(|before| before < modified) {
        return modified;
    }
    let before = before.unwrap_or(behind.saturating_sub(2_000_000));
    before + behind.saturating_sub(before) / 2
}

/// A number written so that texts compare as the numbers do.
///
/// ```
/// use hypodoke_core::spelling::Number;
/// use hypodoke_stores::sortable_number;
///
/// let text = |mantissa| sortable_number(Number { mantissa, scale: 1 });
/// // As texts they are in the order of the numbers.
/// assert!(text(-25) < text(-5) && text(-5) < text(75) && text(75) < text(1000));
/// ```
pub fn sortable_number(number: Number) -> String {
    let digits = number.mantissa.unsigned_abs().to_string();
    let scale = usize::from(number.scale);
    let padded = format!("{digits:0>width$}", width = scale + 1);
    let (whole, part) = padded.split_at(padded.len() - scale);
    let part = part.trim_end_matches('0');
    let text = format!("{:02}{whole}.{part}", whole.len());
    if number.mantissa >= 0 {
        return format!("1{text}");
    }
    // The greater a negative number is without its sign, the sooner it comes.
    let turned = text.chars().map(|c| c.to_digit(10).map_or('~', |digit| (b'9' - digit as u8) as char));
    format!("0{}~", turned.collect::<String>())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn file(number: i64, key: &str, modified: i64, path: &str) -> FileInForce {
        let order = FileOrder { key: key.to_owned(), modified, ..FileOrder::default() };
        FileInForce { file: number, path: path.to_owned(), order, is_kept: true, rows: 1 }
    }

    #[test]
    fn files_follow_one_another_by_day_then_time_then_name_and_in_insert_new_as_they_came() {
        let mut files = vec![
            file(1, "2026-03-03", 1, "c"),
            file(2, "2026-03-02", 9, "b"),
            file(3, "2026-03-02", 9, "a"),
            file(4, "2026-03-02", 2, "z"),
        ];
        sort(&mut files, Mode::Upsert);
        assert_eq!(files.iter().map(|file| file.file).collect::<Vec<_>>(), [4, 3, 2, 1]);
        sort(&mut files, Mode::InsertNew);
        assert_eq!(files.iter().map(|file| file.file).collect::<Vec<_>>(), [1, 2, 3, 4]);
    }

    #[test]
    fn a_delivery_has_all_its_files_and_a_corrected_file_is_still_its_own() {
        let of = |number: i64, delivery: Option<&str>| {
            let mut file = file(number, "", number, "a");
            file.order.delivery = delivery.map(str::to_owned);
            file
        };
        assert_eq!(newest_delivery(&[of(1, Some("x")), of(2, Some("y")), of(3, Some("y"))]), [2, 3]);
        assert_eq!(newest_delivery(&[of(1, None), of(2, None)]), [2]);
        assert_eq!(newest_delivery(&[]), Vec::<i64>::new());
        let mut corrected = of(9, None);
        corrected.order.first = 2;
        assert_eq!(corrected.delivery(), of(2, None).delivery());
    }

    #[rstest]
    #[case::first(None, None, 100)]
    #[case::in_order(Some(50), None, 100)]
    #[case::clock_went_back(Some(100), None, 101)]
    #[case::late(Some(5), Some(70), 40)]
    #[case::before_all(None, Some(70), 40)]
    #[case::modified_before_the_one_before(Some(50), Some(70), 60)]
    #[case::modified_after_the_one_behind(Some(10), Some(30), 20)]
    fn a_late_file_holds_between_those_around_it(
        #[case] before: Option<i64>,
        #[case] behind: Option<i64>,
        #[case] expected: i64,
    ) {
        assert_eq!(effective_at(100, 40, before, behind), expected);
    }

    #[test]
    fn texts_compare_as_their_numbers_do() {
        let numbers: [(i128, u16); 12] = [
            (-1000, 0),
            (-1000, 1),
            (-99, 0),
            (-12, 1),
            (-1, 0),
            (0, 0),
            (5, 2),
            (5, 1),
            (1, 0),
            (12, 1),
            (9, 0),
            (10, 0),
        ];
        let texts: Vec<String> = numbers
            .iter()
            .map(|(mantissa, scale)| sortable_number(Number { mantissa: *mantissa, scale: *scale }))
            .collect();
        // -100.0 stands behind -99 in the list and before it in order.
        let mut sorted = texts.clone();
        sorted.sort();
        let value = |text: &String| {
            let at = texts.iter().position(|known| known == text).unwrap_or_default();
            numbers[at].0 as f64 / 10f64.powi(numbers[at].1.into())
        };
        assert!(sorted.windows(2).all(|pair| value(&pair[0]) <= value(&pair[1])), "{sorted:?}");
        assert_eq!(
            sortable_number(Number { mantissa: 50, scale: 1 }),
            sortable_number(Number { mantissa: 5, scale: 0 })
        );
    }
}
