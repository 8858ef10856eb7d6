//! Digests: what is chosen from a document, what a reply is read as, and which questions want one.

use logothete_core::answer::CitedSource;
use logothete_core::chunk::{Structure, chunks};
use logothete_core::digest::{
    Candidates, Digest, DigestField, DigestWish, FieldDigest, FieldKind, differences, digest_of_sentences,
    fields_of_reply,
};
use logothete_core::document::{BlockKind, Document, DocumentBuilder};
use logothete_core::search::Passage;
use logothete_core::verify::{Judge, Verdict};
use proptest::prelude::*;
use rstest::rstest;

use crate::verify::Letters;

const SECTIONS: [(&str, &[&str]); 4] = [
    ("Harbour byelaws", &["These byelaws were made by the Marrowby Harbour Authority on 12 February 2024."]),
    (
        "Speed",
        &[
            "A vessel shall not exceed 6 knots in the harbour. A vessel shall not exceed 6 knots in the harbour basin.",
            "The Harbour Master may order a vessel to stop.",
        ],
    ),
    ("Dues", &["Dues are paid before departure. A yacht pays 14 crowns a night. The office opens at 8:00."]),
    ("Fog", &["In fog the bell is rung every 20 seconds. Masters must keep a watch on channel 14."]),
];

fn document(sections: &[(&str, &[&str])]) -> Document {
    let mut builder = DocumentBuilder::new("byelaws.txt", "text/plain");
    for (heading, paragraphs) in sections {
        builder.heading(1, heading);
        for text in *paragraphs {
            builder.block(BlockKind::Paragraph, text);
        }
    }
    builder.finish()
}

fn passages(document: &Document) -> Vec<Passage> {
    let cut = chunks(document, "byelaws.txt", &Structure::default()).expect("cut");
    cut.into_iter().map(|chunk| Passage::from_chunk(chunk, document)).collect()
}

fn digest(fields: &[DigestField], passages: &[Passage]) -> Digest {
    let mut candidates = Candidates::of(passages);
    candidates.compare(Vec::new());
    let mut digest = Digest::new("byelaws.txt", None);
    digest_of_sentences(fields, None, &candidates).into_iter().for_each(|field| digest.add(field));
    digest
}

fn texts(field: &FieldDigest) -> Vec<String> {
    let line =
        |label: &Option<String>, text: &str| label.as_ref().map_or(text.to_owned(), |label| format!("{label}: {text}"));
    field.statements.iter().map(|one| line(&one.label, &one.claim.text)).collect()
}

#[test]
fn each_field_has_its_own_sentences_word_for_word() {
    let (document, fields) = (document(&SECTIONS), DigestField::defaults());
    let passages = passages(&document);
    let digest = digest(&fields, &passages);
    let field = |name: &str| texts(digest.fields.iter().find(|field| field.name == name).expect("a field"));
    assert_eq!(field("kind"), ["byelaws: Harbour byelaws"]);
    assert_eq!(
        field("dates"),
        ["2024-02-12: These byelaws were made by the Marrowby Harbour Authority on 12 February 2024."]
    );
    let parties = field("parties").join("\n");
    assert!(parties.contains("Marrowby Harbour Authority: ") && parties.contains("Harbour Master: "), "{parties}");
    let amounts = field("amounts").join("\n");
    assert!(
        amounts.contains("6 knots: ") && amounts.contains("14 crowns: ") && !amounts.contains("channel"),
        "{amounts}"
    );
    let duties = field("duties").join("\n");
    assert!(duties.contains("shall not exceed") && duties.contains("Masters must keep"), "{duties}");
    assert!(!duties.contains("opens at"), "{duties}");
    for (at, source) in digest.sources.iter().enumerate() {
        assert_eq!(source.marker, at + 1);
        assert_eq!(document.slice(source.location.span), source.quotation);
    }
    let markers = digest.statements().flat_map(|one| one.claim.citations.clone());
    assert!(markers.into_iter().all(|marker| (1..=digest.sources.len()).contains(&marker)));
}

#[test]
fn a_summary_repeats_nothing_and_visits_the_sections() {
    let document = document(&SECTIONS);
    let passages = passages(&document);
    let fields = [
        DigestField::new("summary", FieldKind::Summary, "", 34),
        DigestField::new("points", FieldKind::Points, "", 40),
    ];
    let digest = digest(&fields, &passages);
    let all: Vec<&str> = digest.statements().map(|one| one.claim.text.as_str()).collect();
    let speed = all.iter().filter(|text| text.contains("shall not exceed")).count();
    assert_eq!(speed, 1, "two sentences that say the same: {all:?}");
    let words: usize = texts(&digest.fields[0]).iter().map(|text| text.split_whitespace().count()).sum();
    assert!((1..=34).contains(&words), "{all:?}");
    let sections = digest.sources.iter().map(|source| source.location.section.last().cloned());
    let mut sections: Vec<_> = sections.collect();
    sections.dedup();
    assert!(sections.len() >= 3, "{sections:?}");
    let distinct: std::collections::BTreeSet<&str> = all.iter().copied().collect();
    assert_eq!(distinct.len(), all.len(), "points repeat the summary: {all:?}");
}

