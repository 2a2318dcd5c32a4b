//! The classes that evidence counts values into.

/// The narrowest class a value's spelling belongs to. Evidence keeps one tally per class;
/// what a column is follows from which classes it holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[repr(u8)]
pub enum Class {
    /// `123`
    Integer,
    /// `1.5`
    Point,
    /// `1.234`: a decimal, or thousands marked by points.
    PointOrGroup,
    /// `1.234.567` or `1.234,5`
    PointGroups,
    /// `1,5`
    Comma,
    /// `1,234`: a decimal comma, or thousands marked by commas.
    CommaOrGroup,
    /// `1,234,567` or `1,234.5`
    CommaGroups,
    /// `1 234`
    SpaceWhole,
    /// `1 234.5`
    SpacePoint,
    /// `1 234,5`
    SpaceComma,
    /// `1'234`
    ApostropheWhole,
    /// `1'234.5`
    ApostrophePoint,
    /// `1'234,5`
    ApostropheComma,
    /// `15e3`
    ExponentWhole,
    /// `1.5e3`
    Exponent,
    /// `1,5e3`
    ExponentComma,
    /// `inf`
    Infinite,
    /// `true`, `false`
    TrueFalse,
    /// `yes`, `no`
    YesNo,
    /// `y`, `n`
    Yn,
    /// `t`, `f`
    Tf,
    /// `on`, `off`
    OnOff,
    /// `ja`, `nein` and the like.
    OtherTruth,
    /// A date.
    Date,
    /// A timestamp without a zone.
    Timestamp,
    /// A timestamp with a zone.
    TimestampTz,
    /// A timestamp with more digits of a second than are kept.
    FineTimestamp,
    /// The same with a zone.
    FineTimestampTz,
    /// A time of day.
    Time,
    /// A UUID.
    Uuid,
    /// A JSON object or array.
    Json,
    /// Digits with a leading zero.
    LeadingZero,
    /// Anything else.
    Text,
}

/// What a class is a spelling of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Family {
    /// A number in some style.
    Number,
    /// A truth word.
    Boolean,
    /// A date, a timestamp or an instant.
    Temporal,
    /// A time of day.
    Time,
    /// A UUID.
    Uuid,
    /// A JSON text.
    Json,
    /// Text.
    Text,
}

impl Class {
    /// How many classes there are.
    pub const COUNT: usize = Class::Text as usize + 1;

    /// Every class, in order.
    pub const ALL: [Class; Class::COUNT] = [
        Class::Integer,
        Class::Point,
        Class::PointOrGroup,
        Class::PointGroups,
        Class::Comma,
        Class::CommaOrGroup,
        Class::CommaGroups,
        Class::SpaceWhole,
        Class::SpacePoint,
        Class::SpaceComma,
        Class::ApostropheWhole,
        Class::ApostrophePoint,
        Class::ApostropheComma,
        Class::ExponentWhole,
        Class::Exponent,
        Class::ExponentComma,
        Class::Infinite,
        Class::TrueFalse,
        Class::YesNo,
        Class::Yn,
        Class::Tf,
        Class::OnOff,
        Class::OtherTruth,
        Class::Date,
        Class::Timestamp,
        Class::TimestampTz,
        Class::FineTimestamp,
        Class::FineTimestampTz,
        Class::Time,
        Class::Uuid,
        Class::Json,
        Class::LeadingZero,
        Class::Text,
    ];

    /// What the class is a spelling of.
    pub fn family(self) -> Family {
        match self {
            c if c <= Class::Infinite => Family::Number,
            c if c <= Class::OtherTruth => Family::Boolean,
            Class::Date | Class::Timestamp | Class::TimestampTz => Family::Temporal,
            Class::Time => Family::Time,
            Class::Uuid => Family::Uuid,
            Class::Json => Family::Json,
            _ => Family::Text,
        }
    }

    /// Whether it is of moments that are not kept to their last digit.
    pub fn is_fine(self) -> bool {
        matches!(self, Class::FineTimestamp | Class::FineTimestampTz)
    }

    /// The class in words, with an example where that says more.
    pub fn words(self) -> &'static str {
        match self {
            Class::Integer => "whole numbers",
            Class::Point => "decimals with a point",
            Class::PointOrGroup => "1.234: decimals, or thousands",
            Class::PointGroups => "1.234.567 or 1.234,5",
            Class::Comma => "decimals with a comma",
            Class::CommaOrGroup => "1,234: decimals, or thousands",
            Class::CommaGroups => "1,234,567 or 1,234.5",
            Class::SpaceWhole => "1 234",
            Class::SpacePoint => "1 234.5",
            Class::SpaceComma => "1 234,5",
            Class::ApostropheWhole => "1'234",
            Class::ApostrophePoint => "1'234.5",
            Class::ApostropheComma => "1'234,5",
            Class::ExponentWhole => "15e3",
            Class::Exponent => "numbers with an exponent",
            Class::ExponentComma => "1,5e3",
            Class::Infinite => "infinity",
            Class::TrueFalse => "true/false",
            Class::YesNo => "yes/no",
            Class::Yn => "y/n",
            Class::Tf => "t/f",
            Class::OnOff => "on/off",
            Class::OtherTruth => "truth words of another language",
            Class::Date => "dates",
            Class::Timestamp => "timestamps",
            Class::TimestampTz => "timestamps with a zone",
            Class::FineTimestamp => "timestamps with more than six digits of a second",
            Class::FineTimestampTz => "timestamps with a zone and more than six digits of a second",
            Class::Time => "times of day",
            Class::Uuid => "UUIDs",
            Class::Json => "JSON",
            Class::LeadingZero => "digits with a leading zero",
            Class::Text => "text",
        }
    }

    /// The type word for values of this class, as messages use it.
    pub fn type_word(self) -> &'static str {
        match self {
            Class::Integer | Class::SpaceWhole | Class::ApostropheWhole => "integer",
            Class::ExponentWhole | Class::Exponent | Class::ExponentComma | Class::Infinite => "float",
            c if c.family() == Family::Number => "decimal",
            c if c.family() == Family::Boolean => "boolean",
            Class::Date => "date",
            Class::Timestamp => "timestamp",
            Class::TimestampTz => "timestamp_tz",
            Class::Time => "time",
            Class::Uuid => "uuid",
            Class::Json => "json",
            _ => "text",
        }
    }
}
