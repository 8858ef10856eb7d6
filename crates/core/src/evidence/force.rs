//! Which of several sources is in force.
//!
//! A later document corrects an earlier one, a cancelled one does not count, and what holds from one day to another counts only then.

use std::collections::HashSet;

use super::candidate::Candidate;
use crate::document::{Date, Location};
use crate::quantity::{Notation, numbers};
use crate::query::Question;
use crate::search::Passage;
use crate::text::{WrittenDate, dates, fold, is_listed, is_stopword, words};

/// By so much may the score of a sentence with a later date be lower, and still go first.
const LATER_WINS: f32 = 0.45;
/// By so much less of the question may a source cover that says otherwise.
const LESS_COVERED: f32 = 0.15;
/// The lowest share of the question that a source must cover to say otherwise.
const MIN_COVERED: f32 = 0.6;
const MIN_COVERED_OTHERWISE: f32 = 0.8;

/// Phrases by which a text ends what another says.
const CANCELLING: &[&str] = &[
    "is cancelled",
    "are cancelled",
    "is canceled",
    "is withdrawn",
    "are withdrawn",
    "is superseded",
    "are superseded",
    "is repealed",
    "is replaced",
    "is suspended",
    "are suspended",
    "no longer",
    "wird aufgehoben",
    "ist aufgehoben",
    "sind aufgehoben",
    "aufgehoben",
    "wird ersetzt",
    "est annulé",
    "est annulée",
    "sont annulés",
    "est abrogé",
    "est remplacé",
    "queda anulado",
    "queda anulada",
    "está anulado",
    "queda derogado",
    "è annullato",
    "è annullata",
    "è abrogato",
    "è sostituito",
];
/// Words before a date from which something holds, and until which.
const FROM: &str = "from since starting ab vom von seit dès du depuis desde del dal da";
const UNTIL: &str = "until till to through by bis jusqu'au au hasta al fino";

/// What is in force, and what else was said.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct InForce {
    /// The candidate that goes first.
    pub first: usize,
    /// A candidate of another source that says otherwise.
    pub other: Option<usize>,
    /// Why the first goes first, if sources disagree.
    pub reason: Option<String>,
}

/// Returns which of the candidates is in force. The best is given; those close to it whose document is later go before it, those of a cancelled document
/// after it. `as_of` is the day that counts; without it, the latest counts.
///
/// Costs a pass over the passages, and a look at the numbers of the candidates that cover as much of the question.
pub(super) fn in_force(
    question: &Question,
    passages: &[Passage],
    all: &[Candidate],
    scores: &[f32],
    as_of: Option<&Date>,
) -> Option<InForce> {
    let best = (0..all.len()).max_by(|a, b| scores[*a].total_cmp(&scores[*b]).then(b.cmp(a)))?;
    let date = |at: usize| passages[all[at].passage].date_of(all[at].place).unwrap_or_default();
    let close = (0..all.len()).filter(|at| {
        // A later text corrects another only if it says as much of what is asked.
        scores[*at] >= scores[best] - LATER_WINS && all[*at].covered() + 0.1 >= all[best].covered()
    });
    let cancelled = cancelled(passages, as_of);
    let is_cancelled = |at: usize| cancelling(&cancelled, passages, all[at].passage);
    let holds = |at: usize| as_of.is_none_or(|day| holds_on(&all[at], &passages[all[at].passage], day));
    let standing = |at: usize| (is_cancelled(at).is_none(), holds(at), date(at));
    let candidate_order = |a: &usize, b: &usize| {
        standing(*a).cmp(&standing(*b)).then_with(|| scores[*a].total_cmp(&scores[*b])).then_with(|| b.cmp(a))
    };
    let mut first = close.max_by(candidate_order)?;
    let others = disagreeing(question, passages, all, scores, first);
    // The one in force among those that say otherwise may still be another.
    if let Some(better) =
        others.iter().copied().filter(|other| standing(*other) > standing(first)).max_by(candidate_order)
    {
        first = better;
    }
    let other = disagreeing(question, passages, all, scores, first)
        .into_iter()
        .max_by(|a, b| standing(*a).cmp(&standing(*b)).then_with(|| scores[*a].total_cmp(&scores[*b])));
    let reason = other.map(|other| {
        let place = |at: usize| titled(&passages[all[at].passage].location);
        let (first_date, other_date) = (date(first), date(other));
        match is_cancelled(other) {
            Some((by, title)) => format!("{} says that {title} is cancelled", titled(&passages[*by].location)),
            None if holds(first) && !holds(other) => {
                format!("{} does not hold on {}", place(other), as_of.map_or("", Date::as_str))
            }
            None if first_date > other_date && !other_date.is_empty() => {
                format!(
                    "{} of {} is later than {} of {}",
                    place(first),
                    day_of(first_date),
                    place(other),
                    day_of(other_date)
                )
            }
            None => format!("{} and {} disagree, and neither says which is in force", place(first), place(other)),
        }
    });
    Some(InForce { first, other, reason })
}

