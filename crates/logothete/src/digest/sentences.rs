//! A digest without a model.

use logothete_core::Result;
use logothete_core::answer::Status;
use logothete_core::digest::{
    Candidates, Digest, DigestField, DigestStatement, FieldDigest, FieldKind, FilledField, digest_of_sentences,
};
use logothete_core::search::Filter;
use logothete_core::verify::Meaning;

use super::WholeDocument;
use crate::answer;
use crate::search::{SearchRequest, Searcher};
use crate::trace::Recorder;

/// Makes a digest of a document's own sentences. The question of a field of the kind `answer` is asked of the document.
pub(crate) fn from_sentences(
    searcher: &Searcher<'_>,
    fields: &[DigestField],
    document: &WholeDocument,
) -> Result<Digest> {
    let mut candidates = Candidates::of(&document.passages);
    let encoder = &*searcher.opened.encoder;
    let wants_central = fields.iter().any(|field| !matches!(field.kind, FieldKind::Answer | FieldKind::Kind));
    if wants_central {
        // Another machine is not asked for this: words are compared instead.
        let vectors = match encoder.is_remote() {
            true => Vec::new(),
            false => Meaning::of(encoder, &candidates.texts())?.into_iter().map(|meaning| meaning.whole).collect(),
        };
        candidates.compare(vectors);
    }
    let mut digest = Digest::new(&document.name, document.title.clone());
    if document.passages.is_empty() {
        let note = "The corpus has no text of this document; logothete parse and logothete show --document say why.";
        digest.notes.push(note.to_owned());
    }
    for (field, filled) in fields.iter().zip(digest_of_sentences(fields, document.title.as_deref(), &candidates)) {
        digest.add(if field.kind == FieldKind::Answer { answered(searcher, field, &document.name)? } else { filled });
    }
    Ok(digest)
}

/// Asks the question of a field of one document, or of the whole corpus if its name is empty.
fn answered(searcher: &Searcher<'_>, field: &DigestField, name: &str) -> Result<FilledField> {
    let mut request = SearchRequest::new(&field.question).untraced();
    if !name.is_empty() {
        request = request.filter(Filter::field("document").equals(name));
    }
    let answer = answer::reply(searcher, &request, Recorder::new(false))?.answer;
    let mut statements = Vec::new();
    if answer.status != Status::Refused {
        statements.extend(answer.claims.into_iter().map(|claim| DigestStatement::new(None, claim)));
    }
    let sources = if statements.is_empty() { Vec::new() } else { answer.sources };
    Ok(FilledField::new(FieldDigest::new(&field.name, field.kind, statements), sources))
}
