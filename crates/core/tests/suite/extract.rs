//! Extraction from passages of small documents: what is picked, what is refused.

use logothete_core::chunk::{Structure, chunks};
use logothete_core::document::{BlockKind, Date, DocumentBuilder, Value};
use logothete_core::evidence::{Extraction, MIN_COVERAGE, extract};
use logothete_core::query::Question;
use logothete_core::search::Passage;
use proptest::prelude::*;
use rstest::rstest;

/// Passages of a document with a heading, a date and some paragraphs.
fn passages(heading: &str, date: Option<&str>, paragraphs: &[&str]) -> Vec<Passage> {
    let mut builder = DocumentBuilder::new(format!("{heading}.txt"), "text/plain");
    builder.heading(1, heading);
    paragraphs.iter().for_each(|text| builder.block(BlockKind::Paragraph, text));
    made(builder, date)
}

fn made(builder: DocumentBuilder, date: Option<&str>) -> Vec<Passage> {
    let mut document = builder.finish();
    if let Some(date) = date.and_then(Date::from_written) {
        document.metadata.insert("date".to_owned(), Value::Date(date));
    }
    let cut = chunks(&document, &document.name, &Structure::default()).expect("structure never fails");
    let ranked = cut.into_iter().map(|chunk| Passage::from_chunk(chunk, &document)).enumerate();
    ranked
        .map(|(index, mut passage)| {
            (passage.rank, passage.score) = (index + 1, 1.0);
            passage
        })
        .collect()
}

/// Asks with every term telling the same.
fn ask(question: &str, passages: &[Passage]) -> Extraction {
    extract(&Question::new(question, |_| 1.0), passages, MIN_COVERAGE)
}

fn texts(extraction: &Extraction) -> Vec<&str> {
    extraction.picked.iter().map(|picked| picked.text.as_str()).collect()
}

#[test]
fn one_sentence_that_covers_the_question_is_enough() {
    let passages = passages("Fog", None, &["A bell rings in fog. A horn sounds in rain. The lamp is lit at dusk."]);
    let extraction = ask("What sounds in rain?", &passages);
    assert_eq!(texts(&extraction), ["A horn sounds in rain."]);
    assert!(extraction.is_enough(MIN_COVERAGE) && extraction.missing.is_empty());
}

#[test]
fn a_correction_goes_before_what_it_corrects() {
    let mut all = passages("Old rule", Some("2024-02-12"), &["The gate is shut at nine."]);
    all.extend(passages("New rule", Some("2025-05-27"), &["The gate is shut at ten."]));
    assert_eq!(texts(&ask("When is the gate shut?", &all)), ["The gate is shut at ten."]);
    all.reverse();
    assert_eq!(texts(&ask("When is the gate shut?", &all)), ["The gate is shut at ten."]);
}

#[test]
fn headings_help_and_are_not_quoted() {
    let passages = passages("Swing bridge", None, &["It opens at six.", "It is painted green."]);
    let extraction = ask("When does the swing bridge open?", &passages);
    assert_eq!(texts(&extraction), ["It opens at six."]);
    assert!(extraction.coverage > 0.7 && extraction.coverage < 1.0);
}

#[rstest]
#[case("What is the colour of the tug Little Auk?")]
#[case("Who built the tug Little Auk?")]
fn the_right_ship_with_nothing_of_what_is_asked_is_no_answer(#[case] question: &str) {
    let passages = passages("Tugs", None, &["The tug Little Auk has a bollard pull of 18 tonnes."]);
    let extraction = ask(question, &passages);
    assert!(!extraction.is_enough(MIN_COVERAGE), "{extraction:?}");
    assert!(ask("What bollard pull has the tug Little Auk?", &passages).is_enough(MIN_COVERAGE));
}

#[test]
fn a_row_is_told_with_its_columns_and_a_header_never_alone() {
    let mut builder = DocumentBuilder::new("b.txt", "text/plain");
    builder.table(1, &[vec!["Berth", "Length"], vec!["Berth 1", "55"], vec!["Berth 11", "150"]]);
    let passages = made(builder, None);
    assert_eq!(texts(&ask("What is the length of Berth 11?", &passages)), ["Berth 11 · Length: 150"]);
    assert_eq!(texts(&ask("What is the length of Berth 1?", &passages)), ["Berth 1 · Length: 55"]);
}

#[test]
fn a_quantity_is_looked_for_where_one_is_asked_for() {
    let passages =
        passages("Crane", None, &["The crane lifts many heavy loads.", "The crane lifts loads of 25 tonnes."]);
    assert_eq!(
        texts(&ask("How much does the crane lift in loads?", &passages)),
        ["The crane lifts loads of 25 tonnes."]
    );
}

#[test]
fn an_item_is_quoted_without_its_number() {
    let mut builder = DocumentBuilder::new("a.txt", "text/plain");
    builder.block(BlockKind::ListItem, "(2) Nets are dried on the mole.");
    assert_eq!(texts(&ask("Where are nets dried?", &made(builder, None))), ["Nets are dried on the mole."]);
}

#[rstest]
#[case("", &["Something is written here."])]
#[case("Where is the cat?", &[])]
#[case("Zebra?", &["Nothing of the kind is here."])]
fn nothing_to_find_is_not_enough(#[case] question: &str, #[case] paragraphs: &[&str]) {
    assert!(!ask(question, &passages("Page", None, paragraphs)).is_enough(MIN_COVERAGE));
}

proptest! {
    #[test]
    fn whatever_is_asked_the_pick_is_in_its_passage(
        question in "(what|how|many|when|Berth 7|gate|shut|opens|nine|green|boat| ){1,12}",
        paragraphs in prop::collection::vec("([A-Z]?(gate|shut|opens|nine|Berth 7|boat|the|at) ){1,8}\\.", 1..5),
        least in 0.0f32..1.0,
    ) {
        let paragraphs: Vec<&str> = paragraphs.iter().map(String::as_str).collect();
        let passages = passages("Heading", None, &paragraphs);
        let question = Question::new(&question, |term| term.len() as f32);
        let extraction = extract(&question, &passages, least);
        prop_assert!((0.0..=1.0001).contains(&extraction.coverage) && (0.0..=1.0001).contains(&extraction.asked));
        prop_assert!(extraction.picked.len() <= 3);
        for picked in &extraction.picked {
            let passage = &passages[picked.passage];
            prop_assert!(passage.sentences.contains(&picked.sentence));
            let quoted: Vec<&str> = passage.slice(picked.sentence.span).split_whitespace().collect();
            prop_assert!(quoted.join(" ").ends_with(&picked.text));
        }
        prop_assert!(extraction.missing.iter().all(|term| question.terms.iter().any(|known| known.term == *term)));
    }
}
