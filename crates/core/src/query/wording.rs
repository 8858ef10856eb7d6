//! Other wordings of a question: synonyms from the user's list, and abbreviations as the documents define them.

use serde::{Deserialize, Serialize};

use crate::text::{fold, is_stopword, words};

/// Another way of saying a part of a question.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Wording {
    /// The words of the question.
    pub from: String,
    /// What may be said in their place.
    pub to: String,
    /// The document that says so; `None` if the user's list does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub document: Option<String>,
}

impl Wording {
    /// Creates a wording from the user's list.
    pub fn new(from: impl Into<String>, to: impl Into<String>) -> Self {
        Self { from: from.into(), to: to.into(), document: None }
    }

    /// Creates a wording that a document defines.
    pub fn defined(from: impl Into<String>, to: impl Into<String>, document: impl Into<String>) -> Self {
        Self { document: Some(document.into()), ..Self::new(from, to) }
    }
}

/// An abbreviation has at least two capitals or digits, and so many letters at the most.
const MAX_LETTERS: usize = 8;
/// The fewest and the most words of a term that may be abbreviated.
const TERM: std::ops::RangeInclusive<usize> = 2..=5;
/// So many parts of a question are looked up.
const MAX_CANDIDATES: usize = 12;

/// A part of a question that may be an abbreviation, or have one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Abbreviated {
    /// An abbreviation, as written.
    Short(String),
    /// Words, and what they would be abbreviated to.
    Long(String, String),
}

/// Returns the synonyms of the words of a question. In a group, each entry may stand for each other one.
///
/// Words are compared by their stems. Costs a pass over the question for each entry.
pub fn synonyms(question: &str, groups: &[Vec<String>]) -> Vec<Wording> {
    let mut found = Vec::new();
    for group in groups {
        let Some(from) = group.iter().find(|entry| has_words(question, entry)) else { continue };
        found.extend(group.iter().filter(|to| !has_words(question, to)).map(|to| Wording::new(from, to)));
    }
    found
}

/// Returns `true` if a text has some words one after the other; compared by their stems.
pub fn has_words(text: &str, wanted: &str) -> bool {
    let terms = |text: &str| words(text).map(|word| word.term).collect::<Vec<String>>();
    let wanted = terms(wanted);
    !wanted.is_empty() && terms(text).windows(wanted.len()).any(|run| run == wanted)
}

/// Returns the parts of a question that may be an abbreviation or have one, in their order.
pub fn abbreviated(question: &str) -> Vec<Abbreviated> {
    let all: Vec<&str> = words(question).map(|word| word.text).collect();
    let shouted = !question.contains(|c: char| c.is_lowercase());
    let mut found = Vec::new();
    for (at, word) in all.iter().enumerate() {
        if !shouted && is_abbreviation(word) {
            found.push(Abbreviated::Short((*word).to_owned()));
        }
        for run in TERM.filter_map(|length| all.get(at..at + length)) {
            let ends = [run.first(), run.last()];
            if ends.iter().flatten().any(|end| is_stopword(&fold(end))) {
                continue;
            }
            let telling = run.iter().filter(|word| !is_stopword(&fold(word)));
            let initials: String =
                telling.filter_map(|word| word.chars().next()).flat_map(char::to_uppercase).collect();
            if initials.chars().count() >= 2 && initials.chars().all(char::is_alphabetic) {
                found.push(Abbreviated::Long(run.join(" "), initials));
            }
        }
    }
    // What is written as an abbreviation comes first, then the longest terms.
    found.sort_by_key(|one| match one {
        Abbreviated::Short(_) => 0,
        Abbreviated::Long(_, initials) => usize::MAX - initials.len(),
    });
    found.truncate(MAX_CANDIDATES);
    found
}

/// Returns `true` for a word such as `AIS`, `VHF` or `CO2`.
fn is_abbreviation(word: &str) -> bool {
    let capitals = word.chars().filter(|c| c.is_uppercase()).count();
    let others = word.chars().filter(|c| c.is_lowercase()).count();
    capitals >= 2 && others <= 1 && word.chars().count() <= MAX_LETTERS
}

