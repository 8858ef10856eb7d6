//! Tests that each backend of the storage must pass, and their runs for the backends of this crate.

use std::collections::HashSet;

use logothete_core::chunk::{self, Structure};
use logothete_core::document::{BlockKind, Document, DocumentBuilder, Location, Span};
use logothete_core::{ErrorKind, Result, TokenUsage};
use rstest::rstest;

use super::blobs::{BlobStore, FolderBlobs, MemoryBlobs};
use super::cache::{CacheStore, CachedReply, CachedVector, NewReply, SqliteCache, vector_key};
use super::catalogue::{
    Catalogue, EncoderIdentity, FileKind, FileState, IndexEntry, NewChunk, NewDocument, RowId, SegmentFiles, Which,
};
use super::lease::{FileLease, LeaseStore, MemoryLease};
use super::sqlite::SqliteCatalogue;

/// Returns a document with two sections.
fn document(name: &str) -> Document {
    let mut builder = DocumentBuilder::new(name, "text/plain");
    builder.heading(1, "Bell");
    builder.block(BlockKind::Paragraph, "The bell rings in fog.");
    builder.heading(1, "Lamp");
    builder.block(BlockKind::Paragraph, "The lamp is lit at dusk.");
    builder.finish()
}

/// Commits a document whose chunks have the rows of one segment; returns the id of the segment.
fn add(catalogue: &dyn Catalogue, lease: u64, name: &str) -> Result<i64> {
    let document = document(name);
    let chunks = chunk::chunks(&document, name, &Structure::default())?;
    let transaction = catalogue.begin(lease)?;
    let source = match transaction.sources()?.first() {
        Some(source) => source.id,
        None => transaction.add_source("quay", "/quay", true)?,
    };
    let mut files = SegmentFiles { rows: chunks.len() as u32, ..SegmentFiles::default() };
    for kind in [FileKind::Vectors, FileKind::Keywords] {
        files.names.insert(kind, format!("{name}.{}", kind.name()));
    }
    let segment = transaction.add_segment(&files)?;
    let state = FileState { hash: name.to_owned(), ..FileState::default() };
    let new =
        NewDocument { source, path: name, document: &document, state: &state, parser: "p", chunker: "c", given: "{}" };
    let id = transaction.insert_documents(&[new])?[0];
    let entry = |row: usize| IndexEntry { row: Some(RowId { segment, row: row as u32 }), ..IndexEntry::default() };
    let new: Vec<_> = chunks
        .iter()
        .enumerate()
        .map(|(ordinal, chunk)| NewChunk { document: id, ordinal, chunk, entry: entry(ordinal) })
        .collect();
    transaction.add_chunks(&new)?;
    transaction.commit()?;
    Ok(segment)
}

fn catalogue_contract(catalogue: &dyn Catalogue) -> Result<()> {
    // A change is seen when it is committed, and by those who begin to read afterwards.
    let before = catalogue.read()?;
    assert!(before.is_empty()? && before.manifest()?.commit == 0);
    let lease = catalogue.next_lease()?;
    let segment = add(catalogue, lease, "a.txt")?;
    assert!(before.is_empty()?, "a reader sees one commit");
    drop(before);
    let now = catalogue.read()?;
    assert_eq!((now.manifest()?.commit, now.counts()?.chunks), (1, 2));

    // Sets are answered in the order of what was asked, without what is missing.
    let row = |row| RowId { segment, row };
    let passages = now.passages_at(&[row(1), row(7), row(0)])?;
    let sections: Vec<&str> = passages.iter().map(|passage| passage.location.section[0].as_str()).collect();
    assert_eq!(sections, ["Lamp", "Bell"]);
    let ids: Vec<_> = passages.iter().map(|passage| passage.chunk.clone()).collect();
    assert_eq!(now.passages(&ids)?, passages);
    assert_eq!(now.owners(&ids)?.len(), 2);
    let known = now.known(Which::Named(&["b.txt", "a.txt"]))?;
    assert_eq!((known.len(), known[0].path.as_str(), known[0].identity.as_str()), (1, "a.txt", "quay/a.txt"));
    assert_eq!(now.known(Which::WithContent(&["a.txt"], "p"))?, known);
    assert!(now.known(Which::WithContent(&["a.txt"], "another"))?.is_empty());
    assert!(now.known(Which::NotCutBy("c"))?.is_empty());
    assert_eq!(now.taken_names(&["a.txt", "b.txt"])?, HashSet::from(["a.txt".to_owned()]));
    assert_eq!(now.documents(&[known[0].id, 99])?[&known[0].id], document("a.txt"));
    let at = document("a.txt").text.find("dusk").expect("a word");
    let mut location = Location::new("a.txt", Span::new(at, at + 4));
    now.pinpoint(&mut [&mut location])?;
    assert_eq!(location.section, ["Lamp"]);
    drop(now);

    // A change that is dropped has not happened.
    let transaction = catalogue.begin(lease)?;
    transaction.remove_documents(&[known[0].id])?;
    assert!(transaction.is_empty()?, "a transaction sees its own changes");
    drop(transaction);
    assert!(!catalogue.read()?.is_empty()?);

    // The rows of chunks that are removed are dead from the same commit on.
    let transaction = catalogue.begin(lease)?;
    let encoder = EncoderIdentity { fingerprint: "f".into(), name: "n".into(), dimensions: 3 };
    transaction.set_encoder(&encoder)?;
    transaction.remove_documents(&[known[0].id])?;
    transaction.commit()?;
    let now = catalogue.read()?;
    assert_eq!(now.manifest()?.encoder, Some(encoder));
    assert_eq!(now.segments()?[0].live.len(), 0);
    drop(now);

    // Moved rows keep their order; a segment that is removed takes its files with it.
    let first = add(catalogue, lease, "b.txt")?;
    let entry = catalogue.read()?.segments()?.pop().expect("a segment");
    let transaction = catalogue.begin(lease)?;
    let merged = transaction.add_segment(&SegmentFiles { rows: 5, ..entry.files.clone() })?;
    transaction.move_rows(&entry, merged, 3)?;
    transaction.mark_dead(merged, &[0, 1, 2])?;
    transaction.remove_segments(&[first, segment])?;
    transaction.commit()?;
    let now = catalogue.read()?;
    let segments = now.segments()?;
    assert_eq!((segments.len(), segments[0].live.iter().collect::<Vec<_>>()), (1, vec![3, 4]));
    assert_eq!(now.passages_at(&[RowId { segment: merged, row: 3 }])?.len(), 1);
    drop(now);

    // Files are named by kind, and can be replaced.
    let graph = segments[0].files.with_ann(Some((FileKind::Graph, "x.graph".into())));
    let transaction = catalogue.begin(lease)?;
    transaction.set_files(&[(merged, graph.clone())])?;
    transaction.commit()?;
    assert_eq!(catalogue.read()?.segments()?[0].files, graph);

    // A writer that lost its lease can commit no more.
    let later = catalogue.next_lease()?;
    assert!(later > lease);
    let error = add(catalogue, lease, "c.txt").expect_err("the lease was lost");
    assert_eq!(error.kind(), ErrorKind::Busy);
    assert_eq!(catalogue.read()?.counts()?.chunks, 2);
    add(catalogue, later, "c.txt")?;
    catalogue.compact()
}

