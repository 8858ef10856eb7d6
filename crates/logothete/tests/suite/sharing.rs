//! One corpus in the hands of many tasks: searches beside a build that waits for a model, writers that take turns, futures that are
//! dropped.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use logothete::config::ChunkContext;
use logothete::generate::{Generation, GenerationEvent, GenerationRequest, GenerationStream, Generator};
use logothete::prompt::Prompt;
use logothete::{
    BoxFuture, BuildRequest, Corpus, Error, ErrorKind, Fingerprint, Hashing, MemorySource, OwnChunk, Pipeline,
    TokenUsage,
};
use tokio::sync::{Barrier, Semaphore};

/// A generator whose replies wait for the test.
#[derive(Debug)]
struct Gate {
    /// Requests so far, those under way, and the most that were under way at a time.
    asked: AtomicUsize,
    under_way: AtomicUsize,
    most: AtomicUsize,
    opening: Opening,
}

#[derive(Debug)]
enum Opening {
    /// A permit lets one request through.
    Permits(Semaphore),
    /// Requests go on as soon as so many are under way.
    Together(Barrier),
}

impl Gate {
    fn new(opening: Opening) -> Arc<Self> {
        let [asked, under_way, most] = [0; 3].map(AtomicUsize::new);
        Arc::new(Self { asked, under_way, most, opening })
    }

    fn shut() -> Arc<Self> {
        Self::new(Opening::Permits(Semaphore::new(0)))
    }

    fn open(&self) {
        match &self.opening {
            Opening::Permits(permits) => permits.add_permits(1_000),
            Opening::Together(_) => {}
        }
    }

    async fn until_asked(&self) {
        while self.asked.load(Ordering::SeqCst) == 0 {
            tokio::time::sleep(std::time::Duration::from_millis(2)).await;
        }
    }
}

/// The generator that a pipeline holds: a handle on the test's gate.
#[derive(Clone)]
struct Gated(Arc<Gate>);

impl Generator for Gated {
    fn name(&self) -> String {
        "gate".to_owned()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["gate"])
    }

    fn stream<'a>(&'a self, _: &'a GenerationRequest) -> GenerationStream<'a> {
        Generation::failed(Error::new(ErrorKind::Unavailable, "only whole replies are written here"))
    }

    fn generate<'a>(&'a self, _: &'a GenerationRequest) -> BoxFuture<'a, logothete::Result<Generation>> {
        let gate = &self.0;
        Box::pin(async move {
            gate.asked.fetch_add(1, Ordering::SeqCst);
            let now = gate.under_way.fetch_add(1, Ordering::SeqCst) + 1;
            gate.most.fetch_max(now, Ordering::SeqCst);
            match &gate.opening {
                Opening::Permits(permits) => permits.acquire().await.expect("it is never closed").forget(),
                Opening::Together(barrier) => {
                    barrier.wait().await;
                }
            }
            gate.under_way.fetch_sub(1, Ordering::SeqCst);
            Ok(Generation::new("It is about the harbour.", TokenUsage { sent: 9, received: 5 }))
        })
    }
}

fn pipeline(gate: &Arc<Gate>) -> Pipeline {
    let pipeline = Pipeline::default().with_encoder(Hashing::new(64).expect("dimensions"));
    let pipeline = pipeline.configured(|config| {
        config.chunk.context = ChunkContext::Generated;
        config.generator.max_concurrent = 3;
    });
    pipeline.with_generator(Gated(gate.clone()))
}

/// A build of some notices, each a document with one chunk.
fn notices(name: &str, count: usize) -> BuildRequest {
    let add = |source: MemorySource, number| {
        source.with(format!("{number}.md"), format!("# Notice {number}\n\nThe {name} moors at berth {number}."))
    };
    BuildRequest::default().source((0..count).fold(MemorySource::new(name), add))
}

async fn documents(corpus: &Corpus) -> usize {
    corpus.info().await.expect("facts").documents.len()
}

/// Asks the database to write back its log, and returns whether a reader was in the way.
fn is_read(folder: &Path) -> bool {
    let database = rusqlite::Connection::open(folder.join("corpus.db")).expect("the catalogue");
    database.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |row| row.get(0)).expect("a checkpoint")
}

