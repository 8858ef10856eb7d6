//! Prompts for contexts: documents stay data, what is shown is near, and replies keep to their room.

use logothete_core::Fingerprint;
use logothete_core::chunk::{Chunk, Limit, Structure, TokenCounter, Unit, chunks};
use logothete_core::digest::{DigestField, FieldKind};
use logothete_core::document::{BlockKind, Document, DocumentBuilder};
use logothete_core::prompt::{
    AnswerSettings, DigestMaterial, PastTurn, Templates, combine_prompt, context_prompt, digest_prompt, fenced,
    tidy_context,
};
use logothete_core::search::Passage;
use logothete_core::text::count_words;
use proptest::prelude::*;
use rstest::rstest;

fn document(paragraphs: &[String]) -> Document {
    let mut builder = DocumentBuilder::new("log.txt", "text/plain");
    builder.heading(1, "Log of the tower");
    for (index, text) in paragraphs.iter().enumerate() {
        if index % 3 == 0 {
            builder.heading(2, &format!("Day {index}"));
        }
        builder.block(BlockKind::Paragraph, text);
    }
    builder.finish()
}

fn cut(document: &Document) -> Vec<Chunk> {
    chunks(document, "log.txt", &Structure::new(Limit::words(40, 0).expect("no overlap"))).expect("cut")
}

/// What stands inside a fence.
fn inside<'a>(material: &'a str, name: &str) -> &'a str {
    let opened = material.find(&format!("[{name} ")).expect("it opens");
    let body = opened + material[opened..].find('\n').expect("a line") + 1;
    let end = material[body..].find(&format!("\n[end of {name} ")).expect("it closes");
    &material[body..body + end]
}

proptest! {
    #[test]
    fn nothing_inside_closes_a_fence(text in "(\\[end of document [0-9a-f]{0,16}\\]|\\[document|[a-z ]{0,9}|\n|\\])*") {
        let once = fenced("document", &text);
        // Fence what was fenced: the marks of the inner one are not those of the outer.
        let twice = fenced("document", &once);
        for (fence, body) in [(&once, &text), (&twice, &once)] {
            let first = fence.lines().next().expect("a line");
            let mark = first.trim_start_matches("[document ").trim_end_matches(']');
            prop_assert!(!body.contains(mark));
            let end = format!("\n[end of document {mark}]");
            prop_assert!(fence.ends_with(&end));
            prop_assert_eq!(fence.matches(&end).count(), 1);
        }
    }

    #[test]
    fn what_is_shown_holds_the_passage_and_is_no_longer_than_asked(
        paragraphs in prop::collection::vec("[A-Z][a-z]{2,6}( [a-z]{1,7}){3,30}\\.", 1..30),
        around in 0usize..200,
    ) {
        let document = document(&paragraphs);
        for chunk in cut(&document) {
            let prompt = context_prompt(&document, &chunk, around, 30, &Templates::default()).expect("a prompt");
            let shown = inside(&prompt.messages[1].content, "document");
            prop_assert!(shown.contains(&chunk.text));
            prop_assert_eq!(inside(&prompt.messages[1].content, "passage"), &chunk.text);
            // Whole blocks: the one that the passage is part of is shown in full.
            let own: usize = document.blocks.iter().filter(|block| block.span.overlaps(chunk.span))
                .map(|block| count_words(document.slice(block.span))).sum();
            prop_assert!(count_words(shown) <= around.max(own) + own, "{} words", count_words(shown));
            prop_assert!(prompt.messages[0].content.contains("30 words"));
            for paragraph in &paragraphs {
                prop_assert!(!prompt.messages[0].content.contains(paragraph.as_str()), "instructions hold nothing of a document");
            }
        }
    }

    #[test]
    fn a_reply_is_one_line_within_its_room(reply in "([A-Z]?[a-z]{1,8}|\\.|\n| |港口){0,80}", reserve in 1usize..40, unit in 0usize..3) {
        let threes = |text: &str| text.split_whitespace().map(|word| word.chars().count().div_ceil(3)).sum();
        let unit = [Unit::Words, Unit::Characters, Unit::Tokens(TokenCounter::new(Fingerprint::of(["threes"]), threes))][unit].clone();
        let limit = Limit::new(unit, 100, 0).expect("no overlap").reserving(reserve).expect("below half");
        let kept = tidy_context(&reply, &limit);
        prop_assert!(!kept.contains('\n'));
        prop_assert!(limit.unit().measure(&kept) <= reserve, "{kept:?}");
        prop_assert!(reply.split_whitespace().collect::<Vec<_>>().join(" ").starts_with(&kept));
    }
}

