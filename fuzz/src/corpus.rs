//! Files of a corpus that somebody damaged: the input says which bytes change.

use std::fs;
use std::io::Cursor;
use std::path::{Path, PathBuf};
use std::sync::LazyLock;

use logothete::{BuildRequest, Hashing, MemorySource, Pipeline};
use logothete_core::keyword::{
    FieldWeights, Fields, KeywordIndex, KeywordWriter, LiveCounts, LiveKeywords, PreparedQuery, Query,
};
use logothete_core::segment::{RowSet, whole_segment};
use logothete_core::tree::StoredTree;
use logothete_core::vector::{
    AnnGraph, Distance, IvfLists, TokenIndex, TokenIndexWriter, VectorIndex, Vectors, write_ann_graph, write_ivf_lists,
    write_vectors,
};

use crate::Target;

pub const TARGETS: &[(&str, Target)] = &[
    ("vector_file", |bytes| files(bytes, 0)),
    ("graph_file", |bytes| files(bytes, 1)),
    ("list_file", |bytes| files(bytes, 2)),
    ("token_file", |bytes| files(bytes, 3)),
    ("keyword_file", |bytes| files(bytes, 4)),
    ("tree", tree),
    ("catalogue", catalogue),
    ("import", import),
];

const WORDS: [&str; 7] = ["bell", "lock", "gate", "pilot", "draught", "north", "quay"];

pub fn vectors(rows: usize, dimensions: usize) -> Vectors {
    let mut vectors = Vectors::new(dimensions);
    for row in 0..rows {
        let one: Vec<f32> = (0..dimensions).map(|at| ((row * 7 + at * 3) % 11) as f32 - 5.0).collect();
        vectors.push(&one).expect("a vector");
    }
    vectors
}

/// One segment of each kind.
static SEGMENTS: LazyLock<[Vec<u8>; 5]> = LazyLock::new(|| {
    let own = whole_segment(|to| write_vectors(&vectors(80, 12), Distance::Cosine, to)).expect("vectors");
    let index = VectorIndex::open(own.clone()).expect("an index");
    let graph = whole_segment(|to| Ok(write_ann_graph(&index, to, &|| false)?.expect("a graph"))).expect("a graph");
    let lists = whole_segment(|to| Ok(write_ivf_lists(&index, to, &|| false)?.expect("lists"))).expect("lists");
    let mut tokens = TokenIndexWriter::new(12, 2).expect("a writer");
    (1..30).for_each(|row| tokens.push(&vectors(row % 9 + 1, 12)).expect("tokens"));
    let tokens = whole_segment(|to| tokens.write(to)).expect("tokens");
    let mut keywords = KeywordWriter::new(FieldWeights::default());
    for row in 0..80 {
        let body: Vec<&str> = (0..row % 13).map(|at| WORDS[(row * at + row) % WORDS.len()]).collect();
        keywords.push(&Fields::body(&body.join(" ")), None);
    }
    let keywords = whole_segment(|to| keywords.write(to)).expect("keywords");
    [own, graph, lists, tokens, keywords]
});

/// Changes bytes: three of the input say the place of each, and what is added to it. An odd first byte cuts the end off.
fn damaged(file: &[u8], input: &[u8]) -> Vec<u8> {
    let mut file = file.to_vec();
    for change in input.chunks_exact(3) {
        let at = usize::from(u16::from_le_bytes([change[0], change[1]])) % file.len().max(1);
        if let Some(byte) = file.get_mut(at) {
            *byte = byte.wrapping_add(change[2]);
        }
    }
    if let [first, second, ..] = input
        && first % 2 == 1
    {
        let kept = file.len() * (usize::from(*second) + 1) / 256;
        file.truncate(kept);
    }
    file
}

/// A damaged file is refused, or gives hits that are rows of it.
fn files(input: &[u8], kind: usize) {
    let file = damaged(&SEGMENTS[kind], input);
    let query = [1.0, -1.0, 0.5, 0.0, 2.0, 1.0, 0.0, -2.0, 1.0, 1.0, 0.0, 0.5];
    let whole = VectorIndex::open(SEGMENTS[0].clone()).expect("an index");
    let all = RowSet::all(whole.rows());
    match kind {
        0 => {
            if let Ok(index) = VectorIndex::open(file) {
                let _ = index.verify();
                let of = [&query[..], &vec![0.5; index.dimensions()]];
                of.into_iter().for_each(|query| drop(index.search(query, &RowSet::all(index.rows().min(1_000)), 9)));
                let _ = index.row(0);
            }
        }
        1 => {
            if let Ok(graph) = AnnGraph::open(file) {
                let _ = graph.verify();
                let _ = graph.search(&whole, &query, &all, 9);
            }
        }
        2 => {
            if let Ok(lists) = IvfLists::open(file) {
                let _ = lists.verify();
                let _ = lists.search(&whole, &query, &all, 9);
            }
        }
        3 => {
            if let Ok(tokens) = TokenIndex::open(file) {
                let _ = tokens.verify();
                let _ = tokens.search(&vectors(3, 12), None, None, 9);
                let _ = tokens.scores(&vectors(3, 12), None, &[0, 5, 1_000_000]);
                let _ = tokens.decoded(3);
            }
        }
        _ => {
            if let Ok(index) = KeywordIndex::open(file) {
                let _ = index.verify();
                let live = RowSet::all(index.rows().min(1_000));
                let counts = LiveCounts::new(&index, &live);
                let part = LiveKeywords { index: &index, live: &live, counts: &counts };
                for query in [Query::plain("bell pilot quays"), Query::parse("+lock -\"north gate\" dra*")] {
                    let prepared = PreparedQuery::new(&query, &[part]);
                    let among = prepared.allowed(part);
                    let _ = prepared.search(part, among.as_ref(), 9);
                }
            }
        }
    }
}

