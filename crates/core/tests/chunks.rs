//! Properties of chunks, whatever the document.

use logothete_core::chunk::{Chunker, Structure, chunks, sentences};
use logothete_core::document::{BlockKind, Document, DocumentBuilder, Span};
use logothete_core::text::count_words;
use proptest::prelude::*;

/// A block to build, with words of several scripts, marks and line ends.
#[derive(Clone, Debug)]
enum Piece {
    Text(BlockKind, String),
    Heading(u8, String),
    Table(usize, Vec<Vec<String>>),
    Page,
    Furniture(String),
}

fn words() -> impl Strategy<Value = String> {
    let word = prop_oneof![
        5 => "[a-zA-Z]{1,9}",
        1 => "[0-9]{1,4}(\\.[0-9])?",
        1 => Just("港口关闭".to_owned()),
        1 => Just("ﻣﻴﻨﺎء".to_owned()),
        1 => Just("e\u{301}t\u{e9}".to_owned()),
        1 => Just("👩‍🔧🇳🇴".to_owned()),
        1 => Just("(2)".to_owned()),
    ];
    let gap = prop_oneof![6 => Just(" "), 2 => Just(". "), 1 => Just("\n"), 1 => Just("\r\n"), 1 => Just("\u{c}"), 1 => Just("\t")];
    prop::collection::vec((word, gap), 0..60)
        .prop_map(|pairs| pairs.into_iter().map(|(word, gap)| word + gap).collect())
}

fn piece() -> impl Strategy<Value = Piece> {
    let kind = prop_oneof![
        Just(BlockKind::Paragraph),
        Just(BlockKind::ListItem),
        Just(BlockKind::Code),
        Just(BlockKind::Quotation)
    ];
    prop_oneof![
        6 => (kind, words()).prop_map(|(kind, text)| Piece::Text(kind, text)),
        2 => (1u8..5, "[A-Z][a-z ]{0,20}").prop_map(|(level, text)| Piece::Heading(level, text)),
        1 => (0usize..2, prop::collection::vec(prop::collection::vec("[a-z0-9 |]{0,8}", 1..4), 1..9))
            .prop_map(|(header, rows)| Piece::Table(header, rows)),
        1 => Just(Piece::Page),
        1 => "[a-z ]{1,20}".prop_map(Piece::Furniture),
    ]
}

fn build(pieces: &[Piece]) -> Document {
    let mut builder = DocumentBuilder::new("made.txt", "text/plain");
    let mut page = 1;
    builder.page(page);
    for piece in pieces {
        match piece {
            Piece::Text(kind, text) => builder.block(*kind, text),
            Piece::Heading(level, text) => builder.heading(*level, text),
            Piece::Table(header, rows) => builder.table(*header, rows),
            Piece::Page => {
                page += 1;
                builder.page(page);
            }
            Piece::Furniture(text) => builder.furniture(page, None, text),
        }
    }
    builder.finish()
}

