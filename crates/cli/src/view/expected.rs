//! What became of a passage that the user expected.

use logothete::search::{Expected, LostAt};

use super::{Style, count, width, wrap};

/// Returns a sentence or two: the rank at each step, and where it was lost.
pub fn expected(expected: &Expected, style: Style) -> String {
    let rank = |rank: Option<usize>| rank.map_or("none".to_owned(), |rank| format!("#{rank}"));
    let mut steps: Vec<String> = expected.legs.iter().map(|(leg, found)| format!("{leg} {}", rank(*found))).collect();
    steps.push(format!("fused {}", rank(expected.fused)));
    steps.extend(expected.reranked.map(|at| format!("reranked #{at}")));
    steps.push(format!("shown {}", rank(expected.shown)));
    let chunks = count(expected.chunks as u64, "chunk", "chunks");
    let verdict = match expected.lost {
        None => "The best of them is shown.",
        Some(LostAt::Corpus) => "No document has such a passage; look at what was read with logothete show.",
        Some(LostAt::Filter) => "The filter, or a required word, leaves out all of them.",
        Some(LostAt::Legs) => {
            "No leg has one among its candidates; raise depth in [search], or ask in the words of the documents."
        }
        Some(LostAt::Fusion) => "The fusion put others before them; --why shows which, and --count shows more.",
        Some(LostAt::Rerank) => "The reranker put others before them; --set rerank.kind=none searches without it.",
        Some(_) => {
            "They were left out at the end: too much like a better passage, a list of contents, or a score out of range."
        }
    };
    let steps = if expected.allowed == 0 { String::new() } else { format!("Best ranks: {}. ", steps.join(", ")) };
    let what = style.strong(&format!("Expected {chunks} where {}.", expected.filter));
    format!("{what}\n{}\n", wrap(&format!("{steps}{verdict}"), width()).join("\n"))
}
