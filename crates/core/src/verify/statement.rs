//! What a sentence says, taken apart: its clauses with what denies, allows, limits or doubts them, its words, names and amounts.

use crate::document::Span;
use crate::text::{fold, irregular_terms, is_listed, is_stopword, words};

use super::amounts::{Amount, amounts};
use super::meaning::Meaning;
use super::vocabulary::{
    ADVICE, AFTER_DENIAL, CLAUSES, CONDITIONS, DEGREES, DENIALS, DUTIES, HEDGES, PERMISSIONS, REFUSALS,
};

/// A word of a statement.
#[derive(Clone, Debug)]
pub(super) struct Token {
    pub span: Span,
    pub folded: String,
    /// Its term, and those of its irregular forms.
    pub terms: Vec<String>,
    /// The clause that it stands in.
    pub clause: usize,
    /// Whether it tells something: no function word, and no part of an amount.
    pub tells: bool,
    /// Whether it is a name or a part of one.
    pub is_name: bool,
    /// Its vector; empty if there is none.
    pub vector: Vec<f32>,
}

/// What somebody is told to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Duty {
    Must,
    MustNot,
    May,
    NeedNot,
    Should,
    ShouldNot,
}

/// A clause of a statement.
#[derive(Clone, Debug, Default)]
pub(super) struct Clause {
    /// Whether an odd number of words deny it.
    pub is_denied: bool,
    pub duty: Option<Duty>,
    /// The degree, from all (0) to none (4).
    pub degree: Option<usize>,
    /// Whether it is said with a doubt, or as what somebody believes.
    pub is_hedged: bool,
    /// Whether it is a condition or an exception, or limited by `only`.
    pub is_condition: bool,
    /// Whether it is an exception from what is said beside it.
    pub is_exception: bool,
    /// Whether it has the word `only`.
    pub is_only: bool,
    /// Whether it says `without` something.
    pub is_without: bool,
    /// The periods that it names, such as a day.
    pub periods: Vec<usize>,
}

/// A sentence, or some that belong together.
#[derive(Clone, Debug, Default)]
pub(super) struct Statement {
    pub tokens: Vec<Token>,
    pub clauses: Vec<Clause>,
    pub amounts: Vec<Amount>,
    /// The clause of each amount.
    pub amount_clauses: Vec<usize>,
    /// The first byte of each sentence.
    pub starts: Vec<usize>,
    /// The sentence that each clause belongs to.
    pub sentence_of: Vec<usize>,
}

const PERIODS: [&str; 6] = [
    "minute minutes",
    "hour hours hourly",
    "day days daily",
    "week weeks weekly",
    "month months monthly",
    "year years yearly annual annually",
];

impl Statement {
    /// Takes a text apart; `sentences` are the places of its sentences.
    pub fn of(text: &str, sentences: &[Span], meanings: &[&Meaning]) -> Self {
        let amounts = amounts(text);
        let mut statement = Self { starts: sentences.iter().map(|span| span.start).collect(), ..Self::default() };
        for (at, sentence) in sentences.iter().enumerate() {
            statement.add(text, *sentence, at, meanings.get(at).copied(), &amounts);
        }
        let clause_at = |place: usize| {
            let before = statement.tokens.iter().rev().find(|token| token.span.start <= place);
            before.or(statement.tokens.first()).map_or(0, |token| token.clause)
        };
        statement.amount_clauses = amounts.iter().map(|amount| clause_at(amount.span.start)).collect();
        statement.amounts = amounts;
        statement
    }

