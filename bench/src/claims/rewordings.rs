//! Sentences in other words: some that say the same, and some that say the contrary.

use super::grown::{with_large_initial, with_small_initial};

/// What says the same: each of these may stand for the other.
pub(super) const REWORDED: &[(&str, &str)] = &[
    ("per cent", "%"),
    ("percent", "%"),
    ("kilometres", "km"),
    ("kilometre", "km"),
    ("metres", "m"),
    ("kilograms", "kg"),
    ("grams", "g"),
    ("litres", "l"),
    ("minutes", "min"),
    ("hours", "h"),
    ("two", "2"),
    ("three", "3"),
    ("four", "4"),
    ("five", "5"),
    ("six", "6"),
    ("seven", "7"),
    ("eight", "8"),
    ("nine", "9"),
    ("ten", "10"),
    ("eleven", "11"),
    ("twelve", "12"),
    ("twenty", "20"),
    ("thirty", "30"),
    ("about", "approximately"),
    ("more than", "over"),
    ("less than", "under"),
    ("at least", "no fewer than"),
    ("at most", "no more than"),
    ("because", "since"),
    ("must", "has to"),
    ("cannot", "can't"),
    ("is not", "isn't"),
    ("are not", "aren't"),
    ("does not", "doesn't"),
    ("every day", "daily"),
    ("begins", "starts"),
    ("usually", "normally"),
    ("allowed", "permitted"),
    ("forbidden", "not allowed"),
    ("free of charge", "free"),
    ("until", "till"),
    ("however", "though"),
    ("people", "persons"),
    ("large", "big"),
    ("needed", "required"),
    ("near", "close to"),
];

/// What says the contrary.
const CONTRARY: &[(&str, &str)] = &[
    ("before", "after"),
    ("more", "less"),
    ("first", "last"),
    ("all", "some"),
    ("every", "no"),
    ("open", "closed"),
    ("opens", "closes"),
    ("above", "below"),
    ("over", "under"),
    ("with", "without"),
    ("always", "never"),
    ("at least", "at most"),
    ("higher", "lower"),
    ("longer", "shorter"),
    ("larger", "smaller"),
    ("winter", "summer"),
    ("morning", "evening"),
    ("north", "south"),
    ("east", "west"),
    ("left", "right"),
    ("increase", "decrease"),
    ("rises", "falls"),
    ("old", "new"),
    ("hot", "cold"),
    ("early", "late"),
    ("allowed", "forbidden"),
    ("inside", "outside"),
    ("most", "few"),
    ("both", "neither"),
    ("Monday", "Tuesday"),
    ("Wednesday", "Thursday"),
    ("Friday", "Saturday"),
];

/// Returns a sentence with every expression of some pairs replaced by its partner; `None` if it has none.
pub(super) fn reworded(sentence: &str, pairs: &[(&str, &str)]) -> Option<String> {
    let mut changed = sentence.to_owned();
    for (one, other) in pairs {
        changed = replaced(&changed, one, other).or_else(|| replaced(&changed, other, one)).unwrap_or(changed);
    }
    (changed != sentence).then_some(changed)
}

/// Returns a sentence with one word turned into its contrary; `None` if it has none that is known.
pub(super) fn contrary(sentence: &str) -> Option<String> {
    CONTRARY.iter().find_map(|(one, other)| replaced(sentence, one, other).or_else(|| replaced(sentence, other, one)))
}

/// Returns a sentence in which a phrase that it begins with has been moved to its end; `None` if it begins with none.
pub(super) fn with_words_moved(sentence: &str) -> Option<String> {
    const BEGINNINGS: [&str; 9] = ["In ", "On ", "From ", "During ", "After ", "Before ", "At ", "For ", "If "];
    const MAX_WORDS: usize = 8;
    let (phrase, rest) = sentence.split_once(", ")?;
    let is_short = BEGINNINGS.iter().any(|word| phrase.starts_with(word)) && phrase.split(' ').count() <= MAX_WORDS;
    let is_simple = !rest.contains([',', ';']) && rest.starts_with(char::is_lowercase);
    (is_short && is_simple)
        .then(|| format!("{} {}.", with_large_initial(rest.trim_end_matches('.')), with_small_initial(phrase)))
}

/// Returns a sentence with the first place of an expression replaced; `None` if it is not there as words of its own.
fn replaced(sentence: &str, expression: &str, other: &str) -> Option<String> {
    let is_edge = |c: Option<char>| c.is_none_or(|c| !c.is_alphanumeric());
    // A figure beside such a sign is a part of a larger number or of a time.
    let is_part = |c: Option<char>| c.is_some_and(|c| ".:,%/-–".contains(c)) && other.chars().all(char::is_alphabetic);
    let is_figure = expression.starts_with(|c: char| c.is_ascii_digit());
    let found = sentence.match_indices(expression).find(|(at, _)| {
        let (before, after) = (sentence[..*at].chars().next_back(), sentence[at + expression.len()..].chars().next());
        let is_word = is_edge(before) && (is_edge(after) || expression == "%");
        is_word && !(is_figure && (is_part(before) || is_part(after)))
    });
    found.map(|(at, _)| format!("{}{other}{}", &sentence[..at], &sentence[at + expression.len()..]))
}
