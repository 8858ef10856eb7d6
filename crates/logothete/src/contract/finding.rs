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
    let mut promises = Promises::of("the leg");
    promises.keep(!leg.name().trim().is_empty(), "it has a name");
    promises.keep(leg.fingerprint() == leg.fingerprint(), "its fingerprint stays the same");
    let long = long_text();
    for text in with_odd(questions, &long) {
        let question = LegQuestion { text, count: COUNT };
        let is_asked = questions.contains(&text);
        let found = match is_asked {
            true => promises.call(&format!("it searches, {}", named(text)), || leg.find(&question)),
            false => promises.survive(&named(text), || leg.find(&question).ok()).flatten(),
        };
        let Some(found) = found else { continue };
        promises.keep(found.iter().all(|hit| hit.score.is_finite()), format!("scores are finite, {}", named(text)));
        let again = promises.survive(&named(text), || leg.find(&question).ok()).flatten();
        promises.keep(again.as_ref() == Some(&found), format!("the same question finds the same, {}", named(text)));
    }
    promises.kept()
}

/// Tries a reranker on the passages of a search: a number for each, and the same numbers each time.
///
/// # Errors
/// If a promise is broken; the message lists them.
pub fn reranker(reranker: &dyn Reranker, question: &str, passages: &[Passage]) -> Result<()> {
    let mut promises = Promises::of("the reranker");
    promises.keep(!reranker.name().trim().is_empty(), "it has a name");
    promises.keep(reranker.fingerprint() == reranker.fingerprint(), "its fingerprint stays the same");
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
    let mut promises = Promises::of("the transform");
    promises.keep(!transform.name().trim().is_empty(), "it has a name");
    promises.keep(transform.fingerprint() == transform.fingerprint(), "its fingerprint stays the same");
    let long = long_text();
    for text in with_odd(questions, &long) {
        let made = match questions.contains(&text) {
            true => promises.call(&format!("it looks at a question, {}", named(text)), || transform.queries(text)),
            false => promises.survive(&named(text), || transform.queries(text).ok()).flatten(),
        };
        let Some(made) = made else { continue };
        let is_query = |query: &String| Query::plain(query).has_words();
        promises.keep(made.iter().all(is_query), format!("each query has a word to search for, {}", named(text)));
        let again = promises.survive(&named(text), || transform.queries(text).ok()).flatten();
        promises.keep(again.as_ref() == Some(&made), format!("it makes the same of a question, {}", named(text)));
    }
    promises.kept()
}