/// Returns the candidates of other documents that say something else of the same thing.
fn disagreeing(
    question: &Question,
    passages: &[Passage],
    all: &[Candidate],
    scores: &[f32],
    first: usize,
) -> Vec<usize> {
    let covered = |at: usize| {
        let total = question.total_weight().max(1e-6);
        let had = question.terms.iter().zip(&all[at].levels).filter(|(_, level)| **level >= 0.7);
        had.map(|(term, _)| term.weight).sum::<f32>() / total
    };
    // Where no figure is asked for, only nearly the same sentence with another figure says otherwise.
    let least = if question.expects.is_figure() { MIN_COVERED } else { MIN_COVERED_OTHERWISE };
    let wanted = (covered(first) - LESS_COVERED).max(least);
    let own = &passages[all[first].passage].location.document;
    let mut found: Vec<usize> = (0..all.len())
        .filter(|at| passages[all[*at].passage].location.document != *own && covered(*at) >= wanted)
        .filter(|at| says_otherwise(&all[*at], &all[first]))
        .collect();
    found.sort_by(|a, b| scores[*b].total_cmp(&scores[*a]));
    found.truncate(4);
    found
}

/// Returns `true` if two candidates have quantities of the same dimension, and none in common.
fn says_otherwise(one: &Candidate, other: &Candidate) -> bool {
    let measured = |text: &str| {
        let found = numbers(text, Notation::Point);
        let with_unit: Vec<_> = found.iter().filter_map(|number| Some((number.unit.clone()?, number.value))).collect();
        with_unit.into_iter().map(|(unit, value)| (unit.dimension, value * unit.factor)).collect::<Vec<_>>()
    };
    let (a, b) = (measured(&one.text), measured(&other.text));
    let alike = |x: f64, y: f64| (x - y).abs() <= 1e-6 * x.abs().max(y.abs());
    let same_dimension = a.iter().any(|(dimension, _)| b.iter().any(|(other, _)| other == dimension));
    let shared = a.iter().any(|(dimension, x)| b.iter().any(|(other, y)| other == dimension && alike(*x, *y)));
    same_dimension && !shared
}

/// Returns `true` for each of some passages that no other says is cancelled, and that was there on a day.
pub(super) fn stands_among(passages: &[Passage], as_of: Option<&Date>) -> Vec<bool> {
    let cancelled = cancelled(passages, as_of);
    let stands = |at: usize| is_there(&passages[at], as_of) && cancelling(&cancelled, passages, at).is_none();
    (0..passages.len()).map(stands).collect()
}

/// Returns `true` unless a passage is of a document of after a day.
fn is_there(passage: &Passage, as_of: Option<&Date>) -> bool {
    let later = |day: &Date| passage.location.date.as_deref().is_some_and(|date| day_of(date) > day_of(day.as_str()));
    !as_of.is_some_and(later)
}

/// Returns what cancels a passage.
fn cancelling<'a>(
    cancelled: &'a [(usize, String)],
    passages: &[Passage],
    passage: usize,
) -> Option<&'a (usize, String)> {
    cancelled.iter().find(|(by, title)| *by != passage && names(title, &passages[passage].location))
}