#[rstest]
#[case("One is short. Two is here. Three goes on.", 6, "One is short. Two is here.")]
#[case("One is short.", 6, "One is short.")]
#[case("a very long sentence that never comes to its end", 4, "a very long sentence")]
#[case("  ", 4, "")]
fn whole_sentences_are_kept_where_there_is_room(#[case] reply: &str, #[case] reserve: usize, #[case] kept: &str) {
    let limit = Limit::words(100, 0).expect("no overlap").reserving(reserve).expect("below half");
    assert_eq!(tidy_context(reply, &limit), kept);
}

#[test]
fn the_place_is_title_and_headings() {
    let document = document(&["The bell is rung.".to_owned()]);
    let prompt = context_prompt(&document, &cut(&document)[0], 100, 20, &Templates::default()).expect("a prompt");
    assert_eq!(inside(&prompt.messages[1].content, "place"), "Log of the tower › Day 0");
    assert!(prompt.text().starts_with("Below are a document and a passage of it."));
}

#[test]
fn a_digest_and_a_combination_keep_their_material_between_fences() {
    let templates = Templates::default();
    let parts = [PastTurn::new("How deep?", "It is 7.9 metres. [1]"), PastTurn::new("Since when?", "Since May. [2]")];
    let prompt = combine_prompt("How deep, and since when?", &parts, &templates).expect("a prompt");
    assert_eq!(inside(&prompt.messages[1].content, "answer 2"), "Since when?\n\nSince May. [2]");
    assert!(prompt.messages[1].content.ends_with("Question: How deep, and since when?"));
}

/// Sections of a few sentences each.
fn passages_of(sections: usize) -> Vec<Passage> {
    let paragraphs: Vec<String> = (1..=sections)
        .map(|at| format!("The bell of berth {at} is rung every {} seconds in fog. Nobody rings it by hand.", at + 10))
        .collect();
    let document = document(&paragraphs);
    cut(&document).into_iter().map(|chunk| Passage::from_chunk(chunk, &document)).collect()
}

#[rstest]
#[case::all_at_once(4_000, 1)]
#[case::in_parts(160, 2)]
fn parts_of_a_document_follow_each_other_in_the_prompts_of_a_digest(#[case] context: u64, #[case] least: usize) {
    let passages = passages_of(40);
    let fields = [DigestField::new("summary", FieldKind::Summary, "What is it?", 60)];
    let count = |text: &str| count_words(text) as u64;
    let mut settings = AnswerSettings::default();
    (settings.context_tokens, settings.reply_tokens) = (context, 10);
    let (mut from, mut prompts) = (0, Vec::new());
    while from < passages.len() {
        let material = DigestMaterial { title: "Log", notes: &[], passages: &passages[from..], first: from };
        let made = digest_prompt(&fields, material, &Templates::default(), &settings, &count).expect("a prompt");
        assert!(made.tokens + settings.reply_tokens <= context && made.passages > 0, "{made:?}");
        let material = &made.prompt.messages[1].content;
        assert!(inside(material, &format!("passage {}", from + 1)).contains("The bell of berth"), "{material}");
        from += made.passages;
        prompts.push(made);
    }
    assert!(prompts.len() >= least, "{} prompts", prompts.len());
    assert!(prompts[0].prompt.messages[0].content.contains("## summary: What is it? Running text, 60 words at most."));
}

#[test]
fn notes_go_before_passages_and_too_small_a_context_is_an_error() {
    let (passages, fields) = (passages_of(2), DigestField::defaults());
    let notes = ["## summary\nA bell. [1]".to_owned(), "## summary\nAnother bell. [2]".to_owned()];
    let count = |text: &str| count_words(text) as u64;
    let material = DigestMaterial { title: "Log", notes: &notes, passages: &passages, first: 2 };
    let made = digest_prompt(&fields, material, &Templates::default(), &AnswerSettings::default(), &count);
    let made = made.expect("a prompt");
    assert_eq!((made.notes, made.passages), (2, passages.len()));
    assert!(inside(&made.prompt.messages[1].content, "notes 2").contains("Another bell."));
    let mut settings = AnswerSettings::default();
    settings.context_tokens = 20;
    let error = digest_prompt(&fields, material, &Templates::default(), &settings, &count).expect_err("no room");
    assert!(error.to_string().contains("context_tokens"), "{error}");
}