#[tokio::test]
async fn searches_go_on_while_a_build_waits_for_a_model() {
    let gate = Gate::shut();
    let folder = tempfile::tempdir().expect("a folder");
    let plain = Pipeline::default().with_encoder(Hashing::new(64).expect("dimensions"));
    let first = plain.open(folder.path().join("c")).await.expect("a corpus");
    first.build(notices("ferry", 2)).await.expect("a build");
    drop(first);

    let corpus = pipeline(&gate).open(folder.path().join("c")).await.expect("a corpus");
    let builder = corpus.clone();
    let build = tokio::spawn(async move { builder.build(notices("tug", 2)).await });
    gate.until_asked().await;
    // More searches than there are threads, an export beside them, and an answer: none of them needs what the build holds.
    for _ in 0..8 {
        assert_eq!(corpus.search("+ferry").await.expect("a search").passages.len(), 2);
    }
    assert!(corpus.export(std::io::sink()).await.expect("an export") > 4);
    assert!(corpus.ask("Where does the ferry moor?").await.is_ok());
    assert!(!is_read(&folder.path().join("c")), "no view is held while the model writes");
    assert_eq!(documents(&corpus).await, 2);

    gate.open();
    assert_eq!(build.await.expect("the task ends").expect("a build").added, 2);
    assert_eq!(documents(&corpus).await, 4);
    assert_eq!(corpus.search("+tug").await.expect("a search").passages.len(), 2);
}

#[tokio::test]
async fn a_dropped_build_leaves_the_corpus_as_it_was_and_its_turn_to_the_next() {
    let gate = Gate::shut();
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = pipeline(&gate).open(folder.path().join("c")).await.expect("a corpus");
    let builder = corpus.clone();
    let build = tokio::spawn(async move { builder.build(notices("tug", 6)).await });
    gate.until_asked().await;
    build.abort();
    assert!(build.await.expect_err("it was dropped").is_cancelled());
    let next = {
        let corpus = corpus.clone();
        tokio::spawn(
            async move { corpus.upsert([OwnChunk::new("note", "The tug is repaired.").context("Notes")]).await },
        )
    };
    tokio::task::yield_now().await;
    gate.open();
    next.await.expect("the task ends").expect("it waits for its turn");
    // What was under way came to its end and is cached; nothing more was asked for the dropped build.
    assert!(gate.most.load(Ordering::SeqCst) <= 3 && gate.asked.load(Ordering::SeqCst) <= 4, "{gate:?}");
    assert_eq!(documents(&corpus).await, 1);
    assert_eq!(corpus.build(notices("tug", 6)).await.expect("a build").added, 6);
}

#[tokio::test]
async fn contexts_are_asked_for_several_at_a_time() {
    // A request goes on only when two others are there: one after another would never end.
    let gate = Gate::new(Opening::Together(Barrier::new(3)));
    let corpus = pipeline(&gate).in_memory().await.expect("a corpus");
    let report = corpus.build(notices("barge", 6)).await.expect("a build");
    assert_eq!((report.added, report.contexts), (6, 6));
    assert_eq!(gate.most.load(Ordering::SeqCst), 3);
}

#[tokio::test]
async fn writers_of_one_process_take_turns() {
    let corpus =
        Pipeline::default().with_encoder(Hashing::new(64).expect("dimensions")).in_memory().await.expect("a corpus");
    let tasks = ["ferry", "tug", "barge", "pilot"].map(|name| {
        let corpus = corpus.clone();
        tokio::spawn(async move { corpus.build(notices(name, 3)).await })
    });
    for task in tasks {
        assert_eq!(task.await.expect("the task ends").expect("a build").added, 3);
    }
    assert_eq!(documents(&corpus).await, 12);
    corpus.verify().await.expect("sound indexes");
}

#[tokio::test]
async fn a_reply_streams_part_by_part_and_is_whole_in_the_end() {
    struct Parts;
    impl Generator for Parts {
        fn name(&self) -> String {
            "parts".to_owned()
        }

        fn fingerprint(&self) -> Fingerprint {
            Fingerprint::of(["parts"])
        }

        fn stream<'a>(&'a self, request: &'a GenerationRequest) -> GenerationStream<'a> {
            Generation::new(format!("{:?}", request.parameters.max_tokens), TokenUsage { sent: 1, received: 2 })
                .into_stream()
        }
    }
    let request = GenerationRequest::new(Prompt::default()).max_tokens(7);
    let mut stream = Parts.stream(&request);
    let mut events = Vec::new();
    while let Some(event) =
        std::future::poll_fn(|context| futures_core::Stream::poll_next(stream.as_mut(), context)).await
    {
        events.push(event.expect("an event"));
    }
    assert!(
        matches!(&events[..], [GenerationEvent::Text(text), GenerationEvent::End { .. }] if text == "Some(7)"),
        "{events:?}"
    );
    assert_eq!(Parts.generate(&request).await.expect("a reply").text, "Some(7)");
}
