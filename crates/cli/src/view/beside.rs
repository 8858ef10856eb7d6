//! Two orders of passages, side by side.

use std::collections::HashMap;

use logothete::SearchResult;
use logothete::search::Passage;

use super::{Align, Style, count, table};

/// Returns a table of the passages of two searches, in the order of the first, then those that only the second found.
pub fn beside(ours: &SearchResult, theirs: &SearchResult, name: &str, style: Style) -> String {
    let ranks = |found: &SearchResult| -> HashMap<String, Passage> {
        found.passages.iter().map(|passage| (passage.chunk.as_str().to_owned(), passage.clone())).collect()
    };
    let (here, there) = (ranks(ours), ranks(theirs));
    let mut rows = vec![["here", "score", name, "score", "", "passage"].map(str::to_owned).to_vec()];
    let only_there = theirs.passages.iter().filter(|passage| !here.contains_key(passage.chunk.as_str()));
    for passage in ours.passages.iter().chain(only_there) {
        let chunk = passage.chunk.as_str();
        let (a, b) = (here.get(chunk), there.get(chunk));
        let cell = |one: Option<&Passage>| {
            one.map_or(["–".to_owned(), String::new()], |one| [one.rank.to_string(), format!("{:.2}", one.score)])
        };
        let moved = match (a.map(|one| one.rank), b.map(|one| one.rank)) {
            (Some(a), Some(b)) if a > b => format!("↑{}", a - b),
            (Some(a), Some(b)) if a < b => format!("↓{}", b - a),
            (Some(_), None) => "gone".to_owned(),
            (None, Some(_)) => "new".to_owned(),
            _ => String::new(),
        };
        let ([a, a_score], [b, b_score]) = (cell(a), cell(b));
        rows.push(vec![a, a_score, b, b_score, moved, passage.location.to_string()]);
    }
    let sides = [Align::Right, Align::Right, Align::Right, Align::Right, Align::Left, Align::Left];
    let same = ours
        .passages
        .iter()
        .filter(|passage| there.get(passage.chunk.as_str()).is_some_and(|other| other.rank == passage.rank));
    let all = ours.passages.len() as u64;
    let summary = format!("{} of {} at the same rank in both", same.count(), count(all, "passage", "passages"));
    format!("{}{}\n", table(&rows, &sides, 0, style), style.faint(&summary))
}
