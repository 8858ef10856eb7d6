//! The corpus through the public API: incremental builds, scoping, damage, other encoders.

use std::fs;
use std::path::{Path, PathBuf};

use logothete::chunk::{Limit, Structure};
use logothete::{BuildReport, BuildRequest, Corpus, ErrorKind, Hashing, Pipeline};
use rstest::rstest;
use tempfile::TempDir;

fn demo() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents")
}

/// A folder with a copy of the demo's notices, and room for a corpus.
struct Place {
    folder: TempDir,
}

impl Place {
    fn new() -> Self {
        let place = Self { folder: tempfile::tempdir().expect("a temporary folder") };
        fs::create_dir(place.docs()).expect("a folder");
        for entry in fs::read_dir(demo().join("notices")).expect("the demo").flatten() {
            fs::copy(entry.path(), place.docs().join(entry.file_name())).expect("a copy");
        }
        place
    }

    fn docs(&self) -> PathBuf {
        self.folder.path().join("docs")
    }

    fn corpus_folder(&self) -> PathBuf {
        self.folder.path().join("c.corpus")
    }

    async fn open(&self) -> Corpus {
        Pipeline::default().open(self.corpus_folder()).await.expect("the corpus opens")
    }

    fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        let path = self.docs().join(name);
        fs::create_dir_all(path.parent().expect("a parent")).expect("a folder");
        fs::write(path, text).expect("a file");
    }
}

fn counts(report: &BuildReport) -> (usize, usize, usize, usize, usize) {
    (report.added, report.changed, report.removed, report.unchanged, report.failed.len())
}

/// Everything a search returns that does not depend on time or on places in segments.
async fn found(corpus: &Corpus, query: &str) -> Vec<(String, String, f32)> {
    let result = corpus.search(query).await.expect("a search");
    result.passages.into_iter().map(|passage| (passage.location.document, passage.text, passage.score)).collect()
}

#[tokio::test]
async fn a_second_build_does_nothing_and_a_change_redoes_its_document_alone() {
    let place = Place::new();
    let corpus = place.open().await;
    let first = corpus.build(&place.docs()).await.expect("a build");
    assert_eq!(counts(&first), (8, 0, 0, 0, 0));
    assert!(first.encoded > 8 && first.cached == 0);

    let second = corpus.build(&place.docs()).await.expect("a build");
    assert_eq!(counts(&second), (0, 0, 0, 8, 0));
    assert_eq!((second.encoded, second.chunks), (0, first.chunks));

    let path = place.docs().join("notice-2025-07.md");
    let text = fs::read_to_string(&path).expect("a notice") + "\n## Addition\n\nThe slipway is painted blue.\n";
    fs::write(&path, text).expect("a file");
    fs::remove_file(place.docs().join("notice-2025-01.md")).expect("a file to remove");
    place.write("new.txt", "A seal sleeps on the pontoon.");
    let third = corpus.build(&place.docs()).await.expect("a build");
    assert_eq!(counts(&third), (1, 1, 1, 6, 0));
    // Of the changed document only the new section is encoded; the rest keeps its vectors.
    assert_eq!((third.encoded, third.cached), (2, 3));
    assert_eq!(found(&corpus, "slipway painted blue").await[0].0, "notice-2025-07.md");
    assert!(found(&corpus, "dredger floating pipe").await.iter().all(|(document, ..)| document != "notice-2025-01.md"));
}

