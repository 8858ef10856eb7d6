//! Question analysis.

use std::collections::HashSet;

use crate::document::Span;
use crate::keyword::query_terms;
use crate::text::{Word, fold, is_stopword, stem, words};

/// The kind of thing that an answer must contain, as the question's words tell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Expectation {
    /// A quantity: how many, how far, how much.
    Quantity,
    /// A time or date: when, at what time, how long.
    Time,
    /// Nothing in particular.
    Anything,
}

/// A term of a question.
#[derive(Clone, Debug, PartialEq)]
pub struct Term {
    /// The term.
    pub term: String,
    /// The weight.
    pub weight: f32,
    /// For a figure after a content word, the term of that word: the 7 of `Berth 7` is no other 7.
    pub behind: Option<String>,
    /// Whether it belongs to the subject of the question (`the tug Little Auk`) and not to the rest (`the power`).
    pub subject: bool,
}

/// An analysed question.
#[derive(Clone, Debug)]
pub struct Question {
    /// The content terms, each once, in order.
    pub terms: Vec<Term>,
    /// The kind of answer.
    pub expects: Expectation,
}

/// The terms of a text, alone and in pairs, for looking up a question's terms.
#[derive(Clone, Debug, Default)]
pub struct TermSet {
    terms: HashSet<String>,
    pairs: HashSet<(String, String)>,
}

impl TermSet {
    /// Collects the terms of a text.
    pub fn new(text: &str) -> Self {
        let mut set = Self::default();
        let mut before: Option<String> = None;
        for word in words(text) {
            if let Some(before) = before.replace(word.term.clone()) {
                set.pairs.insert((before, word.term.clone()));
            }
            set.terms.insert(word.term);
        }
        set
    }

    /// Returns `true` if the text has a question's term.
    pub fn has(&self, term: &Term) -> bool {
        match &term.behind {
            Some(before) => self.pairs.contains(&(before.clone(), term.term.clone())),
            None => self.terms.contains(&term.term),
        }
    }
}

/// Question words.
const ASKING: &[&str] = &["how", "what", "when", "where", "which", "who", "whom", "whose", "why"];
/// Words that begin a question without a question word.
const OPENING: &[&str] = &[
    "are", "can", "could", "did", "do", "does", "had", "has", "have", "is", "may", "must", "should", "was", "were",
    "will",
];
/// Prepositions that may precede a question word.
const LEADING: &[&str] = &["after", "at", "before", "by", "for", "from", "in", "of", "on", "to", "until", "with"];
/// Words after `how` that only name the kind of measure.
const TIMES: &[&str] = &["early", "late", "long", "often", "soon"];
const MEASURES: &[&str] =
    &["big", "close", "deep", "far", "fast", "heavy", "high", "large", "many", "much", "old", "small", "tall", "wide"];

/// The verb of questions about a price.
const PRICE: &str = "cost";
/// Nouns that name a measure.
const MEASURE_NOUNS: &[&str] = &[
    "age",
    "amount",
    "breadth",
    "charge",
    "cost",
    "depth",
    "distance",
    "duration",
    "fee",
    "height",
    "length",
    "limit",
    "number",
    "percentage",
    "power",
    "price",
    "rate",
    "salary",
    "size",
    "speed",
    "sum",
    "temperature",
    "weight",
    "width",
];
/// The factor for the weight of names and figures.
const NAME_WEIGHT: f32 = 1.8;

/// Returns `true` if a text is a question: it ends with a question mark, or begins with an English word that asks.
pub fn is_question(text: &str) -> bool {
    let asks = |word: &str| ASKING.contains(&word) || OPENING.contains(&word);
    text.trim_end().ends_with('?') || words(text).next().is_some_and(|word| asks(&fold(word.text)))
}

