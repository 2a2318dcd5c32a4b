//! How types are declared in MySQL and MariaDB, and what declarations come to.

use hypodoke_core::cast::Limit;
use hypodoke_core::types::{MAX_DIGITS, Type};

/// How many bytes of an index are for texts: InnoDB takes 3,072 in all.
const INDEX_BYTES: usize = 2900;

/// The most characters of a text in a key, where there is room for so many.
const KEY_TEXT: usize = 255;

/// How a column of a type is declared.
pub fn declared(ty: Type) -> String {
    match ty {
        Type::Boolean => "tinyint(1)".to_owned(),
        Type::Integer => "bigint".to_owned(),
        Type::Decimal { precision, scale } => format!("decimal({precision},{scale})"),
        Type::Float => "double".to_owned(),
        Type::Date => "date".to_owned(),
        Type::Time => "time(6)".to_owned(),
        // Not `timestamp`, which ends in 2038. Instants are kept in UTC.
        Type::Timestamp | Type::TimestampTz => "datetime(6)".to_owned(),
        Type::Uuid => "char(36)".to_owned(),
        Type::Json => "json".to_owned(),
        Type::Text | Type::Unknown => "longtext".to_owned(),
    }
}

/// How a column of a key is declared, of so many that hold texts: an index takes texts of a length only.
pub fn declared_in_key(ty: Type, texts: usize) -> String {
    match ty {
        Type::Text | Type::Unknown | Type::Json => {
            format!("varchar({})", (INDEX_BYTES / 4 / texts.max(1)).min(KEY_TEXT))
        }
        other => declared(other),
    }
}

/// A type as the catalogue has it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NativeType {
    /// Its word: `decimal`.
    pub word: String,
    /// With its sizes: `decimal(9,2)`, without those that only say how a number is shown.
    pub words: String,
    /// How many characters it takes, where it is a text.
    pub characters: Option<u64>,
    /// The digits of a number, and how many of them stand after the mark.
    pub digits: (Option<u16>, Option<u16>),
    /// How many digits of a second it keeps.
    pub fraction: Option<u8>,
    /// The character set of a text.
    pub charset: Option<String>,
    /// It is a text that has to be JSON.
    pub is_json: bool,
}

/// The words of a type without what only says how a number is shown.
pub fn plain_words(word: &str, column_type: &str) -> String {
    let lower = column_type.to_ascii_lowercase();
    let is_whole = matches!(word, "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "year");
    if !is_whole || lower == "tinyint(1)" {
        return lower;
    }
    let (before, rest) = lower.split_once('(').unwrap_or((&lower, ""));
    let behind = rest.split_once(')').map_or("", |(_, behind)| behind);
    format!("{before}{behind}").replace(" zerofill", "")
}

impl NativeType {
    /// What it comes to.
    pub fn understood(&self) -> Type {
        let is_unsigned = self.words.ends_with("unsigned");
        match self.word.as_str() {
            _ if self.is_json => Type::Json,
            "tinyint" if self.words == "tinyint(1)" => Type::Boolean,
            // Twenty digits.
            "bigint" if is_unsigned => Type::Decimal { precision: 20, scale: 0 },
            "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "year" => Type::Integer,
            "bit" if self.digits.0 == Some(1) => Type::Boolean,
            "bit" => Type::Integer,
            "decimal" => {
                let (precision, scale) = (self.digits.0.unwrap_or(10), self.digits.1.unwrap_or(0));
                let scale = scale.min(MAX_DIGITS);
                Type::Decimal { precision: precision.min(MAX_DIGITS), scale }
            }
            "float" | "double" => Type::Float,
            "date" => Type::Date,
            "time" => Type::Time,
            "datetime" => Type::Timestamp,
            // Written and read in the time zone of the session, which is UTC.
            "timestamp" => Type::TimestampTz,
            "uuid" => Type::Uuid,
            "json" => Type::Json,
            _ => Type::Text,
        }
    }

    /// How it is narrower than what it comes to.
    pub fn limit(&self) -> Option<Limit> {
        let is_unsigned = self.words.ends_with("unsigned");
        let bits = |bits: u8| Some(Limit::Bits(if is_unsigned { bits + 1 } else { bits }));
        match self.word.as_str() {
            "tinyint" if self.words != "tinyint(1)" => bits(8),
            "smallint" => bits(16),
            "mediumint" => bits(24),
            "int" => bits(32),
            "float" => Some(Limit::SingleFloat),
            "time" | "datetime" | "timestamp" => {
                let digits = self.fraction.unwrap_or(0);
                (digits < 6).then_some(Limit::SecondDigits(digits))
            }
            "char" | "varchar" | "tinytext" => {
                self.characters.and_then(|most| u32::try_from(most).ok()).map(Limit::Characters)
            }
            _ => None,
        }
    }

    /// Whether an index on a column of it has only the beginnings of its values.
    pub fn wants_prefix(&self) -> bool {
        self.word.ends_with("text") || self.word.ends_with("blob") || self.word == "json"
    }

    /// Whether it is declared as one of ours is. MariaDB keeps JSON as texts with a check, which is no column of
    /// texts.
    pub fn is(&self, declared: &str) -> bool {
        if self.is_json { declared == "json" } else { self.words == declared }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn native(word: &str, column_type: &str) -> NativeType {
        NativeType { word: word.into(), words: plain_words(word, column_type), ..NativeType::default() }
    }

    #[rstest]
    #[case("bigint", "bigint(20)", "bigint", Type::Integer, None)]
    #[case("tinyint", "tinyint(1)", "tinyint(1)", Type::Boolean, None)]
    #[case("tinyint", "tinyint(4)", "tinyint", Type::Integer, Some(Limit::Bits(8)))]
    #[case("smallint", "smallint(5) unsigned", "smallint unsigned", Type::Integer, Some(Limit::Bits(17)))]
    #[case("bigint", "bigint(20) unsigned zerofill", "bigint unsigned", Type::Decimal { precision: 20, scale: 0 }, None)]
    #[case("timestamp", "timestamp", "timestamp", Type::TimestampTz, Some(Limit::SecondDigits(0)))]
    #[case("enum", "enum('N','S')", "enum('n','s')", Type::Text, None)]
    fn a_declaration_is_understood(
        #[case] word: &str,
        #[case] column_type: &str,
        #[case] words: &str,
        #[case] ty: Type,
        #[case] limit: Option<Limit>,
    ) {
        let native = native(word, column_type);
        assert_eq!((native.words.as_str(), native.understood(), native.limit()), (words, ty, limit));
    }

    #[rstest]
    #[case(Type::Text, 1, "varchar(255)")]
    #[case(Type::Text, 4, "varchar(181)")]
    #[case(Type::Integer, 4, "bigint")]
    fn texts_of_a_key_have_a_length(#[case] ty: Type, #[case] texts: usize, #[case] expected: &str) {
        assert_eq!(declared_in_key(ty, texts), expected);
    }
}
