//! `[chunk]` through the pipeline: every strategy, limits bound to the encoder, guard rails, sections of long chunks.

use std::path::PathBuf;
use std::sync::Arc;

use logothete::chunk::{Limit, Review, Structure, Window, chunks};
use logothete::config::{ChunkUnit, Ocr, Strategy};
use logothete::document::{BlockKind, DocumentBuilder};
use logothete::text::count_words;
use logothete::vector::{Encoder, Role, Vectors};
use logothete::{BuildRequest, Config, ErrorKind, Fingerprint, Hashing, MemorySource, Pipeline, Result};
use rstest::rstest;

fn demo() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents")
}

/// An encoder that reads no more than 64 tokens, two of which make a word.
#[derive(Clone)]
struct Short;

impl Encoder for Short {
    fn name(&self) -> String {
        "short".to_owned()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["short"])
    }

    fn dimensions(&self) -> usize {
        2
    }

    fn max_tokens(&self) -> Option<usize> {
        Some(64)
    }

    fn count_tokens(&self, text: &str) -> usize {
        2 * count_words(text)
    }

    fn encode(&self, texts: &[&str], _role: Role) -> Result<Vectors> {
        let mut vectors = Vectors::new(2);
        texts.iter().try_for_each(|text| vectors.push(&[1.0, text.len() as f32 / 100.0]))?;
        Ok(vectors)
    }
}

#[rstest]
#[case("structure")]
#[case("sentences")]
#[case("separators")]
#[case("window")]
#[case("pages")]
#[case("marked")]
#[case("rows")]
#[case("whole")]
#[case("topics")]
#[tokio::test]
async fn every_strategy_builds_the_demo_and_answers(#[case] strategy: &str) {
    // Recognising the scanned letter takes longer than all the rest.
    let settings = format!("[parse]\nocr = \"off\"\n[chunk]\nstrategy = \"{strategy}\"\nmarker = \"Article *\"");
    let config = Config::parse(&settings).expect("settings");
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = Pipeline::from_config(&config).expect("a pipeline").open(folder.path()).await.expect("a corpus");
    let report = corpus.build(&demo()).await.expect("a build");
    assert_eq!((report.added, report.failed.len()), (17, 0));
    let answer = corpus.ask("Which vessels can Cooper's Lock take?").await.expect("an answer");
    assert!(!answer.answer.is_refusal(), "{answer}");
    // The section is that of the sentence, however much stands in the chunk.
    assert!(answer.answer.sources[0].location.to_string().contains("Lock"), "{answer}");
    let again = corpus.build(&demo()).await.expect("a build");
    assert_eq!((again.unchanged, again.encoded), (17, 0));
}

#[tokio::test]
async fn another_strategy_cuts_again_what_is_there() {
    let folder = tempfile::tempdir().expect("a folder");
    let of = |strategy| {
        let pipeline = Pipeline::default().configured(|config| config.parse.ocr = Ocr::Off);
        pipeline.configured(|config| config.chunk.strategy = strategy)
    };
    let corpus = of(Strategy::Structure).open(folder.path()).await.expect("a corpus");
    let first = corpus.build(&demo()).await.expect("a build");
    drop(corpus);
    let corpus = of(Strategy::Pages).open(folder.path()).await.expect("a corpus");
    let second = corpus.build(&demo()).await.expect("a build");
    assert!(second.changed == 17 && second.chunks < first.chunks, "{second:?}");
}

#[test]
fn limits_in_tokens_are_those_of_the_encoder_whenever_it_comes() {
    let config = Config::parse("[chunk]\nunit = \"tokens\"\nlimit = 40\noverlap = 0").expect("settings");
    let mut builder = DocumentBuilder::new("a.txt", "text/plain");
    builder.block(BlockKind::Paragraph, &"The crane lifts coal. ".repeat(50));
    let document = builder.finish();
    let longest = |pipeline: Pipeline| {
        let made = chunks(&document, "a", &*pipeline.chunker().expect("a chunker")).expect("cut");
        made.iter().map(|chunk| count_words(&chunk.text)).max().expect("a chunk")
    };
    let pipeline = Pipeline::from_config(&config).expect("a pipeline");
    assert_eq!(longest(pipeline.clone().with_encoder(Hashing::default())), 40);
    assert_eq!(longest(pipeline.clone().with_encoder(Short)), 20);
    // Four words and a full stop are five tokens to the embedded encoder.
    assert!((20..=32).contains(&longest(pipeline)));
}