#[rstest]
#[case("Summarise the byelaws", Some(0))]
#[case("summarize byelaws.pdf, please", Some(0))]
#[case("Give me a summary of the pilotage handbook.", Some(1))]
#[case("Sum up notice 3", Some(2))]
#[case("What is the handbook about?", Some(1))]
#[case("What does the price list say?", Some(4))]
#[case("What are the key points of the byelaws?", Some(0))]
#[case("Summarise the notices", None)]
#[case("Summarise the tides of June", None)]
#[case("What does a tug cost?", None)]
#[case("Who says what is open?", None)]
#[case("", None)]
fn questions_that_want_a_whole_document(#[case] question: &str, #[case] expected: Option<usize>) {
    let documents = [
        ("byelaws.pdf", Some("Harbour Byelaws 2024")),
        ("handbook.html", Some("Pilotage Handbook")),
        ("notices/notice-3.md", Some("Notice to Mariners 3")),
        ("notices/notice-4.md", Some("Notice to Mariners 4")),
        ("dues.xlsx", Some("Price list")),
    ];
    assert_eq!(DigestWish::of(question).and_then(|wish| wish.document(documents)), expected);
}

const REPLY: &str = "Here it is:\n\n**Summary**\nThe speed limit is 6 knots. [2] A vessel shall not exceed 9 knots in the harbour. [2]\n\n\
    ## duties\n- Masters: Masters must keep a watch on channel 14. [4]\n- The documents do not say.\n";

#[test]
fn a_reply_is_read_field_by_field_and_judged() {
    let document = document(&SECTIONS);
    let passages = passages(&document);
    let fields = [
        DigestField::new("summary", FieldKind::Summary, "", 60),
        DigestField::new("duties", FieldKind::Duties, "", 60),
        DigestField::new("dates", FieldKind::Dates, "", 60),
    ];
    let read = fields_of_reply(REPLY, &fields, &passages, &Judge::new(&Letters)).expect("fields");
    assert_eq!(read.missing, ["dates"]);
    let summary = &read.fields[0].field.statements;
    assert_eq!(summary.len(), 2, "{summary:?}");
    assert_eq!(summary[1].claim.verdict, Verdict::Contradicted, "{summary:?}");
    assert_eq!(texts(&read.fields[1].field), ["Masters: Masters must keep a watch on channel 14."]);
    assert_eq!(read.fields[1].field.statements[0].claim.verdict, Verdict::Supported);
    assert_eq!(read.fields[1].sources.iter().map(|source| source.marker).collect::<Vec<_>>(), [4]);
}

#[test]
fn documents_that_differ_are_named_with_both_places() {
    let older = document(&[("Berths", &["The greatest draught at Berth 7 is 7.6 metres. The office opens at 8:00."])]);
    let newer =
        document(&[("Correction", &["The greatest draught at Berth 7 is 7.9 metres. The bell is rung by hand."])]);
    let parts = [passages(&older), passages(&newer)];
    let fields = [DigestField::new("amounts", FieldKind::Amounts, "", 40)];
    let digests: Vec<Digest> = parts.iter().map(|own| digest(&fields, own)).collect();
    let all: Vec<&[Passage]> = parts.iter().map(Vec::as_slice).collect();
    let found = differences(&digests, &all, &Judge::new(&Letters)).expect("differences");
    assert_eq!(found.len(), 1, "{found:?}");
    let (one, other) = (&found[0].one.quotation, &found[0].other.quotation);
    assert!(found[0].reason.contains("7.9") && one.contains("7.6") && other.contains("7.9"), "{found:?}");
}

#[test]
fn sources_are_numbered_once_over_all_fields() {
    let document = document(&SECTIONS);
    let passages = passages(&document);
    let fields = [
        DigestField::new("amounts", FieldKind::Amounts, "", 60),
        DigestField::new("duties", FieldKind::Duties, "", 60),
    ];
    let digest = digest(&fields, &passages);
    let places: Vec<_> = digest.sources.iter().map(|source: &CitedSource| source.location.span).collect();
    let distinct: std::collections::BTreeSet<_> = places.iter().map(|span| span.start).collect();
    assert_eq!(distinct.len(), places.len());
    let answer = digest.into_answer("Summarise");
    assert!(answer.answer.contains("[1]") && !answer.is_refusal(), "{answer:?}");
}

proptest! {
    #[test]
    fn any_text_makes_a_digest_within_its_words(text in "(\\PC{0,40}[.!?\\n ]){0,12}", max_words in 1_usize..40) {
        let document = document(&[("A", &[text.as_str()])]);
        let passages = passages(&document);
        let kinds = [FieldKind::Kind, FieldKind::Summary, FieldKind::Points, FieldKind::Dates, FieldKind::Parties, FieldKind::Amounts, FieldKind::Duties];
        let fields: Vec<DigestField> = kinds.iter().map(|kind| DigestField::new("field", *kind, "", max_words)).collect();
        let digest = digest(&fields, &passages);
        for field in &digest.fields[1..] {
            let words: usize = field.statements.iter().map(|one| logothete_core::text::count_words(&one.claim.text)).sum();
            prop_assert!(words <= max_words, "{words} of {max_words}: {field:?}");
        }
        for source in &digest.sources {
            prop_assert_eq!(document.slice(source.location.span), source.quotation.as_str());
        }
    }

    #[test]
    fn any_reply_is_read(reply in "([#* -]{0,3}(summary|dates|x)?[\\PC]{0,30}(\\[[0-9]{1,2}\\])?\\n){0,10}") {
        let document = document(&SECTIONS);
        let passages = passages(&document);
        let fields = [DigestField::new("summary", FieldKind::Summary, "", 9), DigestField::new("dates", FieldKind::Dates, "", 9)];
        let read = fields_of_reply(&reply, &fields, &passages, &Judge::new(&Letters)).expect("fields");
        prop_assert_eq!(read.fields.len(), 2);
    }
}
