//! The cross-encoder beside the network and the head written from their definitions.

use std::cell::Cell;

use logothete_core::{ErrorKind, Result};
use logothete_encoder::{CrossEncoder, Precision};
use rstest::rstest;
use serde_json::json;

use crate::made_up::{Model, Sizes};
use crate::plain::{Plain, Row};

const SIZES: Sizes = Sizes { hidden: 40, heads: 5, layers: 3, wide: 56 };
const QUESTION: &str = "c ab";
const PASSAGES: [&str; 6] = ["a", "b a c", "", "abcabc cab b", "c c c", "a b c a b c a b c ccc bbb a b b b"];

/// A model with a head, whose layers have these names, and which gives some scores.
fn with_head(kind: &str, pooler: &str, classifier: &str, scores: usize) -> Model {
    let mut model = Model::of(SIZES);
    model.config["model_type"] = json!(kind);
    for (name, outputs) in [(pooler, SIZES.hidden), (classifier, scores)] {
        model.tensors.push((format!("{name}.weight"), vec![outputs, SIZES.hidden]));
        model.tensors.push((format!("{name}.bias"), vec![outputs]));
    }
    model
}

fn open(model: &Model, precision: Precision, max_tokens: Option<usize>) -> Result<CrossEncoder> {
    let folder = tempfile::tempdir().expect("a folder");
    model.write(folder.path());
    CrossEncoder::from_folder(folder.path(), precision, max_tokens)
}

/// The tokens of a pair as the tokeniser of the made-up model has them, cut to 24 in all.
fn pair(passage: &str, marks: usize) -> (Vec<u32>, usize) {
    let pieces = |text: &str| -> Vec<u32> {
        let letters = text.split(' ').flat_map(|word| word.bytes().enumerate());
        letters.map(|(at, letter)| u32::from(letter - b'a') + if at == 0 { 4 } else { 7 }).collect()
    };
    let mut tokens = vec![2];
    tokens.extend(pieces(QUESTION));
    tokens.extend(vec![3; marks]);
    let second = tokens.len();
    tokens.extend(pieces(passage));
    tokens.truncate(23);
    tokens.push(3);
    (tokens, second)
}

#[rstest]
#[case::one_score("bert", "bert.pooler.dense", "classifier", 1)]
#[case::no_and_yes("bert", "pooler.dense", "classifier", 2)]
#[case::another_family("roberta", "classifier.dense", "classifier.out_proj", 1)]
fn scores_are_those_of_the_definition(
    #[case] kind: &str,
    #[case] pooler: &str,
    #[case] classifier: &str,
    #[case] count: usize,
) {
    let mut model = with_head(kind, pooler, classifier, count);
    let marks = if kind == "bert" { 1 } else { 2 };
    if kind != "bert" {
        // Rows before the first position, as this family has them.
        model.config["pad_token_id"] = json!(1);
        model.config["max_position_embeddings"] = json!(26);
        model.before = 2;
        model.tensors[1].1[0] = 26;
    }
    let exact = open(&model, Precision::Float32, None).expect("a model");
    let rounded = open(&model, Precision::Int8, None).expect("a model");
    if kind != "bert" {
        model.before = 0;
        model.tensors[1].1[0] = 24;
    }
    let plain = Plain { model: &model, sizes: SIZES };
    let expected = |passage: &&str| {
        let (tokens, second) = pair(passage, marks);
        let pooled: Row =
            plain.linear(pooler, &plain.run(&tokens, second)[0]).iter().map(|value| value.tanh()).collect();
        match plain.linear(classifier, &pooled)[..] {
            [no, yes] => yes - no,
            ref scores => scores[0],
        }
    };
    let found = exact.scores(QUESTION, &PASSAGES, |_| false).expect("scores");
    let near = rounded.scores(QUESTION, &PASSAGES, |_| false).expect("scores");
    for ((expected, found), near) in PASSAGES.iter().map(expected).zip(found).zip(near) {
        let (found, near) = (f64::from(found.expect("a score")), f64::from(near.expect("a score")));
        assert!((found - expected).abs() < 1e-4, "{found} and not {expected}");
        assert!((near - expected).abs() < 0.1, "in eight bits {near} and not {expected}");
    }
}

#[test]
fn a_score_does_not_depend_on_what_is_scored_beside_it() {
    let model = open(&with_head("bert", "pooler.dense", "classifier", 1), Precision::Int8, None).expect("a model");
    let all = model.scores(QUESTION, &PASSAGES, |_| false).expect("scores");
    for (passage, score) in PASSAGES.iter().zip(all) {
        assert_eq!(model.scores(QUESTION, &[passage], |_| false).expect("a score"), [score]);
    }
    assert_eq!(model.scores(QUESTION, &[], |_| false).expect("no scores"), []);
}

#[test]
fn what_is_not_read_in_time_has_no_score() {
    let model = open(&with_head("bert", "pooler.dense", "classifier", 1), Precision::Int8, None).expect("a model");
    let passages = vec!["a b c a b c a b c"; 400];
    let asked = Cell::new(0);
    let is_over = |_| {
        asked.set(asked.get() + 1);
        asked.get() > 2
    };
    let scores = model.scores(QUESTION, &passages, is_over).expect("scores");
    let read = scores.iter().take_while(|score| score.is_some()).count();
    assert!(read > 0 && read < passages.len(), "{read} were read");
    assert!(scores[read..].iter().all(Option::is_none), "the first are read first");
}

#[rstest]
#[case::no_head(Model::of(SIZES), None, ErrorKind::Unsupported, "has no head with a score")]
#[case::three_scores(
    with_head("bert", "pooler.dense", "classifier", 3),
    None,
    ErrorKind::Unsupported,
    "gives 3 scores"
)]
#[case::too_long(
    with_head("bert", "pooler.dense", "classifier", 1),
    Some(25),
    ErrorKind::Configuration,
    "up to 25 tokens"
)]
#[case::too_short(
    with_head("bert", "pooler.dense", "classifier", 1),
    Some(3),
    ErrorKind::Configuration,
    "up to 3 tokens"
)]
fn a_model_that_cannot_be_used_is_refused(
    #[case] model: Model,
    #[case] max_tokens: Option<usize>,
    #[case] kind: ErrorKind,
    #[case] said: &str,
) {
    let error = open(&model, Precision::Int8, max_tokens).expect_err("it cannot be used");
    assert_eq!(error.kind(), kind);
    assert!(error.to_string().contains(said), "{error}");
}
