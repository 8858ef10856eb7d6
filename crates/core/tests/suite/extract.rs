//! Extraction from passages of small documents: what is picked, what goes with it, what is in force, and how sure it is.

use logothete_core::chunk::{Structure, chunks};
use logothete_core::document::{BlockKind, Date, DocumentBuilder, Value};
use logothete_core::evidence::{
    AnswerLength, Certainty, EvidenceModel, EvidenceSettings, Extraction, FACT_NAMES, extract,
};
use logothete_core::learn::Logistic;
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
    ask_as_of(question, passages, None, AnswerLength::Whole)
}

fn ask_as_of(question: &str, passages: &[Passage], day: Option<&str>, length: AnswerLength) -> Extraction {
    let day = day.and_then(Date::from_written);
    let settings = EvidenceSettings { as_of: day.as_ref(), length, ..EvidenceSettings::default() };
    extract(&Question::new(question, |_| 1.0), passages, &settings)
}

/// Returns how sure an extraction is by a model that looks at one fact.
fn certainty_by(fact: &str, weight: f32, extraction: &Extraction) -> Certainty {
    let weights = FACT_NAMES.map(|name| if name == fact { weight } else { 0.0 }).to_vec();
    let logistic = Logistic { weights, shift: -weight / 2.0 };
    let model = EvidenceModel { answers: logistic.clone(), related: logistic, ..EvidenceModel::learned().clone() };
    let (confidence, related) = (model.confidence(&extraction.facts), model.relatedness(&extraction.facts));
    let extraction = Extraction { confidence, related, ..extraction.clone() };
    extraction.certainty(0.9, &EvidenceModel { min_related: 0.5, ..model })
}

fn texts(extraction: &Extraction) -> Vec<&str> {
    extraction.picked.iter().map(|picked| picked.text.as_str()).collect()
}

#[test]
fn one_sentence_that_covers_the_question_is_enough() {
    let passages = passages("Fog", None, &["A bell rings in fog. A horn sounds in rain. The lamp is lit at dusk."]);
    let extraction = ask("What sounds in rain?", &passages);
    assert_eq!(texts(&extraction), ["A horn sounds in rain."]);
    assert!(extraction.missing.is_empty() && extraction.coverage > 0.99, "{extraction:?}");
    assert_eq!(certainty_by("coverage", 10.0, &extraction), Certainty::Sure);
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

#[test]
fn the_right_ship_with_nothing_of_what_is_asked_is_not_sure() {
    let passages = passages("Tugs", None, &["The tug Little Auk has a bollard pull of 18 tonnes."]);
    let asked = "Who built the tug Little Auk?";
    let extraction = ask(asked, &passages);
    assert_ne!(certainty_by("asked", 10.0, &extraction), Certainty::Sure, "{extraction:?}");
    let reason = extraction.reason(asked, &Question::new(asked, |_| 1.0), &passages, Certainty::Closest);
    assert_eq!(reason.as_deref(), Some("no passage says this of “built”; “Tugs” comes closest"));
    let known = ask("What bollard pull has the tug Little Auk?", &passages);
    assert_eq!(certainty_by("asked", 10.0, &known), Certainty::Sure);
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
#[case("Where is the cat?", &[])]
#[case("When is the gate shut?", &["When is the gate shut?", "Is the gate shut?"])]
#[case("What is the gate?", &["The gate"])]
fn a_question_is_not_answered_by_questions_and_repetitions(#[case] question: &str, #[case] paragraphs: &[&str]) {
    let extraction = ask(question, &passages("Page", None, paragraphs));
    assert!(extraction.picked.is_empty(), "{extraction:?}");
    assert_eq!(extraction.certainty(0.0, EvidenceModel::learned()), Certainty::Nothing);
}

#[test]
fn nothing_that_is_asked_gives_nothing_sure() {
    let extraction = ask("Zebra?", &passages("Page", None, &["Nothing of the kind is here."]));
    assert_eq!(certainty_by("coverage", 10.0, &extraction), Certainty::Nothing);
}

#[test]
fn a_sentence_that_points_back_brings_the_one_before() {
    let passages = passages("Bell", None, &["The bell hangs on the mole. It is rung each minute in fog."]);
    let extraction = ask("How often is it rung in fog?", &passages);
    assert_eq!(texts(&extraction), ["The bell hangs on the mole.", "It is rung each minute in fog."]);
}

#[test]
fn steps_are_quoted_whole_and_in_order_unless_the_answer_is_to_be_brief() {
    let mut builder = DocumentBuilder::new("a.txt", "text/plain");
    builder.heading(1, "Bunkering");
    builder.block(BlockKind::Paragraph, "Before fuel is pumped:");
    for item in ["plug the scuppers", "set a tray under the hose", "post a watchman"] {
        builder.block(BlockKind::ListItem, item);
    }
    let passages = made(builder, None);
    let asked = "What must be done with the scuppers and the hose?";
    let whole = ask(asked, &passages);
    let all = ["Before fuel is pumped:", "plug the scuppers", "set a tray under the hose", "post a watchman"];
    assert_eq!(texts(&whole), all);
    let brief = ask_as_of(asked, &passages, None, AnswerLength::Brief);
    assert!(brief.picked.len() < 3, "{:?}", texts(&brief));
}

#[test]
fn a_rule_comes_with_its_exception() {
    let text = "Nobody shall bathe in the dock. Except at regattas, no boat may be rowed there. Ropes are kept dry.";
    let extraction = ask("May I bathe in the dock?", &passages("Dock", None, &[text]));
    assert_eq!(
        texts(&extraction)[..2],
        ["Nobody shall bathe in the dock.", "Except at regattas, no boat may be rowed there."]
    );
}

#[test]
fn both_sides_are_shown_where_sources_disagree_and_the_reason_is_told() {
    let mut all = passages("Byelaws", Some("2024-02-12"), &["The greatest draught at Berth 7 is 8.4 metres."]);
    all.extend(passages("Notice 3", Some("2025-03-11"), &["The greatest draught at Berth 7 is 7.6 metres."]));
    all.extend(passages(
        "Notice 6",
        Some("2025-05-27"),
        &["Notice 3 is cancelled. The greatest draught at Berth 7 is 7.9 metres."],
    ));
    let question = "What is the greatest draught at Berth 7?";
    let extraction = ask(question, &all);
    assert_eq!(texts(&extraction)[0], "The greatest draught at Berth 7 is 7.9 metres.");
    assert!(extraction.picked.len() >= 2 && extraction.disagreement.is_some(), "{extraction:?}");

    // In April, the notice of May was not there yet.
    let earlier = ask_as_of(question, &all, Some("2025-04-01"), AnswerLength::Whole);
    assert_ne!(texts(&earlier)[0], "The greatest draught at Berth 7 is 7.9 metres.");
}

#[test]
fn what_holds_for_some_days_counts_on_those_days() {
    let mut all = passages("Rule", Some("2024-02-12"), &["The bridge opens at a height of 6 metres."]);
    all.extend(passages(
        "Summer",
        Some("2025-04-02"),
        &["From 1 May to 30 September 2025 the bridge opens at a height of 5 metres."],
    ));
    let first = |day| {
        let found = ask_as_of("At what height does the bridge open?", &all, Some(day), AnswerLength::Whole);
        texts(&found)[0].to_owned()
    };
    assert!(first("2025-07-01").contains("5 metres"));
    assert_eq!(first("2025-12-01"), "The bridge opens at a height of 6 metres.");
}

#[rstest]
#[case(
    "Wann ist die Schleuse geöffnet?",
    "Die Schleuse ist von 8 bis 17 Uhr geöffnet.",
    "Die Brücke ist grün gestrichen."
)]
#[case(
    "Quelle est la profondeur du chenal ?",
    "La profondeur du chenal est de 6,2 mètres.",
    "Le chenal du port est balisé."
)]
#[case("¿Cuánto cuesta la grúa?", "La grúa cuesta 95 euros por hora.", "La grúa está en el muelle.")]
#[case("Quanto è profondo il canale?", "Il canale è profondo 6,2 metri.", "Il canale è segnalato da boe.")]
#[case("How deep is the channel?", "The channel is 6.2 metres deep.", "The channel is marked by buoys.")]
fn questions_of_five_languages_are_answered(#[case] question: &str, #[case] right: &str, #[case] wrong: &str) {
    let passages = passages("Hafen", None, &[wrong, right]);
    assert_eq!(texts(&ask(question, &passages))[0], right);
}

