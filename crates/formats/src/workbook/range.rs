//! Places on a sheet, as people write them: `B4:H200`.

use std::fmt;

/// The last row and column that a sheet can have.
const LAST: u32 = u32::MAX;

/// A rectangle of cells, counted from 0, its last row and column included.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CellRange {
    /// The first row.
    pub top: u32,
    /// The first column.
    pub left: u32,
    /// The last row; beyond all rows where it is open.
    pub bottom: u32,
    /// The last column; beyond all columns where it is open.
    pub right: u32,
}

impl CellRange {
    /// All of a sheet.
    pub const ALL: CellRange = CellRange { top: 0, left: 0, bottom: LAST, right: LAST };

    /// Reads `B4:H200`, `$B$4:$H$200`, `B4` (from there on) or `B:H`.
    pub fn parse(text: &str) -> Option<CellRange> {
        let text = text.replace('$', "");
        let (from, to) = match text.split_once(':') {
            Some((from, to)) => (corner(from)?, Some(corner(to)?)),
            None => (corner(&text)?, None),
        };
        let (left, top) = (from.0?, from.1.unwrap_or(0));
        let range = match to {
            Some((right, bottom)) => CellRange { top, left, bottom: bottom.unwrap_or(LAST), right: right? },
            None => {
                from.1?;
                CellRange { top, left, bottom: LAST, right: LAST }
            }
        };
        (range.top <= range.bottom && range.left <= range.right).then_some(range)
    }

    /// Whether a cell is in it.
    pub fn holds(&self, row: u32, column: u32) -> bool {
        (self.top..=self.bottom).contains(&row) && (self.left..=self.right).contains(&column)
    }
}

type Corner = (Option<u32>, Option<u32>);

/// A corner's column and row, either of which may be left out.
fn corner(text: &str) -> Option<Corner> {
    let text = text.trim();
    let letters = text.bytes().take_while(u8::is_ascii_alphabetic).count();
    let (letters, digits) = text.split_at(letters);
    if letters.len() > 3 || letters.is_empty() && digits.is_empty() {
        return None;
    }
    let column =
        letters.bytes().fold(0u32, |column, b| column * 26 + u32::from(b.to_ascii_uppercase() - b'A') + 1);
    let row = if digits.is_empty() { None } else { Some(digits.parse::<u32>().ok()?.checked_sub(1)?) };
    Some((column.checked_sub(1), row))
}

/// A column's letters.
pub fn letters(column: u32) -> String {
    let mut out = Vec::new();
    let mut rest = u64::from(column) + 1;
    while rest > 0 {
        out.push(b'A' + ((rest - 1) % 26) as u8);
        rest = (rest - 1) / 26;
    }
    out.reverse();
    String::from_utf8(out).unwrap_or_default()
}

/// A cell as people name it.
pub fn cell(row: u32, column: u32) -> String {
    format!("{}{}", letters(column), u64::from(row) + 1)
}

impl fmt::Display for CellRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&cell(self.top, self.left))?;
        match (self.right, self.bottom) {
            (LAST, _) => Ok(()),
            (right, LAST) => write!(f, ":{}", letters(right)),
            (right, bottom) => write!(f, ":{}", cell(bottom, right)),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("B4:H200", Some((3, 1, 199, 7)))]
    #[case("$AA$1:$AB$2", Some((0, 26, 1, 27)))]
    #[case("b4", Some((3, 1, LAST, LAST)))]
    #[case("B:D", Some((0, 1, LAST, 3)))]
    #[case("H200:B4", None)]
    #[case("Fees", None)]
    #[case("4", None)]
    #[case("B0", None)]
    #[case("", None)]
    fn ranges_are_read(#[case] text: &str, #[case] expected: Option<(u32, u32, u32, u32)>) {
        let found = CellRange::parse(text).map(|r| (r.top, r.left, r.bottom, r.right));
        assert_eq!(found, expected);
    }

    #[rstest]
    #[case(0, "A")]
    #[case(25, "Z")]
    #[case(26, "AA")]
    #[case(701, "ZZ")]
    #[case(702, "AAA")]
    fn columns_have_letters(#[case] column: u32, #[case] expected: &str) {
        assert_eq!(letters(column), expected);
    }
}