#[rstest]
#[case(ChunkUnit::Tokens, Some(65), "set the limit to 64 or less")]
#[case(ChunkUnit::Words, Some(65), "set the limit to 48 or less")]
#[case(ChunkUnit::Words, None, "set the limit to 48 or less")]
fn a_limit_above_what_the_encoder_reads_is_refused(
    #[case] unit: ChunkUnit,
    #[case] limit: Option<usize>,
    #[case] advice: &str,
) {
    let pipeline = Pipeline::default().with_encoder(Short);
    let pipeline = pipeline.configured(|config| (config.chunk.unit, config.chunk.limit) = (unit, limit));
    let error = pipeline.chunker().err().expect("too much");
    assert_eq!((error.kind(), error.place()), (ErrorKind::Configuration, Some("[chunk]")));
    assert!(error.message().contains(advice) && error.message().contains("64 tokens"), "{error}");
    // A chunker of one's own is looked at too.
    let own = Pipeline::default().with_encoder(Short).with_chunker(Structure::new(Limit::words(99, 9).expect("fine")));
    assert!(own.chunker().is_err());
}

#[test]
fn a_limit_that_is_left_out_is_what_the_encoder_reads() {
    let pipeline = Pipeline::default().with_encoder(Short).configured(|config| config.chunk.unit = ChunkUnit::Tokens);
    assert_eq!(pipeline.chunker().expect("a chunker").limit().and_then(Limit::most), Some(64));
}

#[tokio::test]
async fn a_build_says_what_to_consider() {
    let folder = tempfile::tempdir().expect("a folder");
    let text = "The bridge opens for vessels that have asked for it on the working channel. ".repeat(30);
    let source = || BuildRequest::default().source(MemorySource::new("a").with("a.txt", text.as_str()));
    let window = Pipeline::default().with_chunker(Window::new(Limit::words(25, 0).expect("fine")));
    let corpus = window.open(folder.path().join("a")).await.expect("a corpus");
    let advice = corpus.build(source()).await.expect("a build").advice.join(" ");
    assert!(advice.contains("begin or end inside a sentence") && advice.contains("structure"), "{advice}");
    let limit = Limit::new(logothete::chunk::Unit::Characters, 400, 0).expect("fine");
    let long = Pipeline::default().with_encoder(Short).with_chunker(Structure::new(limit));
    let corpus = long.open(folder.path().join("b")).await.expect("a corpus");
    let advice = corpus.build(source()).await.expect("a build").advice.join(" ");
    assert!(advice.contains("the encoder truncates"), "{advice}");
    // So it does for a document that is put.
    let mut document = DocumentBuilder::new("b.txt", "text/plain");
    document.block(BlockKind::Paragraph, &text);
    let report = corpus.upsert([document.finish()]).await.expect("a document");
    assert!(report.advice.join(" ").contains("the encoder truncates"), "{:?}", report.advice);
    // A chunker of the configuration cuts what the encoder would truncate.
    let fitted = Pipeline::default().with_encoder(Short);
    let fitted =
        fitted.configured(|config| (config.chunk.unit, config.chunk.limit) = (ChunkUnit::Characters, Some(400)));
    let corpus = fitted.open(folder.path().join("d")).await.expect("a corpus");
    let report = corpus.build(source()).await.expect("a build");
    assert_eq!((report.advice.len(), report.failed.len()), (0, 0), "{:?}", report.advice);
    assert!(report.chunks > 6, "{}", report.chunks);
    let corpus = Pipeline::default().open(folder.path().join("c")).await.expect("a corpus");
    assert_eq!(corpus.build(source()).await.expect("a build").advice, Vec::<String>::new());
}

#[rstest]
#[case("strategy = \"magic\"", "magic")]
#[case("limit = 10\noverlap = 5", "set the overlap to 4 or less")]
#[case("stratgy = \"window\"", "did you mean `strategy`?")]
#[case("strategy = \"marked\"", "set marker, such as")]
#[case("strategy = \"separators\"\nseparators = []", "set one such as")]
#[case("generated_limit = 90\ncontext = \"generated\"", "set the limit to 181 or more")]
fn settings_that_make_no_sense_say_so(#[case] settings: &str, #[case] message: &str) {
    let error =
        Config::parse(&format!("[chunk]\n{settings}")).and_then(|config| Pipeline::from_config(&config).map(|_| ()));
    let error = error.expect_err("it makes no sense").to_string();
    assert!(error.contains(message), "{error}");
}

#[test]
fn a_review_counts() {
    let document = {
        let mut builder = DocumentBuilder::new("a.txt", "text/plain");
        builder.block(BlockKind::Paragraph, "one two three four five six seven eight nine ten.");
        builder.finish()
    };
    let window: Arc<dyn logothete::chunk::Chunker> = Arc::new(Window::new(Limit::words(4, 1).expect("fine")));
    let made = chunks(&document, "a", &*window).expect("cut");
    let mut review = Review::default();
    Pipeline::review(&mut review, &document, &made, &*window, &Hashing::default());
    assert_eq!((review.chunks, review.cut_sentences, review.sizes()), (3, 3, [4, 4, 4].as_slice()));
    let spread = review.spread();
    assert_eq!((spread.shortest, spread.median, spread.longest), (4, 4, 4));
    assert!(review.repeated_share() > 0.1 && review.repeated_share() < 0.3);
}
