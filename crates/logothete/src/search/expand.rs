//! Returns more of a document around the passages that were found.

use logothete_core::Result;
use logothete_core::chunk::sentences;
use logothete_core::document::Document;
use logothete_core::search::{ExpansionPlan, Passage, expanded, joined};

use crate::storage::CatalogueReader;

/// Makes passages longer, as a plan says. Those that then meet become one, which stands where the first of them did.
///
/// Returns the number of passages that became a part of another.
pub(super) fn expand(
    catalogue: &dyn CatalogueReader,
    plan: &ExpansionPlan,
    passages: &mut Vec<Passage>,
) -> Result<usize> {
    let chunks: Vec<_> = passages.iter().map(|passage| passage.chunk.clone()).collect();
    let around = catalogue.surroundings(&chunks)?;
    let mut ids: Vec<i64> = around.values().map(|(document, _)| *document).collect();
    ids.sort_unstable();
    ids.dedup();
    let documents = catalogue.documents(&ids)?;
    // A chunk that the catalogue does not know any more stays as it is: its document has a number that no other has.
    let spans: Vec<_> = (0_i64..)
        .zip(&*passages)
        .map(|(at, passage)| match around.get(&passage.chunk) {
            Some((id, around)) if documents.contains_key(id) => {
                (*id, expanded(&documents[id], *around, plan.kind, plan.max_words))
            }
            _ => (-1 - at, passage.location.span),
        })
        .collect();
    let (into, joined) = joined(&spans);
    let before = passages.len();
    for (at, passage) in passages.iter_mut().enumerate().filter(|(at, _)| into[*at] == *at) {
        if let Some(document) = documents.get(&spans[at].0) {
            widen(passage, document, joined[at]);
        }
    }
    let mut parts = into.iter().enumerate().map(|(at, whole)| at == *whole);
    passages.retain(|_| parts.next().unwrap_or(true));
    (1..).zip(passages.iter_mut()).for_each(|(rank, passage)| passage.rank = rank);
    Ok(before - passages.len())
}

/// Gives a passage another span of its document, with the text, the pages and the sentences of it.
fn widen(passage: &mut Passage, document: &Document, span: logothete_core::document::Span) {
    if span == passage.location.span {
        return;
    }
    let wider = sentences(document).into_iter().filter(|sentence| span.contains(sentence.span)).collect();
    let narrow = std::mem::replace(&mut passage.sentences, wider);
    // What other chunks say the same is known for each of the sentences before.
    for other in &mut passage.also {
        let before = std::mem::take(&mut other.sentences);
        let counterpart = |span| before.get(narrow.iter().position(|one| one.span == span)?).cloned().flatten();
        other.sentences = passage.sentences.iter().map(|sentence| counterpart(sentence.span)).collect();
    }
    passage.text = document.slice(span).to_owned();
    passage.location.span = span;
    passage.location.pages = document.pages(span);
}
