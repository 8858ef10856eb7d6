//! What the fault tests share: the work that is disturbed, what must come of it, and processes that do it.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use logothete::{BuildRequest, Corpus, Hashing, OwnChunk, Pipeline, SearchRequest};

pub mod replay;

/// The environment variables that make a test's own program a process that works in a folder.
pub const WORK: &str = "LOGOTHETE_TEST_WORK";
pub const READ: &str = "LOGOTHETE_TEST_READ";
pub const LOOK: &str = "LOGOTHETE_TEST_LOOK";
pub const REENCODE: &str = "LOGOTHETE_TEST_REENCODE";
/// Where a worker says how far it is.
pub const TOLD: &str = "told";

/// A small encoder: what is tested is the corpus.
pub fn pipeline() -> Pipeline {
    pipeline_of(64)
}

/// One with vectors of so many numbers.
pub fn pipeline_of(dimensions: usize) -> Pipeline {
    Pipeline::default().with_encoder(Hashing::new(dimensions).expect("settings"))
}

pub fn corpus_in(folder: &Path) -> PathBuf {
    folder.join("c.corpus")
}

/// How many documents there are.
pub const FILES: usize = 40;

/// Writes the documents of a round; every third differs from those of the round before.
pub fn write_documents(folder: &Path, round: usize) {
    let docs = folder.join("docs");
    std::fs::create_dir_all(&docs).expect("a folder");
    for number in 0..FILES {
        let file = docs.join(format!("{number:03}.md"));
        if number % 3 != round % 3 && file.exists() {
            continue;
        }
        let text = format!(
            "# Crate {number}\n\nIn round {round} crate {number} holds cork.\n\n## Rope\n\nRope of {number} fathoms lies beside it.\n"
        );
        std::fs::write(file, text).expect("a file");
    }
}

/// What is done to the corpus in a round. Each step may be done again after it was disturbed. Calls back when a step is done.
pub async fn work(folder: &Path, round: usize, mut told: impl FnMut(&str)) -> logothete::Result<()> {
    let corpus = pipeline().open(corpus_in(folder)).await?;
    told("opened");
    corpus.build(BuildRequest::new([folder.join("docs")])).await?;
    told("built");
    for at in 0..3 {
        corpus
            .upsert([OwnChunk::new(format!("own/{at}"), format!("Own chunk {at} of round {round} lies on the quay."))])
            .await?;
        told(&format!("put {at}"));
    }
    corpus.remove_chunk(&format!("own/{}", round % 3)).await?;
    told("removed");
    corpus.upsert([OwnChunk::new("gone", format!("This is forgotten in round {round}."))]).await?;
    corpus.forget("gone").await?;
    told("forgotten");
    if round % 4 == 3 {
        corpus.compact().await?;
        told("compacted");
    }
    Ok(())
}

/// All that a corpus holds, and the exact scores of some searches, in an order that does not depend on where rows are.
#[derive(Debug, PartialEq)]
pub struct Held {
    documents: BTreeMap<String, Vec<String>>,
    found: Vec<Vec<(String, String)>>,
}

pub async fn held(corpus: &Corpus) -> Held {
    let mut documents = BTreeMap::new();
    for info in corpus.info().await.expect("facts").documents {
        let detail = corpus.document(&info.document).await.expect("a document");
        documents.insert(info.document, detail.chunks.iter().map(|chunk| chunk.chunk.to_string()).collect());
    }
    let mut found = Vec::new();
    for query in ["crate holds cork", "rope of 7 fathoms", "own chunk on the quay", "+round \"holds cork\""] {
        let passages = corpus.search(SearchRequest::new(query).passages(200)).await.expect("a search").passages;
        let mut all: Vec<(String, String)> = passages
            .iter()
            .map(|passage| {
                let legs: Vec<String> =
                    passage.legs.iter().map(|(name, leg)| format!("{name} {:?}", leg.score)).collect();
                (passage.chunk.to_string(), format!("{} {}", legs.join(" "), passage.text))
            })
            .collect();
        all.sort();
        found.push(all);
    }
    Held { documents, found }
}

/// What the work of all rounds up to one comes to when nothing disturbs it.
pub async fn undisturbed(folder: &Path, round: usize) -> Held {
    undisturbed_with(&pipeline(), folder, round).await
}

pub async fn undisturbed_with(pipeline: &Pipeline, folder: &Path, round: usize) -> Held {
    let other = tempfile::tempdir().expect("a temporary folder");
    // The documents are the same files, so that their names and places are the same.
    let docs = folder.join("docs");
    let corpus = pipeline.open(corpus_in(other.path())).await.expect("a corpus");
    corpus.build(BuildRequest::new([docs])).await.expect("a build");
    let chunks = (0..3).filter(|at| *at != round % 3);
    let chunks = chunks
        .map(|at| OwnChunk::new(format!("own/{at}"), format!("Own chunk {at} of round {round} lies on the quay.")));
    corpus.upsert(chunks).await.expect("put");
    held(&corpus).await
}

/// A process of this test's program that runs the test `child` with some variables.
pub fn process(variables: &[(&str, String)]) -> Command {
    let mut command = Command::new(std::env::current_exe().expect("this test has a path"));
    command.args(["child", "--exact", "--nocapture"]).stdout(Stdio::null());
    variables.iter().for_each(|(name, value)| {
        command.env(name, value);
    });
    command
}

/// Such a process with a library between it and the files of its corpus, and what the library is to do.
pub fn faulty(library: &Path, folder: &Path, job: (&str, String), fault: (&str, String)) -> Command {
    let library = ("LD_PRELOAD", library.display().to_string());
    process(&[job, library, ("FAULTS_FOLDER", corpus_in(folder).display().to_string()), fault])
}

/// The library that stands between a program and its files; nothing where it cannot be made, which CI does not allow.
pub fn recorder(folder: &Path) -> Option<PathBuf> {
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/faults/record.c");
    let library = folder.join("record.so");
    let compiler = std::env::var("CC").unwrap_or_else(|_| "cc".to_owned());
    let made = cfg!(all(target_os = "linux", target_env = "gnu"))
        && Command::new(compiler)
            .args(["-shared", "-fPIC", "-O1", "-o"])
            .args([&library, &source])
            .args(["-ldl", "-lpthread"])
            .status()
            .is_ok_and(|status| status.success());
    if !made {
        assert!(std::env::var_os("NEEDS_FAULTS").is_none(), "the recorder of file changes could not be compiled");
        eprintln!("skipped: there is no C compiler for Linux here, to make the recorder of file changes with");
    }
    made.then_some(library)
}

/// Numbers that look random.
pub struct Random(pub u64);

impl Random {
    pub fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % most.max(1)
    }
}
