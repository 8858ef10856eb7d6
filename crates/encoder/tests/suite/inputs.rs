//! Texts that nobody writes, and models that are not whole.

use std::fs;

use crate::made_up::Model;
use logothete_core::ErrorKind;
use logothete_core::vector::{Encoder, Role, TokenEncoder};
use logothete_encoder::{FolderSettings, Pooling, Precision, SentenceEncoder, pack};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Value, json};

#[rstest]
#[case::nothing("", 2)]
#[case::blanks(" \t\r\n\u{a0}\u{3000}", 2)]
#[case::control("\u{0}\u{1}\u{1f}\u{7f}\u{200b}\u{feff}", 2)]
#[case::unknown("\u{16a0}\u{16a1} \u{13000}", 4)]
#[case::replaced("\u{fffd}\u{fffd}", 2)]
#[case::one_letter("a", 3)]
fn strange_texts_have_a_vector(#[case] text: &str, #[case] tokens: usize) {
    let encoder = SentenceEncoder::embedded().expect("embedded");
    assert_eq!(encoder.tokens(text, Role::Query).expect("tokens").ids.len(), tokens);
    let vectors = encoder.encode(&[text], Role::Query).expect("a vector");
    let length: f32 = vectors.iter().flatten().map(|number| number * number).sum();
    assert!((length - 1.0).abs() < 1e-4, "{length}");
}

#[test]
fn a_megabyte_of_one_word_is_one_unknown_token() {
    let encoder = SentenceEncoder::embedded().expect("embedded");
    let word = "x".repeat(1_000_000);
    let tokens = encoder.tokens(&word, Role::Passage).expect("tokens");
    assert_eq!((tokens.ids, tokens.left_out), (vec![101, 100, 102], 0));
    let marks = "!".repeat(1_000_000);
    let tokens = encoder.tokens(&marks, Role::Passage).expect("tokens");
    assert_eq!((tokens.ids.len(), tokens.left_out), (256, 1_000_000 - 254));
    encoder.encode(&[&word, &marks], Role::Passage).expect("vectors");
}

#[test]
fn what_is_cut_off_is_counted() {
    let encoder = SentenceEncoder::embedded().expect("embedded");
    assert_eq!(encoder.max_tokens(), Some(254));
    let text = "berth ".repeat(300);
    assert_eq!(encoder.count_tokens(&text), 300);
    let tokens = encoder.tokens(&text, Role::Passage).expect("tokens");
    assert_eq!((tokens.ids.len(), tokens.left_out), (256, 46));
    let kept = "berth ".repeat(254);
    let vectors = encoder.encode(&[&text, &kept], Role::Passage).expect("vectors");
    let vectors: Vec<&[f32]> = vectors.iter().collect();
    assert_eq!(vectors[0], vectors[1], "what is behind the limit is not seen");
}

