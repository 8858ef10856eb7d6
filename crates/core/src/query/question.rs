//! Question analysis.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};

use super::asked::{Asked, Expectation, is_measure};
use super::follow_up::standing_alone;
use crate::document::Span;
use crate::prompt::PastTurn;
use crate::text::{Language, Word, fold, irregular_terms, is_listed, is_stopword, stem, words};

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
    /// Whether it is put as a question, and is not only the name of a subject.
    pub is_asked: bool,
    /// The words of the question that forbid, allow or deny.
    ruling: Vec<String>,
    /// The language in which words are stemmed.
    language: Language,
}

/// The terms of a text, alone and in pairs, for looking up a question's terms.
#[derive(Clone, Debug, Default)]
pub struct TermSet {
    terms: HashSet<String>,
    pairs: HashSet<(String, String)>,
    significant: usize,
}

impl TermSet {
    /// Collects the terms of an English text.
    pub fn new(text: &str) -> Self {
        Self::of(text, Language::English)
    }

    /// Collects the terms of a text, with words stemmed as a language has them. An English word has the terms of its irregular forms too.
    pub fn of(text: &str, language: Language) -> Self {
        let mut set = Self::default();
        let mut before: Option<String> = None;
        for word in words(text) {
            let folded = fold(word.text);
            set.significant += usize::from(!language.is_stopword(&folded));
            let term = if language == Language::English { word.term } else { language.stem(&folded) };
            if let Some(before) = before.replace(term.clone()) {
                set.pairs.insert((before, term.clone()));
            }
            set.terms.insert(term);
            if language == Language::English {
                set.terms.extend(irregular_terms(&folded));
            }
        }
        set
    }

    /// Returns the number of its words that are no function words.
    pub fn len(&self) -> usize {
        self.significant
    }

    /// Returns `true` if it has no words but function words.
    pub fn is_empty(&self) -> bool {
        self.significant == 0
    }

    /// Returns `true` if a term and the text each have a word for a price: a fee stands in a column of amounts.
    pub fn has_price_like(&self, term: &Term) -> bool {
        const PRICES: &str = "fee charg price cost due amount rate tariff";
        is_listed(PRICES, &term.term) && PRICES.split(' ').any(|price| self.terms.contains(price))
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
pub(super) const ASKING: &[&str] = &["how", "what", "when", "where", "which", "who", "whom", "whose", "why"];
/// Words that begin a question without a question word.
pub(super) const OPENING: &[&str] = &[
    "are", "can", "could", "did", "do", "does", "had", "has", "have", "is", "may", "must", "should", "was", "were",
    "will",
];
/// Prepositions that may precede a question word.
pub(super) const LEADING: &[&str] =
    &["after", "at", "before", "by", "for", "from", "in", "of", "on", "to", "until", "with"];
/// The factor for the weight of names and figures.
const NAME_WEIGHT: f32 = 1.8;

/// Returns `true` if a text is a question: it ends with a question mark, or begins with an English word that asks.
pub fn is_question(text: &str) -> bool {
    let asks = |word: &str| ASKING.contains(&word) || OPENING.contains(&word);
    text.trim_end().ends_with('?') || words(text).next().is_some_and(|word| asks(&fold(word.text)))
}

/// A part of a question that asks several things.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct QuestionPart<'a> {
    /// As it stands in the question.
    pub said: &'a str,
    /// As a question that stands alone.
    pub question: Cow<'a, str>,
}

/// Splits a question that asks several things: `When was it shut, and who shut it?` asks two.
///
/// A part must begin like a question and have a content word of its own; `and how long has it got?` has none. A part with a single one has the part
/// before it behind it in brackets, since it is searched for alone. A question that asks one thing is its only part.
pub fn question_parts(question: &str) -> Vec<QuestionPart<'_>> {
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
    let telling =
        |part: &str| words(part).filter(|word| !is_stopword(&fold(word.text)) && !is_measure(&fold(word.text))).count();
    let parts: Vec<&str> = cuts.windows(2).map(|cut| tidy(&question[cut[0]..cut[1]])).collect();
    if parts.len() < 2 || parts.iter().any(|part| telling(part) == 0) {
        let said = question.trim();
        return vec![QuestionPart { said, question: Cow::Borrowed(said) }];
    }
    let mut found: Vec<QuestionPart<'_>> = Vec::with_capacity(parts.len());
    for (at, said) in parts.iter().copied().enumerate() {
        let before = at.checked_sub(1).filter(|_| telling(said) < 2).map(|before| [PastTurn::new(parts[before], "")]);
        let alone = before.and_then(|before| standing_alone(said, &before));
        found.push(QuestionPart { said, question: alone.map_or(Cow::Borrowed(said), Cow::Owned) });
    }
    found
}

