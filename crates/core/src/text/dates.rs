//! Dates in running text.

use super::{fold, words};
use crate::document::{Date, Span};

/// A date in a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WrittenDate {
    /// Where it stands, in bytes.
    pub span: Span,
    /// Its first day.
    pub from: Date,
    /// Its last day: the same, or the end of the month if no day is named.
    pub to: Date,
}

/// The months in English, German, French, Spanish, Italian, Portuguese and Dutch, lower case; and their short forms.
const MONTHS: [&str; 12] = [
    "january jan januar janvier enero gennaio janeiro januari",
    "february feb februar février fevrier febrero febbraio fevereiro februari",
    "march mar märz maerz mars marzo março maart",
    "april apr avril abril aprile",
    "may mai mayo maggio maio mei",
    "june jun juni juin junio giugno junho",
    "july jul juli juillet julio luglio julho",
    "august aug août aout agosto augustus",
    "september sep sept septembre septiembre settembre setembro",
    "october oct oktober octobre octubre ottobre outubro",
    "november nov novembre noviembre novembro",
    "december dec dezember décembre decembre diciembre dicembre dezembro",
];

/// Returns the number of a month by its name, from 1.
fn month(word: &str) -> Option<u32> {
    let known = |names: &&str| names.split(' ').any(|name| name == word);
    MONTHS.iter().position(known).map(|at| at as u32 + 1)
}

/// Returns the dates of a text, in order: `2025-05-27`, `27 May 2025`, `May 27, 2025`, `27. Mai 2025`, `27 de mayo de 2025`, `November 2025`.
/// A day without a year is none. Costs one pass over the words.
pub fn dates(text: &str) -> Vec<WrittenDate> {
    let mut found: Vec<WrittenDate> = iso(text);
    let all: Vec<(Span, String)> = words(text).map(|word| (word.span, fold(word.text))).collect();
    let number = |at: usize, digits: std::ops::RangeInclusive<usize>| {
        let (_, word) = all.get(at)?;
        let bare = ["st", "nd", "rd", "th", "er", "º"].iter().find_map(|end| word.strip_suffix(end)).unwrap_or(word);
        let sound = digits.contains(&bare.len()) && bare.bytes().all(|byte| byte.is_ascii_digit());
        sound.then(|| bare.parse::<u32>().ok())?
    };
    for at in 0..all.len() {
        let Some(month) = month(&all[at].1) else { continue };
        // `de` and `of` may stand between.
        let link = |at: usize| all.get(at).is_some_and(|(_, word)| ["de", "of", "del"].contains(&word.as_str()));
        let after = at + 1 + usize::from(link(at + 1));
        let before = at.checked_sub(1 + usize::from(at > 0 && link(at - 1)));
        let day_before = before.and_then(|before| Some((number(before, 1..=2)?, before)));
        let (day, first, year_at) = match (day_before, number(after, 4..=4)) {
            (Some((day, before)), Some(_)) => (Some(day), before, after),
            (None, Some(_)) => (None, at, after),
            // `May 27, 2025`
            _ => match (number(at + 1, 1..=2), number(at + 2, 4..=4)) {
                (Some(day), Some(_)) => (Some(day), at, at + 2),
                _ => continue,
            },
        };
        let Some(year) = number(year_at, 4..=4) else { continue };
        let written = |day: u32| Date::from_written(&format!("{year:04}-{month:02}-{day:02}"));
        let ends = match day {
            Some(day) => written(day).map(|date| (date.clone(), date)),
            None => written(1).zip(written(31)),
        };
        if let Some((from, to)) = ends {
            found.push(WrittenDate { span: Span::new(all[first].0.start, all[year_at].0.end), from, to });
        }
    }
    found.sort_by_key(|date| date.span.start);
    found
}

/// Returns the dates of a text that are written as ISO 8601 has them.
fn iso(text: &str) -> Vec<WrittenDate> {
    const LENGTH: usize = 10;
    let mut found = Vec::new();
    let starts = text.match_indices('-').filter_map(|(dash, _)| dash.checked_sub(4));
    for start in starts {
        let Some(date) = text.get(start..start + LENGTH).and_then(Date::from_written) else { continue };
        let digit = |c: Option<char>| c.is_some_and(|c| c.is_alphanumeric() || c == '-');
        let (before, after) = (text[..start].chars().next_back(), text[start + LENGTH..].chars().next());
        if !(digit(before) || (digit(after) && after != Some('T'))) {
            found.push(WrittenDate { span: Span::new(start, start + LENGTH), from: date.clone(), to: date });
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("Open from 1 October 2025 on.", &[("2025-10-01", "2025-10-01")])]
    #[case("On May 27, 2025 and on 2025-06-01", &[("2025-05-27", "2025-05-27"), ("2025-06-01", "2025-06-01")])]
    #[case("Am 3. März 2025", &[("2025-03-03", "2025-03-03")])]
    #[case("El 27 de mayo de 2025", &[("2025-05-27", "2025-05-27")])]
    #[case("Le 1er août 2025", &[("2025-08-01", "2025-08-01")])]
    #[case("il 2 giugno 2025", &[("2025-06-02", "2025-06-02")])]
    #[case("in November 2025", &[("2025-11-01", "2025-11-31")])]
    #[case("You may go; 12 May; part 12-2025-03-0", &[])]
    #[case("2025-13-40 and x2025-01-01", &[])]
    fn dates_are_found(#[case] text: &str, #[case] expected: &[(&str, &str)]) {
        let found: Vec<(String, String)> =
            dates(text).into_iter().map(|date| (String::from(date.from), String::from(date.to))).collect();
        let expected: Vec<(String, String)> =
            expected.iter().map(|(from, to)| ((*from).to_owned(), (*to).to_owned())).collect();
        assert_eq!(found, expected);
    }

    proptest! {
        #[test]
        fn nothing_panics(text in "[0-9a-zé .,-]{0,40}( May | mai | 2025-){0,2}[0-9 ]{0,6}") {
            for date in dates(&text) {
                prop_assert!(text.get(date.span.range()).is_some());
            }
        }
    }
}
