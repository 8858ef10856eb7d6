//! What is made of a question before a search, and searched for besides it.

use std::collections::HashMap;

use logothete_core::TokenUsage;
use logothete_core::query::question_parts;
use logothete_core::search::Transform;

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
    pub(crate) fn by_rule(question: &str, transform: Transform) -> Self {
        if transform != Transform::Split {
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
}

/// What was made of questions, by transform and question.
pub(crate) type Transforms = HashMap<(Transform, String), Transformed>;