    fn add(&mut self, text: &str, sentence: Span, number: usize, meaning: Option<&Meaning>, amounts: &[Amount]) {
        let inner = &text[sentence.range()];
        let first = self.clauses.len();
        self.open_clause(number);
        let (mut end, mut begun) = (0, 0);
        let all: Vec<(Span, String)> = words(inner).map(|word| (word.span, fold(word.text))).collect();
        for (at, (place, folded)) in all.iter().enumerate() {
            let gap = &inner[end..place.start];
            end = place.end;
            let span = Span::new(sentence.start + place.start, sentence.start + place.end);
            let after = all.get(at + 1).map_or("", |(_, word)| word.as_str());
            let begins = parts(gap)
                || is_listed(CLAUSES, folded)
                || (is_listed("and or", folded)
                    && is_listed("not never no need must may can is are has have was were will", after));
            // A clause of one word, as in a list of things, is none.
            if begins && at > 0 && at - begun > 1 {
                self.open_clause(number);
                begun = at;
            }
            let written = &text[span.range()];
            let in_amount = amounts.iter().any(|amount| amount.span.start <= span.start && span.end <= amount.span.end);
            let is_number = folded.starts_with(|c: char| c.is_numeric());
            let mut terms: Vec<String> = vec![crate::text::stem(folded)];
            for term in irregular_terms(folded) {
                if !terms.contains(&term) {
                    terms.push(term);
                }
            }
            let is_name =
                written.starts_with(char::is_uppercase) && (at > 0 || written.chars().skip(1).any(char::is_uppercase));
            self.tokens.push(Token {
                span,
                tells: !in_amount && !is_number && !is_structural(folded),
                is_name: is_name && !in_amount && folded.len() > 1,
                clause: self.clauses.len() - 1,
                vector: meaning.and_then(|meaning| meaning.word(*place)).map(<[f32]>::to_vec).unwrap_or_default(),
                folded: folded.clone(),
                terms,
            });
        }
        // A name at the start of a sentence is one if it is followed by another.
        let from = self.tokens.len() - all.len();
        if self.tokens.get(from + 1).is_some_and(|second| second.is_name) && !is_stopword(&self.tokens[from].folded) {
            self.tokens[from].is_name = true;
        }
        for clause in first..self.clauses.len() {
            let words: Vec<&str> = self.tokens[from..]
                .iter()
                .filter(|token| token.clause == clause)
                .map(|token| token.folded.as_str())
                .collect();
            let sentence = self.sentence_of[clause];
            self.clauses[clause] = Clause::of(&words);
            self.sentence_of[clause] = sentence;
        }
    }

    fn open_clause(&mut self, sentence: usize) {
        self.clauses.push(Clause::default());
        self.sentence_of.push(sentence);
    }

    /// Marks the first words of sentences that are names elsewhere.
    pub fn know_names(&mut self, other: &Statement) {
        let known = |token: &Token| other.tokens.iter().any(|name| name.is_name && name.folded == token.folded);
        let found: Vec<usize> = (0..self.tokens.len())
            .filter(|at| self.starts.contains(&self.tokens[*at].span.start) && known(&self.tokens[*at]))
            .collect();
        found.into_iter().for_each(|at| self.tokens[at].is_name = true);
    }

    /// Returns the sentence of a clause.
    pub fn sentence(&self, clause: usize) -> usize {
        self.sentence_of.get(clause).copied().unwrap_or_default()
    }
}

/// Returns `true` if what stands between two words parts clauses. The signs of `22:15` and `1,5` do not.
fn parts(gap: &str) -> bool {
    gap.contains(['—', '–', '(']) || (gap.contains([',', ';', ':']) && gap.contains(char::is_whitespace))
}

/// Returns `true` for words that carry the structure of a sentence rather than its subject.
fn is_structural(folded: &str) -> bool {
    const OTHERS: &str = "must shall may might should ought need needs required allowed permitted also however therefore thus even still just yet only \
    whoever whatever anyone somebody anybody person people one ones thing things something way case kind sort please one's per than least most about \
    around nearly almost roughly approximately unless except until although though while whereas since if when not never no nobody none nothing without";
    is_stopword(folded) || is_listed(OTHERS, folded) || (is_listed(DENIALS, folded))
}

impl Clause {
    fn of(words: &[&str]) -> Self {
        let has = |list: &str| words.iter().any(|word| is_listed(list, word));
        let denials = denials(words);
        let refusals = words.iter().filter(|word| is_listed(REFUSALS, word)).count();
        let is_denied = (denials + refusals) % 2 == 1;
        Self {
            is_denied,
            duty: duty(words, denials % 2 == 1, is_denied),
            degree: degree(words),
            // `May be flown` allows; `may contribute` doubts.
            is_hedged: words.iter().any(|word| is_listed(HEDGES, word) && !(*word == "may" && has("be not"))),
            is_condition: has(CONDITIONS) && !(has("when where") && words.len() < 3),
            is_exception: has("except unless excluding"),
            is_without: has("without ohne sans sin senza zonder"),
            is_only: has("only solely exclusively nur seulement solo"),
            periods: periods(words),
        }
    }
}

