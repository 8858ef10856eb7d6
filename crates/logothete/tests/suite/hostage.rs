//! Good documents are kept whatever becomes of others: those that the encoder or the catalogue do not take, a build that is stopped or runs out of time.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use logothete::vector::{Encoder, Role, Vectors};
use logothete::{
    BuildRequest, Config, Corpus, Error, ErrorKind, Fingerprint, Hashing, MemorySource, Pipeline, Progress, Result,
};
use rstest::rstest;

/// An encoder that fails on some texts, or after some calls.
#[derive(Clone)]
struct Picky {
    inner: Arc<Hashing>,
    kind: ErrorKind,
    /// A text with this word cannot be encoded.
    word: &'static str,
    calls: Arc<AtomicUsize>,
    delay: Duration,
}

impl Picky {
    fn new(kind: ErrorKind, word: &'static str) -> Self {
        let inner = Arc::new(Hashing::new(32).expect("settings"));
        Self { inner, kind, word, calls: Arc::default(), delay: Duration::ZERO }
    }
}

impl Encoder for Picky {
    fn name(&self) -> String {
        "picky".to_owned()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["picky"])
    }

    fn dimensions(&self) -> usize {
        self.inner.dimensions()
    }

    fn encode(&self, texts: &[&str], role: Role) -> Result<Vectors> {
        self.calls.fetch_add(1, Ordering::SeqCst);
        std::thread::sleep(self.delay);
        if texts.iter().any(|text| text.contains(self.word)) {
            return Err(Error::new(self.kind, "this text cannot be encoded"));
        }
        self.inner.encode(texts, role)
    }
}

const NAMES: [&str; 5] = ["a.md", "b.md", "c.md", "d.md", "e.md"];

/// Five documents; the third has a word of its own.
fn source() -> MemorySource {
    NAMES.iter().enumerate().fold(MemorySource::new("notices"), |source, (at, name)| {
        let word = if at == 2 { "barnacles" } else { "fenders" };
        let rows: String = (0..40).map(|row| format!("| {name} {row} | the {word} of quay {at} {row} |\n")).collect();
        source.with(
            *name,
            format!("# Notice {at}\n\nThe {word} of berth {at} are inspected.\n\n| no | what |\n|--|--|\n{rows}"),
        )
    })
}

async fn corpus(folder: &tempfile::TempDir, encoder: impl Encoder + 'static) -> Corpus {
    Pipeline::default().with_encoder(encoder).open(folder.path().join("c")).await.expect("a corpus")
}

async fn held(corpus: &Corpus) -> Vec<String> {
    corpus.info().await.expect("facts").documents.into_iter().map(|info| info.document).collect()
}

#[tokio::test]
async fn a_document_that_the_encoder_does_not_take_costs_itself_alone() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = corpus(&folder, Picky::new(ErrorKind::Unreadable, "barnacles")).await;
    // An encoder that has encoded nothing yet may be broken altogether.
    let first = MemorySource::new("first").with("z.md", "The bell is rung in fog.");
    corpus.build(BuildRequest::default().source(first)).await.expect("a build");
    let both = || {
        BuildRequest::default()
            .source(MemorySource::new("first").with("z.md", "The bell is rung twice in fog."))
            .source(source())
    };
    let report = corpus.build(both()).await.expect("a build");
    assert_eq!((report.failed.len(), report.failed[0].document.as_str()), (1, "c.md"), "{report:?}");
    assert!(report.failed[0].reason.contains("cannot be encoded"));
    assert_eq!(held(&corpus).await, ["a.md", "b.md", "d.md", "e.md", "z.md"]);
}

/// The second notice repeats the first one, which is left out, and must not point to it.
#[tokio::test]
async fn what_a_document_said_that_was_left_out_is_found_elsewhere() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = corpus(&folder, Picky::new(ErrorKind::Unreadable, "barnacles")).await;
    let said = "# Fog\n\nThe great bell at the signal tower is rung every twenty seconds in fog. The horn on the rock is silent until it has been repaired.\n";
    let first = MemorySource::new("first").with("z.md", "The lock is shut at night.");
    let notices = MemorySource::new("notices")
        .with("a.md", format!("{said}\n# Hulls\n\nThe barnacles are scraped off.\n"))
        .with("b.md", said);
    let request = BuildRequest::default().source(first).source(notices);
    let report = corpus.build(request).await.expect("a build");
    assert_eq!((report.added, report.failed.len(), report.failed[0].document.as_str()), (2, 1, "a.md"), "{report:?}");
    let found = corpus.search("how often is the great bell rung in fog").await.expect("a search");
    assert_eq!(found.passages[0].location.document, "b.md");
    corpus.verify().await.expect("a sound corpus");
}

/// Each document is measured by itself, and the limit is named.
#[rstest]
#[case::chunks("chunks", 20, "it is cut into")]
#[case::tokens("file_tokens", 300, "tokens, and 300 are allowed; raise file_tokens")]
#[tokio::test]
async fn a_document_of_too_many_pieces_costs_itself_alone(#[case] key: &str, #[case] most: u64, #[case] said: &str) {
    let config = Config::default().with_setting(&format!("limits.{key}"), &most.to_string()).expect("a setting");
    let config = config.with_setting("encoder.kind", "hashing").expect("a setting");
    let corpus = Pipeline::from_config(&config).expect("a pipeline").in_memory().await.expect("a corpus");
    let long: String = (0..30)
        .map(|at| format!("# Part {at}\n\nWord{at} is said once in part {at}, and nowhere else at all.\n\n"))
        .collect();
    let source = MemorySource::new("notices").with("long.md", long).with("short.md", "The bell is rung in fog.");
    let report = corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    assert_eq!((report.added, report.failed.len()), (1, 1), "{report:?}");
    assert_eq!(report.failed[0].document, "long.md");
    assert!(report.failed[0].reason.contains(said), "{report:?}");
}