#[test]
fn code_comes_with_what_introduces_it() {
    let mut builder = DocumentBuilder::new("a.txt", "text/plain");
    builder.heading(1, "Pumps");
    builder.block(BlockKind::Paragraph, "The pump is started like this:");
    builder.block(BlockKind::Code, "pump --start\npump --watch");
    let extraction = ask("How is the pump started?", &made(builder, None));
    assert_eq!(texts(&extraction), ["The pump is started like this:", "pump --start", "pump --watch"]);
}

#[test]
fn each_candidate_that_was_not_chosen_says_why() {
    let passages = passages("Fog", None, &["A bell rings in fog. A horn sounds in rain. The lamp is lit at dusk."]);
    let extraction = ask("What sounds in rain?", &passages);
    let model = EvidenceModel::learned();
    let why = extraction.considered.iter().map(|(one, score)| extraction.why_lost(one, *score, model).is_some());
    assert_eq!(why.collect::<Vec<_>>(), [false, true, true]);
    assert!(extraction.considered.is_sorted_by(|a, b| a.1 >= b.1));
}

proptest! {
    #[test]
    fn whatever_is_asked_the_pick_is_in_its_passage(
        question in "(what|how|many|when|Berth 7|gate|shut|opens|nine|green|boat| ){1,12}",
        paragraphs in prop::collection::vec("([A-Z]?(gate|shut|opens|nine|Berth 7|boat|the|at) ){1,8}\\.", 1..5),
    ) {
        let paragraphs: Vec<&str> = paragraphs.iter().map(String::as_str).collect();
        let passages = passages("Heading", None, &paragraphs);
        let question = Question::new(&question, |term| term.len() as f32);
        let extraction = extract(&question, &passages, &EvidenceSettings::default());
        prop_assert!((0.0..=1.0001).contains(&extraction.coverage));
        prop_assert!((0.0..=1.0).contains(&extraction.confidence) && (0.0..=1.0).contains(&extraction.related));
        for picked in &extraction.picked {
            let passage = &passages[picked.passage];
            prop_assert!(passage.sentences.contains(&picked.sentence));
            let quoted: Vec<&str> = passage.slice(picked.sentence.span).split_whitespace().collect();
            prop_assert!(quoted.join(" ").ends_with(&picked.text));
        }
        prop_assert!(extraction.missing.iter().all(|term| question.terms.iter().any(|known| known.term == *term)));
    }
}
