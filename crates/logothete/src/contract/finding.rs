//! Legs, rerankers and transforms.

use logothete_core::Result;
use logothete_core::keyword::Query;
use logothete_core::search::Passage;

use super::{ODD_TEXTS, Promises, long_text, named};
use crate::search::{Leg, LegQuestion, Reranker, Transform};

/// The number of hits that a leg is asked for.
const COUNT: usize = 100;

/// Returns some questions with those that people do not mean.
fn with_odd<'q>(questions: &[&'q str], long: &'q str) -> Vec<&'q str> {
    questions.iter().copied().chain(ODD_TEXTS).chain([long]).collect()
}

/// Tries a leg on some questions: it finds the same each time, with scores that can be compared.
///
/// # Errors
/// If a promise is broken; the message lists them.
pub fn leg(leg: &dyn Leg, questions: &[&str]) -> Result<()> {
    let mut promises = Promises::of_stage("the leg", leg.name(), || leg.fingerprint());
    let long = long_text();
    for text in with_odd(questions, &long) {
        let question = LegQuestion { text, count: COUNT };
        let found = promises.same_twice(text, questions.contains(&text), || leg.find(&question));
        let is_finite = found.is_none_or(|found| found.iter().all(|hit| hit.score.is_finite()));
        promises.keep(is_finite, format!("scores are finite, {}", named(text)));
    }
    promises.kept()
}

/// Tries a reranker on the passages of a search: a number for each, and the same numbers each time.
///
/// # Errors
/// If a promise is broken; the message lists them.
pub fn reranker(reranker: &dyn Reranker, question: &str, passages: &[Passage]) -> Result<()> {
    let mut promises = Promises::of_stage("the reranker", reranker.name(), || reranker.fingerprint());
    for some in [passages, &passages[..passages.len().min(1)], &[]] {
        let about = format!("for {} passages", some.len());
        let Some(scores) = promises.call(&format!("it judges, {about}"), || reranker.rerank(question, some)) else {
            continue;
        };
        promises.keep(scores.len() == some.len(), format!("it returns a score for each passage, {about}"));
        promises.keep(scores.iter().all(|score| !score.is_nan()), format!("scores are numbers, {about}"));
        let again = promises.call("it judges the same twice", || reranker.rerank(question, some));
        promises.keep(again.as_ref() == Some(&scores), "the same passages have the same scores");
    }
    let long = long_text();
    for odd in with_odd(&[], &long) {
        promises.survive(&named(odd), || reranker.rerank(odd, passages).is_ok());
    }
    promises.kept()
}

/// Tries a transform on some questions: it makes the same of each, and nothing that cannot be searched for.
///
/// # Errors
/// If a promise is broken; the message lists them.
pub fn transform(transform: &dyn Transform, questions: &[&str]) -> Result<()> {
    let mut promises = Promises::of_stage("the transform", transform.name(), || transform.fingerprint());
    let long = long_text();
    for text in with_odd(questions, &long) {
        let made = promises.same_twice(text, questions.contains(&text), || transform.queries(text));
        let are_queries = made.is_none_or(|made| made.iter().all(|query| Query::plain(query).has_words()));
        promises.keep(are_queries, format!("each query has a word to search for, {}", named(text)));
    }
    promises.kept()
}
