//! How a heading, a cell, or a sentence becomes a question.

use std::collections::HashSet;
use std::sync::LazyLock;

use regex::{Captures, Regex};

use crate::document::Table;
use crate::text::{fold, is_stopword, words};

/// A question, and the text that a right answer contains, if that can be told.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Worded {
    pub question: String,
    pub answer: Option<String>,
}

/// The words of a sentence that is turned into a question.
const SENTENCE_WORDS: std::ops::RangeInclusive<usize> = 5..=28;
/// The longest name of a thing, in words.
const MAX_NAME_WORDS: usize = 6;
/// The longest value of a cell, in bytes.
const MAX_CELL: usize = 60;
/// Words that point to what was said before: a question that begins with them cannot be understood alone.
const POINTING: [&str; 36] = [
    "this", "that", "these", "those", "it", "its", "they", "their", "he", "she", "his", "her", "we", "our", "you",
    "your", "there", "here", "such", "each", "both", "and", "but", "or", "so", "then", "if", "when", "which", "who",
    "what", "one", "another", "other", "also", "however",
];

/// Compiles an expression of this module.
fn regex(pattern: &str) -> Regex {
    // Every expression here is compiled in the tests.
    Regex::new(pattern).unwrap_or_else(|error| unreachable!("{error}"))
}

const MONTH: &str = "(?:January|February|March|April|May|June|July|August|September|October|November|December)";

/// A date with a day, or a year after “in”.
static DATE: LazyLock<Regex> = LazyLock::new(|| {
    regex(&format!(
        r"\b(?P<day>\d{{1,2}} {MONTH}(?: \d{{4}})?|{MONTH} \d{{1,2}}, \d{{4}})\b|\b[Ii]n (?P<year>(?:1[5-9]|20)\d\d)\b"
    ))
});
/// An amount of money, a share, or a number of things.
static FIGURE: LazyLock<Regex> = LazyLock::new(|| {
    regex(
        r"(?P<money>[£$€]\s?\d[\d,.]*\d|[£$€]\s?\d)|(?P<share>\d[\d,.]*\s?(?:%|per cent\b|percent\b))|(?P<count>\b\d[\d,.]*) (?P<unit>[a-z]{3,}s)\b",
    )
});
static DEFINITION: LazyLock<Regex> = LazyLock::new(|| {
    regex(
        r"^(?P<name>[^,;:()]{2,60}?) (?P<verb>is an?|is the|are the|means|stands for|refers to) (?P<said>\S+ \S+ \S+ .*)$",
    )
});
/// A term before its explanation, as in lists.
static TERM: LazyLock<Regex> =
    LazyLock::new(|| regex(r"^(?P<name>\p{L}[^,;:.()]{1,40})(?::| [–—-]) (?P<said>\S+ \S+ \S+ \S+ \S+.*)$"));

/// Returns a question about a section by its heading; `None` if the heading says too little.
pub(super) fn of_heading(heading: &str, lower: &HashSet<&str>) -> Option<Worded> {
    let telling = words(heading).filter(|word| !is_stopword(&fold(word.text))).count();
    let question = |question: String| Some(Worded { question, answer: None });
    if heading.ends_with('?') {
        return question(heading.to_owned());
    }
    let bare = heading.trim_end_matches(['.', ':']);
    // A number in front tells where the section is, and not what it is about.
    let bare = bare.trim_start_matches(|c: char| c.is_ascii_digit() || c == '.').trim_start();
    let is_shouted = bare.chars().filter(|c| c.is_alphabetic()).all(char::is_uppercase);
    if telling < 2 || words(bare).count() > 12 || is_shouted || bare.contains(':') {
        return None;
    }
    let mut parts = bare.split_whitespace();
    let first = parts.next()?;
    let second = parts.next().unwrap_or_default();
    if let Some(rest) = bare.strip_prefix("How to ") {
        return question(format!("How do I {rest}?"));
    }
    // “Ordering a pilot” names an activity; “Working channel” names a thing.
    let is_deed = first.len() > 5 && first.ends_with("ing") && (is_stopword(&fold(second)) || second.ends_with('s'));
    if is_deed {
        // The heading begins the verb with a capital, and the question does not.
        let (capital, rest) = bare.split_at(bare.chars().next().map_or(0, char::len_utf8));
        return question(format!("How does {}{rest} work?", capital.to_lowercase()));
    }
    question(format!("What about {}?", lowered(bare, lower)))
}

