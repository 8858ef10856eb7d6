//! The shares of a text.

use super::{Amount, Measure};
use crate::document::Span;
use crate::quantity::{Dimension, Unit};
use crate::text::{fold, words};

const FRACTIONS: [(&str, f64); 8] = [
    ("half", 0.5),
    ("third", 1.0 / 3.0),
    ("quarter", 0.25),
    ("fifth", 0.2),
    ("tenth", 0.1),
    ("thirds", 2.0 / 3.0),
    ("quarters", 0.75),
    ("halves", 0.5),
];

/// Returns the shares in words: `a third of`, `half`, `one in twenty`, `one person in twenty`.
pub(super) fn shares(text: &str) -> Vec<Amount> {
    let all: Vec<(Span, String)> = words(text).map(|word| (word.span, fold(word.text))).collect();
    let word = |at: usize| all.get(at).map_or("", |(_, word)| word.as_str());
    let mut found = Vec::new();
    let mut push = |span: Span, value: f64, measure: Measure, factor: f64| {
        found.push(Amount::new(span, value, measure, factor));
    };
    for at in 0..all.len() {
        if let Some((_, share)) = FRACTIONS.iter().find(|(name, _)| *name == word(at)) {
            let before = at.checked_sub(1).map_or("", word);
            let many = before.parse::<f64>().ok().filter(|many| word(at).ends_with('s') && *many < 10.0);
            let value = many
                .filter(|_| !word(at).ends_with("thirds") && !word(at).ends_with("quarters"))
                .map_or(*share, |many| many * share);
            let first = if many.is_some() { at - 1 } else { at };
            // `Half an hour`, `a half hour` and `three quarters of an hour` are amounts of time.
            let last = match (word(at + 1), word(at + 2)) {
                ("a" | "an", _) => at + 2,
                ("of", "a" | "an") => at + 3,
                _ if word(at) == "half" && word(at + 1).len() > 2 => at + 1,
                _ => all.len(),
            };
            if let Some(unit) = Unit::named(word(last)) {
                push(Span::new(all[first].0.start, all[last].0.end), value, Measure::Of(unit.dimension), unit.factor);
            } else if word(at) == "half"
                || word(at + 1) == "of"
                || matches!(before, "a" | "one" | "by" | "under")
                || many.is_some()
            {
                push(Span::new(all[first].0.start, all[at].0.end), value, Measure::Of(Dimension::Share), 1.0);
            }
        }
        if word(at) == "one" || word(at) == "1" {
            let inner = [at + 1, at + 2].into_iter().find(|at| word(*at) == "in");
            if let Some(inner) = inner
                && let Ok(of) = word(inner + 1).parse::<f64>()
                && of > 1.0
                && of < 1_000.0
            {
                push(Span::new(all[at].0.start, all[inner + 1].0.end), 1.0 / of, Measure::Of(Dimension::Share), 1.0);
            }
        }
    }
    found
}
