//! Reading from any source: memory, addresses, scans; and what limits do.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpListener;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use logothete::document::{BlockKind, Document, DocumentBuilder, Input, Parser, Value};
use logothete::source::{Content, Item, Items};
use logothete::{
    BoxFuture, BuildRequest, Corpus, Error, ErrorKind, Fingerprint, Hashing, MemorySource, Pipeline, Result, Source,
    Tesseract, WebSource,
};
use rstest::rstest;
use tempfile::TempDir;

async fn corpus(pipeline: &Pipeline) -> (Corpus, TempDir) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    (pipeline.open(folder.path().join("c")).await.expect("a corpus"), folder)
}

fn parsed_metadata(folder: &TempDir, name: &str) -> serde_json::Value {
    let database = rusqlite::Connection::open(folder.path().join("c/corpus.db")).expect("the catalogue");
    let sql = "SELECT metadata FROM main.documents WHERE name = ?";
    let text: String = database.query_row(sql, [name], |row| row.get(0)).expect("the document");
    serde_json::from_str(&text).expect("JSON")
}

#[tokio::test]
async fn documents_in_memory_come_go_and_carry_metadata() {
    let (corpus, folder) = corpus(&Pipeline::default()).await;
    let source = |second: &str| {
        MemorySource::new("orders").with("one.md", "# One\n\nRing the bell.").with(second, "Lower the flag.")
    };
    let request = |source| BuildRequest::default().source(source).metadata("station", Value::Text("tower".into()));
    let report = corpus.build(request(source("two.txt"))).await.expect("a build");
    assert_eq!((report.added, report.failed.len()), (2, 0));
    let known = parsed_metadata(&folder, "one.md");
    assert_eq!((known["station"].as_str(), known["file_name"].as_str()), (Some("tower"), Some("one.md")));
    assert!(known["content_hash"].as_str().is_some_and(|hash| hash.len() == 64) && known["file_size"].is_number());
    let report = corpus.build(request(source("three.txt"))).await.expect("a build");
    assert_eq!((report.added, report.removed, report.moved, report.unchanged), (0, 0, 1, 1));
    let found = corpus.search("flag").await.expect("a search");
    assert_eq!(found.passages[0].location.document, "three.txt");
}

/// Serves these answers on this machine, by path, and notes what was asked for.
fn serve(answers: &'static [(&'static str, &'static str)]) -> (String, Arc<Mutex<Vec<String>>>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let host = format!("127.0.0.1:{}", listener.local_addr().expect("an address").port());
    let asked = Arc::new(Mutex::new(Vec::new()));
    let log = Arc::clone(&asked);
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { break };
            let mut lines = BufReader::new(stream.try_clone().expect("a second handle")).lines();
            let first = lines.next().and_then(std::result::Result::ok).unwrap_or_default();
            let path = first.split(' ').nth(1).unwrap_or_default().to_owned();
            while lines.next().and_then(std::result::Result::ok).is_some_and(|line| !line.is_empty()) {}
            let answer = answers
                .iter()
                .find(|(known, _)| *known == path)
                .map_or("HTTP/1.1 404 Not Found\r\n\r\n", |found| found.1);
            log.lock().expect("the log").push(path);
            let _ = stream.write_all(answer.as_bytes());
        }
    });
    (host, asked)
}

const ANSWERS: &[(&str, &str)] = &[
    (
        "/rules",
        "HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=utf-8\r\nConnection: close\r\n\r\n<html><body><h1>Rules</h1><p>No wake in the basin.</p></body></html>",
    ),
    ("/moved", "HTTP/1.1 302 Found\r\nLocation: /rules\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"),
    (
        "/away",
        "HTTP/1.1 302 Found\r\nLocation: http://elsewhere.test/x\r\nContent-Length: 0\r\nConnection: close\r\n\r\n",
    ),
    (
        "/large",
        "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nConnection: close\r\n\r\n0123456789012345678901234567890123456789",
    ),
];

