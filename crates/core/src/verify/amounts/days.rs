//! The days and months of a text.

use super::{Amount, Measure};
use crate::document::Span;
use crate::text::{fold, words};

/// Returns the days of a text, with or without a year: `12 January 2026`, `1 May`, `May 2026`, `March 3`.
pub(super) fn days(text: &str) -> Vec<Amount> {
    const MONTHS: &str = "january february march april may june july august september october november december";
    const ORDINALS: &str = "first second third fourth fifth sixth seventh eighth ninth tenth eleventh twelfth thirteenth fourteenth \
                            fifteenth sixteenth seventeenth eighteenth nineteenth twentieth";
    let all: Vec<(Span, String)> = words(text).map(|word| (word.span, fold(word.text))).collect();
    let number = |at: Option<usize>, digits: usize| {
        let (_, word) = all.get(at?)?;
        if digits == 2
            && let Some(at) = ORDINALS.split(' ').position(|ordinal| ordinal == word)
        {
            return Some(at as u32 + 1);
        }
        let bare = ["st", "nd", "rd", "th"].iter().find_map(|end| word.strip_suffix(end)).unwrap_or(word);
        (bare.len() <= digits && digits > 2 && bare.len() == digits || digits == 2 && bare.len() <= 2)
            .then(|| bare.parse::<u32>().ok())?
    };
    let mut found = Vec::new();
    for at in 0..all.len() {
        // The month of May begins with a capital, and so does March.
        let written = text[all[at].0.range()].starts_with(char::is_uppercase);
        let Some(month) = MONTHS.split(' ').position(|month| month == all[at].1).filter(|_| written) else { continue };
        let of = at.checked_sub(1).filter(|before| all[*before].1 == "of");
        let before = of.unwrap_or(at).checked_sub(1);
        let day_before = number(before, 2).filter(|day| (1..=31).contains(day));
        let day_after = number(Some(at + 1), 2).filter(|day| (1..=31).contains(day) && day_before.is_none());
        let behind = at + 1 + usize::from(day_after.is_some());
        let year = number(Some(behind), 4);
        let day = day_before.or(day_after);
        let month_alone = day.is_none() && year.is_none();
        if month_alone && matches!(all[at].1.as_str(), "may" | "march") && at == 0 {
            continue;
        }
        let first = if day_before.is_some() { before.unwrap_or(at) } else { at };
        let last = if year.is_some() { behind } else { behind - 1 };
        let span = Span::new(all[first].0.start, all[last].0.end);
        let measure = Measure::Date { year, month: month as u32 + 1, day };
        // A day is compared by its parts, and not by a value.
        found.push(Amount { value: 0.0, ..Amount::new(span, f64::from(year.unwrap_or_default()), measure, 1.0) });
    }
    found
}