/// Returns a question about a cell of a table; `None` if its row or its column has no name.
pub(super) fn of_cell(text: &str, table: &Table, row: usize, column: usize, lower: &HashSet<&str>) -> Option<Worded> {
    let cells = &table.rows.get(row)?.cells;
    let cell = |at: usize| cells.get(at).map(|span| text.get(span.range()).unwrap_or_default().trim());
    let (key, value) = (cell(0)?, cell(column)?);
    let name = table.column_name(text, column);
    let name = name.split(['(', '[']).next().unwrap_or_default().trim();
    let has_letters = |text: &str| text.chars().filter(|c| c.is_alphabetic()).count() >= 3;
    let is_clause =
        ["what", "who", "when", "where", "why", "how", "which"].contains(&fold(name.split(' ').next()?).as_str());
    let is_fine = |text: &str| !text.is_empty() && text.len() <= MAX_CELL && !text.contains('\n');
    let says = value.chars().any(char::is_alphanumeric);
    let begins = key.starts_with(char::is_alphabetic);
    if ![key, name].into_iter().all(|text| has_letters(text) && is_fine(text))
        || !is_fine(value)
        || !says
        || !begins
        || is_clause
    {
        return None;
    }
    // A cell that spans several columns is not the value of one column.
    if cells.iter().filter(|other| **other == cells[column]).count() > 1 {
        return None;
    }
    let verb = if name.ends_with('s') && !name.ends_with("ss") { "are" } else { "is" };
    let is_word = name.chars().skip(1).all(|c| !c.is_uppercase());
    let name = if is_word { name.to_lowercase() } else { lowered(name, lower) };
    let question = format!("What {verb} the {name} of {key}?");
    Some(Worded { question, answer: Some(value.to_owned()) })
}

/// Returns a question about the only figure or date of a sentence, and the kind of it.
pub(super) fn of_sentence(sentence: &str) -> Option<(&'static str, Worded)> {
    if !stands_alone(sentence) || !sentence.ends_with('.') || sentence.contains([':', ';', '|', '\n', '“', '"']) {
        return None;
    }
    let ask = |found: &Captures<'_>, asked: String, answer: &str| {
        let whole = found.get(0)?;
        if whole.start() == 0 {
            return None;
        }
        let rest = sentence[whole.end()..].trim_end_matches(['.', '!']);
        let question = format!("{}{asked}{rest}?", &sentence[..whole.start()]);
        Some(Worded { question, answer: Some(answer.to_owned()) })
    };
    if let Some(found) = DATE.captures(sentence) {
        let whole = found.get(0)?;
        if numbers(&sentence[..whole.start()]) + numbers(&sentence[whole.end()..]) > 0 {
            return None;
        }
        return match (found.name("day"), found.name("year")) {
            (Some(day), _) => Some(("date", ask(&found, "what date".to_owned(), day.as_str())?)),
            (_, Some(year)) => Some(("date", ask(&found, "in what year".to_owned(), year.as_str())?)),
            _ => None,
        };
    }
    let is_named = |found: &Captures<'_>| {
        let start = found.get(0).map_or(0, |whole| whole.start());
        let before: Vec<&str> = sentence[..start].split_whitespace().collect();
        before.len() > 1 && before[before.len() - 1].starts_with(char::is_uppercase)
    };
    let found = FIGURE.captures_iter(sentence).find(|found| !is_named(found)).filter(|_| numbers(sentence) == 1)?;
    let worded = match (found.name("money"), found.name("share"), found.name("unit")) {
        (Some(money), ..) => ask(&found, "how much".to_owned(), money.as_str())?,
        (_, Some(share), _) => ask(&found, "what percentage".to_owned(), share.as_str())?,
        (.., Some(unit)) if !is_stopword(unit.as_str()) => {
            ask(&found, format!("how many {}", unit.as_str()), &found[0])?
        }
        _ => return None,
    };
    Some(("figure", worded))
}

/// Returns how many numbers a text has. After a name with a capital, a number is part of the name.
fn numbers(text: &str) -> usize {
    let parts: Vec<&str> = text.split_whitespace().collect();
    let is_name = |at: usize| at > 1 && parts[at - 1].starts_with(char::is_uppercase);
    (0..parts.len()).filter(|at| parts[*at].contains(|c: char| c.is_ascii_digit()) && !is_name(*at)).count()
}

/// Returns a question for what a sentence defines; `None` if it defines nothing.
pub(super) fn defined(sentence: &str, lower: &HashSet<&str>) -> Option<Worded> {
    if !stands_alone(sentence) || sentence.contains(['|', '\n']) {
        return None;
    }
    let (found, verb) = match DEFINITION.captures(sentence) {
        Some(found) => {
            let verb = found.name("verb").map_or("", |verb| verb.as_str()).to_owned();
            (found, verb)
        }
        None => (TERM.captures(sentence)?, "means".to_owned()),
    };
    let name = found.name("name")?.as_str().trim();
    let telling = words(name).filter(|word| !is_stopword(&fold(word.text))).count();
    let is_sentence = words(name).any(|word| ["is", "are", "was", "were", "has", "have"].contains(&word.text));
    if telling == 0 || is_sentence || words(name).count() > MAX_NAME_WORDS {
        return None;
    }
    let name = lowered(name, lower);
    let question = match verb.as_str() {
        "are the" => format!("What are {name}?"),
        "means" => format!("What does {name} mean?"),
        "stands for" => format!("What does {name} stand for?"),
        "refers to" => format!("What does {name} refer to?"),
        _ => format!("What is {name}?"),
    };
    Some(Worded { question, answer: None })
}

