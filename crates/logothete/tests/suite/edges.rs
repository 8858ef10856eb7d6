//! The edges of sources, values and requests: nothing is confused, forgotten or silent there.

use std::fs;

use logothete::chunk::{Chunker, Limit};
use logothete::document::{Document, Metadata, Span, Value};
use logothete::eval::read_questions;
use logothete::search::Filter;
use logothete::{
    BuildRequest, Config, Corpus, ErrorKind, Fingerprint, FolderSource, Hashing, MemorySource, OwnChunk, Pipeline,
    Result, SearchRequest,
};
use rstest::rstest;

fn light() -> Pipeline {
    Pipeline::default().with_encoder(Hashing::new(96).expect("settings"))
}

async fn corpus(pipeline: &Pipeline) -> (tempfile::TempDir, Corpus) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    fs::create_dir(folder.path().join("docs")).expect("a folder");
    let corpus = pipeline.open(folder.path().join("c")).await.expect("a corpus");
    (folder, corpus)
}

async fn names(corpus: &Corpus) -> Vec<String> {
    let documents = corpus.info().await.expect("facts").documents;
    documents.into_iter().map(|info| info.document).collect()
}

async fn metadata(corpus: &Corpus, name: &str) -> Metadata {
    corpus.document(name).await.expect("a document").metadata
}

#[tokio::test]
async fn a_citation_names_its_section_without_the_text_of_the_document() {
    let (folder, corpus) = corpus(&light()).await;
    let text = "# Harbour\n\nIntroduction.\n\n## The bell\n\nThe bell of the north mole rings twice in fog.\n";
    corpus.build(BuildRequest::default().source(MemorySource::new("a").with("a.md", text))).await.expect("a build");
    drop(corpus);
    let database = rusqlite::Connection::open(folder.path().join("c/corpus.db")).expect("the catalogue");
    database.execute("UPDATE documents SET text = ''", []).expect("an update");
    drop(database);
    let corpus = light().open(folder.path().join("c")).await.expect("a corpus");
    let reply = corpus.ask("How often does the bell of the north mole ring in fog?").await.expect("an answer");
    assert_eq!(reply.answer.sources[0].location.section, ["Harbour", "The bell"]);
}

#[tokio::test]
async fn a_pinned_reader_of_a_corpus_in_memory_delays_no_commit() {
    let corpus = light().in_memory().await.expect("a corpus");
    let build = |text: &str| BuildRequest::default().source(MemorySource::new("a").with("a.txt", text));
    corpus.build(build("The bell rings.")).await.expect("a build");
    let pinned = corpus.pin().await.expect("a reader");
    assert_eq!(pinned.search("bell").await.expect("a search").passages.len(), 1);
    corpus.build(build("The lamp is lit.")).await.expect("a build beside the reader");
    assert_eq!(pinned.search("+bell").await.expect("a search").passages.len(), 1);
    assert!(corpus.search("+bell").await.expect("a search").passages.is_empty());
}

#[tokio::test]
async fn a_date_of_change_is_the_documents_own_or_the_files_or_none() {
    let (folder, corpus) = corpus(&light()).await;
    let own = folder.path().join("docs/own.md");
    fs::write(&own, "---\nmodified: 2020-05-17\n---\n\nThe bell rings.\n").expect("a file");
    fs::write(folder.path().join("docs/file.md"), "The lamp is lit.\n").expect("a file");
    let request = || {
        let memory = MemorySource::new("m").with("memory.md", "The gate is shut.");
        BuildRequest::new([folder.path().join("docs")]).source(memory)
    };
    corpus.build(request()).await.expect("a build");
    let before = metadata(&corpus, "file.md").await["modified"].clone();
    // Other times, the same content.
    let later = std::time::SystemTime::now() + std::time::Duration::from_secs(3600);
    for name in ["own.md", "file.md"] {
        let file = fs::File::options().write(true).open(folder.path().join("docs").join(name)).expect("a file");
        file.set_modified(later).expect("a time");
    }
    assert_eq!(corpus.build(request()).await.expect("a build").unchanged, 3);
    assert_eq!(metadata(&corpus, "own.md").await["modified"].to_string(), "2020-05-17");
    assert_ne!(metadata(&corpus, "file.md").await["modified"], before);
    assert!(!metadata(&corpus, "memory.md").await.contains_key("modified"));
}