/// Returns what the passages that were there on a day say is cancelled: the passage that says so, and the words before.
fn cancelled(passages: &[Passage], as_of: Option<&Date>) -> Vec<(usize, String)> {
    let mut found = Vec::new();
    for (at, passage) in passages.iter().enumerate().filter(|(_, passage)| is_there(passage, as_of)) {
        for sentence in &passage.sentences {
            let text = passage.slice(sentence.span);
            let lower = text.to_lowercase();
            let Some(end) = CANCELLING.iter().filter_map(|phrase| lower.find(phrase)).min() else { continue };
            // Lower case may be longer than what it is of.
            let Some(before) = text.get(..end).map(str::trim).filter(|before| before.chars().any(char::is_numeric))
            else {
                continue;
            };
            if words(before).count() <= 10 {
                found.push((at, before.to_owned()));
            }
        }
    }
    found
}

/// Returns `true` if words name a document: its title has all of them that count.
fn names(title: &str, location: &Location) -> bool {
    let terms = |text: &str| -> HashSet<String> {
        words(text).filter(|word| !is_stopword(&fold(word.text))).map(|word| word.term).collect()
    };
    let named = terms(title);
    let known = terms(&format!("{} {}", location.title.as_deref().unwrap_or_default(), location.document));
    named.len() >= 2 && named.is_subset(&known)
}

/// Returns whether a sentence, or the passage that it is from, holds on a day: its document is not later, and no span of days in it excludes the day.
fn holds_on(candidate: &Candidate, passage: &Passage, day: &Date) -> bool {
    let day = day_of(day.as_str());
    let is_later = passage.location.date.as_deref().is_some_and(|date| day_of(date) > day);
    let spans = period(&candidate.text).or_else(|| {
        passage.sentences.iter().find_map(|sentence| {
            period(passage.slice(sentence.span)).filter(|(from, until)| from.is_some() && until.is_some())
        })
    });
    let (from, until) = spans.unwrap_or_default();
    let begun = from.is_none_or(|from| day_of(from.as_str()) <= day);
    let ended = until.is_some_and(|until| day_of(until.as_str()) < day);
    !is_later && begun && !ended
}

/// Returns from when until when a text says that something holds; `None` if it says nothing of the kind.
fn period(text: &str) -> Option<(Option<Date>, Option<Date>)> {
    let (mut from, mut until) = (None, None);
    let found = dates(text);
    for (at, WrittenDate { span, from: first, to }) in found.iter().enumerate() {
        let before = text[..span.start].split_whitespace().next_back().map(fold).unwrap_or_default();
        if is_listed(FROM, &before) {
            from = Some(first.clone());
        } else if is_listed(UNTIL, &before) {
            until = Some(to.clone());
            // `from 1 May to 30 September 2025` names the year once.
            let earlier = text[..span.start].to_lowercase();
            if at == 0 && from.is_none() && FROM.split_whitespace().any(|word| earlier.contains(&format!("{word} "))) {
                from = first_of_range(&text[..span.start], to);
            }
        }
    }
    (from.is_some() || until.is_some()).then_some((from, until))
}

/// Returns the beginning of a range whose year stands at its end only: `from 1 May to 30 September 2025`.
fn first_of_range(before: &str, end: &Date) -> Option<Date> {
    let year = end.as_str().get(..4)?;
    let cut = before.trim_end().rsplit_once(' ')?.0;
    let completed = format!("{cut} {year}");
    dates(&completed).pop().map(|date| date.from)
}

/// Returns the day of a date without its time.
pub(super) fn day_of(date: &str) -> &str {
    date.get(..10).unwrap_or(date)
}

fn titled(location: &Location) -> &str {
    location.title.as_deref().unwrap_or(&location.document)
}

/// Returns the last day that a question names; `None` if it names none.
pub fn day_asked(question: &str) -> Option<Date> {
    dates(question).pop().map(|date| date.to)
}

#[cfg(test)]
mod tests {
    use super::period;

    #[test]
    fn periods_are_read() {
        let read = |text: &str| period(text).map(|(from, until)| (from.map(String::from), until.map(String::from)));
        let some = |from: &str, until: &str| {
            let given = |text: &str| (!text.is_empty()).then(|| text.to_owned());
            Some((given(from), given(until)))
        };
        assert_eq!(read("From 1 October 2025 the tower listens on channel 11."), some("2025-10-01", ""));
        assert_eq!(read("These hold from 1 November 2025 to 31 March 2026."), some("2025-11-01", "2026-03-31"));
        assert_eq!(read("From 1 May to 30 September 2025 it opens on the hour."), some("2025-05-01", "2025-09-30"));
        assert_eq!(read("The survey of 6 March 2025 found silt."), None);
    }
}
