//! Question analysis.

use std::collections::HashSet;

use crate::document::Span;
use crate::keyword::query_terms;
use crate::text::{Word, fold, is_stopword, stem, words};

/// What kind of thing an answer must contain, as far as the question's own words tell.
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
    /// How much it tells.
    pub weight: f32,
    /// For a figure behind a telling word, that word's term: the 7 of `Berth 7` is no other 7.
    pub behind: Option<String>,
    /// Whether it names what the question is about (`the tug Little Auk`), rather than what it asks of it (`the power`).
    pub subject: bool,
}

/// A question taken apart for matching.
#[derive(Clone, Debug)]
pub struct Question {
    /// Its telling terms, each once, in order.
    pub terms: Vec<Term>,
    /// What an answer must contain.
    pub expects: Expectation,
}

/// The terms of a text, alone and each behind the one before, to look a question's terms up in.
#[derive(Clone, Debug, Default)]
pub struct TermSet {
    terms: HashSet<String>,
    pairs: HashSet<(String, String)>,
}

impl TermSet {
    /// The terms of a text.
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

    /// Returns `true` if a question's term is in the text.
    pub fn has(&self, term: &Term) -> bool {
        match &term.behind {
            Some(before) => self.pairs.contains(&(before.clone(), term.term.clone())),
            None => self.terms.contains(&term.term),
        }
    }
}

/// Words that ask.
const ASKING: &[&str] = &["how", "what", "when", "where", "which", "who", "whom", "whose", "why"];
/// Words that begin a question without an asking word.
const OPENING: &[&str] = &[
    "are", "can", "could", "did", "do", "does", "had", "has", "have", "is", "may", "must", "should", "was", "were",
    "will",
];
/// Prepositions that may stand before an asking word.
const LEADING: &[&str] = &["after", "at", "before", "by", "for", "from", "in", "of", "on", "to", "until", "with"];
/// What may follow `how` and only says what kind of measure is wanted.
const TIMES: &[&str] = &["early", "late", "long", "often", "soon"];
const MEASURES: &[&str] =
    &["big", "close", "deep", "far", "fast", "heavy", "high", "large", "many", "much", "old", "small", "tall", "wide"];

/// The verb that asks for a price.
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
/// How much more a name or a figure tells than another word that is as rare.
const NAME_WEIGHT: f32 = 1.8;

/// Takes a question apart where it asks more than one thing: `When was it shut, and who shut it?` asks two.
///
/// A part must begin as a question does, and have at least two telling words of its own, since what points back
/// (`and how long has it got?`) cannot be understood alone. A question that asks one thing is its own only part.
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

/// A part without the comma and the `and` that joined it to the next.
fn tidy(part: &str) -> &str {
    let bare = part.trim().trim_end_matches([',', ';']);
    bare.strip_suffix(" and").unwrap_or(bare).trim_end_matches([',', ';', ' '])
}

fn is_measure(folded: &str) -> bool {
    TIMES.contains(&folded) || MEASURES.contains(&folded)
}

impl Question {
    /// Takes a question apart. `weight` says how much a term tells; see [`Statistics::weight`](crate::keyword::Statistics::weight).
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
        // `What does it cost` asks as `how much` does.
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
        // `How far` and `how many metres long` ask for a measure; an answer need not have the word.
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

    /// How much its terms tell together.
    pub fn total_weight(&self) -> f32 {
        self.terms.iter().map(|term| term.weight).sum()
    }

    /// Where its terms stand in a text, in bytes of it.
    pub fn matches(&self, text: &str) -> Vec<Span> {
        words(text).filter(|word| self.terms.iter().any(|term| term.term == word.term)).map(|word| word.span).collect()
    }
}

/// A term with its weight. Names, that is words with a capital inside the question, and figures tell more; they are the
/// question's subject, with the telling words right before them.
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
    /// Returns `true` if a text has what is expected: a numeral, or a number word.
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