/// Panics at documents that say so, and returns a span outside of those that say that.
struct Moody;

impl Chunker for Moody {
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["moody"])
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        assert!(!document.text.contains("storm"), "no chunker cuts a storm");
        let beyond = if document.text.contains("beyond") { 99 } else { 0 };
        Ok(vec![Span::new(0, document.text.len() + beyond)])
    }

    fn limit(&self) -> Option<&Limit> {
        None
    }
}

#[tokio::test]
async fn a_stage_that_panics_or_errs_is_named_with_its_message() {
    let (_folder, corpus) = corpus(&light().with_chunker(Moody)).await;
    let source = MemorySource::new("a")
        .with("calm.txt", "The sea is calm.")
        .with("storm.txt", "A storm is coming.")
        .with("beyond.txt", "It lies beyond the horizon.");
    let report = corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    let reason = |name: &str| &report.failed.iter().find(|failure| failure.document == name).expect("a failure").reason;
    assert_eq!(reason("storm.txt"), "the chunker panicked: no chunker cuts a storm");
    assert!(reason("beyond.txt").contains("the span 0..126 of a text with 27 bytes"), "{}", reason("beyond.txt"));
    // The handle goes on writing.
    let source = MemorySource::new("a").with("calm.txt", "The sea is rough.");
    assert_eq!(corpus.build(BuildRequest::default().source(source)).await.expect("a build").changed, 1);
}

#[cfg(unix)]
#[tokio::test]
async fn files_with_names_that_are_not_utf_8_are_read_and_told_apart() {
    use std::os::unix::ffi::OsStrExt;
    let (folder, corpus) = corpus(&light()).await;
    let docs = folder.path().join("docs");
    for (name, text) in [(b"caf\xE9.txt".as_slice(), "Coffee is served."), (b"caf\xE8.txt", "Tea is served.")] {
        fs::write(docs.join(std::ffi::OsStr::from_bytes(name)), text).expect("a file");
    }
    fs::write(docs.join("caf\\xE9.txt"), "Soup is served.").expect("a file");
    let report = corpus.build(&docs).await.expect("a build");
    assert_eq!((report.added, report.failed.len()), (3, 0), "{:?}", report.failed);
    assert_eq!(names(&corpus).await, ["caf\\\\xE9.txt", "caf\\xE8.txt", "caf\\xE9.txt"]);
    let found = corpus.search("+coffee").await.expect("a search").passages;
    assert_eq!(found[0].location.document, "caf\\xE9.txt");
    assert_eq!(corpus.build(&docs).await.expect("a build").unchanged, 3);
}

#[rstest]
#[case("[limits]\nmemory_megabytes = 0", "[limits] memory_megabytes")]
#[case("[limits]\nfile_megabytes = 0", "[limits] file_megabytes")]
#[case("[sources]\nmetadata = { a = nan }", "[sources] metadata")]
#[case("[sources]\nmetadata = { a = -inf }", "[sources] metadata")]
fn a_setting_that_reads_nothing_is_refused(#[case] text: &str, #[case] place: &str) {
    let error = Config::parse(text).expect("well formed").validate().expect_err("it is refused");
    assert_eq!((error.kind(), error.place()), (ErrorKind::Configuration, Some(place)), "{error}");
}