/// Returns `true` if a sentence can be understood without the ones before it, as far as its first word tells, and is neither short nor long.
fn stands_alone(sentence: &str) -> bool {
    let first = words(sentence).next().map(|word| fold(word.text)).unwrap_or_default();
    sentence.starts_with(|c: char| c.is_uppercase() || c.is_ascii_digit())
        && !POINTING.contains(&first.as_str())
        && SENTENCE_WORDS.contains(&sentence.split_whitespace().count())
}

/// Returns a text without the capital at its beginning, if the document writes its first word in lower case too.
fn lowered(text: &str, lower: &HashSet<&str>) -> String {
    let mut parts = words(text).map(|word| word.text);
    let first = parts.next().map(str::to_lowercase).unwrap_or_default();
    // Before a number or another capital, the word is part of a name and keeps its capital.
    let is_name = parts.next().is_some_and(|next| !next.starts_with(char::is_lowercase));
    match text.chars().next() {
        Some(capital) if is_stopword(&first) || lower.contains(first.as_str()) && !is_name => {
            capital.to_lowercase().chain(text.chars().skip(1)).collect()
        }
        _ => text.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(
        "The channel is dredged to 8.4 metres at low water.",
        "The channel is dredged to how many metres at low water?",
        "8.4 metres"
    )]
    #[case(
        "A berth for one night costs £12.50 in summer.",
        "A berth for one night costs how much in summer?",
        "£12.50"
    )]
    #[case("Pilots are taken by 45 % of the ships.", "Pilots are taken by what percentage of the ships?", "45 %")]
    #[case(
        "The lock was opened on 3 May 1998 by the mayor.",
        "The lock was opened on what date by the mayor?",
        "3 May 1998"
    )]
    #[case("The old light was taken down in 1921.", "The old light was taken down in what year?", "1921")]
    fn a_sentence_is_asked_for_its_figure(#[case] sentence: &str, #[case] question: &str, #[case] answer: &str) {
        let (_, worded) = of_sentence(sentence).expect("a question");
        assert_eq!((worded.question.as_str(), worded.answer.as_deref()), (question, Some(answer)));
        assert!(sentence.contains(answer));
    }

    #[rstest]
    #[case("It is dredged to 8.4 metres at low water.")]
    #[case("The ship lay at Berth 7 for three days.")]
    #[case("From 3 May to 5 June the lock is closed.")]
    #[case("Between 3 and 5 metres of water remain there.")]
    #[case("12 ships came into the harbour that day.")]
    #[case("Call on channel 12 now.")]
    fn other_sentences_are_not(#[case] sentence: &str) {
        assert_eq!(of_sentence(sentence), None);
    }

    #[rstest]
    #[case("Demurrage is the charge for a ship that stays too long.", Some("What is demurrage?"))]
    #[case("A fairway is a channel that is kept open for ships.", Some("What is a fairway?"))]
    #[case("Slack water: the time when the tide does not run.", Some("What does slack water mean?"))]
    #[case("This is a list of all the ships.", None)]
    #[case("The tide table for this year is kept at the office, and it is a long one.", None)]
    fn definitions(#[case] sentence: &str, #[case] question: Option<&str>) {
        let lower = HashSet::from(["demurrage", "fairway", "slack"]);
        assert_eq!(defined(sentence, &lower).map(|worded| worded.question).as_deref(), question);
    }

    #[rstest]
    #[case("How to order a pilot", Some("How do I order a pilot?"))]
    #[case("Ordering a pilot", Some("How does ordering a pilot work?"))]
    #[case("4. The North Channel", Some("What about the North Channel?"))]
    #[case("Crane 1", Some("What about Crane 1?"))]
    #[case("Crane records", Some("What about crane records?"))]
    #[case("Who may enter the lock?", Some("Who may enter the lock?"))]
    #[case("Introduction", None)]
    fn headings(#[case] heading: &str, #[case] question: Option<&str>) {
        let lower = HashSet::from(["ordering", "crane"]);
        assert_eq!(of_heading(heading, &lower).map(|worded| worded.question).as_deref(), question);
    }
}
