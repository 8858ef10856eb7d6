//! Properties of chunks, whatever the document.

use std::sync::Arc;

use logothete_core::Fingerprint;
use logothete_core::chunk::{
    ByPage, Chunk, Chunker, Fitted, Limit, LinePattern, Marked, Review, Rows, Sentences, Separator, Separators,
    Structure, TokenCounter, Topics, Unit, Whole, Window, chunks, chunks_at, sentences,
};
use logothete_core::document::{BlockKind, Document, DocumentBuilder, Span, Value};
use logothete_core::vector::Vectors;
use proptest::prelude::*;
use rstest::rstest;
use unicode_segmentation::UnicodeSegmentation;

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

/// Words, characters, and the tokens of an encoder that takes words apart in threes.
fn units() -> [Unit; 3] {
    let threes = |text: &str| text.split_whitespace().map(|word| word.chars().count().div_ceil(3)).sum();
    [Unit::Words, Unit::Characters, Unit::Tokens(TokenCounter::new(Fingerprint::of(["threes"]), threes))]
}

/// Where each way of cutting cuts a document.
fn all_ways(document: &Document, limit: &Limit) -> Vec<(&'static str, Vec<Span>)> {
    let some = || limit.clone();
    let own = vec![Separator::Text("\n\n".into()), Separator::Text(". ".into())];
    let ways: Vec<(&str, Box<dyn Chunker>)> = vec![
        ("structure", Box::new(Structure::new(some()))),
        ("sentences", Box::new(Sentences::new(some()))),
        ("separators", Box::new(Separators::new(some(), Separators::usual()).expect("separators"))),
        ("own separators", Box::new(Separators::new(some(), own).expect("separators"))),
        ("window", Box::new(Window::new(some()))),
        ("pages", Box::new(ByPage::new(some()))),
        ("marked", Box::new(Marked::new(some(), LinePattern::new("zzzzzz").expect("a pattern")))),
        ("rows", Box::new(Rows::new(some(), 2).expect("rows"))),
        ("whole", Box::new(Whole::new(some()))),
        ("fitted", Box::new(Fitted::new(Arc::new(Structure::new(some())), letters(), MAX_LETTERS))),
    ];
    let mut cut: Vec<(&str, Vec<Span>)> =
        ways.iter().map(|(name, chunker)| (*name, chunker.cut(document).expect("it cuts"))).collect();
    let mut vectors = Vectors::new(3);
    for span in Topics::sentences(document) {
        let text = document.slice(span);
        vectors.push(&[1.0, text.len() as f32 / 9.0, (text.len() % 5) as f32]).expect("three numbers");
    }
    cut.push(("topics", Topics::new(limit.clone()).cut(document, &vectors).expect("a vector for each sentence")));
    cut
}

/// What an encoder of letters reads.
const MAX_LETTERS: usize = 600;

/// Counts bytes, as an encoder of letters would.
fn letters() -> TokenCounter {
    TokenCounter::new(Fingerprint::of(["letters"]), str::len)
}