/// Returns a part without the comma and the `and` before the next part.
fn tidy(part: &str) -> &str {
    let bare = part.trim().trim_end_matches([',', ';']);
    bare.strip_suffix(" and").unwrap_or(bare).trim_end_matches([',', ';', ' '])
}

impl Question {
    /// Analyses a question. `weight` returns the weight of a term; see
    /// [`Statistics::weight`](crate::keyword::Statistics::weight).
    pub fn new(question: &str, weight: impl Fn(&str) -> f32) -> Self {
        let Asked { expects, named_by } = Asked::of(question);
        // `How far` and `how many metres long` ask for a measure; the answer need not contain the word.
        let asked: HashSet<String> = named_by.iter().map(|word| stem(word)).collect();
        let language = Language::of_question(question).unwrap_or(Language::English);
        let words = said(question, language);
        let all = distinct_terms(&words);
        let telling: Vec<String> = all.iter().filter(|term| !asked.contains(*term)).cloned().collect();
        let chosen = if telling.is_empty() { all } else { telling };
        let terms = weighed(&words, language, chosen, weight);
        let is_asked = expects != Expectation::Anything || is_question(question);
        let mut ruling: Vec<String> = ruling_words(question).collect();
        ruling.sort_unstable();
        ruling.dedup();
        Self { terms, expects, is_asked, ruling, language }
    }

    /// Returns `true` if a text forbids, allows or denies by a word that the question does not have.
    pub fn is_denied_by(&self, text: &str) -> bool {
        ruling_words(text).any(|word| !self.ruling.contains(&word))
    }

    /// Returns the terms of a text, in the language of the question.
    pub fn terms_of(&self, text: &str) -> TermSet {
        TermSet::of(text, self.language)
    }

    /// Returns the sum of the weights of its terms.
    pub fn total_weight(&self) -> f32 {
        self.terms.iter().map(|term| term.weight).sum()
    }

    /// Returns the places of its terms in a text, in bytes.
    pub fn matches(&self, text: &str) -> Vec<Span> {
        let is_term = |term: &str| self.terms.iter().any(|known| known.term == term);
        self.stemmed(text).filter(|(term, _)| is_term(term)).map(|(_, span)| span).collect()
    }

    /// Returns for each term of a text where it stands first, in bytes.
    pub(crate) fn first_places(&self, text: &str) -> HashMap<String, Span> {
        let mut first = HashMap::new();
        for (term, span) in self.stemmed(text) {
            first.entry(term).or_insert(span);
        }
        first
    }

    /// Returns the words of a text, stemmed in the language of the question, with their places.
    fn stemmed<'a>(&self, text: &'a str) -> impl Iterator<Item = (String, Span)> + use<'a> {
        let spans = words(text).map(|word| word.span);
        said(text, self.language).into_iter().map(|word| word.term).zip(spans)
    }
}

/// Returns the words of a text that forbid, allow or deny.
fn ruling_words(text: &str) -> impl Iterator<Item = String> {
    const RULING: &str = "no not never nobody none cannot only must shall nicht kein keine nie nur ne pas jamais seulement nunca \
    solo sólo non mai";
    words(text).map(|word| fold(word.text)).filter(|word| is_listed(RULING, word))
}

/// Returns the terms of a question without repetition, stemmed as its language has them. Function words are left out, unless it has no others.
pub fn question_terms(question: &str) -> Vec<String> {
    let language = Language::of_question(question).unwrap_or(Language::English);
    distinct_terms(&said(question, language))
}

/// A word of a question.
struct Said<'a> {
    text: &'a str,
    term: String,
    tells: bool,
}

fn said(question: &str, language: Language) -> Vec<Said<'_>> {
    let said = |word: Word<'_>| {
        let folded = fold(word.text);
        let tells = !language.is_stopword(&folded);
        let term = if language == Language::English { word.term } else { language.stem(&folded) };
        (word.span, term, tells)
    };
    words(question).map(said).map(|(span, term, tells)| Said { text: &question[span.range()], term, tells }).collect()
}

