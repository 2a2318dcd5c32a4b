//! The styles in which numbers are written: decimal mark and grouping.

use serde::{Deserialize, Serialize};

use crate::spelling::Class;

/// The mark that groups digits by thousands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Group {
    /// None.
    #[default]
    None,
    /// The one of comma and point that is not the decimal mark.
    Mark,
    /// A space, no-break space or narrow no-break space.
    Space,
    /// An apostrophe.
    Apostrophe,
}

/// How the numbers of a column are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
pub struct NumberStyle {
    /// The decimal mark is a comma, not a point.
    pub comma: bool,
    /// What groups the digits.
    pub group: Group,
}

/// A set of styles: those in which a value is a number.
pub type Styles = u8;

/// Every style.
pub const ALL_STYLES: Styles = 0xFF;

impl NumberStyle {
    /// The styles in the order in which they are preferred when several would do.
    pub const ALL: [NumberStyle; 8] = [
        NumberStyle { comma: false, group: Group::None },
        NumberStyle { comma: true, group: Group::None },
        NumberStyle { comma: false, group: Group::Mark },
        NumberStyle { comma: true, group: Group::Mark },
        NumberStyle { comma: false, group: Group::Space },
        NumberStyle { comma: true, group: Group::Space },
        NumberStyle { comma: false, group: Group::Apostrophe },
        NumberStyle { comma: true, group: Group::Apostrophe },
    ];

    /// The style's own bit in a set of styles.
    pub fn bit(self) -> Styles {
        let at = NumberStyle::ALL.iter().position(|style| *style == self).unwrap_or_default();
        1 << at
    }

    /// The style as a person would write it: `1,234.5`.
    pub fn example(self) -> &'static str {
        match (self.comma, self.group) {
            (false, Group::None) => "1234.5",
            (true, Group::None) => "1234,5",
            (false, Group::Mark) => "1,234.5",
            (true, Group::Mark) => "1.234,5",
            (false, Group::Space) => "1 234.5",
            (true, Group::Space) => "1 234,5",
            (false, Group::Apostrophe) => "1'234.5",
            (true, Group::Apostrophe) => "1'234,5",
        }
    }
}

const POINT: Styles = 0b0101_0101;
const COMMA: Styles = 0b1010_1010;
const POINT_MARK: Styles = 0b0000_0100;
const COMMA_MARK: Styles = 0b0000_1000;
const SPACE: Styles = 0b0011_0000;
const APOSTROPHE: Styles = 0b1100_0000;

impl Class {
    /// The styles in which a value of this class is a number; 0 for what is none.
    pub fn styles(self) -> Styles {
        match self {
            Class::Integer | Class::ExponentWhole | Class::Infinite => ALL_STYLES,
            Class::Point | Class::Exponent => POINT,
            Class::PointOrGroup => POINT | COMMA_MARK,
            Class::PointGroups => COMMA_MARK,
            Class::Comma | Class::ExponentComma => COMMA,
            Class::CommaOrGroup => COMMA | POINT_MARK,
            Class::CommaGroups => POINT_MARK,
            Class::SpaceWhole => SPACE,
            Class::SpacePoint => SPACE & POINT,
            Class::SpaceComma => SPACE & COMMA,
            Class::ApostropheWhole => APOSTROPHE,
            Class::ApostrophePoint => APOSTROPHE & POINT,
            Class::ApostropheComma => APOSTROPHE & COMMA,
            _ => 0,
        }
    }
}
