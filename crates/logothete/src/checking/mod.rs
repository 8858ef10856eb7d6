//! Any text held against a corpus, claim by claim; and claims held against sources that come with them.

mod claims;
mod own;
mod report;

use logothete_core::chunk::ChunkId;
use logothete_core::keyword::Query;
use logothete_core::search::{Passage, RerankKind};
use logothete_core::text::sentences;
use logothete_core::vector::Encoder;
use logothete_core::verify::{Difference, DifferenceKind, Judge, Judgement, Verdict};
use logothete_core::{Error, ErrorKind, Result};
use rayon::prelude::*;

use crate::answer::OtherSource;
use crate::search::{SearchRequest, Searcher};
use crate::trace::Recorder;

pub(crate) use claims::CheckedText;
use claims::{CitedPlace, FoundClaim};
pub(crate) use own::object_to_answer;
pub use own::{Check, ClaimToCheck, Objection};
pub use report::{CheckReport, CheckedClaim, ClaimPair, PairCheck, pair_measures};

/// So many passages are looked at for a claim that cites nothing.
const MAX_PASSAGES: usize = 4;
/// From this probability on, a passage that a search found supports a claim. Of several passages, one is more easily like it than one that is cited.
const MIN_FOUND: f32 = 0.5;
/// The share of the words of a claim from which on it is no doubtful paraphrase if the source says nothing of them.
const MAX_MISSING: f32 = 0.4;
/// From this probability on, a passage speaks of the matter so clearly that what it says against a claim is shown beside what supports it.
const MIN_AGAINST: f32 = 0.97;

/// A claim with the passages that it is held against.
struct Prepared {
    claim: FoundClaim,
    /// Those that it cites.
    cited: Vec<Passage>,
    /// Those that a search finds.
    found: Vec<Passage>,
    /// What is wrong with what it cites.
    problem: Option<String>,
}

/// Holds the claims of a text against a corpus.
pub(crate) fn check(searcher: &Searcher<'_>, text: &CheckedText) -> Result<CheckReport> {
    let known = searcher.view.document_names()?;
    let found = claims::claims(text, &known);
    let before: Vec<Option<String>> =
        std::iter::once(None).chain(found.iter().map(|claim| Some(claim.text.clone()))).collect();
    let prepared = found.into_par_iter().zip(&before).map(|(claim, before)| {
        if searcher.stop.is_stopped() {
            return Err(Error::new(ErrorKind::Cancelled, "the check was stopped"));
        }
        prepare(searcher, claim, before.as_deref(), &known)
    });
    let prepared = prepared.collect::<Result<Vec<_>>>()?;
    let encoder = &*searcher.opened.encoder;
    let judge = Judge::new(encoder);
    let mut claims = prepared.par_iter().map(|one| judged(one, &judge)).collect::<Result<Vec<CheckedClaim>>>()?;
    let own = searcher.opened.pipeline.checks();
    claims.iter_mut().for_each(|claim| own::object_to_claim(own, claim));
    let locations = claims.iter_mut().flat_map(|claim| claim.evidence.iter_mut().chain(&mut claim.against));
    let mut locations: Vec<_> = locations.map(|source| &mut source.location).collect();
    searcher.view.catalogue().pinpoint(&mut locations)?;
    Ok(CheckReport::new(&text.document.name, claims))
}

/// Returns what is searched for to check a text.
pub(crate) fn queries(text: &CheckedText) -> Vec<String> {
    claims::claims(text, &[]).into_iter().map(|claim| claim.text).collect()
}

/// Looks up what a claim cites, and searches for it.
fn prepare(searcher: &Searcher<'_>, claim: FoundClaim, before: Option<&str>, known: &[String]) -> Result<Prepared> {
    let (mut cited, mut problem) = (Vec::new(), None);
    for place in &claim.cited {
        match passages_at(searcher, place, known)? {
            Ok(passages) => cited.extend(passages),
            Err(missing) => problem = Some(missing),
        }
    }
    // What `it` means stands in the claim before.
    let asked = match (before, claim.begins_with_pronoun()) {
        (Some(before), true) => format!("{before} {}", claim.text),
        _ => claim.text.clone(),
    };
    // A claim is like the passage that says it. What a reranker looks for in a question is not in it.
    let mut plan = searcher.opened.config().search.plan();
    plan.rerank.kind = RerankKind::None;
    let request = SearchRequest::new(&asked).plan(plan).passages(MAX_PASSAGES).untraced();
    let query = Query::plain(&asked);
    let found = match query.has_words() {
        true => searcher.find(&query, &request, &mut Recorder::new(false))?.passages,
        false => Vec::new(),
    };
    Ok(Prepared { claim, cited, found, problem })
}

