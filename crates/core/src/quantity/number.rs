//! Numbers as people write them.

use super::Unit;
use crate::document::Span;

/// Which sign stands before the decimals.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Notation {
    /// A point, as in `1,234.5`.
    #[default]
    Point,
    /// A comma, as in `1.234,5`.
    Comma,
}

/// A number in a text.
#[derive(Clone, Debug, PartialEq)]
pub struct Number {
    /// Where it stands, without its unit, in bytes.
    pub span: Span,
    /// Its value, in its own unit.
    pub value: f64,
    /// The unit that stands beside it.
    pub unit: Option<Unit>,
}

/// Signs that part thousands in any notation.
const SPACES: [char; 5] = [' ', '\u{a0}', '\u{2009}', '\u{202f}', '\''];

/// Returns the value of a digit of any script that has digits of its own.
fn digit(c: char) -> Option<u32> {
    // The zeros of the decimal digits of Unicode that are in common use.
    const ZEROS: [u32; 12] = [0x30, 0x660, 0x6f0, 0x966, 0x9e6, 0xa66, 0xae6, 0xb66, 0xbe6, 0xe50, 0x1040, 0xff10];
    let code = c as u32;
    ZEROS.iter().find(|zero| (**zero..**zero + 10).contains(&code)).map(|zero| code - zero)
}

impl Notation {
    /// Returns the notation that a text shows beyond doubt: `1.234,5` or `12,5`; `None` if it shows none.
    pub fn shown_by(text: &str) -> Option<Self> {
        let runs = |sign: char| -> Vec<usize> {
            let mut parts = text.split(sign);
            parts.next();
            parts.map(|part| part.chars().take_while(|c| digit(*c).is_some()).count()).collect()
        };
        let (points, commas) = (runs('.'), runs(','));
        match (points.len(), commas.len()) {
            (0, 0) => None,
            (0, 1) if commas[0] != 3 => Some(Self::Comma),
            (1, 0) if points[0] != 3 => Some(Self::Point),
            (0, count) if count > 1 => Some(Self::Point),
            (count, 0) if count > 1 => Some(Self::Comma),
            (0, _) | (_, 0) => None,
            _ if text.rfind('.') > text.rfind(',') => Some(Self::Point),
            _ => Some(Self::Comma),
        }
    }
}

/// Returns the value of a text that is one number and nothing else; `None` for any other text.
///
/// Knows signs (`-`, `−`, `+`), digits of several scripts, and spaces, commas, points and apostrophes between thousands.
pub fn parse_number(text: &str, notation: Notation) -> Option<f64> {
    let text = text.trim();
    let (negative, digits) = match text.chars().next()? {
        '-' | '−' | '–' => (true, text.chars().skip(1).collect::<String>()),
        '+' => (false, text.chars().skip(1).collect()),
        _ => (false, text.to_owned()),
    };
    // The Arabic signs for decimals and thousands.
    let digits = digits.trim().replace('٫', ".").replace('٬', ",");
    let notation = Notation::shown_by(&digits).unwrap_or(notation);
    let (decimal, thousands) = match notation {
        Notation::Point => ('.', ','),
        Notation::Comma => (',', '.'),
    };
    let (mut plain, mut since, mut seen_decimal) = (String::new(), None, false);
    for c in digits.chars() {
        if let Some(digit) = digit(c) {
            plain.push(char::from_digit(digit, 10)?);
            since = since.map(|count: u32| count + 1);
        } else if c == decimal && !seen_decimal && since.is_none_or(|count| count == 3) {
            plain.push('.');
            (seen_decimal, since) = (true, None);
        } else if (c == thousands || SPACES.contains(&c) || c == '’')
            && !seen_decimal
            && !plain.is_empty()
            && since.is_none_or(|count| count == 3)
        {
            since = Some(0);
        } else {
            return None;
        }
    }
    let whole = since.is_none_or(|count| count == 3) && plain.starts_with(|c: char| c.is_ascii_digit());
    let value: f64 = plain.trim_end_matches('.').parse().ok().filter(|_| whole)?;
    Some(if negative { -value } else { value })
}

/// Returns the numbers of a text in order, with the units beside them: `12 m`, `12,5 %`, `€ 9`. Parts of dates and names (`B-17`, `v2`) are no
/// numbers. Costs one pass.
pub fn numbers(text: &str, notation: Notation) -> Vec<Number> {
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(offset) = text[at..].find(|c: char| digit(c).is_some()) {
        let start = at + offset;
        if let Some(length) = date_length(&text[start..]) {
            at = start + length;
            continue;
        }
        let end = end_of_number(text, start);
        at = end;
        let before = text[..start].chars().next_back();
        let after = text[end..].chars().next();
        // A letter, a slash or a colon beside it makes it part of a name, a date or a time.
        let joined = |c: Option<char>| c.is_some_and(|c| c == '/' || c == ':' || c == '_' || c == '#');
        if joined(before) || before.is_some_and(char::is_alphabetic) || joined(after) {
            continue;
        }
        let sign = before.filter(|c| "-−".contains(*c)).filter(|sign| {
            let earlier = text[..start - sign.len_utf8()].chars().next_back();
            earlier.is_none_or(|c| c.is_whitespace() || "([".contains(c))
        });
        // Behind a word it is part of a name; behind a number, the end of a range.
        if before == Some('-') && sign.is_none() {
            let ranges = text[..start - 1].chars().next_back().is_some_and(|c| digit(c).is_some());
            if !ranges {
                continue;
            }
        }
        let from = start - sign.map_or(0, char::len_utf8);
        let Some(value) = parse_number(&text[from..end], notation) else { continue };
        found.push(Number { span: Span::new(from, end), value, unit: unit_beside(text, from, end) });
    }
    found
}

