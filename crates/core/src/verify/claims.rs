//! The claims of a reply, with the markers of their sources.

use crate::text::{citation_marker, sentences};

/// A sentence of a reply, and the sources that it cites.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CitedClaim<'a> {
    /// The sentence without its markers.
    pub text: &'a str,
    /// The numbers of its markers, such as `[2]`, in order.
    pub markers: Vec<usize>,
}

/// Returns the sentences of a reply with their markers. A marker belongs to the sentence before it, also after the full stop.
pub fn cited_claims(reply: &str) -> Vec<CitedClaim<'_>> {
    let spans = sentences(reply).into_iter();
    spans.map(|span| claim(&reply[span.range()])).filter(|claim| !claim.text.is_empty()).collect()
}

fn claim(sentence: &str) -> CitedClaim<'_> {
    let places = sentence.match_indices('[').filter_map(|(at, _)| Some((at, citation_marker(&sentence[at..])?)));
    let places: Vec<(usize, usize)> = places.collect();
    let markers = places.iter().filter_map(|(at, length)| sentence[at + 1..at + length - 1].parse().ok()).collect();
    // Markers inside a sentence stay in its text; [`check`](super::check) passes over them.
    let mut end = sentence.len();
    for (at, length) in places.iter().rev() {
        if sentence[at + length..end].trim().is_empty() {
            end = *at;
        }
    }
    CitedClaim { text: sentence[..end].trim_end(), markers }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("Order a pilot. [1] Wait. [2][13]", "Order a pilot. → [1] | Wait. → [2, 13]")]
    #[case("Berth 7 [2] is 7.9 m deep [3].", "Berth 7 [2] is 7.9 m deep [3]. → [2, 3]")]
    #[case("Nothing is cited. See [note].", "Nothing is cited. → [] | See [note]. → []")]
    #[case("[4]", "")]
    fn markers_belong_to_the_sentence_before_them(#[case] reply: &str, #[case] expected: &str) {
        let found = cited_claims(reply).into_iter().map(|claim| format!("{} → {:?}", claim.text, claim.markers));
        assert_eq!(found.collect::<Vec<_>>().join(" | "), expected);
    }
}