/// Returns the passages of a document that a text cites, on the page if it names one; or what is wrong with it.
fn passages_at(
    searcher: &Searcher<'_>,
    place: &CitedPlace,
    known: &[String],
) -> Result<std::result::Result<Vec<Passage>, String>> {
    let name = crate::corpus::document_named(known, &place.document);
    let catalogue = searcher.view.catalogue();
    let Some(id) = name.map(|name| catalogue.known_id(name)).transpose()?.flatten() else {
        return Ok(Err(format!("the corpus does not hold “{}”, which is cited", place.document)));
    };
    let ids: Vec<ChunkId> = catalogue.chunks_of(&[id])?;
    let mut passages = catalogue.passages(&ids)?;
    if let Some(page) = place.page {
        passages.retain(|passage| passage.location.pages.is_none_or(|pages| pages.first <= page && page <= pages.last));
        if passages.is_empty() {
            return Ok(Err(format!("“{}” has nothing on page {page}, which is cited", place.document)));
        }
    }
    Ok(Ok(passages))
}

fn judged(prepared: &Prepared, judge: &Judge<'_>) -> Result<CheckedClaim> {
    let Prepared { claim, cited, found, problem } = prepared;
    let mut checked = CheckedClaim::new(&claim.text, claim.line);
    checked.cited = claim.cited.iter().map(|place| (place.document.clone(), place.page)).collect();
    let own = if cited.is_empty() { None } else { Some(judge.hold(&claim.text, &cited.iter().collect::<Vec<_>>())?) };
    if let Some(own) = own {
        let supported = own.finding.verdict == Verdict::Supported;
        checked.set(&own, |at| &cited[at]);
        if supported {
            return Ok(checked);
        }
    }
    let mut best: Option<(usize, Judgement)> = None;
    let mut against: Option<(usize, Judgement)> = None;
    for (at, passage) in found.iter().enumerate() {
        let mut held = judge.hold(&claim.text, &[passage])?;
        if held.finding.verdict == Verdict::Supported && held.finding.probability < MIN_FOUND {
            let lacking = |difference: &&Difference| {
                difference.kind == DifferenceKind::Missing && difference.degree >= MAX_MISSING
            };
            let lacking = held.finding.differences.iter().find(lacking).map(|difference| difference.said.clone());
            held.finding.verdict = if lacking.is_some() { Verdict::Unsupported } else { Verdict::Partly };
            held.finding.reason =
                lacking.or_else(|| Some("the source may say this in other words, but not clearly".to_owned()));
        }
        let rank = |held: &Judgement| match held.finding.verdict {
            Verdict::Supported => (true, held.finding.probability),
            _ => (false, held.finding.speaks),
        };
        // Of several that disagree, the newest is most likely in force.
        let date = |at: usize| found[at].location.date.as_deref();
        let is_newer = against.as_ref().is_none_or(|(other, _)| date(at) > date(*other));
        if held.finding.verdict == Verdict::Contradicted && held.finding.speaks >= MIN_AGAINST && is_newer {
            against = Some((at, held.clone()));
        }
        if best.as_ref().is_none_or(|(_, other)| rank(&held) > rank(other)) {
            best = Some((at, held));
        }
    }
    let Some((at, held)) = best else {
        checked.reason = problem.clone().or(checked.reason);
        return Ok(checked);
    };
    let supported = held.finding.verdict == Verdict::Supported;
    match (&problem, cited.is_empty()) {
        // Another place says it than the one that is cited.
        (problem, false) | (problem @ Some(_), _) if supported => {
            checked.set(&held, |_| &found[at]);
            checked.verdict = Verdict::Partly;
            let place = &found[at].location;
            checked.reason = Some(match problem {
                Some(problem) => format!("{problem}; {place} says it"),
                None => format!("{place} says it, and not what is cited"),
            });
        }
        (Some(problem), true) => {
            checked.verdict = Verdict::Unsupported;
            checked.reason = Some(problem.clone());
        }
        (_, false) => {}
        (None, true) => {
            checked.set(&held, |_| &found[at]);
            let other = against.filter(|(other, _)| supported && *other != at);
            if let Some((other, held)) = other {
                checked.against = source(&held, |_| &found[other]);
                checked.reason = held.finding.reason.map(|reason| format!("another source disagrees: {reason}"));
            }
        }
    }
    Ok(checked)
}

/// Returns the sentence of a judgement as a source.
fn source<'a>(held: &Judgement, passage: impl Fn(usize) -> &'a Passage) -> Option<OtherSource> {
    let (at, place) = held.place?;
    let passage = passage(at);
    let sentence = passage.sentences.get(place)?;
    let mut location = passage.location.clone();
    (location.span, location.pages) = (sentence.span, sentence.pages);
    Some(OtherSource::new(location, passage.slice(sentence.span)))
}

/// Holds claims against the sources that come with them, each sentence by sentence.
pub(crate) fn check_pairs(encoder: &dyn Encoder, pairs: &[ClaimPair]) -> Result<Vec<PairCheck>> {
    let check = |pair: &ClaimPair| {
        let spans = sentences(&pair.evidence);
        let texts: Vec<&str> = spans.iter().map(|span| &pair.evidence[span.range()]).collect();
        let held = Judge::new(encoder).hold_against(&pair.claim, &texts)?;
        Ok(PairCheck::new(pair, &held, &texts))
    };
    pairs.par_iter().map(check).collect()
}