/// Returns the words that a text defines an abbreviation by: those before `(AIS)`, or inside the brackets of `AIS (…)`.
///
/// The words are found from the last letter to the first (Schwartz and Hearst, 2003): each letter of the abbreviation occurs in them, in its
/// order, and the first one begins a word. Costs a pass over the text.
pub fn definition<'a>(text: &'a str, short: &str) -> Option<&'a str> {
    let mut from = 0;
    while let Some(at) = text[from..].find(short).map(|at| from + at) {
        let (before, after) = (&text[..at], &text[at + short.len()..]);
        from = at + short.len();
        let found = match (before.strip_suffix('('), after.strip_prefix(')'), after.trim_start().strip_prefix('(')) {
            (Some(before), Some(_), _) => long_form(before.trim_end(), short),
            (_, _, Some(inside)) => inside.split_once(')').and_then(|(inside, _)| {
                let whole = long_form(inside, short)?;
                (whole.len() == inside.trim().len()).then_some(whole)
            }),
            _ => None,
        };
        if found.is_some() {
            return found;
        }
    }
    None
}

/// Returns the end of a text that the letters of an abbreviation come from.
fn long_form<'a>(text: &'a str, short: &str) -> Option<&'a str> {
    let letters: Vec<char> = short.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect();
    let words = text.split(['.', ';', '\n', '(']).next_back()?.trim_start();
    let max_words = (letters.len() + 5).min(2 * letters.len());
    let mut left = letters.as_slice();
    let mut rest: Vec<(usize, char)> = words.char_indices().collect();
    let mut start = words.len();
    while let Some((&letter, others)) = left.split_last() {
        let (at, c) = rest.pop()?;
        let begins = rest.last().is_none_or(|(_, before)| !before.is_alphanumeric());
        if c.to_lowercase().eq([letter]) && (!others.is_empty() || begins) {
            (left, start) = (others, at);
        }
    }
    let found = words[start..].trim_end();
    let count = found.split_whitespace().count();
    ((2..=max_words).contains(&count) && !found.contains(short)).then_some(found)
}

/// Returns a question with other wordings behind the words that they may stand for, for an encoder to read.
pub fn reworded(question: &str, wordings: &[Wording]) -> String {
    let mut text = question.to_owned();
    for Wording { from, to, .. } in wordings {
        let at = text.find(from.as_str()).map_or(text.len(), |at| at + from.len());
        text.insert_str(at, &format!(" ({to})"));
    }
    text
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(
        "Each ship has an automatic identification system (AIS) aboard.",
        "AIS",
        Some("automatic identification system")
    )]
    #[case("The AIS (automatic identification system) is checked.", "AIS", Some("automatic identification system"))]
    #[case("The vessel traffic service of the port (VTS) answers.", "VTS", Some("vessel traffic service of the port"))]
    #[case("Very high frequency (VHF) radio.", "VHF", Some("Very high frequency"))]
    #[case("Switch AIS on (see page 4).", "AIS", None)]
    #[case("The mole (AIS) is shut.", "AIS", None)]
    #[case("AIS AIS (AIS)", "AIS", None)]
    #[case("", "AIS", None)]
    fn a_definition_is_found_by_the_letters(#[case] text: &str, #[case] short: &str, #[case] expected: Option<&str>) {
        assert_eq!(definition(text, short), expected);
    }

    #[test]
    fn parts_that_may_be_abbreviated_are_found() {
        let found = abbreviated("Is the AIS or the vessel traffic service shut?");
        assert_eq!(found[0], Abbreviated::Short("AIS".to_owned()));
        assert!(found.contains(&Abbreviated::Long("vessel traffic service".to_owned(), "VTS".to_owned())), "{found:?}");
        assert!(
            abbreviated("WHERE IS THE AIS").iter().all(|one| !matches!(one, Abbreviated::Short(_))),
            "all is shouted"
        );
    }

    #[test]
    fn synonyms_go_both_ways() {
        let groups = [vec!["quay".to_owned(), "wharf".to_owned(), "landing stage".to_owned()]];
        let to = |question| synonyms(question, &groups).into_iter().map(|one| one.to).collect::<Vec<_>>();
        assert_eq!(to("Which quays are shut?"), ["wharf", "landing stage"]);
        assert_eq!(to("Where is the landing stage?"), ["quay", "wharf"]);
        assert!(to("Where is the stage for the landing?").is_empty());
        let worded = reworded("Where is the quay?", &synonyms("Where is the quay?", &groups[..]));
        assert_eq!(worded, "Where is the quay (landing stage) (wharf)?");
    }

    proptest! {
        #[test]
        fn nothing_panics_and_a_definition_is_a_part_of_the_text(text in "[A-Za-z(). éß]{0,60}", short in "[A-Z]{2,4}") {
            let text = format!("{text} ({short}) {text}");
            if let Some(found) = definition(&text, &short) {
                prop_assert!(text.contains(found) && found.split_whitespace().count() >= 2);
            }
            let _ = abbreviated(&text);
        }
    }
}