fn blob_contract(blobs: &dyn BlobStore) -> Result<()> {
    let write = |content: &[u8]| {
        blobs.write(FileKind::Vectors, &mut |to| {
            to.write_all(content).expect("written");
            Ok(Default::default())
        })
    };
    let (first, second) = (write(b"bell")?, write(b"lamp")?);
    assert_ne!(first, second);
    assert_eq!(write(b"bell")?, first, "the content decides the name");
    blobs.sync()?;
    let held = blobs.open(&first)?;
    assert!(held.as_ref().ends_with(b"bell"));
    assert_eq!(blobs.bytes(&[&first, "missing"]), held.as_ref().len() as u64);
    blobs.sweep(&HashSet::from([second.clone()]))?;
    assert_eq!(blobs.open(&first).expect_err("it was swept").kind(), ErrorKind::Corpus);
    assert!(held.as_ref().ends_with(b"bell"), "an open file stays readable");
    blobs.open(&second).map(|_| ())
}

fn cache_contract(cache: &dyn CacheStore) -> Result<()> {
    let keys = [vector_key("encoder", "bell"), vector_key("encoder", "lamp"), vector_key("another", "bell")];
    assert!(cache.vectors(&keys)?.is_empty());
    let vectors: [&[f32]; 2] = [&[0.5, -1.0], &[2.0, 3.5]];
    let new = [0, 1].map(|at| CachedVector { key: keys[at], vector: vectors[at], owner: ["a.txt", "b.txt"][at] });
    cache.put_vectors(&new)?;
    let found = cache.vectors(&keys)?;
    assert_eq!((found.len(), found[&keys[0]].as_slice(), found[&keys[1]].as_slice()), (2, vectors[0], vectors[1]));
    let reply = CachedReply { text: "A bell.".into(), usage: TokenUsage { sent: 9, received: 2 } };
    cache.put_replies(&[NewReply { key: "k", text: &reply.text, usage: reply.usage, owner: "a.txt" }])?;
    assert_eq!(cache.replies(&["k", "l"])?["k"], reply);
    cache.rename("a.txt", "c.txt")?;
    cache.forget("a.txt", &[])?;
    assert_eq!(cache.vectors(&keys)?.len(), 2, "they belong to the new name");
    cache.forget("c.txt", &[keys[1]])?;
    assert!(cache.vectors(&keys)?.is_empty() && cache.replies(&["k"])?.is_empty());
    Ok(())
}

fn lease_contract(leases: &dyn LeaseStore) -> Result<()> {
    let held = leases.acquire()?;
    assert_eq!(leases.acquire().err().expect("it is held").kind(), ErrorKind::Busy);
    drop(held);
    leases.acquire().map(|_| ())
}

#[rstest]
#[case::folder(true)]
#[case::memory(false)]
fn backends_keep_the_contract(#[case] on_disk: bool) -> Result<()> {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path();
    if on_disk {
        catalogue_contract(&SqliteCatalogue::open(path)?)?;
        blob_contract(&FolderBlobs::open(path)?)?;
        cache_contract(&SqliteCache::new(path))?;
        lease_contract(&FileLease::new(path))
    } else {
        catalogue_contract(&SqliteCatalogue::in_memory()?)?;
        blob_contract(&MemoryBlobs::default())?;
        cache_contract(&SqliteCache::in_memory())?;
        lease_contract(&MemoryLease::default())
    }
}
