//! The vectors of queries.

use std::collections::HashMap;
use std::sync::Mutex;

use logothete_core::keyword::Query;
use logothete_core::query::{asks_about_the_whole, question_parts, subject_of_the_whole};
use logothete_core::vector::{Encoder, Role};
use logothete_core::{Error, ErrorKind, Result};

use super::request::SearchRequest;
use crate::storage::lock;
use crate::threads::caught_in;

/// Vectors that a service computed before the search began, and those that the search computed itself for a text that is missing.
#[derive(Default)]
pub(crate) struct QueryVectors(Mutex<HashMap<String, Vec<f32>>>);

/// Returns all texts that a search or a question may have to encode for some requests.
pub(crate) fn texts_of(requests: &[SearchRequest]) -> Vec<String> {
    let texts = requests.iter().flat_map(|request| {
        let parts = question_parts(&request.query).into_iter().map(|part| Query::plain(&part.question).text());
        let whole = [Query::parse(&request.query).text(), Query::plain(&request.query).text()];
        whole.into_iter().chain(parts.flat_map(|part| [subject(&part), part])).collect::<Vec<_>>()
    });
    let mut texts: Vec<String> = texts.filter(|text| !text.trim().is_empty()).collect();
    texts.sort_unstable();
    texts.dedup();
    texts
}

/// Returns what a question about the whole names; the text itself of any other.
fn subject(text: &str) -> String {
    let named = subject_of_the_whole(text).filter(|_| asks_about_the_whole(text));
    named.map_or_else(|| text.to_owned(), |named| Query::plain(named).text())
}

impl QueryVectors {
    /// Encodes some texts. Blocks the thread if the encoder is a service.
    pub(crate) fn encode(encoder: &dyn Encoder, texts: Vec<String>) -> Result<Self> {
        let wanted: Vec<&str> = texts.iter().map(String::as_str).collect();
        let vectors = caught_in("the encoder", || encoder.encode(&wanted, Role::Query))?;
        let vectors: Vec<Vec<f32>> = vectors.iter().map(<[f32]>::to_vec).collect();
        Ok(Self(Mutex::new(texts.into_iter().zip(vectors).collect())))
    }

    /// Returns the vector of a text.
    ///
    /// # Errors
    /// If the encoder fails.
    pub(crate) fn of(&self, text: &str, encoder: &dyn Encoder) -> Result<Vec<f32>> {
        if let Some(vector) = lock(&self.0).get(text) {
            return Ok(vector.clone());
        }
        let vectors = caught_in("the encoder", || encoder.encode(&[text], Role::Query))?;
        let Some(vector) = vectors.iter().next().map(<[f32]>::to_vec) else {
            return Err(Error::new(ErrorKind::Unreadable, "the encoder returned no vector; check the encoder"));
        };
        lock(&self.0).insert(text.to_owned(), vector.clone());
        Ok(vector)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A service is asked before the search for all that the search encodes.
    #[test]
    fn what_a_question_about_the_whole_names_is_encoded_before() {
        let texts = texts_of(&[SearchRequest::new("Give me an overview of the old crane.")]);
        assert!(texts.contains(&"old crane".to_owned()), "{texts:?}");
        let texts = texts_of(&[SearchRequest::new("When is the crane greased?")]);
        assert_eq!(texts.len(), 1, "{texts:?}");
    }
}