#[tokio::test]
async fn addresses_are_fetched_from_allowed_hosts_only() {
    let (host, asked) = serve(ANSWERS);
    let addresses = ["rules", "moved", "away", "large", "gone"].map(|path| format!("http://{host}/{path}")).to_vec();
    let pipeline = Pipeline::default().with_encoder(Hashing::default());
    let (corpus, folder) = corpus(&pipeline).await;
    let nobody = BuildRequest::default().source(WebSource::new("site", addresses.clone(), Vec::new()));
    let report = corpus.build(nobody).await.expect("a report");
    assert_eq!((report.added, report.failed.len()), (0, 5));
    assert!(report.failed[0].reason.contains("is not allowed"), "{:?}", report.failed);
    assert!(asked.lock().expect("the log").is_empty(), "no connection was made");

    let allowed = BuildRequest::default().source(WebSource::new("site", addresses, vec![host.clone()]));
    let report = corpus.build(allowed).await.expect("a report");
    assert_eq!(report.added, 3, "{:?}", report.failed);
    let reasons: Vec<&str> = report.failed.iter().map(|failure| failure.reason.as_str()).collect();
    assert!(reasons.iter().any(|reason| reason.contains("elsewhere.test is not allowed")), "{reasons:?}");
    assert!(reasons.iter().any(|reason| reason.contains("404")), "{reasons:?}");
    let known = parsed_metadata(&folder, &format!("{host}/rules"));
    assert_eq!(known["address"].as_str(), Some(format!("http://{host}/rules").as_str()));
    assert_eq!(corpus.search("wake basin").await.expect("a search").passages[0].location.section, ["Rules"]);
}

#[tokio::test]
async fn what_is_too_large_at_an_address_is_not_kept() {
    let (host, _) = serve(ANSWERS);
    let pipeline = Pipeline::default().configured(|config| config.limits.file_megabytes = 0);
    let (corpus, _folder) = corpus(&pipeline).await;
    let source = WebSource::new("site", vec![format!("http://{host}/large")], vec![host]);
    let report = corpus.build(BuildRequest::default().source(source)).await.expect("a report");
    assert!(report.failed[0].reason.contains("raise file_megabytes"), "{:?}", report.failed);
}

/// A source that is asked for its items one after the other.
struct Endless(Arc<Mutex<usize>>);

impl Source for Endless {
    fn location(&self) -> String {
        "endless:a".to_owned()
    }

    fn items(&self) -> BoxFuture<'_, Result<Items>> {
        let count = Arc::clone(&self.0);
        Box::pin(async move {
            Ok(Box::new((0..1_000_000).map(move |number| {
                *count.lock().expect("the count") += 1;
                Ok(Item { path: format!("{number:07}.txt"), place: number.to_string(), ..Item::default() })
            })) as Items)
        })
    }

    fn read<'a>(&'a self, item: &'a Item, _most: u64) -> BoxFuture<'a, Result<Content>> {
        Box::pin(async move {
            // A source may wait, for a network or a disk.
            tokio::time::sleep(Duration::from_millis(1)).await;
            Ok(Content { bytes: format!("Note {}.", item.place).into_bytes(), media_type: None })
        })
    }
}

#[tokio::test]
async fn a_source_of_a_million_is_read_as_it_comes() {
    let listed = Arc::new(Mutex::new(0));
    let (corpus, _folder) = corpus(&Pipeline::default()).await;
    let mut request = BuildRequest::default().source(Endless(Arc::clone(&listed)));
    let stop = request.stop_token();
    let seen = Arc::new(Mutex::new(Vec::new()));
    let names = Arc::clone(&seen);
    // Progress counts the items first; without it nothing is listed ahead.
    request = request.on_progress(move |progress| {
        let mut names = names.lock().expect("the names");
        if progress.encoding.is_none() && progress.stage == logothete::Stage::Documents && !progress.document.is_empty()
        {
            names.push(progress.document.clone());
        }
        if names.len() >= 40 {
            stop.stop();
        }
    });
    let report = corpus.build(request).await.expect("a report");
    assert!(report.stopped && report.added >= 40 && report.added < 200, "{}", report.added);
    let names = seen.lock().expect("the names");
    assert!(names.windows(2).all(|pair| pair[0] < pair[1]), "results come in the order of the source");
    let ahead = *listed.lock().expect("the count") - 1_000_000;
    assert!(ahead < 300, "{ahead} were listed for {} that were read", report.added);
}