#[tokio::test]
async fn builds_step_by_step_find_what_one_build_finds() {
    let place = Place::new();
    let stepped = place.open().await;
    for round in 0..12 {
        place.write("log.txt", format!("Round {round}: the bell rang {round} times in the fog."));
        place.write(&format!("extra/{round}.txt"), format!("Barge number {round} carries gravel and sand."));
        stepped.build(&place.docs()).await.expect("a build");
    }
    stepped.verify().await.expect("sound indexes");
    let segments = fs::read_dir(place.corpus_folder().join("segments")).expect("segments").count();
    assert!(segments <= 18, "{segments} files: old segments are merged and swept");

    let fresh_folder = place.folder.path().join("fresh.corpus");
    let fresh = Pipeline::default().open(&fresh_folder).await.expect("a corpus");
    fresh.build(&place.docs()).await.expect("a build");
    for query in ["bell in the fog", "barge 7 gravel", "swing bridge", "nothing of the kind"] {
        let (mut a, mut b) = (found(&stepped, query).await, found(&fresh, query).await);
        // Passages of the same score may stand in either order, and the last ones may fall to either side of the cut.
        let last = a.last().map_or(0.0, |last| last.2).max(b.last().map_or(0.0, |last| last.2)) + 1e-6;
        for list in [&mut a, &mut b] {
            list.retain(|passage| passage.2 > last);
            list.sort_by(|x, y| (&x.0, &x.1).cmp(&(&y.0, &y.1)));
        }
        assert_eq!(a.len(), b.len(), "{query}");
        for (a, b) in a.iter().zip(&b) {
            assert_eq!((&a.0, &a.1), (&b.0, &b.1), "{query}");
            assert!((a.2 - b.2).abs() < 1e-5);
        }
    }
}

#[tokio::test]
async fn sources_keep_to_themselves() {
    let place = Place::new();
    let other = place.folder.path().join("other");
    fs::create_dir(&other).expect("a folder");
    fs::write(other.join("notice-2025-01.md"), "# Another notice\n\nCats only.").expect("a file");
    let corpus = place.open().await;
    corpus.build(&place.docs()).await.expect("a build");
    let report = corpus.build(&other).await.expect("a build");
    assert_eq!(counts(&report), (1, 0, 0, 0, 0), "what is in docs is not gone because other has not got it");
    let info = corpus.info().await.expect("facts");
    assert_eq!(info.documents.len(), 9);
    assert!(info.documents.iter().any(|document| document.document == "other/notice-2025-01.md"));

    // A source that is not there removes nothing.
    fs::rename(&other, place.folder.path().join("away")).expect("a folder to move");
    let report = corpus.build(BuildRequest::new(Vec::<PathBuf>::new())).await.expect("a build of all that is known");
    assert_eq!(counts(&report), (0, 0, 0, 8, 1));
    assert_eq!(corpus.info().await.expect("facts").documents.len(), 9);

    // A file of a known folder is that folder's, and says nothing about the others in it.
    let report = corpus.build(place.docs().join("notice-2025-02.md")).await.expect("a build");
    assert_eq!(counts(&report), (0, 0, 0, 1, 0));
}

#[tokio::test]
async fn losing_more_than_half_of_a_source_asks_first() {
    let place = Place::new();
    let corpus = place.open().await;
    corpus.build(&place.docs()).await.expect("a build");
    for number in 1..=5 {
        fs::remove_file(place.docs().join(format!("notice-2025-0{number}.md"))).expect("a file to remove");
    }
    let report = corpus.build(&place.docs()).await.expect("a build");
    assert_eq!(counts(&report), (0, 0, 0, 3, 0));
    assert_eq!((report.prune_needed[0].gone, report.prune_needed[0].of), (5, 8));
    let report = corpus.build(BuildRequest::new([place.docs()]).prune(true)).await.expect("a build");
    assert_eq!(counts(&report), (0, 0, 5, 3, 0));
    assert_eq!(corpus.info().await.expect("facts").documents.len(), 3);
}

