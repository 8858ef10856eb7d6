//! Whether chunks say the same: what makes no difference, and what does.

use logothete_core::chunk::{Chunk, Limit, Statements, Structure, chunks};
use logothete_core::document::{BlockKind, DocumentBuilder};
use proptest::prelude::*;
use rstest::rstest;

/// The one chunk of a document with a heading and a paragraph.
fn chunk(heading: &str, text: &str) -> Chunk {
    let mut builder = DocumentBuilder::new("a.txt", "text/plain");
    builder.heading(1, heading);
    builder.block(BlockKind::Paragraph, text);
    let structure = Structure::new(Limit::words(900, 0).expect("no overlap"));
    chunks(&builder.finish(), "a.txt", &structure).expect("cut").remove(0)
}

fn said(heading: &str, text: &str) -> Statements {
    Statements::of_chunk(&chunk(heading, text))
}

const RULES: &str = "Mooring lines are tended at every turn of the tide. Fenders hang before a tug comes. The watch keeps a light at \
    night. The draught is 8.4 metres at berth 7.";

#[rstest]
#[case("Rules", RULES, Some(0))]
#[case("RULES", &RULES.to_uppercase(), Some(0))]
#[case(
    "Rules",
    "mooring lines are tended, at every turn of tide. Fenders hang before the tug comes! A watch keeps light at night. Draught is 8.4 metres at berth 7.",
    Some(0)
)]
#[case("Rules", &RULES.replace("8.4", "8.5"), Some(1))]
#[case("Rules", &RULES.replace("berth 7", "berth 8"), Some(1))]
#[case("Rules", &RULES.replace("keeps a light", "keeps no light"), Some(1))]
#[case("Rules", &format!("{RULES} The bell is rung in fog."), Some(0))]
#[case("Other rules", RULES, None)]
#[case("Rules", "The bell is rung in fog. The watch keeps a light at night.", None)]
fn what_only_one_of_two_says(#[case] heading: &str, #[case] other: &str, #[case] beyond: Option<usize>) {
    assert_eq!(said("Rules", RULES).beyond(&said(heading, other)).map(|beyond| beyond.len()), beyond);
}

#[test]
fn the_places_of_statements_are_found() {
    let (one, other) = (
        said("Rules", "One stands. Two stands. Three stands."),
        said("Rules", "Three stands! Four stands. One stands."),
    );
    assert_eq!(one.places_in(&other), [Some(0), Some(3), None, Some(1)]);
}

proptest! {
    /// Near-identical chunks of few statements always have a hash in common by which they are found.
    #[test]
    fn what_is_near_identical_is_found(
        sentences in prop::collection::vec("[A-Z][a-z]{2,8}( [a-z]{2,8}){3,9} quays", 1..5),
        changed in 0usize..5,
        added in "[A-Z][a-z]{2,8}( [0-9]{1,3}){1,3}",
    ) {
        let text = |sentences: &[String]| sentences.iter().map(|sentence| format!("{sentence}. ")).collect::<String>();
        let mut other = sentences.clone();
        if let Some(sentence) = other.get_mut(changed) {
            *sentence = added;
        }
        let (one, other) = (said("Rules", &text(&sentences)), said("Rules", &text(&other)));
        if one.beyond(&other).is_some() {
            let (a, b) = (one.sketch(), other.sketch());
            prop_assert!(a.iter().any(|hash| b.contains(hash)), "{a:?} {b:?}");
        }
    }

    /// What one says beyond the other, together with what both say, is all that it says.
    #[test]
    fn nothing_that_differs_is_lost(
        sentences in prop::collection::vec("[A-Z][a-z]{2,8}( [a-z]{2,8}){3,9} quays", 4..9),
        figure in 0u32..1000,
        at in 0usize..9,
    ) {
        let text = |sentences: &[String]| sentences.iter().map(|sentence| format!("{sentence}. ")).collect::<String>();
        let mut other = sentences.clone();
        let at = at % other.len();
        other[at].push_str(&format!(" {figure}"));
        let (one, other) = (said("Rules", &text(&sentences)), said("Rules", &text(&other)));
        if let Some(beyond) = other.beyond(&one) {
            prop_assert_eq!(beyond, vec![at + 1], "the heading is the first statement");
        }
    }
}
