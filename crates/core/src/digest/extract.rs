//! A digest without a model: fields filled with sentences and rows of the document.

use super::candidates::Candidates;
use super::central::chosen;
use super::kind::kind_named;
use super::told::{Finding, with_amounts, with_dates, with_duties, with_parties};
use super::{DigestField, DigestStatement, FieldDigest, FieldKind, FilledField};
use crate::answer::{CitedSource, Claim};
use crate::document::BlockKind;
use crate::search::Passage;
use crate::text::count_words;
use crate::verify::Verdict;

/// How much less a sentence of a summary counts if its section has one already.
const AGAIN_IN_SUMMARY: f32 = 0.6;
/// The same for points, of which each section has one before any has two.
const AGAIN_IN_POINTS: f32 = 0.25;

/// Fills fields with what a document itself says. Each statement is a sentence, a list item or a row of it. A field of the kind `answer` stays empty: its
/// question is for a search.
///
/// Costs one pass over the sentences for each field, and for a summary the comparison of those that are compared with each chosen one.
pub fn digest_of_sentences(
    fields: &[DigestField],
    title: Option<&str>,
    candidates: &Candidates<'_>,
) -> Vec<FilledField> {
    let mut taken = Vec::new();
    let filled = fields.iter().map(|field| {
        let found = match field.kind {
            FieldKind::Answer => Vec::new(),
            FieldKind::Kind => return kind(field, title, candidates),
            FieldKind::Summary | FieldKind::Points => {
                let again = if field.kind == FieldKind::Summary { AGAIN_IN_SUMMARY } else { AGAIN_IN_POINTS };
                let picked = chosen(candidates, field.max_words, again, &taken);
                taken.extend(picked.iter().copied());
                picked.into_iter().map(|at| (at, None)).collect()
            }
            FieldKind::Dates => best(candidates, field, with_dates(candidates)),
            FieldKind::Parties => best(candidates, field, with_parties(candidates)),
            FieldKind::Amounts => best(candidates, field, with_amounts(candidates)),
            FieldKind::Duties => best(candidates, field, with_duties(candidates)),
        };
        statements(field, candidates, found)
    });
    filled.collect()
}

/// Returns the findings that are worth most and have room, in their order.
fn best(candidates: &Candidates<'_>, field: &DigestField, mut found: Vec<Finding>) -> Vec<(usize, Option<String>)> {
    found.sort_by(|a, b| b.worth.total_cmp(&a.worth).then(a.candidate.cmp(&b.candidate)));
    let mut left = field.max_words;
    let mut kept: Vec<Finding> = Vec::new();
    for finding in found {
        let words = candidates.all[finding.candidate].words;
        // The same sentence under two labels says nothing new.
        let repeats = |other: &Finding| candidates.all[other.candidate].text == candidates.all[finding.candidate].text;
        if words <= left && !kept.iter().any(repeats) {
            left -= words;
            kept.push(finding);
        }
    }
    if field.kind != FieldKind::Parties {
        kept.sort_by(|a, b| a.order.cmp(&b.order).then(a.candidate.cmp(&b.candidate)));
    }
    kept.into_iter().map(|finding| (finding.candidate, finding.label)).collect()
}

/// Makes statements of candidates, each with its source.
fn statements(field: &DigestField, candidates: &Candidates<'_>, found: Vec<(usize, Option<String>)>) -> FilledField {
    let (mut made, mut sources) = (Vec::new(), Vec::new());
    for (at, label) in found {
        let one = &candidates.all[at];
        let passage = &candidates.passages[one.passage];
        let marker = sources.len() + 1;
        sources.push(source(passage, one.sentence, marker));
        let claim = Claim::new(&one.text, Verdict::Supported, 1.0, vec![marker]);
        made.push(DigestStatement { label, claim });
    }
    FilledField::new(FieldDigest::new(&field.name, field.kind, made), sources)
}

/// Returns a sentence of a passage as a source.
pub(super) fn source(passage: &Passage, sentence: usize, marker: usize) -> CitedSource {
    let sentence = &passage.sentences[sentence];
    let mut location = passage.location.clone();
    (location.span, location.pages) = (sentence.span, sentence.pages);
    CitedSource::new(marker, location, passage.slice(sentence.span))
}

/// Returns the kind of the document: as its title, a heading or its name tells, else by what it is made of.
fn kind(field: &DigestField, title: Option<&str>, candidates: &Candidates<'_>) -> FilledField {
    let headings = candidates.passages.iter().flat_map(|passage| {
        let headings = passage.sentences.iter().enumerate().filter(|(_, sentence)| sentence.kind == BlockKind::Heading);
        headings.map(move |(at, sentence)| (passage, at, passage.slice(sentence.span)))
    });
    let first = headings.into_iter().next();
    let (mut sources, mut citations) = (Vec::new(), Vec::new());
    let name = candidates.passages.first().map(|passage| passage.location.document.as_str()).unwrap_or_default();
    let stem = name.rsplit('/').next().unwrap_or(name).split('.').next().unwrap_or(name).replace(['-', '_'], " ");
    let (label, text) = if let Some((passage, at, kind)) =
        first.and_then(|(passage, at, text)| Some((passage, at, kind_named(text)?)))
    {
        sources.push(source(passage, at, 1));
        citations.push(1);
        (kind, passage.slice(passage.sentences[at].span).split_whitespace().collect::<Vec<_>>().join(" "))
    } else if let Some((kind, title)) = title.and_then(|title| Some((kind_named(title)?, title))) {
        (kind, title.to_owned())
    } else if let Some(kind) = kind_named(&stem) {
        (kind, format!("by the name of the file, {name}"))
    } else {
        let rows = candidates.all.iter().filter(|one| one.kind == BlockKind::Table).count();
        match rows * 2 > candidates.all.len() {
            true => ("table", format!("{rows} rows")),
            false => ("document", title.unwrap_or(name).to_owned()),
        }
    };
    // What only its name or its form tells has no place that could be cited.
    let verdict = if citations.is_empty() { Verdict::Computed } else { Verdict::Supported };
    let kept = if count_words(&text) <= field.max_words { text } else { String::new() };
    let claim = Claim::new(kept, verdict, 1.0, citations);
    let statements = vec![DigestStatement { label: Some(label.to_owned()), claim }];
    FilledField::new(FieldDigest::new(&field.name, field.kind, statements), sources)
}
