//! Why passages stand where they do.

use logothete::SearchResult;
use logothete::document::{BlockKind, Span};
use logothete::search::Passage;
use logothete::text::words;
use logothete::trace::{RerankRecord, TraceDetails};

use super::{SetOff, Style, count, indented, quotation, width};

/// Returns the terms that were searched for.
fn terms(found: &SearchResult) -> &[String] {
    let terms = found.trace.records.iter().find_map(|record| match &record.details {
        TraceDetails::Keyword { terms, .. } => Some(terms.as_slice()),
        _ => None,
    });
    terms.unwrap_or_default()
}

/// Returns the sentences of a passage that may say why it was found: the one with most of the words that were searched for, or all, if none has any.
pub fn candidates<'a>(passage: &'a Passage, found: &SearchResult) -> Vec<&'a str> {
    let terms = terms(found);
    let different = |text: &str| {
        let mut found: Vec<String> = words(text).map(|word| word.term).filter(|term| terms.contains(term)).collect();
        found.sort_unstable();
        found.dedup();
        found.len()
    };
    // The names of the columns of a table say nothing alone; its other rows are shown with them.
    let parts = passage.sentences.iter().filter_map(|part| match part.kind {
        BlockKind::Heading => None,
        BlockKind::Table => part.row.as_deref(),
        _ => Some(passage.slice(part.span)),
    });
    let parts: Vec<&str> = parts.collect();
    match parts.iter().rev().max_by_key(|text| different(text)) {
        Some(best) if different(best) > 0 => vec![best],
        _ => parts,
    }
}

/// Returns a sentence as a quotation, with the words that were searched for set off, and those that are like them in another way.
pub fn quoted(sentence: &str, alike: &[Span], found: &SearchResult, style: Style) -> String {
    let terms = terms(found);
    let matches: Vec<Span> = words(sentence).filter(|word| terms.contains(&word.term)).map(|word| word.span).collect();
    quotation(sentence, SetOff { matches: &matches, alike }, 5, width(), style)
}

/// Returns a sentence about the candidates that were left out or moved to the end; `None` if there are none.
pub fn left_out(found: &SearchResult) -> Option<String> {
    let (left_out, later) = found.trace.records.iter().find_map(|record| match &record.details {
        TraceDetails::Choose { left_out, later, .. } => Some((*left_out as u64, *later as u64)),
        _ => None,
    })?;
    let candidates = |number| count(number, "candidate", "candidates");
    let repeat =
        (left_out > 0).then(|| format!("Left out: {}, which repeat most of a better one.", candidates(left_out)));
    let end =
        (later > 0).then(|| format!("Moved to the end: {}, which are too many of their document.", candidates(later)));
    (left_out + later > 0).then(|| [repeat, end].into_iter().flatten().collect::<Vec<_>>().join(" "))
}

/// The number of facts that are named for a passage.
const MAX_FACTS: usize = 4;

/// Returns a text for each passage of a traced search: how many places each step moved it, and by what.
pub fn lines(found: &SearchResult, style: Style) -> Vec<String> {
    let reranked = found.trace.records.iter().find_map(|record| match &record.details {
        TraceDetails::Rerank { candidates, .. } => Some(candidates.as_slice()),
        _ => None,
    });
    let candidates = reranked.unwrap_or_default();
    let line = |(at, passage): (usize, &Passage)| {
        let Some(rank) = candidates.iter().position(|one| one.chunk == passage.chunk) else { return String::new() };
        let one = &candidates[rank];
        let mut text = format!("reranked, {}", moved(one.from, rank + 1));
        let facts = facts(one);
        if !facts.is_empty() {
            text.push_str(&format!(": {facts}"));
        }
        if rank != at {
            let reason = if rank > at {
                "since more of the sections above counts less"
            } else {
                "since its section is shown above"
            };
            text.push_str(&format!("; then {}, {reason}", moved(rank + 1, at + 1)));
        }
        format!("{}\n", style.faint(indented(&text, 5).trim_end_matches('\n')))
    };
    found.passages.iter().enumerate().map(line).collect()
}

/// Says from where to where a rank moved.
fn moved(from: usize, to: usize) -> String {
    match from.cmp(&to) {
        std::cmp::Ordering::Greater => format!("↑{} to #{to}", from - to),
        std::cmp::Ordering::Less => format!("↓{} to #{to}", to - from),
        std::cmp::Ordering::Equal => format!("stays #{to}"),
    }
}

/// Returns the facts that weighed most.
fn facts(one: &RerankRecord) -> String {
    let mut shares: Vec<(&String, &f64)> = one.shares.iter().collect();
    shares.sort_by(|a, b| b.1.abs().total_cmp(&a.1.abs()));
    shares.iter().take(MAX_FACTS).map(|(fact, share)| format!("{fact} {share:+.1}")).collect::<Vec<_>>().join(", ")
}