#[tokio::test]
async fn what_cannot_be_read_is_named_and_the_rest_goes_in() {
    let place = Place::new();
    let pdf = fs::read(demo().join("byelaws.pdf")).expect("the demo");
    place.write("bad/half.pdf", &pdf[..400]);
    place.write("bad/zero.pdf", b"");
    place.write("bad/picture.md", b"\x89PNG\r\n\x1a\nxxxx");
    place.write("bad/latin.txt", b"La mar\xe9e basse est \xe0 midi, d\xe9part du caf\xe9.");
    let corpus = place.open().await;
    let request = BuildRequest::new([place.docs(), place.folder.path().join("doc")]);
    let report = corpus.build(request).await.expect("a build");
    assert_eq!(counts(&report), (9, 0, 0, 0, 4));
    let reason = |name: &str| {
        let failure = report.failed.iter().find(|failure| failure.document.ends_with(name));
        failure.unwrap_or_else(|| panic!("{name} is not among {:?}", report.failed)).reason.clone()
    };
    assert!(reason("half.pdf").contains("cut short"));
    assert!(reason("zero.pdf").contains("empty"));
    assert!(reason("picture.md").contains("PNG"));
    assert!(reason("/doc").contains("did you mean") && reason("/doc").contains("docs"));
    assert_eq!(found(&corpus, "marée basse").await[0].0, "bad/latin.txt");

    // A document that was readable and is no longer keeps its old text, and the report says so.
    place.write("notice-2025-02.md", b"\0\0\0\0");
    let report = corpus.build(&place.docs()).await.expect("a build");
    let failure = report.failed.iter().find(|failure| failure.document == "notice-2025-02.md").expect("it failed");
    assert!(failure.reason.contains("keeps it as it was"), "{}", failure.reason);
    assert!(found(&corpus, "Farrow buoy").await.iter().any(|(document, ..)| document == "notice-2025-02.md"));
}

#[tokio::test]
async fn another_chunker_cuts_again_without_reading_and_another_encoder_is_refused() {
    let place = Place::new();
    let corpus = place.open().await;
    let first = corpus.build(&place.docs()).await.expect("a build");
    drop(corpus);
    fs::rename(place.docs(), place.folder.path().join("away")).expect("a folder to move");
    let pipeline = Pipeline::default().with_chunker(Structure::new(Limit::words(25, 0).expect("settings")));
    let corpus = pipeline.open(place.corpus_folder()).await.expect("the corpus opens");
    let report = corpus.build(BuildRequest::default()).await.expect("a build");
    assert_eq!(report.changed, 8, "all are cut again from their stored text");
    assert!(report.chunks > first.chunks && report.cached > 0);
    corpus.verify().await.expect("sound indexes");
    drop(corpus);

    let pipeline = Pipeline::default().with_encoder(Hashing::new(64).expect("settings"));
    let error = pipeline.open(place.corpus_folder()).await.expect_err("another encoder");
    assert_eq!(error.kind(), ErrorKind::Mismatch);
    let message = error.to_string();
    assert!(message.contains("384 dimensions") && message.contains("64 dimensions"), "{message}");
}

#[tokio::test]
async fn one_writer_at_a_time_and_readers_see_its_commits() {
    let place = Place::new();
    let corpus = place.open().await;
    corpus.build(&place.docs()).await.expect("a build");
    let reader = place.open().await;
    assert_eq!(found(&reader, "walrus").await.len(), found(&corpus, "walrus").await.len());
    place.write("walrus.txt", "A walrus was seen in the lock.");
    let held = fs::File::open(place.corpus_folder().join("writer.lock")).expect("the lock's file");
    held.try_lock().expect("nobody builds");
    let error = corpus.build(&place.docs()).await.expect_err("somebody else holds the lock");
    assert_eq!((error.kind(), error.is_retryable()), (ErrorKind::Busy, true));
    drop(held);
    corpus.build(&place.docs()).await.expect("a build");
    assert_eq!(found(&reader, "walrus").await[0].0, "walrus.txt");
}

#[tokio::test]
async fn a_stopped_build_keeps_what_it_has_and_goes_on_later() {
    let place = Place::new();
    for number in 0..200 {
        place.write(&format!("many/{number:03}.txt"), format!("Crate {number} holds cork."));
    }
    let corpus = place.open().await;
    let request = BuildRequest::new([place.docs()]);
    let stop = request.stop_token();
    let request = request.on_progress(move |progress| {
        if progress.done == 70 {
            stop.stop();
        }
    });
    let report = corpus.build(request).await.expect("a build");
    assert!(report.stopped && report.added >= 70 && report.added < 208, "{}", report.added);
    assert_eq!(corpus.info().await.expect("facts").documents.len(), report.added);
    let rest = corpus.build(&place.docs()).await.expect("a build");
    assert_eq!((rest.added, rest.unchanged), (208 - report.added, report.added));
    assert!(!rest.stopped && rest.removed == 0);
}

