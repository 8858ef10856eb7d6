//! What a model wrote of a document, field by field.

use super::{DigestField, DigestStatement, FieldDigest, FilledField};
use crate::answer::{Answer, CitedSource};
use crate::error::Result;
use crate::prompt::REFUSAL;
use crate::search::Passage;
use crate::text::{fold, list_marker, sentences, words};
use crate::verify::Judge;

/// A longer label is the beginning of a sentence.
const MAX_LABEL: usize = 5;

/// What a reply says of a document.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct ReplyFields {
    /// All fields, in the order of their definition.
    pub fields: Vec<FilledField>,
    /// The names of those that the reply leaves out.
    pub missing: Vec<String>,
}

/// Returns the fields of a reply. A field begins with a line that has its
/// name and no more, such as `## dates`. The marker `[1]` means the first of the passages. Each statement is held against the passages that it cites.
///
/// A reply in which no field begins is the first field, if there is only one.
///
/// # Errors
/// If the encoder of the judge fails.
pub fn fields_of_reply(
    reply: &str,
    fields: &[DigestField],
    passages: &[Passage],
    judge: &Judge<'_>,
) -> Result<ReplyFields> {
    let mut told = vec![None; fields.len()];
    let mut current = (fields.len() == 1).then_some(0);
    for line in reply.lines() {
        if let Some(at) = field_named(line, fields) {
            current = Some(at);
            told[at].get_or_insert_with(String::new);
        } else if let Some(at) = current {
            let text = told[at].get_or_insert_with(String::new);
            text.push_str(line);
            text.push('\n');
        }
    }
    let missing = fields.iter().zip(&told).filter(|(_, text)| text.is_none()).map(|(field, _)| field.name.clone());
    let missing = missing.collect();
    let mut read = Vec::new();
    for (field, text) in fields.iter().zip(told) {
        read.push(one(field, text.as_deref().unwrap_or_default(), passages, judge)?);
    }
    Ok(ReplyFields { fields: read, missing })
}

/// Returns the field whose name is all that a line has, but for signs.
fn field_named(line: &str, fields: &[DigestField]) -> Option<usize> {
    let plain = |text: &str| words(text).map(|word| fold(word.text)).collect::<Vec<_>>();
    let own = plain(line);
    // An item of a list is no heading, whatever it says.
    let is_item = line.trim_start().starts_with("- ") || line.trim_end().ends_with('.');
    (!own.is_empty() && !is_item).then(|| fields.iter().position(|field| plain(&field.name) == own)).flatten()
}

fn one(field: &DigestField, text: &str, passages: &[Passage], judge: &Judge<'_>) -> Result<FilledField> {
    let (mut statements, mut sources) = (Vec::new(), Vec::<CitedSource>::new());
    for line in text.lines().map(str::trim).filter(|line| !line.is_empty()) {
        let (label, said) = labelled(line[list_marker(line).map_or(0, str::len)..].trim(), field);
        if said.trim().is_empty() || said.contains(REFUSAL) {
            continue;
        }
        let mut answer = Answer::from_reply(&field.question, said, passages);
        answer.judge(passages, judge)?;
        let mut label = label.map(str::to_owned);
        statements.extend(answer.claims.into_iter().map(|claim| DigestStatement { label: label.take(), claim }));
        for source in answer.sources {
            match sources.iter_mut().find(|own| own.marker == source.marker) {
                None => sources.push(source),
                // One passage may have several quotations; the first one stands for it.
                Some(own) => own.more.extend(source.more),
            }
        }
    }
    Ok(FilledField::new(FieldDigest::new(&field.name, field.kind, statements), sources))
}

/// Returns the label before the colon of a line of a list, and what is said of it.
fn labelled<'a>(line: &'a str, field: &DigestField) -> (Option<&'a str>, &'a str) {
    let (label, said) = line.split_once(": ").unwrap_or(("", line));
    let is_label = field.kind.is_list()
        && !label.is_empty()
        && label.split_whitespace().count() <= MAX_LABEL
        && sentences(label).len() == 1
        && !label.contains(['[', '“', '"']);
    if is_label { (Some(label.trim_matches(['*', '_', ' '])), said) } else { (None, line) }
}