/// What holds for chunks, whoever cut them.
fn check_chunks(name: &str, document: &Document, limit: &Limit, spans: Vec<Span>) -> Result<(), TestCaseError> {
    let made = chunks_at(document, "made/made.txt", spans, Some(limit));
    let most = limit.most().unwrap_or(usize::MAX);
    let mut covered = vec![false; document.text.len()];
    let mut end_before = 0;
    let words: Vec<Span> =
        document.text.unicode_word_indices().map(|(start, word)| Span::new(start, start + word.len())).collect();
    for chunk in &made {
        prop_assert_eq!(&chunk.text, &document.text[chunk.span.range()]);
        prop_assert_eq!(chunk.size, limit.unit().measure(&chunk.text));
        let indexed = limit.unit().measure(&chunk.indexed_text());
        if name == "fitted" {
            let letters = chunk.indexed_text().len();
            prop_assert!(letters <= MAX_LETTERS || chunk.text.len() <= 16, "{name}: {letters} letters in {chunk:?}");
        }
        prop_assert!(indexed <= most, "{name}: {indexed} {:?} in a chunk of at most {most}: {chunk:?}", limit.unit());
        prop_assert!(chunk.size + chunk.context_size <= most, "{name}: {chunk:?}");
        prop_assert_eq!(chunk.pages, document.pages(chunk.span));
        prop_assert!(chunk.parent.contains(chunk.span), "{name}: {chunk:?}");
        let repeated = Span::new(chunk.span.start, end_before.max(chunk.span.start));
        let overlap = limit.unit().measure(document.slice(repeated).trim_end());
        prop_assert!(overlap <= limit.overlap(), "{name}: {overlap} {:?} are repeated", limit.unit());
        prop_assert!(chunk.sentences.iter().all(|sentence| chunk.span.contains(sentence.span)));
        check_boundaries(&document.text, chunk.span)?;
        if matches!(limit.unit(), Unit::Words) {
            // No word of these is longer than a limit.
            let split = |at: usize| words.iter().any(|word| word.start < at && at < word.end);
            prop_assert!(!split(chunk.span.start) && !split(chunk.span.end), "{name}: a word is split: {chunk:?}");
        }
        covered[chunk.span.range()].fill(true);
        end_before = chunk.span.end;
    }
    for (at, c) in document.text.char_indices().filter(|(_, c)| !c.is_whitespace()) {
        prop_assert!(covered[at], "{name}: {c:?} at {at} is in no chunk");
    }
    let mut ids: Vec<_> = made.iter().map(|chunk| chunk.id.clone()).collect();
    ids.sort();
    ids.dedup();
    prop_assert_eq!(ids.len(), made.len());
    Ok(())
}