#[rstest]
#[case("vectors")]
#[case("keywords")]
#[case("graph")]
#[case("lists")]
#[tokio::test]
async fn a_damaged_segment_is_named_and_leftovers_are_swept(#[case] ending: &str) {
    let place = Place::new();
    let kind = if matches!(ending, "graph" | "lists") { ending } else { "exact" };
    let config: logothete::Config = toml::from_str(&format!("[index]\nkind = \"{kind}\"")).expect("settings");
    let pipeline = Pipeline::from_config(&config).expect("a pipeline");
    let open = async || pipeline.open(place.corpus_folder()).await.expect("the corpus opens");
    let corpus = open().await;
    corpus.build(&place.docs()).await.expect("a build");
    drop(corpus);
    let folder = place.corpus_folder().join("segments");
    fs::write(folder.join("left-over.vectors"), b"half a segment").expect("a file");
    let named = |folder: &Path| {
        let files = fs::read_dir(folder).expect("segments").flatten().map(|entry| entry.path());
        files.filter(|path| path.extension().is_some_and(|found| found == ending)).collect::<Vec<_>>()
    };
    let corpus = open().await;
    corpus.build(&place.docs()).await.expect("a build");
    let files = named(&folder);
    assert_eq!(files.len(), 1, "the left-over is gone");

    let mut bytes = fs::read(&files[0]).expect("a segment");
    let last = bytes.len() - 1;
    bytes[last] ^= 1;
    drop(corpus);
    fs::write(&files[0], &bytes).expect("a file");
    let error = open().await.verify().await.expect_err("a flipped bit");
    assert_eq!(error.kind(), ErrorKind::Corpus);
    let name = files[0].file_name().expect("a name").to_string_lossy().into_owned();
    assert!(error.to_string().contains(&name), "{error}");

    fs::write(&files[0], &bytes[..last]).expect("a file");
    let error = open().await.search("bridge").await.expect_err("a truncated segment");
    assert!(error.to_string().contains("its length has changed"), "{error}");
    fs::remove_file(&files[0]).expect("a file to remove");
    assert_eq!(open().await.search("bridge").await.expect_err("a lost segment").kind(), ErrorKind::Corpus);
}

#[tokio::test]
async fn a_damaged_or_newer_catalogue_is_an_error_that_says_so() {
    let place = Place::new();
    place.open().await.build(&place.docs()).await.expect("a build");
    let file = place.corpus_folder().join("corpus.db");
    let catalogue = rusqlite::Connection::open(&file).expect("SQLite");
    catalogue.pragma_update(None, "user_version", 99).expect("a pragma");
    drop(catalogue);
    let open = || async { Pipeline::default().open(place.corpus_folder()).await };
    assert!(open().await.expect_err("a newer format").to_string().contains("format 99"));
    fs::write(&file, vec![7u8; 5000]).expect("a file");
    assert_eq!(open().await.expect_err("no database").kind(), ErrorKind::Corpus);
    let error = Pipeline::default().open(&file).await.expect_err("a file is no folder");
    assert!(error.to_string().contains("a corpus is a folder"), "{error}");
}

#[rstest]
#[case("dot")]
#[case("euclidean")]
#[tokio::test]
async fn a_corpus_keeps_its_distance(#[case] distance: &str) {
    let place = Place::new();
    let config: logothete::Config = toml::from_str(&format!("[index]\ndistance = \"{distance}\"")).expect("settings");
    let pipeline = Pipeline::from_config(&config).expect("a pipeline");
    let corpus = pipeline.open(place.corpus_folder()).await.expect("the corpus opens");
    corpus.build(place.docs()).await.expect("a build");
    assert_eq!(corpus.info().await.expect("facts").distance.name(), distance);
    // The vectors have length 1, so that all three find the same, in the same order.
    let by_angle = tempfile::tempdir().expect("a folder");
    let other = Pipeline::default().open(by_angle.path().join("c.corpus")).await.expect("the corpus opens");
    other.build(place.docs()).await.expect("a build");
    let vector_leg = async |corpus: &Corpus| -> Vec<(usize, String)> {
        let passages = corpus.search("When is the lock shut to boats?").await.expect("a search").passages;
        let legs = passages.into_iter().filter_map(|passage| Some((passage.legs.get("vector")?.rank, passage.text)));
        let mut legs: Vec<_> = legs.collect();
        legs.sort();
        legs
    };
    assert_eq!(vector_leg(&corpus).await[..5], vector_leg(&other).await[..5]);
    drop(corpus);
    let error = Pipeline::default().open(place.corpus_folder()).await.expect_err("another distance");
    assert_eq!(error.kind(), ErrorKind::Configuration);
    assert!(error.to_string().contains(distance) && error.to_string().contains("cosine"), "{error}");
}

