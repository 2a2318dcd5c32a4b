//! Folders that say what the rows of their files have in common: `country=NO/day=2026-03-04/part-0.csv`.

use std::borrow::Cow;

/// The name and the value of a folder of this kind; `None` for any other.
///
/// ```
/// use hypodoke_core::partition::named_value;
///
/// assert_eq!(named_value("country=NO"), Some(("country", "NO")));
/// assert_eq!(named_value("north"), None);
/// ```
pub fn named_value(folder: &str) -> Option<(&str, &str)> {
    let (name, value) = folder.split_once('=')?;
    let is_name = !name.is_empty() && name.chars().all(|c| c.is_alphanumeric() || c == '_');
    (is_name && !value.is_empty()).then_some((name, value))
}

/// A value as it is meant: characters that a path cannot hold stand there as a percent sign and two digits.
pub fn meant(value: &str) -> Cow<'_, str> {
    // What is no text is left as it is written.
    percent_encoding::percent_decode_str(value).decode_utf8().unwrap_or(Cow::Borrowed(value))
}

/// The folder in which a path's folders of this kind begin, if there are such: what they are parts of.
pub fn whole_of(path: &str) -> Option<&str> {
    let (folders, _) = path.rsplit_once('/')?;
    let mut before = None;
    for folder in folders.split('/') {
        if named_value(folder).is_some() {
            return before;
        }
        before = Some(folder).filter(|folder| !folder.is_empty());
    }
    None
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::parted("cranes/country=NO/day=2026-03-04/part-0.parquet", Some("cranes"))]
    #[case::at_the_top("country=NO/part-0.parquet", None)]
    #[case::not_parted("cranes/north/a.csv", None)]
    #[case::file_alone("a=b.csv", None)]
    fn the_whole_is_the_folder_above(#[case] path: &str, #[case] whole: Option<&str>) {
        assert_eq!(whole_of(path), whole);
    }

    #[rstest]
    #[case("S%C3%B8r%20%2F%3A", "Sør /:")]
    #[case("%FF", "%FF")]
    fn values_are_as_they_are_meant(#[case] value: &str, #[case] expected: &str) {
        assert_eq!(meant(value), expected);
    }
}