/// The encoder takes 0.6 s for each 64 chunks.
#[tokio::test]
async fn a_document_that_takes_long_to_encode_costs_itself_alone_and_goes_on_later() {
    let folder = tempfile::tempdir().expect("a folder");
    let config = Config::default().with_setting("limits.encoding_seconds", "1").expect("a setting");
    let slow = Picky { delay: Duration::from_millis(600), ..Picky::new(ErrorKind::Unreadable, "barnacles") };
    let pipeline = Pipeline::from_config(&config).expect("a pipeline").with_encoder(slow.clone());
    let corpus = pipeline.open(folder.path().join("c")).await.expect("a corpus");
    let long: String = (0..300)
        .map(|at| format!("# Part {at}\n\nWord{at} is said once in part {at}, and nowhere else at all.\n\n"))
        .collect();
    let both = || {
        let source = MemorySource::new("notices").with("long.md", long.clone()).with("short.md", "The bell is rung.");
        BuildRequest::default().source(source)
    };
    let report = corpus.build(both()).await.expect("a build");
    assert_eq!((report.added, report.failed.len()), (1, 1), "{report:?}");
    assert!(report.failed[0].reason.contains("more than 1 s and was stopped"), "{report:?}");
    assert_eq!(held(&corpus).await, ["short.md"]);
    let report = corpus.build(both()).await.expect("a build");
    assert_eq!((report.added, report.failed.len()), (1, 0), "{report:?}");
    // Five for the long document, one for the short one.
    assert_eq!(slow.calls.load(Ordering::SeqCst), 6, "nothing is encoded twice");
}

#[tokio::test]
async fn what_was_read_before_an_encoder_broke_is_kept() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = corpus(&folder, Picky::new(ErrorKind::Busy, "barnacles")).await;
    let before = MemorySource::new("first").with("z.md", "The bell is rung in fog.");
    let error = corpus.build(BuildRequest::default().source(before).source(source())).await.expect_err("no encoder");
    assert_eq!(error.kind(), ErrorKind::Busy);
    assert_eq!(held(&corpus).await, ["z.md"]);
}

/// A trigger stands for whatever the database does not take: a value that is too large, or that contradicts another.
#[tokio::test]
async fn a_document_that_the_catalogue_does_not_take_costs_itself_alone() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = corpus(&folder, Hashing::new(32).expect("settings")).await;
    let first = MemorySource::new("notices").with("a.md", "An older notice.").with("c.md", "Another one.");
    corpus.build(BuildRequest::default().source(first)).await.expect("a build");
    let database = rusqlite::Connection::open(folder.path().join("c/corpus.db")).expect("a database");
    database
        .execute_batch(
            "CREATE TRIGGER refuse BEFORE INSERT ON documents WHEN NEW.name = 'c.md' BEGIN SELECT RAISE(ABORT, 'no'); END",
        )
        .expect("a trigger");
    let report = corpus.build(BuildRequest::default().source(source())).await.expect("a build");
    let failed: Vec<&str> = report.failed.iter().map(|one| one.document.as_str()).collect();
    assert_eq!((failed, report.added, report.changed), (vec!["c.md"], 3, 1), "{report:?}");
    assert_eq!(held(&corpus).await, NAMES);
    let text = |name: &'static str| {
        let corpus = &corpus;
        async move { corpus.document(name).await.expect("a document").chunks.len() }
    };
    assert!(text("a.md").await > 1, "the new text is there");
    assert_eq!(text("c.md").await, 1, "the old text stays");
    corpus.verify().await.expect("a sound corpus");
    let found = corpus.search("inspected fenders of berth 3").await.expect("a search");
    assert_eq!(found.passages[0].location.document, "d.md");
    database.execute_batch("DROP TRIGGER refuse").expect("no trigger");
    let report = corpus.build(BuildRequest::default().source(source())).await.expect("a build");
    assert_eq!((report.changed, report.failed.len()), (1, 0));
}

#[rstest]
#[case::stopped(true)]
#[case::out_of_time(false)]
#[tokio::test]
async fn what_was_encoded_before_the_end_is_kept(#[case] stopped: bool) {
    let folder = tempfile::tempdir().expect("a folder");
    let slow = Picky { delay: Duration::from_millis(300), ..Picky::new(ErrorKind::System, "no such word") };
    let mut pipeline = Pipeline::default().with_encoder(slow.clone());
    if !stopped {
        pipeline = pipeline.configured(|config| config.limits.build_seconds = 1);
    }
    let corpus = pipeline.open(folder.path().join("c")).await.expect("a corpus");
    let many = (0..30).fold(MemorySource::new("notices"), |source, at| {
        let rows: String =
            (0..64).map(|row| format!("# Section {at} {row}\n\nOnly here: word{at}x{row}.\n\n")).collect();
        source.with(format!("{at:02}.md"), rows)
    });
    let mut request = BuildRequest::default().source(many);
    if stopped {
        let (token, calls) = (request.stop_token(), slow.calls.clone());
        request = request.on_progress(move |_: &Progress| {
            if calls.load(Ordering::SeqCst) >= 4 {
                token.stop();
            }
        });
    }
    let report = corpus.build(request).await.expect("a build");
    assert!(report.stopped, "{report:?}");
    let kept = held(&corpus).await.len();
    assert!((1..30).contains(&kept), "{kept}");
    assert_eq!(kept, report.added);
    if !stopped {
        assert!(report.capped.as_deref().is_some_and(|said| said.contains("build_seconds")), "{report:?}");
    }
}