fn distinct_terms(all: &[Said<'_>]) -> Vec<String> {
    let distinct = |wanted: &dyn Fn(&Said<'_>) -> bool| -> Vec<String> {
        let mut seen = HashSet::new();
        let wanted = all.iter().filter(|word| wanted(word));
        wanted.filter(|word| seen.insert(word.term.as_str())).map(|word| word.term.clone()).collect()
    };
    let telling = distinct(&|word| word.tells);
    if telling.is_empty() { distinct(&|_| true) } else { telling }
}

/// Returns terms with their weights. Names (capitalised words inside the question) and figures weigh more. They are the subject
/// of the question, with the content words directly before them.
fn weighed(all: &[Said<'_>], language: Language, terms: Vec<String>, weight: impl Fn(&str) -> f32) -> Vec<Term> {
    let figure = |word: &Said<'_>| word.text.starts_with(char::is_numeric);
    // In German every noun has a capital, so that it tells nothing.
    let capital = |word: &Said<'_>| language != Language::German && word.text.starts_with(char::is_uppercase);
    let name = |index: usize| index > 0 && (figure(&all[index]) || capital(&all[index]));
    let mut places: HashMap<&str, usize> = HashMap::new();
    // Whether a name follows, or is there, before a word that tells nothing.
    let mut leads_to_name = vec![false; all.len() + 1];
    for (at, word) in all.iter().enumerate().rev() {
        places.insert(&word.term, at);
        leads_to_name[at] = word.tells && (name(at) || leads_to_name[at + 1]);
    }
    let of = |term: String| {
        let found = Term { weight: weight(&term), term, behind: None, subject: false };
        let Some(&at) = places.get(found.term.as_str()) else { return found };
        let before = at.checked_sub(1).map(|before| &all[before]).filter(|word| word.tells);
        Term {
            weight: if name(at) { found.weight * NAME_WEIGHT } else { found.weight },
            behind: before.filter(|_| figure(&all[at])).map(|word| word.term.clone()),
            subject: leads_to_name[at],
            ..found
        }
    };
    terms.into_iter().map(of).collect()
}

#[cfg(test)]
mod tests {
    use super::{Question, TermSet, question_parts};
    use crate::quantity::Dimension;
    use crate::query::Expectation;
    use rstest::rstest;

    #[rstest]
    #[case("When was the gate shut, and at what height is the gate shut?", &["When was the gate shut", "at what height is the gate shut?"])]
    #[case("Who keeps the light and which lamp is used?", &["Who keeps the light", "which lamp is used?"])]
    #[case("Is a kite allowed, and how high can it go?", &["Is a kite allowed, and how high can it go?"])]
    #[case("Which ropes and chains are kept?", &["Which ropes and chains are kept?"])]
    #[case("What is due when a ship leaves port?", &["What is due when a ship leaves port?"])]
    #[case("", &[""])]
    fn parts(#[case] question: &str, #[case] expected: &[&str]) {
        let said: Vec<&str> = question_parts(question).into_iter().map(|part| part.said).collect();
        assert_eq!(said, expected);
    }

    #[rstest]
    #[case("What is the fee for a tug and who do I call?", "Who do I call? (What is the fee for a tug)")]
    #[case("When is the bell rung? Where is the lock?", "Where is the lock? (When is the bell rung?)")]
    #[case("When was the gate shut, and who shut the lock?", "who shut the lock?")]
    fn a_short_part_has_the_one_before_it_in_brackets(#[case] question: &str, #[case] last: &str) {
        assert_eq!(question_parts(question)[1].question, last);
    }

    #[rstest]
    #[case("How far from the cable?", Expectation::Quantity(Some(Dimension::Length)), &["cabl"])]
    #[case("When does it open?", Expectation::Time, &["open"])]
    #[case("What must be done when it opens?", Expectation::Steps, &["open"])]
    #[case("What does a rope cost?", Expectation::Quantity(None), &["rope"])]
    #[case("What costs are due?", Expectation::Anything, &["cost", "due"])]
    #[case("How long?", Expectation::Time, &["long"])]
    #[case("Who keeps the light?", Expectation::Person, &["keep", "light"])]
    #[case("Where is the crane?", Expectation::Place, &["crane"])]
    #[case("May I swim in the dock?", Expectation::YesOrNo, &["swim", "dock"])]
    #[case("What is the difference between a cone and a ball?", Expectation::Comparison, &["cone", "ball"])]
    #[case("Why is the lock shut?", Expectation::Reason, &["lock", "shut"])]
    #[case("Wie tief ist der Kanal?", Expectation::Quantity(None), &["tief", "kanal"])]
    #[case("Wann öffnet die Schleuse?", Expectation::Time, &["offnet", "schleus"])]
    #[case("Où se trouve le phare ?", Expectation::Place, &["trouv", "phar"])]
    #[case("¿Puede un barco entrar en el puerto?", Expectation::YesOrNo, &["barc", "entrar", "puert"])]
    #[case("Perché è chiusa la chiusa?", Expectation::Reason, &["chius"])]
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
