use rstest::rstest;

use super::*;

fn class_of(text: &str) -> Option<Class> {
    crate::spelling::recognise(text.as_bytes()).class()
}

#[rstest]
#[case("0", Class::Integer)]
#[case("-42", Class::Integer)]
#[case("+7", Class::Integer)]
#[case("9223372036854775807", Class::Integer)]
#[case("9223372036854775808", Class::Integer)]
#[case("1.5", Class::Point)]
#[case(".5", Class::Point)]
#[case("-.25", Class::Point)]
#[case("0.123", Class::Point)]
#[case("1.234", Class::PointOrGroup)]
#[case("1.234.567", Class::PointGroups)]
#[case("1.234,5", Class::PointGroups)]
#[case("1,5", Class::Comma)]
#[case("0,250", Class::Comma)]
#[case("1,234", Class::CommaOrGroup)]
#[case("1,234,567.89", Class::CommaGroups)]
#[case("1 234", Class::SpaceWhole)]
#[case("1\u{a0}234,5", Class::SpaceComma)]
#[case("1\u{202f}234.5", Class::SpacePoint)]
#[case("1'234.50", Class::ApostrophePoint)]
#[case("1.5e3", Class::Exponent)]
#[case("6E-07", Class::ExponentWhole)]
#[case("1,5E+10", Class::ExponentComma)]
#[case("inf", Class::Infinite)]
#[case("-Infinity", Class::Infinite)]
#[case("007", Class::LeadingZero)]
#[case("00.5", Class::LeadingZero)]
#[case("(12.30)", Class::Point)]
#[case("12.30-", Class::Point)]
#[case("12.5%", Class::Point)]
#[case("€ 1.234,50", Class::PointGroups)]
#[case("12 EUR", Class::Integer)]
#[case("-$5.00", Class::Point)]
#[case("$-5.00", Class::Point)]
#[case("1,23,456", Class::Text)]
#[case("12,34,5", Class::Text)]
#[case("1.2.3", Class::Text)]
#[case("1e999", Class::Text)]
#[case("--5", Class::Text)]
#[case("5-5", Class::Text)]
#[case("+", Class::Text)]
#[case("1,", Class::Text)]
#[case("123456789012345678901234567890123456789", Class::Text)]
fn numbers_are_told_apart(#[case] text: &str, #[case] class: Class) {
    assert_eq!(class_of(text), Some(class), "{text}");
}

#[rstest]
#[case("1.234", NumberStyle { comma: false, group: Group::None }, "1.234")]
#[case("1.234", NumberStyle { comma: true, group: Group::Mark }, "1234")]
#[case("1,234", NumberStyle { comma: false, group: Group::Mark }, "1234")]
#[case("1,234", NumberStyle { comma: true, group: Group::None }, "1.234")]
#[case("1.234,50", NumberStyle { comma: true, group: Group::Mark }, "1234.50")]
#[case("(1,234.5)", NumberStyle { comma: false, group: Group::Mark }, "-1234.5")]
#[case("-0.05", NumberStyle::default(), "-0.05")]
#[case("99999999999999999999.5", NumberStyle::default(), "99999999999999999999.5")]
fn a_style_decides_what_a_mark_means(#[case] text: &str, #[case] style: NumberStyle, #[case] value: &str) {
    let number = read(text.as_bytes(), style, Unit::Bare).expect("a number");
    assert_eq!(number.to_string(), value);
}

#[rstest]
#[case("1,5", NumberStyle::default())]
#[case("1,234", NumberStyle::default())]
#[case("007", NumberStyle::default())]
#[case("5%", NumberStyle::default())]
#[case("1.5", NumberStyle { comma: true, group: Group::None })]
fn a_number_in_another_style_is_refused(#[case] text: &str, #[case] style: NumberStyle) {
    assert_eq!(read(text.as_bytes(), style, Unit::Bare), None);
}

#[test]
fn rescaling_never_rounds() {
    let number = Number { mantissa: 1250, scale: 3 };
    assert_eq!(number.rescale(2), Some(125));
    assert_eq!(number.rescale(5), Some(125_000));
    assert_eq!(number.rescale(1), None);
}