/// A parser that takes its time, and one that does not look at the clock either.
struct Slow {
    polite: bool,
}

impl Parser for Slow {
    fn media_types(&self) -> &[&str] {
        &["application/x-slow"]
    }

    fn endings(&self) -> &[&str] {
        if self.polite { &["slow"] } else { &["stuck"] }
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["slow"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        for _ in 0..2_000 {
            std::thread::sleep(Duration::from_millis(5));
            if self.polite {
                input.budget.check()?;
            }
        }
        let mut builder = DocumentBuilder::new(input.name, "application/x-slow");
        builder.block(BlockKind::Paragraph, "done");
        Ok(builder.finish())
    }
}

#[tokio::test]
async fn a_file_over_its_time_is_dropped_and_named() {
    let pipeline = Pipeline::default()
        .configured(|config| config.limits.seconds = 1)
        .with_parser(Slow { polite: true })
        .with_parser(Slow { polite: false });
    let (corpus, _folder) = corpus(&pipeline).await;
    let source = MemorySource::new("a").with("a.slow", "x").with("b.stuck", "x").with("c.txt", "Quick.");
    let report = corpus.build(BuildRequest::default().source(source)).await.expect("a report");
    assert_eq!((report.added, report.failed.len()), (1, 2));
    for failure in &report.failed {
        assert!(failure.reason.contains("took more than 1 s"), "{failure:?}");
    }
}

#[test]
fn a_scan_is_recognised_where_the_program_is_installed() {
    // A build of this crate alone has no feature `picture`; one of the workspace has.
    if !cfg!(feature = "picture") || Tesseract::find("").is_none() {
        assert!(std::env::var_os("NEEDS_TESSERACT").is_none(), "the feature `picture` or tesseract is missing");
        eprintln!("skipped: the feature `picture` or tesseract is missing");
        return;
    }
    let mut bytes = Vec::new();
    let scan = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents/scanned-letter.pdf");
    std::fs::File::open(scan).and_then(|mut file| file.read_to_end(&mut bytes)).expect("the scan");
    let document = Pipeline::default().parse("scanned-letter.pdf", bytes).expect("it is read");
    for words in ["Saltpan Rowing Club", "lost its third rung", "Tuesdays and Saturdays"] {
        assert!(document.text.contains(words), "{}", document.text);
    }
    assert!(document.warnings[0].contains("recognised from pictures"), "{:?}", document.warnings);
    let sure = document.recognised.iter().filter(|word| word.confidence > 0.8).count();
    assert!(sure * 10 > document.recognised.len() * 8 && !document.boxes.is_empty());
}

#[tokio::test]
async fn citations_name_the_minute_and_the_rectangle() {
    let (corpus, _folder) = corpus(&Pipeline::default()).await;
    let lesson = "WEBVTT\n\n12:31.000 --> 12:36.000\nThe storm lines hang behind the ice house.\n";
    let pdf = std::fs::read(std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents/byelaws.pdf"))
        .expect("the demo");
    let source = MemorySource::new("a").with("lesson.vtt", lesson).with("byelaws.pdf", pdf);
    corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    let answer = corpus.ask("Where do the storm lines hang?").await.expect("an answer");
    assert_eq!(
        (answer.answer.sources[0].location.seconds, answer.answer.sources[0].location.to_string().as_str()),
        (Some(751.0), "lesson.vtt, at 12:31")
    );
    let answer = corpus.ask("What does a diving permit cost?").await.expect("an answer");
    let place = answer.answer.sources[0].location.areas[0];
    assert_eq!(Some(place.page), answer.answer.sources[0].location.pages.map(|pages| pages.first));
    assert!(place.area.width() > 100.0 && place.area.height() < 60.0, "{place:?}");
}

#[test]
fn an_error_says_whether_to_try_again() {
    assert!(Error::new(ErrorKind::Unavailable, "no answer").is_retryable());
}

/// The chunks as versions 1 and 2 kept them.
const CHUNKS_2: &str = "
CREATE TABLE old (
    id TEXT PRIMARY KEY, document INTEGER NOT NULL REFERENCES documents ON DELETE CASCADE, ordinal INTEGER NOT NULL,
    start INTEGER NOT NULL, \"end\" INTEGER NOT NULL, first_page INTEGER, last_page INTEGER, section TEXT NOT NULL,
    size INTEGER NOT NULL, text TEXT NOT NULL, context TEXT NOT NULL, sentences TEXT NOT NULL,
    segment INTEGER NOT NULL REFERENCES segments, row INTEGER NOT NULL, UNIQUE (segment, row)
);
INSERT INTO old SELECT id, document, ordinal, start, \"end\", first_page, last_page, section, size, text, context, sentences,
    segment, row FROM chunks;
DROP TABLE chunks;
ALTER TABLE old RENAME TO chunks;
CREATE INDEX chunks_of_document ON chunks (document, ordinal);
UPDATE main.documents SET chunker = 'another';
";

/// The segments as version 4 kept them.
const SEGMENTS_4: &str = "
PRAGMA foreign_keys = OFF;
DROP TRIGGER chunk_gone;
ALTER TABLE segments ADD COLUMN vectors TEXT NOT NULL DEFAULT '';
ALTER TABLE segments ADD COLUMN keywords TEXT NOT NULL DEFAULT '';
ALTER TABLE segments ADD COLUMN near TEXT;
UPDATE segments SET
    vectors = (SELECT name FROM segment_files WHERE segment = segments.id AND kind = 'vectors'),
    keywords = (SELECT name FROM segment_files WHERE segment = segments.id AND kind = 'keywords'),
    near = (SELECT name FROM segment_files WHERE segment = segments.id AND kind IN ('graph', 'lists'));
DROP TABLE segment_files;
CREATE TRIGGER chunk_gone AFTER DELETE ON chunks WHEN old.segment IS NOT NULL BEGIN
    INSERT OR IGNORE INTO gone VALUES (old.segment, old.row);
END;
ALTER TABLE chunks DROP COLUMN contents;
ALTER TABLE chunks DROP COLUMN entries;
";

/// What version 3 had not.
const SEGMENTS_3: &str = "
DROP TRIGGER chunk_gone;
DROP TABLE gone;
DROP INDEX documents_hash;
ALTER TABLE documents DROP COLUMN inode;
ALTER TABLE segments DROP COLUMN near;
ALTER TABLE segments DROP COLUMN live;
";

/// A build of four documents, the first with a text of its own.
fn four_documents(text: &str) -> BuildRequest {
    let source = MemorySource::new("a").with("one.txt", text).with("two.txt", "Ring the bell.");
    BuildRequest::default().source(source.with("three.txt", "Oil the hinge.").with("four.txt", "Paint the door."))
}

/// Makes the postings those of the first version, which are known by their header.
fn outdate_postings(corpus: &std::path::Path) {
    for file in std::fs::read_dir(corpus.join("segments")).expect("segments").flatten() {
        if file.path().extension().is_some_and(|ending| ending == "keywords") {
            let mut bytes = std::fs::read(file.path()).expect("a segment");
            bytes[8] = 1;
            let check = crc32fast::hash(&bytes[..60]);
            bytes[60..64].copy_from_slice(&check.to_le_bytes());
            std::fs::write(file.path(), bytes).expect("a file");
        }
    }
}

#[tokio::test]
async fn a_corpus_of_version_3_opens_and_knows_what_is_deleted() {
    let (corpus, folder) = corpus(&Pipeline::default()).await;
    corpus.build(four_documents("Ring a gong.")).await.expect("a build");
    corpus.build(four_documents("Blow the horn.")).await.expect("a build");
    let before = corpus.info().await.expect("facts");
    assert_eq!((before.rows, before.dead_rows), (5, 1));
    drop(corpus);
    let database = rusqlite::Connection::open(folder.path().join("c/corpus.db")).expect("the catalogue");
    database.execute_batch(&format!("{SEGMENTS_4}{SEGMENTS_3}PRAGMA user_version = 3;")).expect("the version before");
    drop(database);
    outdate_postings(&folder.path().join("c"));
    let corpus = Pipeline::default().open(folder.path().join("c")).await.expect("it is brought up to date");
    corpus.verify().await.expect("sound indexes");
    let after = corpus.info().await.expect("facts");
    assert_eq!((after.rows, after.dead_rows, after.format), (5, 1, 7));
    let found = corpus.search("+horn").await.expect("a search").passages;
    assert_eq!((found.len(), found[0].location.document.as_str()), (1, "one.txt"));
    assert!(corpus.search("+gong").await.expect("a search").passages.is_empty());
}

#[rstest]
#[case("exact")]
#[case("graph")]
#[case("lists")]
#[tokio::test]
async fn a_corpus_of_version_4_keeps_its_files_and_deleted_rows(#[case] kind: &str) {
    let config = logothete::Config::parse(&format!("[index]\nkind = \"{kind}\"\n")).expect("settings");
    let pipeline = Pipeline::from_config(&config).expect("a pipeline");
    let (corpus, folder) = corpus(&pipeline).await;
    corpus.build(four_documents("Ring a gong.")).await.expect("a build");
    corpus.build(four_documents("Blow the horn.")).await.expect("a build");
    let before = corpus.info().await.expect("facts");
    drop(corpus);
    let database = rusqlite::Connection::open(folder.path().join("c/corpus.db")).expect("the catalogue");
    database.execute_batch(&format!("{SEGMENTS_4}PRAGMA user_version = 4;")).expect("the version before");
    drop(database);
    let corpus = pipeline.open(folder.path().join("c")).await.expect("it is migrated");
    corpus.verify().await.expect("sound indexes");
    let after = corpus.info().await.expect("facts");
    assert_eq!((after.rows, after.dead_rows, after.segments), (before.rows, before.dead_rows, before.segments));
    assert_eq!(corpus.search("+horn").await.expect("a search").passages.len(), 1);
    assert_eq!(corpus.build(four_documents("Blow the horn.")).await.expect("a build").unchanged, 4);
}

#[rstest]
#[case("PRAGMA user_version = 2;")]
#[case("ALTER TABLE documents DROP COLUMN layout; PRAGMA user_version = 1;")]
#[tokio::test]
async fn a_corpus_of_a_version_before_opens_and_goes_on(#[case] rest: &str) {
    let (corpus, folder) = corpus(&Pipeline::default()).await;
    let source = |text: &str| {
        BuildRequest::default().source(MemorySource::new("a").with("one.txt", text).with("two.txt", "Ring the bell."))
    };
    corpus.build(source("Ring a gong.")).await.expect("a build");
    drop(corpus);
    let database = rusqlite::Connection::open(folder.path().join("c/corpus.db")).expect("the catalogue");
    database.execute_batch(&format!("{SEGMENTS_4}{SEGMENTS_3}{CHUNKS_2}{rest}")).expect("the version before");
    drop(database);
    let corpus = Pipeline::default().open(folder.path().join("c")).await.expect("it is brought up to date");
    assert_eq!(corpus.search("bell").await.expect("a search").passages[0].location.document, "two.txt");
    // All are cut again, and now repetitions are seen.
    let report = corpus.build(source("Ring the bell!")).await.expect("a build");
    assert_eq!((report.changed, report.failed.len(), report.repeated), (2, 0, 1));
    assert_eq!(corpus.search("bell").await.expect("a search").passages[0].also.len(), 1);
}