/// Splits a question that asks several things: `When was it shut, and who shut it?` asks two.
///
/// A part must begin like a question and have at least two content words of its own, because a part that refers back (`and how
/// long has it got?`) cannot be understood alone. A question that asks one thing is its only part.
pub fn question_parts(question: &str) -> Vec<&str> {
    let tokens: Vec<_> = words(question).map(|word| (word.span, fold(word.text))).collect();
    let mut cuts = vec![0];
    for (index, (span, word)) in tokens.iter().enumerate().skip(1) {
        let before = question[..span.start].trim_end();
        let joined = tokens[index - 1].1 == "and" || before.ends_with([',', ';', '?', '.']);
        let next = tokens.get(index + 1).map_or("", |(_, next)| next.as_str());
        let asks = ASKING.contains(&word.as_str())
            || OPENING.contains(&word.as_str())
            || (LEADING.contains(&word.as_str()) && ASKING.contains(&next));
        if joined && asks {
            cuts.push(span.start);
        }
    }
    cuts.push(question.len());
    let tells = |part: &str| {
        let telling = words(part).filter(|word| !is_stopword(&fold(word.text)) && !is_measure(&fold(word.text)));
        telling.count() >= 2
    };
    let parts: Vec<&str> = cuts.windows(2).map(|cut| tidy(&question[cut[0]..cut[1]])).collect();
    if parts.len() > 1 && parts.iter().all(|part| tells(part)) { parts } else { vec![question.trim()] }
}

/// Returns a part without the comma and the `and` before the next part.
fn tidy(part: &str) -> &str {
    let bare = part.trim().trim_end_matches([',', ';']);
    bare.strip_suffix(" and").unwrap_or(bare).trim_end_matches([',', ';', ' '])
}

fn is_measure(folded: &str) -> bool {
    TIMES.contains(&folded) || MEASURES.contains(&folded)
}

impl Question {
    /// Analyses a question. `weight` returns the weight of a term; see
    /// [`Statistics::weight`](crate::keyword::Statistics::weight).
    pub fn new(question: &str, weight: impl Fn(&str) -> f32) -> Self {
        let folded: Vec<String> = words(question).map(|word| fold(word.text)).collect();
        let after = |first: &'static [&'static str]| {
            folded.windows(2).filter(|pair| first.contains(&pair[0].as_str())).map(|pair| pair[1].as_str())
        };
        let opening = folded.iter().map(String::as_str).find(|word| !LEADING.contains(word));
        let time = opening == Some("when")
            || after(&["what", "which"])
                .any(|word| matches!(word, "time" | "date" | "day" | "year" | "month" | "hour"))
            || after(&["how"]).any(|word| TIMES.contains(&word));
        // `What does it cost` asks for the same as `how much`.
        let asks_price = after(&["what"]).any(|word| matches!(word, "do" | "does" | "did"))
            && folded.iter().any(|word| word == PRICE);
        let asks_measure = asks_price || after(&["how"]).any(|word| MEASURES.contains(&word));
        let names_measure = folded.iter().any(|word| MEASURE_NOUNS.contains(&word.as_str()));
        let expects = match opening {
            _ if time => Expectation::Time,
            _ if asks_measure => Expectation::Quantity,
            Some("what" | "which") if names_measure => Expectation::Quantity,
            _ => Expectation::Anything,
        };
        // `How far` and `how many metres long` ask for a measure; the answer need not contain the word.
        let asked: Vec<String> = match expects {
            Expectation::Anything => Vec::new(),
            _ => folded
                .iter()
                .filter(|word| is_measure(word) || (asks_price && *word == PRICE))
                .map(|word| stem(word))
                .collect(),
        };
        let all = query_terms(question);
        let telling: Vec<String> = all.iter().filter(|term| !asked.contains(term)).cloned().collect();
        let chosen = if telling.is_empty() { all } else { telling };
        let terms = chosen.into_iter().map(|term| weighed(question, term, &weight)).collect();
        Self { terms, expects }
    }

    /// Returns the sum of the weights of its terms.
    pub fn total_weight(&self) -> f32 {
        self.terms.iter().map(|term| term.weight).sum()
    }

    /// Returns the places of its terms in a text, in bytes.
    pub fn matches(&self, text: &str) -> Vec<Span> {
        words(text).filter(|word| self.terms.iter().any(|term| term.term == word.term)).map(|word| word.span).collect()
    }
}

