//! Why passages stand where they do.

use logothete::SearchResult;
use logothete::trace::{RerankRecord, TraceDetails};

use super::{Style, indented};

/// The number of facts that are named for a passage.
const MAX_FACTS: usize = 4;

/// Returns a text for each passage of a traced search: how many places each step moved it, and by what.
pub fn lines(found: &SearchResult, style: Style) -> Vec<String> {
    let reranked = found.trace.records.iter().find_map(|record| match &record.details {
        TraceDetails::Rerank { candidates, .. } => Some(candidates.as_slice()),
        _ => None,
    });
    let candidates = reranked.unwrap_or_default();
    let line = |(at, passage): (usize, &logothete::search::Passage)| {
        let Some(rank) = candidates.iter().position(|one| one.chunk == passage.chunk) else { return String::new() };
        let one = &candidates[rank];
        let mut text = format!("reranked, {}", moved(one.from, rank + 1));
        let facts = facts(one);
        if !facts.is_empty() {
            text.push_str(&format!(": {facts}"));
        }
        if rank != at {
            let reason =
                if rank > at { "since more of sections above comes last" } else { "since its section is shown above" };
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
