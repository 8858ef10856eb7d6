//! What the verifier makes of a network that reads a claim and its source together.

use std::sync::atomic::{AtomicUsize, Ordering};

use logothete_core::document::{BlockKind, DocumentBuilder};
use logothete_core::search::Passage;
use logothete_core::text::words;
use logothete_core::vector::{ClaimReader, ClaimReading, Encoder, Role, TokenEncoder, Vectors};
use logothete_core::verify::{Judge, Verdict};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use rstest::rstest;

use super::verify::Letters;

/// An encoder of letters with a vector for each word. Its reader says what it is told to say, and counts what it reads.
struct Reading {
    says: ClaimReading,
    is_broken: bool,
    read: AtomicUsize,
}

impl Reading {
    fn of(supported: f32, contradicted: f32, unsupported: f32) -> Self {
        let says = ClaimReading { supported, contradicted, unsupported };
        Self { says, is_broken: false, read: AtomicUsize::new(0) }
    }
}

impl Encoder for Reading {
    fn name(&self) -> String {
        "reading".to_owned()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["reading"])
    }

    fn dimensions(&self) -> usize {
        Letters.dimensions()
    }

    fn by_token(&self) -> Option<&dyn TokenEncoder> {
        Some(self)
    }

    fn claim_reader(&self) -> Option<&dyn ClaimReader> {
        Some(self)
    }

    fn encode(&self, texts: &[&str], role: Role) -> Result<Vectors> {
        Letters.encode(texts, role)
    }
}

impl TokenEncoder for Reading {
    fn encode_tokens(&self, texts: &[&str], role: Role) -> Result<Vec<Vectors>> {
        let of_words = |text: &&str| {
            let words: Vec<String> = words(text).map(|word| word.text.to_lowercase()).collect();
            Letters.encode(&words.iter().map(String::as_str).collect::<Vec<_>>(), role)
        };
        texts.iter().map(of_words).collect()
    }
}

impl ClaimReader for Reading {
    fn read_claims(&self, pairs: &[(&str, &str)]) -> Result<Vec<ClaimReading>> {
        if self.is_broken {
            return Err(Error::new(ErrorKind::System, "the reader broke"));
        }
        self.read.fetch_add(pairs.len(), Ordering::Relaxed);
        Ok(vec![self.says; pairs.len()])
    }
}

const SOURCE: &str = "The kiln must cool to below 60 degrees before the door is opened.";
const CLAIM: &str = "Nobody opens the kiln while it is hot.";

#[rstest]
#[case::supported(CLAIM, [0.98, 0.01, 0.01], Verdict::Supported)]
#[case::contradicted(CLAIM, [0.01, 0.98, 0.01], Verdict::Contradicted)]
#[case::supported_in_other_words("A hot kiln stays shut.", [0.98, 0.01, 0.01], Verdict::Supported)]
fn a_reader_decides_what_rules_leave_open(#[case] claim: &str, #[case] says: [f32; 3], #[case] verdict: Verdict) {
    let encoder = Reading::of(says[0], says[1], says[2]);
    let held = Judge::new(&encoder).hold_against(claim, &[SOURCE]).expect("a judgement").finding;
    assert_eq!(held.verdict, verdict, "{held:?}");
    assert_eq!(held.reason.is_some(), verdict != Verdict::Supported);
}

#[rstest]
#[case::number("The kiln must cool to below 80 degrees before the door is opened.")]
#[case::nothing("Zebras graze quietly.")]
fn a_reader_cannot_overrule_a_changed_number_nor_words_that_are_not_there(#[case] claim: &str) {
    let encoder = Reading::of(0.99, 0.005, 0.005);
    let held = Judge::new(&encoder).hold_against(claim, &[SOURCE]).expect("a judgement").finding;
    assert!(!held.verdict.is_borne_out(), "{held:?}");
}

#[rstest]
#[case::word_for_word(SOURCE)]
#[case::part_of_a_sentence("The kiln must cool to below 60 degrees.")]
#[case::other_language("Die Tür des Ofens darf nicht geöffnet werden, bevor er auf 60 Grad abgekühlt ist.")]
fn what_needs_no_reading_is_not_read(#[case] claim: &str) {
    let encoder = Reading::of(0.9, 0.05, 0.05);
    Judge::new(&encoder).hold_against(claim, &[SOURCE]).expect("a judgement");
    assert_eq!(encoder.read.load(Ordering::Relaxed), 0);
}

#[rstest]
#[case::part("", "The kiln must cool before the door is opened.", Verdict::Supported)]
#[case::other_number("", "The kiln must cool to below 70 degrees.", Verdict::Contradicted)]
#[case::without_a_condition(", if it is hot", "The kiln must cool before the door is opened.", Verdict::Partly)]
fn what_a_sentence_says_in_part_is_not_left_to_a_reader(
    #[case] condition: &str,
    #[case] claim: &str,
    #[case] verdict: Verdict,
) {
    let encoder = Reading::of(0.01, 0.98, 0.01);
    let source = format!("The kiln must cool to below 60 degrees before the door is opened{condition}.");
    let held = Judge::new(&encoder).hold_against(claim, &[&source]).expect("a judgement").finding;
    assert_eq!(held.verdict, verdict, "{held:?}");
}

#[test]
fn what_was_read_ahead_is_not_read_again() {
    let passage = |text: &str| {
        let mut builder = DocumentBuilder::new("a.txt", "text/plain");
        builder.block(BlockKind::Paragraph, text);
        let document = builder.finish();
        let settings = logothete_core::chunk::Structure::default();
        let chunks = logothete_core::chunk::chunks(&document, "a", &settings);
        Passage::from_chunk(chunks.expect("structure never fails").remove(0), &document)
    };
    let kiln = passage(SOURCE);
    let claims = [CLAIM, SOURCE, "Let the kiln cool and then open it."].map(|claim| (claim, vec![&kiln]));
    let encoder = Reading::of(0.9, 0.05, 0.05);
    let mut judge = Judge::new(&encoder);
    judge.read_ahead(&claims).expect("readings");
    assert_eq!(encoder.read.load(Ordering::Relaxed), 2, "what is said word for word is not read");
    let ahead: Vec<_> = claims.iter().map(|(claim, of)| judge.hold(claim, of).expect("a judgement")).collect();
    assert_eq!(encoder.read.load(Ordering::Relaxed), 2);
    let alone = claims.iter().map(|(claim, of)| Judge::new(&encoder).hold(claim, of).expect("a judgement"));
    assert_eq!(ahead, alone.collect::<Vec<_>>());
}

#[test]
fn a_reader_that_fails_is_an_error_and_one_that_says_nothing_is_not() {
    let broken = Reading { is_broken: true, ..Reading::of(0.5, 0.3, 0.2) };
    let error = Judge::new(&broken).hold_against(CLAIM, &[SOURCE]).expect_err("a broken reader");
    assert!(error.to_string().contains("the reader broke"), "{error}");
    let silent = Reading::of(f32::NAN, f32::NAN, f32::NAN);
    let held = Judge::new(&silent).hold_against(CLAIM, &[SOURCE]).expect("a judgement").finding;
    assert!((0.0..=1.0).contains(&held.probability), "{held:?}");
}
