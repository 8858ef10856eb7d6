//! Measuring a pipeline on a question set.

use std::collections::{BTreeMap, BTreeSet};

use logothete_core::eval::{Mismatch, Run, SetQuestion, mismatches, score_question};
use logothete_core::{Error, ErrorKind, Result};
use rayon::prelude::*;

use crate::answer;
use crate::opened::Opened;
use crate::search::{self, Ahead, Judgements, QueryVectors, SearchRequest, Searcher};
use crate::spending::Spending;
use crate::storage::{View, Which};
use crate::threads::{Driver, StopToken};

/// Checks that there are questions.
///
/// # Errors
/// If there are none.
pub(crate) fn check(questions: &[SetQuestion]) -> Result<()> {
    if questions.is_empty() {
        return Err(Error::new(ErrorKind::InvalidRequest, "there is no question to evaluate"));
    }
    Ok(())
}

/// Searches and asks every question without a model, and scores the results.
pub(crate) fn run(
    opened: &Opened,
    view: &View,
    driver: &Driver,
    name: &str,
    questions: &[SetQuestion],
    stop: &StopToken,
) -> Result<Run> {
    let request = |question: &SetQuestion| SearchRequest::new(question.searched()).plain();
    let requests: Vec<SearchRequest> = questions.iter().map(request).collect();
    let transforms = search::made_by_own(&opened.pipeline, &requests, stop)?;
    let mut ahead = Ahead { transforms, ..Ahead::default() };
    if opened.encoder.is_remote() {
        let mut texts = search::texts_of(&requests);
        texts.extend(ahead.transforms.values().flat_map(|made| made.queries.iter().cloned()));
        ahead.vectors = QueryVectors::encode(&*opened.encoder, texts)?;
    }
    let plan = opened.config().search.plan();
    if plan.reranks() && !plan.rerank.kind.is_computed() {
        ahead.judgements = Judgements::rehearsal(&opened.pipeline, [plan.rerank.kind])?;
        let searcher = Searcher { opened, view, ahead: &ahead, stop };
        let rehearse = |question| answer::reply_with_passages(&searcher, &request(question)).map(drop);
        driver.compute(|| questions.par_iter().try_for_each(rehearse))?;
        ahead.judgements.ask(opened, driver, &Spending::new(&opened.config().limits), stop)?;
    }
    let searcher = Searcher { opened, view, ahead: &ahead, stop };
    let score = |question: &SetQuestion| {
        let request = request(question);
        let reply = answer::reply_with_passages(&searcher, &request)
            .map_err(|error| error.at(format!("question {}", question.id)))?;
        Ok(score_question(question, &reply.passages, &reply.answer, &reply.trace))
    };
    let scores: Result<Vec<_>> = driver.compute(|| questions.par_iter().map(score).collect());
    let mut run = Run::new(name, scores?);
    run.mismatches = mismatches_in(view, questions)?;
    Ok(run)
}

/// Returns the documents that questions name and the corpus does not have as they were.
pub(crate) fn mismatches_in(view: &View, questions: &[SetQuestion]) -> Result<Vec<Mismatch>> {
    let catalogue = view.catalogue();
    let places = questions.iter().flat_map(|question| &question.relevant);
    let named: BTreeSet<&str> = places.map(|place| place.document.as_str()).collect();
    let known = catalogue.known(Which::Named(&named.iter().copied().collect::<Vec<_>>()))?;
    let mut documents: BTreeMap<String, String> = known.into_iter().map(|known| (known.name, known.hash)).collect();
    if documents.len() < named.len() {
        // The nearest names of those that are missing are looked for among all.
        for info in catalogue.document_infos()? {
            documents.entry(info.document).or_default();
        }
    }
    Ok(mismatches(questions, &documents))
}