proptest! {
    #[test]
    fn blocks_ascend_and_pages_lie_in_the_text(pieces in prop::collection::vec(piece(), 0..14)) {
        let document = build(&pieces);
        let mut end = 0;
        for block in &document.blocks {
            prop_assert!(block.span.start >= end && block.span.end <= document.text.len());
            prop_assert!(document.text.is_char_boundary(block.span.start) && document.text.is_char_boundary(block.span.end));
            end = block.span.end;
            for cell in block.table.iter().flat_map(|table| &table.rows).flat_map(|row| &row.cells) {
                prop_assert!(block.span.contains(*cell) && document.text.is_char_boundary(cell.start));
            }
        }
        prop_assert!(document.page_starts.windows(2).all(|pair| pair[0].start <= pair[1].start));
        prop_assert!(document.page_starts.iter().all(|start| document.text.is_char_boundary(start.start)));
    }

    #[test]
    fn a_chunk_is_exactly_its_slice_and_nothing_is_lost(
        pieces in prop::collection::vec(piece(), 0..14),
        limit in 4usize..60,
        overlap_share in 0usize..45,
    ) {
        let document = build(&pieces);
        let overlap = limit * overlap_share / 100;
        let chunker = Structure::new(limit, overlap).expect("the overlap is below half");
        let made = chunks(&document, "made/made.txt", &chunker).expect("structure never fails");
        let mut covered = vec![false; document.text.len()];
        let mut end_before = 0;
        for chunk in &made {
            prop_assert_eq!(&chunk.text, &document.text[chunk.span.range()]);
            prop_assert_eq!(chunk.size, count_words(&chunk.text));
            prop_assert!(chunk.size <= limit, "{} words in a chunk of at most {limit}", chunk.size);
            prop_assert_eq!(chunk.pages, document.pages(chunk.span));
            let repeated = Span::new(chunk.span.start, end_before.max(chunk.span.start));
            prop_assert!(count_words(document.slice(repeated)) <= overlap);
            prop_assert!(chunk.sentences.iter().all(|sentence| chunk.span.contains(sentence.span)));
            covered[chunk.span.range()].fill(true);
            end_before = chunk.span.end;
        }
        for (at, c) in document.text.char_indices().filter(|(_, c)| c.is_alphanumeric()) {
            prop_assert!(covered[at], "{c:?} at {at} is in no chunk");
        }
        let mut ids: Vec<_> = made.iter().map(|chunk| chunk.id.clone()).collect();
        ids.sort();
        ids.dedup();
        prop_assert_eq!(ids.len(), made.len());
    }

    #[test]
    fn sentences_ascend_inside_their_blocks(pieces in prop::collection::vec(piece(), 0..14)) {
        let document = build(&pieces);
        let mut end = 0;
        for sentence in sentences(&document) {
            prop_assert!(sentence.span.start >= end && !sentence.span.is_empty());
            prop_assert!(document.blocks.iter().any(|block| block.span.contains(sentence.span)));
            end = sentence.span.end;
        }
    }
}

#[test]
fn an_insertion_at_the_top_leaves_later_ids_alone() {
    let build = |first: Option<&str>| {
        let mut builder = DocumentBuilder::new("a.txt", "text/plain");
        builder.heading(1, "Log");
        if let Some(text) = first {
            builder.heading(2, "New");
            builder.block(BlockKind::Paragraph, text);
        }
        for day in ["Monday", "Tuesday"] {
            builder.heading(2, day);
            builder.block(BlockKind::Paragraph, "All quiet in the basin.");
        }
        chunks(&builder.finish(), "s/a.txt", &Structure::default()).expect("cut")
    };
    let (before, after) = (build(None), build(Some("A gale came.")));
    let ids = |made: &[logothete_core::chunk::Chunk], day: &str| {
        made.iter()
            .find(|chunk| chunk.section.last().is_some_and(|heading| heading == day))
            .map(|chunk| chunk.id.clone())
    };
    assert_eq!(ids(&before, "Tuesday"), ids(&after, "Tuesday"));
    assert_ne!(before[0].id, after[0].id);
}

#[test]
fn a_long_table_is_cut_between_rows_and_keeps_its_header() {
    let mut builder = DocumentBuilder::new("berths.csv", "text/csv");
    let mut rows = vec![vec!["Berth".to_owned(), "Length".to_owned()]];
    rows.extend((1..40).map(|n| vec![format!("Berth {n}"), format!("{}", 40 + n)]));
    builder.table(1, &rows);
    let document = builder.finish();
    let made = chunks(&document, "s/berths.csv", &Structure::new(30, 0).expect("settings")).expect("cut");
    assert!(made.len() > 2);
    for chunk in &made[1..] {
        assert!(chunk.text.starts_with("Berth "), "{}", chunk.text);
        assert!(chunk.context.contains("Berth | Length"), "{}", chunk.context);
        let row = chunk.sentences[0].row.as_deref().expect("a row");
        assert!(row.contains(" · Length: "), "{row}");
    }
}

#[test]
fn settings_that_make_no_sense_say_what_to_set() {
    let message = Structure::new(100, 60).expect_err("too much overlap").to_string();
    assert!(message.contains("set the overlap to 49 or less"), "{message}");
    assert!(Structure::new(0, 0).is_err());
    assert_ne!(
        Structure::new(100, 0).expect("fine").fingerprint(),
        Structure::new(100, 1).expect("fine").fingerprint()
    );
}