/// Returns how often some words deny.
fn denials(words: &[&str]) -> usize {
    let at = |index: usize| words.get(index).copied().unwrap_or_default();
    let advises = words.iter().any(|word| is_listed("advise advises advised warn warned recommended advice", word));
    let has = |list: &str| words.iter().any(|word| is_listed(list, word));
    let before = |index: usize| index.checked_sub(1).map_or("", |at| words[at]);
    let denies = |(index, word): (usize, &&str)| {
        // `Costs nothing` says what it costs, `not until May` when, and `not as long as` how long.
        let measures = (*word == "nothing" && is_listed("cost costs pay pays paid owe owes", before(index)))
            || (*word == "not" && (has("until") || at(index + 1) == "as" || at(index + 2) == "as"));
        if measures {
            return false;
        }
        if *word == "free" && is_listed("of from", at(index + 1)) && at(index + 2) != "charge" {
            return true;
        }
        let is_bare = matches!(*word, "no" | "not" | "nothing") && is_listed(AFTER_DENIAL, at(index + 1));
        let denial = (is_listed(DENIALS, word) || word.ends_with("n't")) && !is_bare;
        denial || (*word == "against" && advises) || (is_listed("fail fails failed", word) && at(index + 1) == "to")
    };
    let count = words.iter().enumerate().filter(|word| denies((word.0, word.1))).count();
    // `Without consent nobody may enter` says when somebody may; elsewhere `without` denies only the word behind it.
    count + usize::from(at(0) == "without" && count > 0)
}

fn duty(words: &[&str], is_modal_denied: bool, is_denied: bool) -> Option<Duty> {
    let has = |list: &str| words.iter().any(|word| is_listed(list, word));
    let forbids =
        "forbid forbids forbidden prohibit prohibits prohibited ban bans banned disallowed prohibition barred";
    let needs = has(DUTIES) || words.windows(2).any(|pair| matches!(pair, ["has" | "have" | "had", "to"]));
    let duty = if has(forbids) {
        if is_modal_denied { Duty::May } else { Duty::MustNot }
    } else if has("must shall mustn't") {
        if is_modal_denied { Duty::MustNot } else { Duty::Must }
    } else if needs {
        if is_modal_denied { Duty::NeedNot } else { Duty::Must }
    } else if has(PERMISSIONS) || has("cannot can't cant") {
        if is_denied { Duty::MustNot } else { Duty::May }
    } else if has(ADVICE) || has("shouldn't") {
        if is_denied { Duty::ShouldNot } else { Duty::Should }
    } else {
        return None;
    };
    // Who may not enter without something must have it.
    Some(if duty == Duty::MustNot && has("without") { Duty::Must } else { duty })
}

fn degree(words: &[&str]) -> Option<usize> {
    let has = |list: &str| words.iter().any(|word| is_listed(list, word));
    let first = words.first().copied().unwrap_or_default();
    let is_none = first == "no" && words.get(1).is_some_and(|next| !is_listed(AFTER_DENIAL, next));
    let costs = has("cost costs pay pays paid");
    if is_none || (has(DEGREES[4]) && !costs) {
        return Some(4);
    }
    DEGREES[..4].iter().position(|list| has(list))
}

/// Returns the periods that some words name as a rate: daily, twice a week, every month.
fn periods(words: &[&str]) -> Vec<usize> {
    let is_rate = |index: usize, word: &str| {
        let before = |back: usize| index.checked_sub(back).map_or("", |at| words[at]);
        word.ends_with("ly")
            || is_listed("a an each every per", before(1))
            || is_listed("each every", before(2))
            || word == "annual"
    };
    let named = |names: &str| words.iter().enumerate().any(|(at, word)| is_listed(names, word) && is_rate(at, word));
    (0..PERIODS.len()).filter(|period| named(PERIODS[*period])).collect()
}