#[tokio::test]
async fn a_number_that_json_does_not_have_is_refused_with_its_document() {
    let (_folder, corpus) = corpus(&light()).await;
    let source = || MemorySource::new("a").with("a.txt", "The bell rings.");
    let request = BuildRequest::default().source(source()).metadata("depth", f64::NAN);
    let report = corpus.build(request).await.expect("a build");
    assert!(report.failed[0].reason.contains("the metadata field “depth” is NaN"), "{:?}", report.failed);
    let error = corpus.upsert([OwnChunk::new("x", "A text.").metadata("depth", f64::INFINITY)]).await;
    assert_eq!(error.expect_err("it is refused").kind(), ErrorKind::InvalidRequest);
    corpus.build(BuildRequest::default().source(source())).await.expect("a build");
    assert_eq!(names(&corpus).await, ["a.txt"]);
}

#[tokio::test]
async fn given_metadata_reach_documents_that_have_not_changed() {
    let (folder, corpus) = corpus(&light()).await;
    let docs = folder.path().join("docs");
    fs::write(docs.join("own.md"), "---\nkind: notice\n---\n\nThe bell rings.\n").expect("a file");
    fs::write(docs.join("plain.md"), "The lamp is lit.\n").expect("a file");
    let build = |kind: Option<&str>| {
        let request = BuildRequest::new([&docs]);
        kind.map_or_else(|| request.clone(), |kind| request.clone().metadata("kind", kind))
    };
    let kinds = |corpus: &Corpus| {
        let corpus = corpus.clone();
        async move {
            let own = metadata(&corpus, "own.md").await.get("kind").map(ToString::to_string);
            (own, metadata(&corpus, "plain.md").await.get("kind").map(ToString::to_string))
        }
    };
    let text = |text: &str| Some(text.to_owned());
    corpus.build(build(None)).await.expect("a build");
    assert_eq!(kinds(&corpus).await, (text("notice"), None));
    let report = corpus.build(build(Some("handbook"))).await.expect("a build");
    assert_eq!((report.changed, report.encoded), (2, 0), "vectors are kept");
    assert_eq!(kinds(&corpus).await, (text("notice"), text("handbook")));
    corpus.build(build(Some("notice"))).await.expect("a build");
    corpus.build(build(None)).await.expect("a build");
    assert_eq!(kinds(&corpus).await, (text("notice"), None));
    assert_eq!(corpus.build(build(None)).await.expect("a build").unchanged, 2);
}

#[cfg(unix)]
#[tokio::test]
async fn a_part_that_cannot_be_listed_keeps_what_lies_under_it_and_nothing_else() {
    use std::os::unix::fs::symlink;
    let (folder, corpus) = corpus(&light()).await;
    let docs = folder.path().join("docs");
    fs::create_dir_all(docs.join("quay")).expect("a folder");
    for name in ["a.txt", "b.txt", "c.txt", "d.txt", "quay/e.txt", "quay/f.txt"] {
        fs::write(docs.join(name), format!("This is {name}.")).expect("a file");
    }
    corpus.build(&docs).await.expect("a build");
    fs::remove_file(docs.join("a.txt")).expect("a removal");
    fs::rename(docs.join("quay"), folder.path().join("elsewhere")).expect("a move");
    symlink(folder.path().join("nowhere"), docs.join("quay")).expect("a link");
    let report = corpus.build(&docs).await.expect("a build");
    assert_eq!((report.removed, report.unchanged, report.failed.len()), (1, 3, 1), "{:?}", report.failed);
    assert_eq!(report.failed[0].document, "quay");
    assert!(report.failed[0].reason.contains("this link leads to nothing"), "{:?}", report.failed);
    assert_eq!(names(&corpus).await, ["b.txt", "c.txt", "d.txt", "quay/e.txt", "quay/f.txt"]);
}