#[tokio::test]
async fn what_was_deleted_is_counted_until_segments_are_merged() {
    let place = Place::new();
    let corpus = place.open().await;
    corpus.build(place.docs()).await.expect("a build");
    let before = corpus.info().await.expect("facts");
    assert_eq!((before.dead_rows, before.rows), (0, before.chunks - before.repeated));
    let gone = &before.documents[0];
    fs::remove_file(place.docs().join(gone.document.rsplit('/').next().expect("a name"))).expect("removed");
    corpus.build(place.docs()).await.expect("a build");
    let after = corpus.info().await.expect("facts");
    assert_eq!((after.rows, after.dead_rows), (before.rows, gone.chunks));
    assert!(corpus.document(&gone.document).await.expect_err("it is gone").to_string().contains("no document"));
}

#[tokio::test]
async fn what_has_moved_is_neither_read_nor_encoded_again() {
    let place = Place::new();
    let corpus = place.open().await;
    let first = corpus.build(place.docs()).await.expect("a build");
    // What is in the cache would hide that something is encoded.
    drop(corpus);
    fs::remove_file(place.corpus_folder().join("cache.db")).expect("a cache");
    let corpus = place.open().await;
    fs::create_dir(place.docs().join("2025")).expect("a folder");
    for entry in fs::read_dir(place.docs()).expect("a folder").flatten().filter(|entry| entry.path().is_file()) {
        fs::rename(entry.path(), place.docs().join("2025").join(entry.file_name())).expect("a file to move");
    }
    place.write("2025/copy.md", fs::read(place.docs().join("2025/notice-2025-01.md")).expect("a file"));
    let report = corpus.build(place.docs()).await.expect("a build");
    assert_eq!((counts(&report), report.moved, report.encoded), ((1, 0, 0, 0, 0), 8, 0), "{report:?}");
    let info = corpus.info().await.expect("facts");
    assert!(info.documents.iter().all(|document| document.document.starts_with("2025/")), "{:?}", info.documents);
    let detail = corpus.document("2025/copy.md").await.expect("a document");
    assert_eq!(detail.metadata["file_name"].to_string(), "copy.md");
    assert_eq!(first.chunks + detail.info.chunks, report.chunks);
    // What has moved does not repeat itself; the copy does.
    assert_eq!(report.repeated as u64, detail.info.chunks);
    assert_eq!(corpus.build(place.docs()).await.expect("a build").unchanged, 9);
    corpus.verify().await.expect("sound indexes");
}

#[tokio::test]
async fn another_file_of_the_same_size_and_time_is_noticed() {
    let place = Place::new();
    let long_ago = std::time::SystemTime::now() - std::time::Duration::from_secs(9_000);
    let put = |text: &str| {
        place.write("new", text);
        let file = fs::File::options().append(true).open(place.docs().join("new")).expect("a file");
        file.set_modified(long_ago).expect("a time");
        fs::rename(place.docs().join("new"), place.docs().join("bell.txt")).expect("a file to move");
    };
    put("The bell rings twice.");
    let corpus = place.open().await;
    corpus.build(place.docs()).await.expect("a build");
    put("The bell rings never.");
    let report = corpus.build(place.docs()).await.expect("a build");
    assert_eq!(counts(&report).1, 1, "{report:?}");
    assert_eq!(found(&corpus, "bell never").await[0].0, "bell.txt");
}