/// A text as it comes out of JSON with half of a surrogate pair: a replacement, or an error of the reader.
#[test]
fn unpaired_surrogates_do_not_reach_the_encoder() {
    assert!(serde_json::from_str::<String>(r#""\ud800""#).is_err());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    #[test]
    fn any_text_has_a_vector_and_tokens(text in "\\PC{0,60}|[\\x00-\\x{ffff}]{0,40}") {
        let encoder = SentenceEncoder::embedded().expect("embedded");
        let vectors = encoder.encode(&[&text], Role::Passage).expect("a vector");
        prop_assert_eq!(vectors.len(), 1);
        let by_token = encoder.encode_tokens(&[&text], Role::Passage).expect("vectors");
        prop_assert_eq!(by_token[0].len(), encoder.count_tokens(&text).min(254));
    }
}

#[test]
fn the_mean_of_the_token_vectors_points_where_the_vector_does() {
    let encoder = SentenceEncoder::embedded().expect("embedded");
    let text = "The pilot boards two miles east of the light.";
    let tokens = encoder.encode_tokens(&[text], Role::Passage).expect("vectors");
    assert_eq!((tokens[0].len(), tokens[0].dimensions()), (encoder.count_tokens(text), 128));
    let whole = vector(&encoder, text, Role::Passage);
    // A token keeps the first numbers, scaled to length one.
    let first = &whole[..tokens[0].dimensions()];
    let length = cosine(first, first).sqrt();
    let cosine: f32 = tokens[0].iter().map(|token| cosine(token, first) / length).sum();
    assert!(cosine / tokens[0].len() as f32 > 0.5, "{cosine}");
}

#[rstest]
#[case::in_a_folder(false)]
#[case::packed(true)]
fn a_model_may_keep_the_first_numbers_of_a_token(#[case] is_packed: bool) {
    const KEPT: usize = 3;
    let folder = tempfile::tempdir().expect("a folder");
    Model::new().write(folder.path());
    let open = |token_dimensions| match is_packed {
        false => {
            let settings = FolderSettings { token_dimensions, ..FolderSettings::default() };
            SentenceEncoder::from_folder(folder.path(), &settings).expect("a model")
        }
        true => {
            let mut files = Vec::new();
            pack(folder.path(), "letters", &["en"], token_dimensions, |name, bytes| {
                files.push((name.to_owned(), bytes.to_vec()));
                Ok(())
            })
            .expect("packed");
            let files: Vec<_> = files.iter().map(|(name, bytes)| (name.as_str(), bytes.clone().into())).collect();
            SentenceEncoder::from_packed(&files).expect("a packed model")
        }
    };
    let (whole, short) = (open(None), open(Some(KEPT)));
    assert_eq!((whole.token_dimensions(), short.token_dimensions()), (whole.dimensions(), KEPT));
    assert_eq!(vector(&whole, "abc", Role::Query), vector(&short, "abc", Role::Query), "texts keep all numbers");
    assert_eq!(whole.fingerprint(), short.fingerprint());
    let by_token =
        |encoder: &SentenceEncoder| encoder.encode_tokens(&["abc a"], Role::Query).expect("vectors").remove(0);
    let (whole, short) = (by_token(&whole), by_token(&short));
    assert_eq!(whole.len(), short.len());
    for (whole, short) in whole.iter().zip(short.iter()) {
        let length = cosine(&whole[..KEPT], &whole[..KEPT]).sqrt();
        assert!(
            whole.iter().zip(short).all(|(whole, short)| (whole / length - short).abs() < 1e-5),
            "{whole:?} {short:?}"
        );
    }
}

#[rstest]
#[case(0)]
#[case(100_000)]
fn a_token_keeps_no_more_numbers_than_it_has(#[case] token_dimensions: usize) {
    let folder = tempfile::tempdir().expect("a folder");
    Model::new().write(folder.path());
    let settings = FolderSettings { token_dimensions: Some(token_dimensions), ..FolderSettings::default() };
    let error = SentenceEncoder::from_folder(folder.path(), &settings).expect_err("it has other numbers");
    assert_eq!(error.kind(), ErrorKind::Configuration);
    assert!(error.to_string().contains("token_dimensions"), "{error}");
    assert!(pack(folder.path(), "letters", &["en"], Some(token_dimensions), |_, _| Ok(())).is_err());
}

fn vector(encoder: &SentenceEncoder, text: &str, role: Role) -> Vec<f32> {
    encoder.encode(&[text], role).expect("a vector").iter().next().expect("one").to_vec()
}

fn cosine(a: &[f32], b: &[f32]) -> f32 {
    a.iter().zip(b).map(|(a, b)| a * b).sum()
}

#[rstest]
#[case("F16")]
#[case("BF16")]
fn every_type_of_number_gives_the_same_vector(#[case] dtype: &'static str) {
    let settings = FolderSettings { precision: Precision::Float32, ..FolderSettings::default() };
    let whole = Model::new().open(&settings).expect("a model");
    let short = Model { dtype, ..Model::new() }.open(&settings).expect("a model");
    assert_eq!(vector(&whole, "abc cab", Role::Query), vector(&short, "abc cab", Role::Query));
}

/// The same network with its positions two rows further down and one kind of text: only the description differs.
#[rstest]
#[case::named(Some(1))]
#[case::usual(None)]
fn a_relative_counts_its_positions_from_behind_the_filler(#[case] filler: Option<u64>) {
    let settings = FolderSettings { precision: Precision::Float32, ..FolderSettings::default() };
    let plain = Model::new().open(&settings).expect("a model");
    let mut relative = Model { before: 2, ..Model::new() };
    relative.config["model_type"] = json!("roberta");
    relative.config["max_position_embeddings"] = json!(26);
    relative.config["pad_token_id"] = json!(filler);
    relative.tensors[1].1[0] = 26;
    relative.tensors[2].1[0] = 1;
    let relative = relative.open(&settings).expect("a model");
    assert_eq!(relative.max_tokens(), plain.max_tokens());
    let long = "abc ".repeat(40);
    for text in ["", "a", "abc cab", &long] {
        assert_eq!(vector(&relative, text, Role::Passage), vector(&plain, text, Role::Passage), "{text:?}");
    }
}

#[test]
fn eight_bits_are_near_the_whole_numbers() {
    let whole = FolderSettings { precision: Precision::Float32, ..FolderSettings::default() };
    let whole = Model::new().open(&whole).expect("a model");
    let rounded = Model::new().open(&FolderSettings::default()).expect("a model");
    for text in ["", "a", "abc", "a b c [SEP] cab ab", "é"] {
        let near = cosine(&vector(&whole, text, Role::Query), &vector(&rounded, text, Role::Query));
        assert!(near > 0.999, "{text:?}: {near}");
    }
    assert_ne!(whole.fingerprint(), rounded.fingerprint());
}

#[test]
fn pooling_prefixes_and_length_are_taken_from_the_files_or_the_settings() {
    let folder = tempfile::tempdir().expect("a folder");
    Model::new().write(folder.path());
    let write = |name: &str, value: Value| fs::write(folder.path().join(name), value.to_string()).expect("written");
    fs::create_dir_all(folder.path().join("1_Pooling")).expect("a folder");
    fs::create_dir_all(folder.path().join("2_Dense")).expect("a folder");
    write("1_Pooling/config.json", json!({ "pooling_mode_cls_token": true }));
    write("2_Dense/config.json", json!({ "in_features": 32, "out_features": 8, "activation_function": "x.Tanh" }));
    let dense = Model {
        tensors: vec![("linear.weight".to_owned(), vec![8, 32]), ("linear.bias".to_owned(), vec![8])],
        ..Model::new()
    };
    fs::write(folder.path().join("2_Dense/model.safetensors"), dense.file()).expect("written");
    let modules = ["a.Transformer", "a.Pooling", "a.Dense", "a.Normalize"];
    let paths = ["", "1_Pooling", "2_Dense", "3"];
    let modules: Vec<Value> =
        modules.iter().zip(paths).map(|(kind, path)| json!({ "type": kind, "path": path })).collect();
    write("modules.json", json!(modules));
    write("settings.json", json!({ "max_seq_length": 6, "prompts": { "query": "a ", "document": "b " } }));

    let encoder = SentenceEncoder::from_folder(folder.path(), &FolderSettings::default()).expect("a model");
    assert_eq!((encoder.dimensions(), encoder.max_tokens()), (8, Some(3)));
    assert_eq!(encoder.tokens("c", Role::Query).expect("tokens").ids, [2, 4, 6, 3]);
    assert_eq!(encoder.tokens("c", Role::Passage).expect("tokens").ids, [2, 5, 6, 3]);
    assert_eq!(encoder.tokens("ccccc", Role::Passage).expect("tokens").left_out, 2);

    let own =
        FolderSettings { pooling: Some(Pooling::Max), query_prefix: Some(String::new()), ..FolderSettings::default() };
    let other = SentenceEncoder::from_folder(folder.path(), &own).expect("a model");
    assert_ne!(encoder.fingerprint(), other.fingerprint());
    assert_eq!(other.tokens("c", Role::Query).expect("tokens").ids, [2, 6, 3]);
}

#[rstest]
#[case::no_tensor(|model: &mut Model| { model.tensors.remove(7); }, "encoder.layer.0.attention.self.key.weight", "missing")]
#[case::wrong_shape(|model: &mut Model| model.tensors[0].1 = vec![10, 16], "embeddings.word_embeddings.weight", "shape")]
#[case::integers(|model: &mut Model| model.dtype = "I32", "", "type I32")]
#[case::no_key(|model: &mut Model| { model.config["hidden_size"] = Value::Null; }, "hidden_size", "config.json")]
#[case::uneven_heads(|model: &mut Model| model.config["num_attention_heads"] = json!(5), "num_attention_heads", "multiple")]
#[case::other_kind(|model: &mut Model| model.config["model_type"] = json!("t5"), "t5", "not read")]
#[case::no_vocabulary(|model: &mut Model| model.tokeniser["model"]["vocab"] = Value::Null, "model.vocab", "tokenizer.json")]
#[case::other_act(|model: &mut Model| model.config["hidden_act"] = json!("swish"), "swish", "hidden_act")]
fn a_partial_model_is_an_error_that_names_what_is_missing(
    #[case] spoil: fn(&mut Model),
    #[case] named: &str,
    #[case] said: &str,
) {
    let mut model = Model::new();
    spoil(&mut model);
    let error = model.open(&FolderSettings::default()).map(|_| ()).expect_err("it is not whole").to_string();
    assert!(error.contains(named) && error.contains(said), "{error}");
}

#[rstest]
#[case::empty(0)]
#[case::length_only(8)]
#[case::in_the_header(200)]
#[case::in_the_numbers(20_000)]
fn a_file_that_was_cut_off_is_an_error(#[case] length: usize) {
    let folder = tempfile::tempdir().expect("a folder");
    Model::new().write(folder.path());
    let file = folder.path().join("model.safetensors");
    let bytes = fs::read(&file).expect("read");
    fs::write(&file, &bytes[..length]).expect("written");
    let error = SentenceEncoder::from_folder(folder.path(), &FolderSettings::default()).map(|_| ()).expect_err("cut");
    assert_eq!(error.kind(), ErrorKind::Unreadable);
    assert!(error.to_string().contains("model.safetensors"), "{error}");
}

#[rstest]
#[case("config.json")]
#[case("tokenizer.json")]
#[case("model.safetensors")]
fn a_missing_file_is_named(#[case] file: &str) {
    let folder = tempfile::tempdir().expect("a folder");
    Model::new().write(folder.path());
    fs::remove_file(folder.path().join(file)).expect("removed");
    let error = SentenceEncoder::from_folder(folder.path(), &FolderSettings::default()).map(|_| ()).expect_err("gone");
    assert_eq!(error.kind(), ErrorKind::NotFound);
    assert!(error.to_string().contains(file.trim_start_matches("model")), "{error}");
}

#[test]
fn packing_is_repeatable_and_changes_little() {
    let folder = tempfile::tempdir().expect("a folder");
    Model::new().write(folder.path());
    let packed = || {
        let mut files = Vec::new();
        pack(folder.path(), "letters", &["en"], None, |name, bytes| {
            files.push((name.to_owned(), bytes.to_vec()));
            Ok(())
        })
        .expect("packed");
        files
    };
    let files = packed();
    assert_eq!(files, packed(), "byte for byte");
    let files: Vec<(&str, _)> = files.iter().map(|(name, bytes)| (name.as_str(), bytes.clone().into())).collect();
    let again = SentenceEncoder::from_packed(&files).expect("a packed model");
    let before = SentenceEncoder::from_folder(folder.path(), &FolderSettings::default()).expect("a model");
    for text in ["a", "abc", "c b a [SEP] cab"] {
        assert_eq!(again.tokens(text, Role::Query).expect("tokens"), before.tokens(text, Role::Query).expect("tokens"));
        let near = cosine(&vector(&again, text, Role::Query), &vector(&before, text, Role::Query));
        // Only the word table is rounded further.
        assert!(near > 0.99, "{text:?}: {near}");
    }
    let error = SentenceEncoder::from_packed(&files[1..]).map(|_| ()).expect_err("a file is missing").to_string();
    assert!(error.contains("vocabulary"), "{error}");
}

/// A tokeniser that is not one of BERT's word pieces is read by a library, where it was built in.
#[cfg(feature = "tokenizers")]
#[test]
fn other_tokenisers_are_read_too() {
    let mut model = Model::new();
    let own = model.open(&FolderSettings::default()).expect("a model");
    model.tokeniser["pre_tokenizer"] = json!({ "type": "Whitespace" });
    model.tokeniser["model"]["continuing_subword_prefix"] = json!("##");
    model.tokeniser["model"]["max_input_chars_per_word"] = json!(100);
    model.tokeniser["added_tokens"] = json!([]);
    model.tokeniser["normalizer"] = json!({
        "type": "BertNormalizer", "clean_text": true, "handle_chinese_chars": true, "strip_accents": null, "lowercase": true
    });
    let other = model.open(&FolderSettings::default()).expect("a model");
    for text in ["", "a", "Abc cab", "ab cd"] {
        assert_eq!(other.tokens(text, Role::Query).expect("tokens"), own.tokens(text, Role::Query).expect("tokens"));
        assert_eq!(vector(&other, text, Role::Query), vector(&own, text, Role::Query));
    }
}

/// Without it, the error says so.
#[cfg(not(feature = "tokenizers"))]
#[test]
fn other_tokenisers_need_a_feature() {
    let mut model = Model::new();
    model.tokeniser["pre_tokenizer"] = json!({ "type": "Whitespace" });
    let error = model.open(&FolderSettings::default()).map(|_| ()).expect_err("it is not built in");
    assert!(error.to_string().contains("feature `tokenizers`") && error.kind() == ErrorKind::Unsupported, "{error}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(128))]
    #[test]
    fn a_damaged_model_is_an_error_or_a_model(
        file in 0_usize..3,
        changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>(), any::<bool>()), 1..5),
        cut in prop::option::of(any::<prop::sample::Index>()),
    ) {
        let folder = tempfile::tempdir().expect("a folder");
        Model::new().write(folder.path());
        let path = folder.path().join(["config.json", "tokenizer.json", "model.safetensors"][file]);
        let mut bytes = fs::read(&path).expect("a file");
        for (at, byte, near) in changes {
            // What is read first says most, and is changed as often as all the rest.
            let most = if near { bytes.len().min(600) } else { bytes.len() };
            let at = at.index(most);
            bytes[at] = byte;
        }
        if let Some(cut) = cut {
            bytes.truncate(cut.index(bytes.len()));
        }
        fs::write(&path, bytes).expect("written");
        match SentenceEncoder::from_folder(folder.path(), &FolderSettings::default()) {
            Ok(encoder) => drop(encoder.encode(&["a b cab"], Role::Query)),
            Err(error) => prop_assert!(error.place().is_some() && !error.message().is_empty(), "{error}"),
        }
    }
}
