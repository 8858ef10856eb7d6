//! What is made of a question before a search, and searched for besides it.

use std::collections::{HashMap, HashSet};
use std::time::Instant;

use logothete_core::keyword::Query;
use logothete_core::query::question_parts;
use logothete_core::search::TransformKind;
use logothete_core::{Error, ErrorKind, Fingerprint, Result, TokenUsage};

use super::request::SearchRequest;
use crate::pipeline::Pipeline;
use crate::threads::{StopToken, caught_in};
use crate::trace::milliseconds;

/// Makes other questions of a question, which are searched for besides it: your own wordings, names or codes. Give it to
/// [`Pipeline::with_transform`](crate::Pipeline::with_transform).
///
/// It is asked before a search, once for each part of a question. One that fails leaves the question as it is, and the result says so.
pub trait Transform: Send + Sync {
    /// Returns the name of the transform in traces.
    fn name(&self) -> &str;

    /// Returns a fingerprint that changes whenever it may make something else of the same question.
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of([self.name()])
    }

    /// Returns what is searched for besides the question; nothing if it is fine as it is.
    ///
    /// # Errors
    /// If it cannot tell.
    fn queries(&self, question: &str) -> Result<Vec<String>>;
}

/// What was made of a question.
#[derive(Clone, Debug, Default)]
pub(crate) struct Transformed {
    pub queries: Vec<String>,
    /// Why it is nothing.
    pub note: Option<String>,
    pub usage: TokenUsage,
    pub took_ms: f64,
}

impl Transformed {
    /// Returns what can be made of a question without a generator.
    pub(crate) fn by_rule(question: &str, transform: TransformKind) -> Self {
        if transform != TransformKind::Split {
            let name = transform.name();
            let note = format!(
                "transform = {name} needs a generator, and [generator] names none; the question was searched as it is."
            );
            return Self { note: Some(note), ..Self::default() };
        }
        let parts = question_parts(question);
        let queries = if parts.len() > 1 {
            parts.into_iter().map(|part| part.question.into_owned()).collect()
        } else {
            Vec::new()
        };
        Self { queries, ..Self::default() }
    }

    /// Returns what the user's own transform makes of a question.
    pub(crate) fn by_own(question: &str, transform: &dyn Transform) -> Self {
        let started = Instant::now();
        let made = caught_in("the transform", || transform.queries(question));
        let took_ms = milliseconds(started);
        match made {
            Ok(mut queries) => {
                // A query without a word to search for is no query.
                queries.retain(|query| query != question && Query::plain(query).has_words());
                Self { queries, took_ms, ..Self::default() }
            }
            Err(error) => {
                let name = transform.name();
                let note = format!("The transform “{name}” failed, and the question was searched as it is: {error}.");
                Self { note: Some(note), took_ms, ..Self::default() }
            }
        }
    }
}

/// What was made of questions, by transform and question. For a transform of the user's own, the question is that of each search: a part of what was asked.
pub(crate) type Transforms = HashMap<(TransformKind, String), Transformed>;

/// Returns what the user's own transform makes of some questions, and of their parts.
///
/// # Errors
/// If the plan of a request asks for it and the pipeline has none.
pub(crate) fn made_by_own(pipeline: &Pipeline, requests: &[SearchRequest], stop: &StopToken) -> Result<Transforms> {
    let (plan, kind) = (pipeline.config().search.plan(), TransformKind::Own);
    let own = requests.iter().filter(|request| request.transform(&plan) == kind);
    let questions: HashSet<String> = own.flat_map(SearchRequest::searched).collect();
    if questions.is_empty() {
        return Ok(Transforms::new());
    }
    let Some(transform) = pipeline.transform() else {
        let message = "the pipeline has no transform of its own; give it one by with_transform, or choose another one";
        return Err(Error::new(ErrorKind::Configuration, message).at("[search] transform"));
    };
    let asked = questions.into_iter().take_while(|_| !stop.is_stopped());
    Ok(asked.map(|question| ((kind, question.clone()), Transformed::by_own(&question, &**transform))).collect())
}
