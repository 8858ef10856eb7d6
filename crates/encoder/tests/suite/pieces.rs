//! Word pieces beside a plain reading of what they are: the longest that is known, from the left.

use std::collections::BTreeSet;

use crate::made_up::Model;
use logothete_core::vector::{Encoder, Role};
use logothete_encoder::{FolderSettings, SentenceEncoder};
use proptest::prelude::*;
use serde_json::{Value, json};

const SPECIAL: [&str; 4] = ["[PAD]", "[UNK]", "[CLS]", "[SEP]"];
/// Words that are longer are not taken apart.
const LONGEST: usize = 100;

/// A model that knows some pieces, and the pieces in the order of their numbers.
fn model(pieces: &BTreeSet<String>) -> (SentenceEncoder, Vec<String>) {
    let all: Vec<String> = SPECIAL.iter().map(|piece| (*piece).to_owned()).chain(pieces.iter().cloned()).collect();
    let vocabulary: serde_json::Map<String, Value> =
        all.iter().enumerate().map(|(number, piece)| (piece.clone(), json!(number))).collect();
    let mut model = Model::new();
    model.tokeniser["model"]["vocab"] = Value::Object(vocabulary);
    model.config["vocab_size"] = json!(all.len());
    model.tensors[0].1[0] = all.len();
    (model.open(&FolderSettings::default()).expect("a model"), all)
}

/// The words and signs of a text of ASCII.
fn words(text: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    for c in text.to_lowercase().chars() {
        if c.is_ascii_punctuation() {
            words.extend([c.to_string(), String::new()]);
        } else if c.is_whitespace() {
            words.push(String::new());
        } else if let Some(word) = words.last_mut() {
            word.push(c);
        }
    }
    words.retain(|word| !word.is_empty());
    words
}

/// The pieces of a word; the unknown one where some part of it is not known.
fn pieces_of(word: &str, known: &[String]) -> Vec<String> {
    let unknown = || vec!["[UNK]".to_owned()];
    if word.len() > LONGEST {
        return unknown();
    }
    let (mut pieces, mut from) = (Vec::new(), 0);
    while from < word.len() {
        let before = if from == 0 { "" } else { "##" };
        let longest = (from + 1..=word.len()).rev().map(|to| (to, format!("{before}{}", &word[from..to])));
        match longest.into_iter().find(|(_, piece)| known.contains(piece)) {
            Some((to, piece)) => {
                pieces.push(piece);
                from = to;
            }
            None => return unknown(),
        }
    }
    pieces
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]
    #[test]
    fn the_longest_piece_is_taken_from_the_left(
        pieces in prop::collection::btree_set("(##)?[abc]{1,4}|[.,!-]", 1..30),
        text in "([abcABC]{1,9}|[.,!?-]| |\t|\n){0,12}",
    ) {
        let (encoder, all) = model(&pieces);
        let tokens = encoder.tokens(&text, Role::Passage).expect("tokens");
        let found: Vec<&str> = tokens.ids.iter().map(|&id| all[id as usize].as_str()).collect();
        let inner: Vec<String> = words(&text).iter().flat_map(|word| pieces_of(word, &all)).collect();
        prop_assert_eq!(encoder.count_tokens(&text), inner.len());
        // 24 positions are known; what does not fit is left out, and counted.
        let room = encoder.max_tokens().expect("a length");
        let mut expected = vec!["[CLS]"];
        expected.extend(inner.iter().take(room).map(String::as_str));
        expected.push("[SEP]");
        prop_assert_eq!(found, expected);
        prop_assert_eq!(tokens.left_out, inner.len().saturating_sub(room));
    }

    #[test]
    fn marks_and_capitals_are_folded(text in "[a-cA-C ]{0,10}", marks in prop::collection::vec(prop::sample::select(vec!['\u{301}', '\u{308}', '\u{327}']), 0..4)) {
        let pieces: BTreeSet<String> = ["a", "b", "c", "##a", "##b", "##c"].map(str::to_owned).into();
        let (encoder, _) = model(&pieces);
        let mut marked = String::new();
        let mut marks = marks.into_iter();
        for c in text.chars() {
            marked.push(c);
            if c != ' ' {
                marked.extend(marks.next());
            }
        }
        let ids = |text: &str| encoder.tokens(text, Role::Query).expect("tokens").ids;
        prop_assert_eq!(ids(&marked), ids(&text.to_lowercase()));
    }

    #[test]
    fn a_word_without_end_is_one_unknown_piece(length in 90_usize..120) {
        let pieces: BTreeSet<String> = ["a", "##a"].map(str::to_owned).into();
        let (encoder, all) = model(&pieces);
        let word = "a".repeat(length);
        prop_assert_eq!(encoder.count_tokens(&word), pieces_of(&word, &all).len());
    }
}

/// Each piece's vector is a row of the table of its number: two models that number them otherwise agree where they should.
#[test]
fn the_numbers_of_pieces_matter_and_their_order_in_the_file_does_not() {
    let pieces: BTreeSet<String> = ["a", "b", "##a", "##b"].map(str::to_owned).into();
    let (encoder, all) = model(&pieces);
    let mut other = Model::new();
    let turned: serde_json::Map<String, Value> =
        all.iter().enumerate().rev().map(|(number, piece)| (piece.clone(), json!(number))).collect();
    other.tokeniser["model"]["vocab"] = Value::Object(turned);
    other.config["vocab_size"] = json!(all.len());
    other.tensors[0].1[0] = all.len();
    let other = other.open(&FolderSettings::default()).expect("a model");
    let vectors = |encoder: &SentenceEncoder| encoder.encode(&["abba ab"], Role::Passage).expect("a vector");
    assert_eq!(vectors(&encoder).iter().next(), vectors(&other).iter().next());
    assert_ne!(
        encoder.encode(&["baab ba"], Role::Passage).expect("a vector").iter().next(),
        vectors(&other).iter().next()
    );
}