/// Returns the length of a date such as `2025-03-06` that a text begins with.
fn date_length(text: &str) -> Option<usize> {
    let date = text.get(..10)?;
    let is_date = date.bytes().enumerate().all(|(at, byte)| match at {
        4 | 7 => byte == b'-',
        _ => byte.is_ascii_digit(),
    });
    is_date.then_some(date.len())
}

/// Returns the end of a number: its digits, and single signs between digits.
fn end_of_number(text: &str, start: usize) -> usize {
    let mut end = start;
    for (offset, c) in text[start..].char_indices() {
        if digit(c).is_some() {
            end = start + offset + c.len_utf8();
            continue;
        }
        let next_digits = text[start + offset + c.len_utf8()..].chars().take_while(|c| digit(*c).is_some()).count();
        let joins = ['.', ',', '٫', '٬', '\'', '’'].contains(&c) && next_digits > 0;
        let spaced = SPACES.contains(&c) && next_digits == 3 && end - start <= 3 * 4;
        if !joins && !spaced {
            break;
        }
    }
    end
}

fn unit_beside(text: &str, from: usize, end: usize) -> Option<Unit> {
    let rest = text[end..].strip_prefix([' ', '\u{a0}', '\u{202f}', '-']).unwrap_or(&text[end..]);
    let rest: String = rest.chars().take(40).collect();
    let upper =
        rest.chars().next().is_some_and(char::is_uppercase) && rest.chars().nth(1).is_none_or(|c| !c.is_alphanumeric());
    let behind = if upper {
        Unit::named(&rest.chars().take(1).collect::<String>())
    } else {
        Unit::leading(&rest.to_lowercase()).map(|(unit, _)| unit)
    };
    behind.or_else(|| {
        let before = text[..from].trim_end();
        let sign = before.chars().next_back().filter(|c| "€$£¥₹".contains(*c))?;
        Unit::named(&sign.to_string())
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::super::Dimension;
    use super::*;

    #[rstest]
    #[case("1,234.5", Some(1234.5))]
    #[case("1.234,5", Some(1234.5))]
    #[case("1 234", Some(1234.0))]
    #[case("1\u{202f}234,75", Some(1234.75))]
    #[case("1'234'567", Some(1_234_567.0))]
    #[case("١٢٣", Some(123.0))]
    #[case("١٬٢٣٤٫٥", Some(1234.5))]
    #[case("−4", Some(-4.0))]
    #[case("0.42", Some(0.42))]
    #[case("12,5", Some(12.5))]
    #[case("1,234", Some(1234.0))]
    #[case("1.2.3", None)]
    #[case("12 34", None)]
    #[case("V12", None)]
    #[case("", None)]
    #[case("-", None)]
    fn notations(#[case] text: &str, #[case] value: Option<f64>) {
        assert_eq!(parse_number(text, Notation::Point), value);
    }

    #[test]
    fn a_doubtful_point_is_read_as_the_column_has_it() {
        assert_eq!(parse_number("1.234", Notation::Point), Some(1.234));
        assert_eq!(parse_number("1.234", Notation::Comma), Some(1234.0));
    }

    #[rstest]
    #[case("The limit is 7.9 metres at Berth 7.", &[(7.9, Some(Dimension::Length)), (7.0, None)])]
    #[case("at 3 °C, 45 %, € 9 and 12 kW", &[(3.0, Some(Dimension::Temperature)), (45.0, Some(Dimension::Share)), (9.0, Some(Dimension::Money("EUR".to_owned()))), (12.0, Some(Dimension::Power))])]
    #[case("V12 and B-17 on 2025-03-06 at 10:30", &[])]
    #[case("Elle mesure 12 mètres, il dure 3 heures", &[(12.0, Some(Dimension::Length)), (3.0, Some(Dimension::Duration))])]
    fn numbers_have_their_units(#[case] text: &str, #[case] expected: &[(f64, Option<Dimension>)]) {
        let found: Vec<(f64, Option<Dimension>)> = numbers(text, Notation::Point)
            .into_iter()
            .map(|one| (one.value, one.unit.map(|unit| unit.dimension)))
            .collect();
        assert_eq!(found, expected);
    }

    proptest! {
        #[test]
        fn nothing_panics_and_spans_are_in_the_text(text in "[0-9a-z.,;:/ €°٠-٩−'-]{0,40}") {
            for number in numbers(&text, Notation::Comma) {
                prop_assert!(text.get(number.span.range()).is_some() && number.value.is_finite());
            }
            let _ = (parse_number(&text, Notation::Point), Unit::named(&text), Notation::shown_by(&text));
        }

        #[test]
        fn a_written_number_is_read_again(value in -1_000_000_i32..1_000_000) {
            prop_assert_eq!(parse_number(&value.to_string(), Notation::Point), Some(f64::from(value)));
        }
    }
}
