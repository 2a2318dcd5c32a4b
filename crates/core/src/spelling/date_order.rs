//! The order of day, month and year.

use serde::{Deserialize, Serialize};

/// The order in which day, month and year stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DateOrder {
    /// Year, month, day.
    #[default]
    Ymd,
    /// Day, month, year.
    Dmy,
    /// Month, day, year.
    Mdy,
}

impl DateOrder {
    /// Every order, the preferred first when several would do.
    pub const ALL: [DateOrder; 3] = [DateOrder::Dmy, DateOrder::Mdy, DateOrder::Ymd];

    /// The order's own bit in a set of orders.
    pub fn bit(self) -> Orders {
        1 << self as u8
    }

    /// The order in words.
    pub fn words(self) -> &'static str {
        match self {
            DateOrder::Ymd => "year-month-day",
            DateOrder::Dmy => "day-month-year",
            DateOrder::Mdy => "month-day-year",
        }
    }
}

/// A set of orders: those in which a value is a date.
pub type Orders = u8;

/// A date that reads the same in every order because it names its month or starts with a
/// year of four digits.
pub const ANY_ORDER: Orders = 0b111;