/// A span begins and ends between extended grapheme clusters.
fn check_boundaries(text: &str, span: Span) -> Result<(), TestCaseError> {
    let boundaries: Vec<usize> = text.grapheme_indices(true).map(|(at, _)| at).chain([text.len()]).collect();
    prop_assert!(boundaries.contains(&span.start) && boundaries.contains(&span.end), "{span:?} splits a character");
    Ok(())
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
        unit in 0usize..3,
        most in 6usize..90,
        overlap_share in 0usize..50,
    ) {
        let document = build(&pieces);
        let limit = Limit::new(units()[unit].clone(), most, (most - 1) / 2 * overlap_share / 50).expect("below half");
        for (name, spans) in all_ways(&document, &limit) {
            check_chunks(name, &document, &limit, spans)?;
        }
    }

    #[test]
    fn marked_lines_are_all_that_is_in_no_chunk(
        pieces in prop::collection::vec(piece(), 0..12),
        most in 6usize..60,
    ) {
        let document = build(&pieces);
        let pattern = LinePattern::new("*e*").expect("a pattern");
        let marked = Marked::new(Limit::words(most, 0).expect("no overlap"), pattern.clone());
        let made = chunks(&document, "made", &marked).expect("cut");
        let mut at = 0;
        for line in document.text.split_inclusive('\n') {
            let inside: Vec<usize> = (at..at + line.len()).filter(|at| document.text.is_char_boundary(*at)).collect();
            let held = |place: usize| made.iter().any(|chunk| chunk.span.range().contains(&place));
            let written = |place: &usize| document.text[*place..].chars().next().is_some_and(|c| !c.is_whitespace());
            for place in inside.into_iter().filter(written) {
                prop_assert_eq!(held(place), !pattern.is_met(line), "{:?}", line);
            }
            at += line.len();
        }
    }

    #[test]
    fn a_user_may_cut_anywhere_and_no_character_is_split(
        pieces in prop::collection::vec(piece(), 0..6),
        places in prop::collection::vec((0usize..400, 0usize..400), 0..8),
    ) {
        let document = build(&pieces);
        let spans = places.into_iter().map(|(start, end)| Span::new(start, end.max(start))).collect();
        for chunk in chunks_at(&document, "made", spans, None) {
            prop_assert_eq!(&chunk.text, &document.text[chunk.span.range()]);
            check_boundaries(&document.text, chunk.span)?;
        }
    }

    #[test]
    fn what_is_put_in_at_the_top_changes_no_id_below(
        pieces in prop::collection::vec(piece(), 0..10),
        added in "[A-Z][a-z]{1,6}( [a-z]{1,6}){0,30}\\.",
    ) {
        let mut after = vec![Piece::Text(BlockKind::Paragraph, added)];
        after.extend(pieces.iter().cloned());
        let structure = Structure::new(Limit::words(40, 5).expect("below half"));
        let [before, after] = [build(&pieces), build(&after)]
            .map(|document| chunks(&document, "a.txt", &structure).expect("structure never fails"));
        // Whatever text comes as often in both has the same ids in both.
        let of = |made: &[Chunk], text: &str| -> Vec<_> {
            made.iter().filter(|chunk| chunk.text == text).map(|chunk| chunk.id.clone()).collect()
        };
        for chunk in &before {
            let (old, new) = (of(&before, &chunk.text), of(&after, &chunk.text));
            let common = old.len().min(new.len());
            prop_assert_eq!(&old[old.len() - common..], &new[new.len() - common..]);
        }
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
    let ids = |made: &[Chunk], day: &str| {
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
    let structure = Structure::new(Limit::words(30, 0).expect("settings"));
    let made = chunks(&document, "s/berths.csv", &structure).expect("cut");
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
    let message = Limit::words(100, 60).expect_err("too much overlap").to_string();
    assert!(message.contains("set the overlap to 49 or less"), "{message}");
    assert!(Limit::words(0, 0).is_err() && Limit::words(1, usize::MAX).is_err());
    let message = Limit::words(50, 0).expect("fine").reserving(30).expect_err("too much reserve").to_string();
    assert!(message.contains("set the limit to 61 or more"), "{message}");
    assert!(LinePattern::new(" ** ").is_err() && Rows::new(Limit::default(), 0).is_err());
    assert!(Separators::new(Limit::default(), vec![Separator::Text(String::new())]).is_err());
    let fingerprint = |overlap| Structure::new(Limit::words(100, overlap).expect("fine")).fingerprint();
    assert_ne!(fingerprint(0), fingerprint(1));
}

/// A document of one paragraph.
fn paragraph(text: &str) -> Document {
    let mut builder = DocumentBuilder::new("a.txt", "text/plain");
    builder.block(BlockKind::Paragraph, text);
    builder.finish()
}

fn texts(document: &Document, chunker: &dyn Chunker) -> Vec<String> {
    chunks(document, "a", chunker).expect("cut").into_iter().map(|chunk| chunk.text).collect()
}

#[rstest]
#[case("words", &(0..1_000_000).map(|n| format!("w{} ", n % 97)).collect::<String>(), 900)]
#[case("no blank", &"x".repeat(5_000_000), 9_600)]
#[case("no letter", &"-+".repeat(2_500_000), 9_600)]
#[case("emoji", &"👩\u{200d}🔧".repeat(450_000), 9_600)]
#[case("Chinese", &"港口今天关闭".repeat(280_000), 900)]
#[case("Chinese sentences", &"港口今天关闭。请等待通知！".repeat(140_000), 900)]
#[case("Thai", &"เรือเข้าท่า".repeat(150_000), 1_800)]
#[case("Arabic", &"الميناء مغلق اليوم ".repeat(150_000), 2_000)]
#[case("combining", &"e\u{301}".repeat(1_600_000), 9_600)]
fn a_line_of_five_megabytes_gives_chunks_of_sensible_size(
    #[case] name: &str,
    #[case] line: &str,
    #[case] bytes: usize,
) {
    let document = paragraph(line);
    for chunker in [&Structure::default() as &dyn Chunker, &Window::new(Limit::words(150, 20).expect("fine"))] {
        let made = chunks(&document, "a", chunker).expect("cut");
        assert!(made.len() > 100, "{name}: {} chunks", made.len());
        for chunk in &made {
            assert!(chunk.text.len() <= bytes, "{name}: {} bytes in a chunk", chunk.text.len());
            assert!(!chunk.sentences.is_empty(), "{name}: something can be quoted");
        }
        let covered: usize = made.windows(2).map(|pair| usize::from(pair[1].span.start <= pair[0].span.end + 1)).sum();
        assert_eq!(covered + 1, made.len(), "{name}: a gap");
    }
}

#[test]
fn a_document_of_headings_only_and_of_a_table_only() {
    let mut builder = DocumentBuilder::new("a.md", "text/markdown");
    (0..200).for_each(|n| builder.heading(1 + (n % 3) as u8, &format!("Part {n} of the register")));
    let headings = builder.finish();
    let mut builder = DocumentBuilder::new("a.csv", "text/csv");
    builder.table(0, &[vec!["a".to_owned(); 3000], vec!["b".to_owned(); 3000]]);
    let table = builder.finish();
    for document in [&headings, &table] {
        let made = chunks(document, "a", &Structure::default()).expect("cut");
        assert!(made.len() > 3);
        assert!(made.iter().all(|chunk| chunk.size + chunk.context_size <= 150));
    }
}

#[test]
fn line_ends_and_form_feeds_do_not_count_as_text() {
    let made = texts(&paragraph("One ends.\r\nTwo\u{c}ends.\r\n\r\nThree ends."), &Structure::default());
    assert_eq!(made.len(), 1);
    assert!(!made[0].contains('\r'), "{made:?}");
}

#[test]
fn list_items_and_lines_of_code_stay_whole() {
    let mut builder = DocumentBuilder::new("a.md", "text/markdown");
    let item = |n: usize| format!("Item {n} has a first sentence. And it has a second one.");
    (0..9).for_each(|n| builder.block(BlockKind::ListItem, &item(n)));
    let lines: Vec<String> = (0..30).map(|n| format!("let crane_{n} = lift({n}, \"Berth {n}. East\");")).collect();
    builder.block(BlockKind::Code, &lines.join("\n"));
    let made = texts(&builder.finish(), &Structure::new(Limit::words(35, 0).expect("fine")));
    for whole in (0..9).map(item).chain(lines) {
        assert!(made.iter().any(|text| text.contains(&whole)), "{whole} is cut: {made:?}");
    }
}

#[test]
fn separators_are_tried_from_the_coarsest() {
    let document = paragraph("one two; three four; five six | seven eight; nine ten | eleven");
    let cut = |separators: &[&str], most| {
        let separators = separators.iter().map(|text| Separator::Text((*text).to_owned())).collect();
        texts(&document, &Separators::new(Limit::words(most, 0).expect("fine"), separators).expect("separators"))
    };
    assert_eq!(cut(&["|", ";"], 6), ["one two; three four; five six |", "seven eight; nine ten | eleven"]);
    assert_eq!(cut(&["|", ";"], 4), ["one two; three four;", "five six |", "seven eight; nine ten |", "eleven"]);
    assert_eq!(cut(&["#"], 5)[0], "one two; three four; five");
}

#[test]
fn windows_are_full_and_repeat_what_was_asked() {
    let document = paragraph("a b c d e f g h i j k l");
    let made = texts(&document, &Window::new(Limit::words(5, 2).expect("fine")));
    assert_eq!(made, ["a b c d e", "d e f g h", "g h i j k", "j k l"]);
}

#[test]
fn marked_lines_part_chunks_and_are_in_none() {
    let mut builder = DocumentBuilder::new("a.txt", "text/plain");
    builder.block(BlockKind::Paragraph, "Monday was calm.\n=== 1 ===\nTuesday was not.");
    builder.block(BlockKind::Paragraph, "It blew.");
    builder.block(BlockKind::Paragraph, "=== 2 ===");
    builder.block(BlockKind::Paragraph, "Wednesday.");
    let marked = Marked::new(Limit::none(Unit::Words), LinePattern::new("=== * ===").expect("a pattern"));
    assert_eq!(texts(&builder.finish(), &marked), ["Monday was calm.", "Tuesday was not.\n\nIt blew.", "Wednesday."]);
}

#[test]
fn pages_and_whole_documents_and_groups_of_rows() {
    let mut builder = DocumentBuilder::new("a.pdf", "application/pdf");
    builder.page(1);
    builder.heading(1, "Berths");
    builder.block(BlockKind::Paragraph, "There are five.");
    builder.page(2);
    let rows = ["Berth|Use", "1|coal", "2|grain", "3|timber", "4|fish", "5|none"];
    let rows: Vec<Vec<String>> = rows.iter().map(|row| row.split('|').map(str::to_owned).collect()).collect();
    builder.heading(2, "Table");
    builder.table(1, &rows);
    let document = builder.finish();
    assert_eq!(texts(&document, &Whole::default()), [document.text.as_str()]);
    let pages = chunks(&document, "a", &ByPage::default()).expect("cut");
    assert_eq!(
        pages.iter().map(|page| page.pages.map(|p| (p.first, p.last))).collect::<Vec<_>>(),
        [Some((1, 1)), Some((2, 2))]
    );
    let groups = chunks(&document, "a", &Rows::new(Limit::default(), 2).expect("rows")).expect("cut");
    let shown: Vec<&str> = groups.iter().map(|chunk| chunk.text.as_str()).collect();
    assert_eq!(
        shown,
        ["Berths\n\nThere are five.", "Table\n\nBerth | Use\n1 | coal\n2 | grain", "3 | timber\n4 | fish", "5 | none"]
    );
    assert!(groups[3].context.ends_with("Berth | Use"), "{}", groups[3].context);
    assert_eq!(document.slice(groups[3].parent), document.slice(Span::new(groups[1].span.start, document.text.len())));
}

#[test]
fn topics_change_where_vectors_do() {
    let document = paragraph(
        "Cranes lift. Cranes turn. Cranes rust. Cranes stand. Seals swim. Seals bark. Seals dive. Seals sleep.",
    );
    let mut vectors = Vectors::new(2);
    for span in Topics::sentences(&document) {
        let crane = document.slice(span).starts_with("Crane");
        vectors.push(if crane { &[1.0, 0.1] } else { &[0.1, 1.0] }).expect("two numbers");
    }
    let topics = Topics::new(Limit::words(30, 0).expect("fine"));
    let spans = topics.cut(&document, &vectors).expect("cut");
    let made: Vec<&str> = spans.iter().map(|span| document.slice(*span)).collect();
    assert_eq!(made.len(), 2, "{made:?}");
    assert!(made[1].starts_with("Seals swim"));
    assert!(topics.cut(&document, &Vectors::new(2)).is_err(), "a vector for each sentence is needed");
}

#[test]
fn chunks_that_cut_sentences_are_counted_and_bring_advice() {
    let text = "The bridge opens for vessels that have asked for it on the working channel. ".repeat(20);
    let document = paragraph(&text);
    let review = |chunker: &dyn Chunker| {
        let mut review = Review::default();
        review.add(&chunks(&document, "a", chunker).expect("cut"));
        (review.cut_sentences, review.advice(chunker))
    };
    let (cut, advice) = review(&Window::new(Limit::words(25, 0).expect("fine")));
    let advice = advice.join(" ");
    assert!(
        cut > 5 && advice.contains("begin or end inside a sentence") && advice.contains("set strategy to structure"),
        "{advice}"
    );
    assert_eq!(review(&Structure::new(Limit::words(45, 0).expect("fine"))), (0, Vec::new()));
    // Sentences that are longer than a low limit are cut by any chunker; those longer than the default are cut without a word.
    let (cut, advice) = review(&Structure::new(Limit::words(5, 0).expect("fine")));
    assert!(cut > 5 && advice.join(" ").contains("set a limit above 5 words"), "{advice:?}");
}

#[test]
fn an_edit_moves_the_cuts_near_it_and_not_all_behind_it() {
    let paragraphs: Vec<String> = (0..120)
        .map(|n| {
            format!("Entry {n} tells of {} vessels that came in on the flood and of what they carried.", n * 7 % 31)
        })
        .collect();
    let build = |added: bool| {
        let mut builder = DocumentBuilder::new("log.txt", "text/plain");
        if added {
            builder.block(BlockKind::Paragraph, "A new entry at the very top, of a dozen words or so.");
        }
        paragraphs.iter().for_each(|text| builder.block(BlockKind::Paragraph, text));
        chunks(&builder.finish(), "log", &Structure::default()).expect("cut")
    };
    let before: Vec<_> = build(false).into_iter().map(|chunk| chunk.id).collect();
    let after: Vec<_> = build(true).into_iter().map(|chunk| chunk.id).collect();
    let kept = before.iter().filter(|id| after.contains(id)).count();
    assert!(kept * 10 >= before.len() * 7, "{kept} of {} chunks are as they were", before.len());
}

/// A register with a heading path, a caption and a table of so many rows.
fn register(rows: usize) -> Document {
    let mut builder = DocumentBuilder::new("register.md", "text/markdown");
    builder.metadata("title", Value::Text("Register of the harbour".to_owned()));
    builder.heading(1, "Berths and what they are for");
    builder.heading(2, "Gasworks Quay");
    builder.block(BlockKind::Paragraph, "Lengths are in metres.");
    builder.block(BlockKind::Caption, "Table 1. Berths of the quay");
    let mut table = vec![vec!["Berth".to_owned(), "Length".to_owned(), "Use".to_owned()]];
    table.extend((1..=rows).map(|n| vec![format!("Berth {n}"), format!("{}", 90 + n), "coal, timber".to_owned()]));
    builder.table(1, &table);
    builder.heading(2, "New Quay");
    builder.block(BlockKind::Paragraph, "It is being built.");
    builder.finish()
}

#[test]
fn a_context_is_title_path_and_header_and_loses_the_outer_ones_first() {
    let document = register(12);
    let context = |most: usize| {
        let structure = Structure::new(Limit::words(most, 0).expect("no overlap"));
        let made = chunks(&document, "r", &structure).expect("cut");
        made.iter().find(|chunk| chunk.text.contains("Berth 12")).expect("the last row").context.clone()
    };
    let header = "Berth | Length | Use";
    assert_eq!(
        context(44),
        format!("Register of the harbour › Berths and what they are for › Gasworks Quay\n{header}")
    );
    assert_eq!(context(22), format!("Berths and what they are for › Gasworks Quay\n{header}"));
    assert_eq!(context(12), format!("Gasworks Quay\n{header}"));
    assert_eq!(context(8), header);
    assert_eq!(context(5), "Gasworks Quay", "where the header has no room, a heading may");
    assert_eq!(context(3), "");
}

#[test]
fn captions_and_headers_stay_with_the_rows_they_tell_of() {
    for most in 30..70 {
        let structure = Structure::new(Limit::words(most, 0).expect("no overlap"));
        for chunk in chunks(&register(20), "r", &structure).expect("cut") {
            let lines: Vec<&str> = chunk.text.lines().filter(|line| !line.is_empty()).collect();
            let last = lines.last().copied().unwrap_or_default();
            assert!(!last.starts_with("Table 1.") && last != "Berth | Length | Use", "{most}: {}", chunk.text);
        }
    }
}

#[test]
fn a_parent_is_the_section_from_heading_to_heading() {
    let document = register(20);
    let structure = Structure::new(Limit::words(40, 0).expect("no overlap"));
    let made = chunks(&document, "r", &structure).expect("cut");
    let parent = |words: &str| {
        let chunk = made.iter().find(|chunk| chunk.text.contains(words)).expect("a chunk");
        document.slice(chunk.parent)
    };
    assert!(parent("Berth 15").starts_with("Gasworks Quay") && parent("Berth 15").contains("Berth 1 |"));
    assert!(parent("Berth 15").trim_end().ends_with("Berth 20 | 110 | coal, timber"));
    assert_eq!(parent("being built"), "New Quay\n\nIt is being built.");
    let whole = chunks(&document, "r", &Whole::default()).expect("cut");
    assert!(whole[0].parent.contains(whole[0].span));
}

#[test]
fn what_is_cut_in_a_sentence_can_still_be_quoted_in_part() {
    let document = paragraph(&"one two three four five six seven eight nine ten ".repeat(8));
    let made = chunks(&document, "a", &Structure::new(Limit::words(15, 0).expect("no overlap"))).expect("cut");
    assert!(made.len() > 4);
    for chunk in &made {
        assert!(chunk.cuts_sentence);
        assert_eq!(
            chunk.sentences.iter().map(|sentence| document.slice(sentence.span)).collect::<String>(),
            chunk.text
        );
    }
    // Where a whole sentence is there, halves of others are not quoted.
    let document =
        paragraph("A first one that is rather long stands here. A short one. And again a rather long one at the end.");
    let made = chunks(&document, "a", &Window::new(Limit::words(14, 0).expect("no overlap"))).expect("cut");
    let quoted: Vec<&str> = made[0].sentences.iter().map(|sentence| document.slice(sentence.span)).collect();
    assert_eq!(quoted, ["A first one that is rather long stands here.", "A short one."]);
}

#[rstest]
#[case("=== * ===", "=== 12 ===", true)]
#[case("=== * ===", "  === ===  ", false)]
#[case("=== * ===", "text === 1 ===", false)]
#[case("Day *", "Day 4 of it", true)]
#[case("*cut*here*", "please cut it right here now", true)]
#[case("*cut*here*", "here cut", false)]
#[case("---", "---", true)]
#[case("---", "----", false)]
fn marked_lines_fit_their_pattern(#[case] pattern: &str, #[case] line: &str, #[case] met: bool) {
    assert_eq!(LinePattern::new(pattern).expect("a pattern").is_met(line), met);
}

#[rstest]
#[case(Unit::Words, "The pilot's 8.4 m draught — B-17!", 7)]
#[case(Unit::Words, "港口 e\u{301}t\u{e9}", 3)]
#[case(Unit::Characters, "a\r\nb", 3)]
#[case(Unit::Characters, "👩\u{200d}🔧e\u{301}🇳🇴", 3)]
#[case(Unit::Words, "", 0)]
fn lengths_are_counted_as_people_do(#[case] unit: Unit, #[case] text: &str, #[case] length: usize) {
    assert_eq!(unit.measure(text), length);
}

#[rstest]
#[case("Fees ................ 12", "Fees ... 12")]
#[case("Fees . . . . . . . 12", "Fees . . . 12")]
#[case("=====\n-----\n", "===\n---\n")]
#[case("a... b?! c :: d --- e", "a... b?! c :: d --- e")]
#[case("    indented    words", "    indented    words")]
#[case("……………… ____ 7", "……… ___ 7")]
fn long_runs_of_a_sign_are_shortened_for_encoders(#[case] text: &str, #[case] expected: &str) {
    assert_eq!(logothete_core::chunk::shortened_runs(text), expected);
}

proptest! {
    #[test]
    fn shortened_runs_keep_every_word(text in "([a-z]{1,4}|[.=_-]{1,9}| {1,3}|\n|é|…){0,40}") {
        let short = logothete_core::chunk::shortened_runs(&text);
        let words = |text: &str| text.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty()).map(str::to_owned).collect::<Vec<_>>();
        prop_assert_eq!(words(&short), words(&text));
        prop_assert!(short.len() <= text.len());
        prop_assert_eq!(logothete_core::chunk::shortened_runs(&short), short.clone());
    }
}