#[tokio::test]
async fn a_folder_that_disappears_while_it_is_listed_says_so() {
    let folder = tempfile::tempdir().expect("a folder");
    let docs = folder.path().join("docs");
    fs::create_dir(&docs).expect("a folder");
    fs::write(docs.join("a.txt"), "The bell rings.").expect("a file");
    let listed = FolderSource::new(&docs).expect("a source").walk();
    fs::remove_dir_all(&docs).expect("a removal");
    let errors: Vec<String> = listed.filter_map(Result::err).map(|error| error.to_string()).collect();
    assert!(errors.contains(&"this folder disappeared while it was listed".to_owned()), "{errors:?}");
}

#[tokio::test]
async fn a_file_of_the_name_of_a_catalogue_hides_nothing_and_settings_are_not_indexed() {
    let (folder, corpus) = corpus(&light()).await;
    let docs = folder.path().join("docs");
    fs::create_dir(docs.join("quay")).expect("a folder");
    fs::write(docs.join("quay/corpus.db"), "no catalogue").expect("a file");
    fs::write(docs.join("quay/a.txt"), "The bell rings.").expect("a file");
    fs::write(docs.join("logothete.toml"), "[encoder]\nkey_env = \"SECRET\"\n").expect("a file");
    light().open(docs.join("inner")).await.expect("a corpus inside");
    corpus.build(&docs).await.expect("a build");
    assert_eq!(names(&corpus).await, ["quay/a.txt", "quay/corpus.db"]);
}

#[tokio::test]
async fn an_emptied_source_is_removed_when_that_is_asked_for() {
    let (folder, corpus) = corpus(&light()).await;
    let docs = folder.path().join("docs");
    fs::write(docs.join("a.txt"), "The bell rings.").expect("a file");
    corpus.build(&docs).await.expect("a build");
    fs::remove_file(docs.join("a.txt")).expect("a removal");
    let report = corpus.build(&docs).await.expect("a build");
    assert_eq!((report.removed, report.prune_needed.len()), (0, 1));
    let report = corpus.build(BuildRequest::new([&docs]).prune(true)).await.expect("a build");
    assert_eq!((report.removed, names(&corpus).await.len()), (1, 0));
}

#[tokio::test]
async fn two_documents_of_one_name_are_told_apart_or_reported() {
    let (_folder, corpus) = corpus(&light()).await;
    let twice = MemorySource::new("m").with("a.txt", "The bell rings.").with("a.txt", "The lamp is lit.");
    let other = MemorySource::new("n").with("a.txt", "The gate is shut.");
    let report = corpus.build(BuildRequest::default().source(twice).source(other)).await.expect("a build");
    assert_eq!((report.added, report.failed.len()), (2, 1), "{:?}", report.failed);
    assert!(report.failed[0].reason.contains("a document of this name already"), "{:?}", report.failed);
    assert_eq!(report.renamed, ["n/a.txt"]);
}

#[tokio::test]
async fn values_that_look_alike_are_not_the_same() {
    let (_folder, corpus) = corpus(&light()).await;
    let document = |code: &str| format!("---\ncode: {code}\n---\n\nThe code is {code}.\n");
    let codes = ["01234", "1234", "1.10", "1.1", "9007199254740993", "9007199254740992", "true"];
    let source =
        codes.iter().fold(MemorySource::new("m"), |source, code| source.with(format!("{code}.md"), document(code)));
    corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    for code in codes {
        for filter in [Filter::parse(&format!("code = {code}")).expect("a filter"), Filter::field("code").equals(code)]
        {
            let found = corpus.search(SearchRequest::new("code").filter(filter)).await.expect("a search").passages;
            let found: Vec<&str> = found.iter().map(|passage| passage.location.document.as_str()).collect();
            assert_eq!(found, [format!("{code}.md")], "{code}");
        }
    }
    let range = Filter::parse("code in 1.05..1.2").expect("a filter");
    let found = corpus.search(SearchRequest::new("code").filter(range)).await.expect("a search").passages;
    assert_eq!(found.len(), 2, "ranges compare decimals");
}

