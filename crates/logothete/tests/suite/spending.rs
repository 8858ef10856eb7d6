//! What a build spends: the cache of vectors, the estimate, the caps.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use logothete::vector::{Encoder, Role, Vectors};
use logothete::{BuildReport, BuildRequest, Corpus, Fingerprint, Hashing, MemorySource, Pipeline, Result};

/// The hashing encoder, counting what it is asked.
#[derive(Clone)]
struct Counting {
    inner: Hashing,
    texts: Arc<AtomicUsize>,
}

impl Counting {
    fn new() -> Self {
        Self { inner: Hashing::default(), texts: Arc::default() }
    }

    fn count(&self) -> usize {
        self.texts.swap(0, Ordering::SeqCst)
    }
}

impl Encoder for Counting {
    fn name(&self) -> String {
        "counting".to_owned()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["counting"])
    }

    fn dimensions(&self) -> usize {
        self.inner.dimensions()
    }

    fn languages(&self) -> Option<Vec<String>> {
        Some(vec!["en".to_owned()])
    }

    fn encode(&self, texts: &[&str], role: Role) -> Result<Vectors> {
        self.texts.fetch_add(texts.len(), Ordering::SeqCst);
        self.inner.encode(texts, role)
    }
}

/// Six documents of some sections; no two say the same.
fn source() -> MemorySource {
    (0..6).fold(MemorySource::new("berths"), |source, number| {
        let sections = (0..4).map(|part| {
            let words: Vec<String> = (0..30).map(|word| format!("mooring{number}{part}{word}")).collect();
            format!(
                "## Part {part}\n\nBerth {number} has {}. It is kept by the watch of quay {number}{part}.\n\n",
                words.join(" ")
            )
        });
        source.with(format!("berth-{number}.md"), format!("# Berth {number}\n\n{}", sections.collect::<String>()))
    })
}

async fn build(corpus: &Corpus) -> BuildReport {
    corpus.build(BuildRequest::default().source(source())).await.expect("it builds")
}

#[tokio::test]
async fn nothing_is_encoded_twice() {
    let folder = tempfile::tempdir().expect("a folder");
    let counting = Counting::new();
    let pipeline = Pipeline::default().with_encoder(counting.clone());
    let open = async |limit: usize| {
        pipeline
            .clone()
            .configured(|config| config.chunk.limit = Some(limit))
            .open(folder.path().join("c"))
            .await
            .expect("a corpus")
    };

    let first = build(&open(60).await).await;
    assert_eq!((first.encoded, first.cached), (counting.count(), 0));
    assert!(first.encoded >= 6 && first.encoded_tokens > 0);

    // Another way of cutting encodes what is new, and going back encodes nothing.
    let other = build(&open(40).await).await;
    assert_eq!(other.encoded, counting.count());
    let back = build(&open(60).await).await;
    assert_eq!((back.encoded, back.encoded_tokens, counting.count()), (0, 0, 0));
    assert_eq!(back.cached, first.encoded);
}

#[tokio::test]
async fn an_estimate_says_what_the_build_then_does() {
    let folder = tempfile::tempdir().expect("a folder");
    let counting = Counting::new();
    let pipeline = Pipeline::default().with_encoder(counting.clone()).configured(|config| config.encoder.price = 2.0);
    let corpus = pipeline.open(folder.path().join("c")).await.expect("a corpus");
    let estimate = corpus.estimate(BuildRequest::default().source(source())).await.expect("an estimate");
    assert_eq!((estimate.documents.len(), estimate.total.chunks_cached), (6, 0));
    assert!(estimate.tokens_per_second.is_some_and(|speed| speed > 0.0));
    assert!(estimate.total.seconds.is_some_and(|seconds| seconds > 0.0));
    let sum: u64 = estimate.documents.iter().map(|document| document.encoded_tokens).sum();
    assert_eq!(estimate.total.encoded_tokens, sum);
    let cost = estimate.total.cost.expect("a cost");
    assert!((cost - sum as f64 * 2.0 / 1e6).abs() < 1e-12);

    let report = build(&corpus).await;
    assert_eq!(report.encoded_tokens, sum);
    assert!((report.cost.expect("a cost") - cost).abs() < 1e-12);
    let again = corpus.estimate(BuildRequest::default().source(source())).await.expect("an estimate");
    assert_eq!((again.unchanged, again.total.encoded_tokens), (6, 0));
}

#[tokio::test]
async fn a_build_stops_before_its_cap_and_goes_on_from_there() {
    let folder = tempfile::tempdir().expect("a folder");
    let counting = Counting::new();
    let open = async |max_tokens: u64| {
        let pipeline = Pipeline::default().with_encoder(counting.clone());
        let pipeline = pipeline.configured(|config| config.limits.tokens = max_tokens);
        pipeline.open(folder.path().join("c")).await.expect("a corpus")
    };
    let whole = {
        let estimate = open(0).await;
        estimate.estimate(BuildRequest::default().source(source())).await.expect("an estimate").total.encoded_tokens
    };
    let cap = whole / 2;
    let first = build(&open(cap).await).await;
    assert!(first.stopped && first.added > 0 && first.added < 6, "{first:?}");
    assert!(first.encoded_tokens <= cap);
    let said = first.capped.expect("a reason");
    assert!(said.contains("[limits]") && said.contains("build again"), "{said}");

    // What was done is not done again, so that the same cap is enough for the rest.
    let mut done = first.added;
    for _ in 0..6 {
        let next = build(&open(cap).await).await;
        assert_eq!(next.unchanged, done);
        done += next.added;
        if next.capped.is_none() {
            break;
        }
    }
    assert_eq!(done, 6);

    // Money is a cap like tokens.
    let folder = tempfile::tempdir().expect("a folder");
    let pipeline = Pipeline::default().with_encoder(Counting::new());
    let pipeline =
        pipeline.configured(|config| (config.encoder.price, config.limits.money) = (1e6, whole as f64 / 3.0));
    let report = build(&pipeline.open(folder.path().join("c")).await.expect("a corpus")).await;
    assert!(report.capped.is_some_and(|said| said.contains("money")));
    assert!(report.cost.is_some_and(|cost| cost > 0.0 && cost <= whole as f64 / 3.0));
}

#[tokio::test]
async fn languages_that_the_encoder_does_not_know_are_named_once() {
    let german = "# Hafenordnung\n\nDie Schleuse ist von sechs Uhr morgens bis zehn Uhr abends geöffnet. Wer sie durchfahren \
                  will, meldet sich eine Stunde vorher über Funk beim Hafenmeister und wartet auf das grüne Licht.";
    let english = "# Harbour rules\n\nThe lock is open from six in the morning until ten at night. Whoever wants to pass it \
                   calls the harbour master by radio an hour before and waits for the green light.";
    let source = MemorySource::new("rules").with("ordnung.md", german).with("rules.md", english);
    let folder = tempfile::tempdir().expect("a folder");
    let pipeline = Pipeline::default().with_encoder(Counting::new());
    let corpus = pipeline.open(folder.path().join("c")).await.expect("a corpus");
    let report = corpus.build(BuildRequest::default().source(source)).await.expect("it builds");
    let said: Vec<&String> = report.advice.iter().filter(|advice| advice.contains("language")).collect();
    assert_eq!(said.len(), 1, "{:?}", report.advice);
    assert!(said[0].starts_with("1 document is") && said[0].contains("(de)"), "{}", said[0]);
}