/// Returns a term with its weight. Names (capitalised words inside the question) and figures weigh more. They are the subject
/// of the question, with the content words directly before them.
fn weighed(question: &str, term: String, weight: impl Fn(&str) -> f32) -> Term {
    let all: Vec<Word<'_>> = words(question).collect();
    let tells = |word: &Word<'_>| !is_stopword(&fold(word.text));
    let figure = |word: &Word<'_>| word.text.starts_with(char::is_numeric);
    let name = |index: usize| index > 0 && (figure(&all[index]) || all[index].text.starts_with(char::is_uppercase));
    let found = Term { weight: weight(&term), term, behind: None, subject: false };
    let Some(at) = all.iter().position(|word| word.term == found.term) else {
        return found;
    };
    let before = at.checked_sub(1).map(|before| &all[before]).filter(|word| tells(word));
    Term {
        weight: if name(at) { found.weight * NAME_WEIGHT } else { found.weight },
        behind: before.filter(|_| figure(&all[at])).map(|word| word.term.clone()),
        subject: (at..all.len()).take_while(|&index| tells(&all[index])).any(name),
        ..found
    }
}

impl Expectation {
    /// Returns `true` if a text has the expected kind of answer: a numeral or a number word.
    pub fn is_met(self, text: &str) -> bool {
        const NUMBERS: &[&str] = &[
            "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve", "fourteen",
            "fifteen", "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety", "hundred",
            "thousand", "half", "twice", "once", "daily", "sunrise", "sunset", "noon", "midnight",
        ];
        match self {
            Self::Anything => true,
            Self::Quantity | Self::Time => {
                text.contains(|c: char| c.is_numeric())
                    || words(text).any(|word| NUMBERS.contains(&fold(word.text).as_str()))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{Expectation, Question, TermSet, question_parts};
    use rstest::rstest;

    #[rstest]
    #[case("When was the gate shut, and at what height is the gate shut?", &["When was the gate shut", "at what height is the gate shut?"])]
    #[case("Who keeps the light and which lamp is used?", &["Who keeps the light", "which lamp is used?"])]
    #[case("Is a kite allowed, and how high can it go?", &["Is a kite allowed, and how high can it go?"])]
    #[case("Which ropes and chains are kept?", &["Which ropes and chains are kept?"])]
    #[case("What is due when a ship leaves port?", &["What is due when a ship leaves port?"])]
    #[case("", &[""])]
    fn parts(#[case] question: &str, #[case] expected: &[&str]) {
        assert_eq!(question_parts(question), expected);
    }

    #[rstest]
    #[case("How far from the cable?", Expectation::Quantity, &["cabl"])]
    #[case("When does it open?", Expectation::Time, &["open"])]
    #[case("What must be done when it opens?", Expectation::Anything, &["open"])]
    #[case("What does a rope cost?", Expectation::Quantity, &["rope"])]
    #[case("What costs are due?", Expectation::Anything, &["cost", "due"])]
    #[case("How long?", Expectation::Time, &["long"])]
    fn expectations(#[case] question: &str, #[case] expects: Expectation, #[case] terms: &[&str]) {
        let question = Question::new(question, |_| 1.0);
        let found: Vec<&str> = question.terms.iter().map(|term| term.term.as_str()).collect();
        assert_eq!((question.expects, found), (expects, terms.to_vec()));
    }

    #[test]
    fn a_figure_belongs_to_the_word_before_it() {
        let question = Question::new("What is due at Berth 7?", |_| 1.0);
        let figure = question.terms.iter().find(|term| term.term == "7").expect("the figure is a term");
        assert_eq!(figure.behind.as_deref(), Some("berth"));
        assert!(TermSet::new("Berth 7 is free").has(figure));
        assert!(!TermSet::new("Berth 6, 7 metres").has(figure));
        assert!(figure.weight > question.terms[0].weight);
    }

    #[test]
    fn what_is_asked_is_told_from_what_it_is_asked_of() {
        let question = Question::new("What is the engine power of the tug Little Auk?", |_| 1.0);
        let asked: Vec<&str> =
            question.terms.iter().filter(|term| !term.subject).map(|term| term.term.as_str()).collect();
        assert_eq!(asked, ["engin", "power"]);
    }
}