#[rstest]
#[case(Value::from(9_007_199_254_740_993_i64), Value::Text("9007199254740993".to_owned()))]
#[case(Value::from(7_u8), Value::Number(7.0))]
#[case(Value::from("01234"), Value::Text("01234".to_owned()))]
#[case(Value::from("7".to_owned()), Value::Text("7".to_owned()))]
#[case(serde_json::from_str("9007199254740993").expect("a value"), Value::Text("9007199254740993".to_owned()))]
#[case(serde_json::from_str("18446744073709551615").expect("a value"), Value::Text("18446744073709551615".to_owned()))]
#[case(serde_json::from_str("\"7\"").expect("a value"), Value::Text("7".to_owned()))]
fn a_value_is_a_number_only_if_it_stays_what_it_was(#[case] value: Value, #[case] expected: Value) {
    assert_eq!(value, expected);
}

#[rstest]
#[case("date >= 2025-13-45", "is a date such as 2025-03, which “2025-13-45” is not")]
#[case("page in 5..3", "the range 5..3 of “page” is empty")]
#[case("date in 2025-05..2025-03", "the range 2025-05..2025-03 of “date” is empty")]
#[case("page = nan", "“page” is a number")]
#[case("type = 5", "“type” is a media type such as application/pdf")]
#[tokio::test]
async fn a_filter_that_can_never_hold_is_an_error(#[case] filter: &str, #[case] expected: &str) {
    let (_folder, corpus) = corpus(&light()).await;
    let source = MemorySource::new("m").with("a.md", "---\ndate: 2025-03-01\n---\n\nThe bell rings.\n");
    corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    let request = SearchRequest::new("bell").filter(Filter::parse(filter).expect("it is well formed"));
    let error = corpus.search(request).await.expect_err("it is refused");
    assert_eq!(error.kind(), ErrorKind::InvalidRequest);
    assert!(error.message().contains(expected), "{error}");
}

#[rstest]
#[case("!?")]
#[case("🚢")]
#[case("+\"\"")]
#[case("  ")]
#[tokio::test]
async fn a_query_without_a_word_is_an_error(#[case] query: &str) {
    let (_folder, corpus) = corpus(&light()).await;
    corpus
        .build(BuildRequest::default().source(MemorySource::new("m").with("a.md", "A bell.")))
        .await
        .expect("a build");
    assert_eq!(corpus.search(query).await.expect_err("it is refused").kind(), ErrorKind::InvalidRequest);
    assert_eq!(corpus.ask(query).await.expect_err("it is refused").kind(), ErrorKind::InvalidRequest);
}

#[tokio::test]
async fn an_own_id_is_found_by_its_beginning() {
    let (_folder, corpus) = corpus(&light()).await;
    corpus
        .upsert([OwnChunk::new("notice-7", "The bell rings."), OwnChunk::new("zebra", "It is striped.")])
        .await
        .expect("put");
    assert_eq!(corpus.chunk("noti").await.expect("a chunk").text, "The bell rings.");
    assert_eq!(corpus.chunk("z").await.expect("a chunk").text, "It is striped.");
}

#[tokio::test]
async fn an_evaluation_names_documents_that_are_not_there() {
    let (_folder, corpus) = corpus(&light()).await;
    corpus
        .build(BuildRequest::default().source(MemorySource::new("m").with("a.md", "A bell.")))
        .await
        .expect("a build");
    let set = "\u{feff}{\"id\": \"1\", \"question\": \"Bell?\", \"relevant\": [{\"document\": \"a.md\"}, {\"document\": \"b.md\"}]}";
    let run = corpus.evaluate("all", read_questions(set).expect("questions")).await.expect("scores");
    assert_eq!(
        run.mismatches.iter().map(|one| (one.document.as_str(), one.changed)).collect::<Vec<_>>(),
        [("b.md", false)]
    );
}