/// What is read as a tree can be walked, followed and written.
fn tree(input: &[u8]) {
    let Ok(json) = serde_json::from_slice(input) else { return };
    let Ok(mut stored) = StoredTree::from_json(json, 3) else { return };
    let nodes = stored.tree.nodes.len() as u32;
    let _ = stored.tree.tops();
    (0..nodes.min(50)).for_each(|at| drop(stored.tree.leaves_of(at)));
    let _ = stored.tree.nearest(&[0.6, 0.8, 0.0], 9);
    let _ = stored.tree.descend(&[0.6, 0.8, 0.0], 3);
    let bytes = whole_segment(|to| stored.write(to)).expect("written");
    assert_eq!(StoredTree::read(&bytes).expect("what was written"), stored);
    // The first chunk goes, and another comes.
    let kept: Vec<Option<u32>> = (0..stored.tree.leaves).map(|leaf| leaf.checked_sub(1)).collect();
    let last = stored.tree.leaves.saturating_sub(1);
    stored.tree.follow(&kept, &[(last, &[1.0, 0.0, 0.0])], last + 1);
    stored.tree.rename();
}

fn pipeline() -> Pipeline {
    Pipeline::default().with_encoder(Hashing::new(16).expect("settings"))
}

fn wait<T>(work: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_current_thread().build().expect("a runtime").block_on(work)
}

/// A folder with a small corpus, made once.
static CORPUS: LazyLock<tempfile::TempDir> = LazyLock::new(|| {
    let folder = tempfile::tempdir().expect("a folder");
    let source = MemorySource::new("notices")
        .with("one.md", "# Bells\n\nThe bell is rung in fog.\n\n| berth | metres |\n|---|---|\n| one | 7.6 |\n")
        .with("two.md", "# Locks\n\nThe lock is shut at night.");
    wait(async {
        let corpus = pipeline().open(folder.path()).await.expect("a corpus");
        corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    });
    folder
});

fn copy(from: &Path, to: &Path) -> Vec<PathBuf> {
    fs::create_dir_all(to).expect("a folder");
    let mut files = Vec::new();
    for entry in fs::read_dir(from).expect("a folder").flatten() {
        let (path, own) = (entry.path(), to.join(entry.file_name()));
        if path.is_dir() {
            files.extend(copy(&path, &own));
        } else {
            fs::copy(&path, &own).expect("a copy");
            files.push(own);
        }
    }
    files.sort();
    files
}

/// Damages a file of a corpus, opens it, asks it and builds it again.
fn catalogue(input: &[u8]) {
    let folder = tempfile::tempdir().expect("a folder");
    let files = copy(CORPUS.path(), folder.path());
    let Some((first, rest)) = input.split_first() else { return };
    let file = &files[usize::from(*first) % files.len()];
    let bytes = fs::read(file).expect("a file");
    // Most places of a database are far behind the first 64 kB; a multiple of the place reaches them.
    fs::write(file, damaged(&bytes, rest)).expect("a file");
    wait(async {
        if let Ok(corpus) = pipeline().open(folder.path()).await {
            let _ = corpus.search("When is the bell rung?").await;
            let _ = corpus.ask("When is the bell rung?").await;
            let _ = corpus.info().await;
            let _ = corpus.verify().await;
            let source = MemorySource::new("notices").with("one.md", "# Bells\n\nThe bell is not rung.");
            let _ = corpus.build(BuildRequest::default().source(source)).await;
        }
    });
}

/// An export of the corpus, line by line.
static EXPORT: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let file = tempfile::NamedTempFile::new().expect("a file");
    let to = file.reopen().expect("a file");
    let made = CORPUS.path();
    wait(async {
        let corpus = pipeline().open(made).await.expect("a corpus");
        corpus.export(to).await.expect("an export");
    });
    fs::read(file.path()).expect("an export")
});

fn import(input: &[u8]) {
    let lines = damaged(&EXPORT, input);
    wait(async {
        let corpus = pipeline().in_memory().await.expect("a corpus");
        let _ = corpus.import(Cursor::new(lines)).await;
        let _ = corpus.search("bell").await;
    });
}
