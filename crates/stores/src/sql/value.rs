//! Values that go into statements and come out of rows.

use hypodoke_core::spelling::temporal;

/// A value.
#[derive(Clone, Debug, Default, PartialEq)]
pub enum SqlValue {
    /// Nothing.
    #[default]
    Null,
    /// A whole number.
    Integer(i64),
    /// A text.
    Text(String),
    /// Bytes, which may be a text.
    Bytes(Vec<u8>),
    /// A moment: microseconds since 1970.
    Moment(i64),
}

impl From<i64> for SqlValue {
    fn from(value: i64) -> SqlValue {
        SqlValue::Integer(value)
    }
}

impl From<u64> for SqlValue {
    /// A count. No count of rows or bytes is beyond 63 bits.
    fn from(value: u64) -> SqlValue {
        SqlValue::Integer(i64::try_from(value).unwrap_or(i64::MAX))
    }
}

impl From<&str> for SqlValue {
    fn from(value: &str) -> SqlValue {
        SqlValue::Text(value.to_owned())
    }
}

impl From<&String> for SqlValue {
    fn from(value: &String) -> SqlValue {
        SqlValue::Text(value.clone())
    }
}

impl From<String> for SqlValue {
    fn from(value: String) -> SqlValue {
        SqlValue::Text(value)
    }
}

impl From<&Option<String>> for SqlValue {
    fn from(value: &Option<String>) -> SqlValue {
        value.as_ref().map_or(SqlValue::Null, SqlValue::from)
    }
}

impl From<Option<i64>> for SqlValue {
    fn from(value: Option<i64>) -> SqlValue {
        value.map_or(SqlValue::Null, SqlValue::Integer)
    }
}

/// A value of a row that is not what it should be, in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Misread(pub String);

/// A row that was read.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SqlRow(pub Vec<SqlValue>);

impl SqlRow {
    fn value(&self, at: usize) -> &SqlValue {
        self.0.get(at).unwrap_or(&SqlValue::Null)
    }

    fn wrong<T>(&self, at: usize, what: &str) -> Result<T, Misread> {
        Err(Misread(format!("column {at} of a row is {:?}, where {what} is expected", self.value(at))))
    }

    /// A whole number.
    pub fn integer(&self, at: usize) -> Result<i64, Misread> {
        match self.value(at) {
            SqlValue::Integer(value) => Ok(*value),
            _ => self.wrong(at, "a whole number"),
        }
    }

    /// A whole number, where there is one.
    pub fn optional_integer(&self, at: usize) -> Result<Option<i64>, Misread> {
        match self.value(at) {
            SqlValue::Null => Ok(None),
            _ => self.integer(at).map(Some),
        }
    }

    /// A count.
    pub fn count(&self, at: usize) -> Result<u64, Misread> {
        let value = self.integer(at)?;
        u64::try_from(value)
            .map_err(|_| Misread(format!("column {at} of a row is {value}, which is not a count")))
    }

    /// A text.
    pub fn text(&self, at: usize) -> Result<String, Misread> {
        match self.value(at) {
            SqlValue::Text(value) => Ok(value.clone()),
            _ => self.wrong(at, "a text"),
        }
    }

    /// A text, where there is one.
    pub fn optional_text(&self, at: usize) -> Result<Option<String>, Misread> {
        match self.value(at) {
            SqlValue::Null => Ok(None),
            _ => self.text(at).map(Some),
        }
    }

    /// Bytes, also where they are kept as a text.
    pub fn bytes(&self, at: usize) -> Result<Vec<u8>, Misread> {
        match self.value(at) {
            SqlValue::Bytes(value) => Ok(value.clone()),
            SqlValue::Text(value) => Ok(value.clone().into_bytes()),
            _ => self.wrong(at, "bytes"),
        }
    }

    /// A moment, where there is one, also where it is kept as a text.
    pub fn optional_moment(&self, at: usize) -> Result<Option<i64>, Misread> {
        match self.value(at) {
            SqlValue::Null => Ok(None),
            SqlValue::Moment(value) => Ok(Some(*value)),
            SqlValue::Text(text) => match read_moment(text) {
                Some(value) => Ok(Some(value)),
                None => self.wrong(at, "a moment"),
            },
            _ => self.wrong(at, "a moment"),
        }
    }

    /// A moment.
    pub fn moment(&self, at: usize) -> Result<i64, Misread> {
        match self.optional_moment(at)? {
            Some(value) => Ok(value),
            None => self.wrong(at, "a moment"),
        }
    }
}

/// A moment as a database without a type for it keeps it: `2026-03-02T07:15:00.000000Z`.
///
/// ```
/// use hypodoke_stores::sql::moment_text;
///
/// assert!(moment_text(0).starts_with("1970-01-01T00:00:00"));
/// ```
pub fn moment_text(micros: i64) -> String {
    let mut out = Vec::with_capacity(27);
    temporal::write_timestamp(micros, &mut out);
    if let Some(blank) = out.get_mut(10) {
        *blank = b'T';
    }
    if out.len() == 19 {
        out.extend_from_slice(b".000000");
    }
    out.push(b'Z');
    String::from_utf8(out).unwrap_or_default()
}

fn read_moment(text: &str) -> Option<i64> {
    temporal::read_timestamp_tz(text.as_bytes(), temporal::DateOrder::Ymd)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(0, "1970-01-01T00:00:00.000000Z")]
    #[case(1_772_435_700_000_001, "2026-03-02T07:15:00.000001Z")]
    #[case(-1, "1969-12-31T23:59:59.999999Z")]
    fn moments_are_kept_as_text_and_read_back(#[case] micros: i64, #[case] text: &str) {
        assert_eq!(moment_text(micros), text);
        let row = SqlRow(vec![SqlValue::Text(text.to_owned()), SqlValue::Text("noon".to_owned())]);
        assert_eq!(row.moment(0), Ok(micros));
        assert!(row.moment(1).is_err() && row.optional_moment(2) == Ok(None) && row.moment(2).is_err());
    }

    #[test]
    fn a_value_of_another_kind_is_told_and_not_guessed() {
        let row = SqlRow(vec![SqlValue::Integer(-3), SqlValue::Null]);
        assert_eq!(row.integer(0), Ok(-3));
        assert!(
            row.count(0).is_err() && row.text(0).is_err() && row.text(1).is_err() && row.bytes(1).is_err()
        );
        assert_eq!((row.optional_text(1), row.optional_integer(7)), (Ok(None), Ok(None)));
    }
}