#[rstest]
#[case("UPDATE chunks SET same_as = 'nobody', segment = NULL, row = NULL", "names a duplicate that does not exist")]
#[case("UPDATE chunks SET \"end\" = 9999", "a chunk lies outside the text of its document")]
#[case("PRAGMA foreign_keys = OFF; UPDATE documents SET id = id + 9", "a row refers to another that does not exist")]
#[case("UPDATE segments SET live = x'00'", "the live rows of a segment are not those of its chunks")]
#[tokio::test]
async fn a_verification_looks_at_the_catalogue_too(#[case] damage: &str, #[case] expected: &str) {
    let (folder, corpus) = corpus(&light()).await;
    corpus
        .build(BuildRequest::default().source(MemorySource::new("m").with("a.md", "A bell.")))
        .await
        .expect("a build");
    corpus.verify().await.expect("it is whole");
    let database = rusqlite::Connection::open(folder.path().join("c/corpus.db")).expect("the catalogue");
    database.execute_batch(damage).expect("damage");
    drop(database);
    let corpus = light().open(folder.path().join("c")).await.expect("a corpus");
    let error = corpus.verify().await.expect_err("it is damaged");
    assert_eq!(error.kind(), ErrorKind::Corpus);
    assert!(error.message().contains(expected), "{error}");
}

#[rstest]
#[case("One.\nTwo.\n=== cut ===\nThree.\n=== cut ===\nFour.\n")]
#[case("One.\nTwo.\n\n=== cut ===\n\nThree.\n\n=== cut ===\nFour.\n")]
#[tokio::test]
async fn boundary_lines_are_seen_inside_paragraphs_of_markdown(#[case] text: &str) {
    let settings = "[encoder]\nkind = \"hashing\"\n[chunk]\nstrategy = \"marked\"\nmarker = \"=== * ===\"\n";
    let pipeline = Pipeline::from_config(&Config::parse(settings).expect("settings")).expect("a pipeline");
    let (_folder, corpus) = corpus(&pipeline).await;
    let request = |text: &str| BuildRequest::default().source(MemorySource::new("m").with("a.md", text));
    assert!(corpus.build(request(text)).await.expect("a build").advice.is_empty());
    let chunks = corpus.chunks("a.md").await.expect("chunks");
    let texts: Vec<&str> = chunks.iter().map(|chunk| chunk.text.as_str()).collect();
    assert_eq!(texts, ["One. Two.", "Three.", "Four."]);
    // A marker that nothing fits is worth a word.
    let advice = corpus.build(request("No boundary here.")).await.expect("a build").advice;
    assert!(advice.join(" ").contains("check the marker"), "{advice:?}");
}

#[tokio::test]
async fn what_repeated_a_removed_document_is_encoded_once_counted_and_capped() {
    let text = |number: usize| {
        format!("# Berth\n\nThe bollards of berth {number} are painted white each spring by the crew.\n")
    };
    let source = |copies: &[usize]| {
        let both = copies.iter().map(|copy| format!("copy-{copy}.md"));
        both.fold(MemorySource::new("m"), |source, name| source.with(name, (1..4).map(text).collect::<String>()))
    };
    let build = |copies: &[usize]| BuildRequest::default().source(source(copies)).prune(true);
    let (folder, corpus) = corpus(&light()).await;
    corpus.build(build(&[1, 2, 3])).await.expect("a build");
    let repeated = corpus.info().await.expect("facts").repeated;
    assert!(repeated > 0, "the copies say the same");
    // Nothing has to be encoded: the text is the same, and so is its vector.
    let report = corpus.build(build(&[2, 3])).await.expect("a build");
    assert_eq!((report.removed, report.encoded), (1, 0));
    assert!(report.cached > 0);
    corpus.verify().await.expect("it is whole");
    // With other headings above it another text is encoded; a limit stops that, and nothing is lost.
    let other = MemorySource::new("m").with("copy-2.md", "# Gone\n\nNothing.\n").with(
        "copy-3.md",
        format!("---\ntitle: Berths of the north mole\n---\n\n{}", (1..4).map(text).collect::<String>()),
    );
    corpus.build(BuildRequest::default().source(source(&[2])).prune(true)).await.expect("a build");
    corpus
        .build(BuildRequest::default().source(MemorySource::new("n").with(
            "other.md",
            format!("---\ntitle: Berths of the north mole\n---\n\n{}", (1..4).map(text).collect::<String>()),
        )))
        .await
        .expect("a build");
    drop(corpus);
    fs::remove_file(folder.path().join("c/cache.db")).expect("the cache");
    let capped = light().configured(|config| config.limits.tokens = 1);
    let corpus = capped.open(folder.path().join("c")).await.expect("a corpus");
    let before = names(&corpus).await;
    let error = corpus.forget("copy-2.md").await.expect_err("the limit");
    assert_eq!((error.kind(), names(&corpus).await), (ErrorKind::Limit, before));
    drop((corpus, other));
    let corpus = light().open(folder.path().join("c")).await.expect("a corpus");
    corpus.forget("copy-2.md").await.expect("it is forgotten");
    assert_eq!(names(&corpus).await, ["other.md"]);
    assert_eq!(corpus.search("+bollards").await.expect("a search").passages[0].location.document, "other.md");
}

