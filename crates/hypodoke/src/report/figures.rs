//! What is usual in a feed, and which files are odd.

use hypodoke_stores::FileEntry;

/// So many files are enough to know what is usual.
const ENOUGH: usize = 5;

/// A file as it is drawn.
#[derive(Clone, Debug, PartialEq)]
pub struct Point {
    /// Its number in the ledger.
    pub file: i64,
    /// Its path.
    pub path: String,
    /// The day that it is of, where its name says so, else when it was written: microseconds since 1970.
    pub at: i64,
    /// When it was written.
    pub written: i64,
    /// Records read.
    pub rows: u64,
    /// Rows rejected of them.
    pub rejected: u64,
    /// Seconds that its load took.
    pub seconds: f64,
    /// It has far more or far fewer rows than is usual.
    pub odd: bool,
}

/// The newest loaded files as points, the oldest first; those that another version took the place
/// of are left out.
pub fn points(files: &[FileEntry], most: usize) -> Vec<Point> {
    let current = files.iter().filter(|entry| entry.outcome.counts() && entry.replaced_by.is_none());
    let point = |entry: &FileEntry| Point {
        file: entry.file,
        path: entry.arrival.path.clone(),
        at: day_of(entry).unwrap_or(entry.arrival.modified),
        written: entry.arrival.modified,
        rows: entry.read,
        rejected: entry.rejected,
        seconds: (entry.ended - entry.began).max(0) as f64 / 1e6,
        odd: false,
    };
    let mut points: Vec<Point> = current.take(most).map(point).collect();
    points.sort_by_key(|point| (point.at, point.file));
    let usual = Usual::of(points.iter().map(|point| point.rows as f64).collect());
    for point in &mut points {
        point.odd = usual.as_ref().is_some_and(|usual| usual.is_odd(point.rows as f64));
    }
    points
}

/// The moment that a file's name tells, as the ledger orders files by it.
fn day_of(entry: &FileEntry) -> Option<i64> {
    let day = entry.order.key.get(..10)?.parse::<jiff::civil::Date>().ok()?;
    let moment = day.at(12, 0, 0, 0).to_zoned(jiff::tz::TimeZone::system()).ok()?;
    Some(moment.timestamp().as_microsecond())
}

/// What is usual among some figures.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Usual {
    /// Half of them are below.
    pub median: f64,
    /// Half of them are no farther from the median.
    pub spread: f64,
    /// A tenth of them is below.
    pub low: f64,
    /// A tenth of them is above.
    pub high: f64,
}

impl Usual {
    /// Of these figures; `None` if they are too few.
    pub fn of(mut all: Vec<f64>) -> Option<Usual> {
        if all.len() < ENOUGH {
            return None;
        }
        all.sort_by(f64::total_cmp);
        let at = |share: f64| all[((all.len() - 1) as f64 * share).round() as usize];
        let (median, low, high) = (at(0.5), at(0.1), at(0.9));
        let mut off: Vec<f64> = all.iter().map(|value| (value - median).abs()).collect();
        off.sort_by(f64::total_cmp);
        Some(Usual { median, spread: off[off.len() / 2], low, high })
    }

    /// Whether a figure is far from the others: four times as far as half of them are, and by a
    /// third of what is usual, so that files that are all but alike are not odd for one row.
    pub fn is_odd(&self, value: f64) -> bool {
        let off = (value - self.median).abs();
        off > 4.0 * self.spread && off > self.median / 3.0
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::alike(&[100.0, 101.0, 99.0, 100.0, 102.0], 104.0, false)]
    #[case::cut_short(&[100.0, 101.0, 99.0, 100.0, 102.0], 40.0, true)]
    #[case::twice(&[100.0, 101.0, 99.0, 100.0, 102.0], 200.0, true)]
    #[case::all_the_same(&[100.0, 100.0, 100.0, 100.0, 100.0], 101.0, false)]
    #[case::all_over_the_place(&[10.0, 500.0, 90.0, 300.0, 2000.0], 900.0, false)]
    #[case::empty_for_once(&[100.0, 100.0, 100.0, 100.0, 120.0], 0.0, true)]
    fn a_file_is_odd_beside_the_others(#[case] all: &[f64], #[case] value: f64, #[case] odd: bool) {
        assert_eq!(Usual::of(all.to_vec()).expect("enough").is_odd(value), odd);
    }

    #[test]
    fn a_few_files_are_not_enough_to_know() {
        assert_eq!(Usual::of(vec![1.0; ENOUGH - 1]), None);
    }
}