#[tokio::test]
async fn what_is_behind_a_location_can_be_read() {
    let (_folder, corpus) = corpus(&light()).await;
    let text = "# Harbour\n\nIntroduction.\n\n## The bell\n\nThe bell – of the north mole – rings twice.\n\n| Berth | Length |\n|---|---|\n| 7 | 135 |\n";
    let source = MemorySource::new("m").with("a.md", text);
    corpus.build(BuildRequest::from(source).metadata("kind", "notice")).await.expect("a build");
    let chunks = corpus.chunks("a.md").await.expect("chunks");
    let bell = chunks.iter().find(|chunk| chunk.text.contains("bell –")).expect("a chunk");
    assert_eq!(corpus.text("a.md", bell.location.span).await.expect("a text"), bell.text);
    let middle =
        Span::new(bell.location.span.start, bell.text.find('–').expect("a dash") + bell.location.span.start + 1);
    assert_eq!(corpus.text("a.md", middle).await.expect_err("inside a character").kind(), ErrorKind::InvalidRequest);
    assert_eq!(corpus.text("a.md", Span::new(0, 9_999)).await.expect_err("beyond").kind(), ErrorKind::InvalidRequest);
    assert_eq!(corpus.text("b.md", bell.location.span).await.expect_err("no such name").kind(), ErrorKind::NotFound);
    let section = corpus.section(&bell.chunk).await.expect("a section");
    assert!(section.text.starts_with("The bell") && section.text.contains("135"), "{section:?}");
    assert_eq!(section.location.section, ["Harbour", "The bell"]);
    assert_eq!(corpus.metadata("a.md").await.expect("metadata")["kind"].to_string(), "notice");
    let parts: Vec<String> =
        chunks.iter().flat_map(|chunk| chunk.readable_parts().map(str::to_owned).collect::<Vec<_>>()).collect();
    assert!(parts.contains(&"7 · Length: 135".to_owned()), "{parts:?}");
}

/// SQLite reads a column through all that stand before it.
#[tokio::test]
async fn the_long_columns_of_a_document_come_last() {
    let (folder, corpus) = corpus(&light()).await;
    drop(corpus);
    let database = rusqlite::Connection::open(folder.path().join("c/corpus.db")).expect("the catalogue");
    let mut columns = database.prepare("SELECT name FROM pragma_table_info('documents') ORDER BY cid").expect("SQL");
    let columns = columns.query_map([], |row| row.get::<_, String>(0)).expect("rows");
    let columns: Vec<String> = columns.collect::<std::result::Result<_, _>>().expect("names");
    assert_eq!(columns[columns.len() - 2..], ["layout", "text"]);
}
