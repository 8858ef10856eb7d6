//! Whatever is done to a corpus, its catalogue, its segments and its texts agree: looked at from outside, by SQL and byte for byte.

use std::collections::BTreeSet;
use std::path::Path;

use logothete::{BuildRequest, Config, Corpus, ErrorKind, Hashing, MemorySource, OwnChunk, Pipeline, StopToken};
use proptest::prelude::*;
use rusqlite::Connection;

const DIMENSIONS: [usize; 2] = [48, 33];

fn pipeline(dimensions: usize, kind: &str) -> Pipeline {
    let config = Config::parse(&format!("[index]\nkind = \"{kind}\"\n")).expect("settings");
    Pipeline::from_config(&config).expect("a pipeline").with_encoder(Hashing::new(dimensions).expect("settings"))
}

/// What is done to a corpus.
#[derive(Clone, Debug)]
enum Step {
    /// Documents become others; those that are not named stay as they are.
    Build(Vec<(usize, String)>),
    /// A document is no longer in its source.
    Lose(usize),
    Put(usize, String),
    RemoveChunk(usize),
    Remove(usize),
    Forget(usize),
    Compact,
    Reencode,
    Reopen,
}

const DOCUMENTS: usize = 5;

/// Few words, so that documents often say the same.
fn text() -> impl Strategy<Value = String> {
    let sentence = prop::sample::select(vec![
        "The pilot boards at the outer buoy in all weathers.",
        "Berth 7 is closed until the dredger has left.",
        "Nobody stands near a line under strain.",
        "The horn sounds twice in fog, and the bell is rung.",
    ]);
    prop::collection::vec((sentence, 0..4), 1..5).prop_map(|parts| {
        let part = |(sentence, number): (&str, i32)| match number {
            0 => format!("## Rule\n\n{sentence}\n"),
            number => format!("{sentence} That is rule {number}.\n"),
        };
        parts.into_iter().map(part).collect::<Vec<_>>().join("\n")
    })
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        5 => prop::collection::vec((0..DOCUMENTS, text()), 1..4).prop_map(Step::Build),
        1 => (0..DOCUMENTS).prop_map(Step::Lose),
        3 => (0..4_usize, text()).prop_map(|(id, text)| Step::Put(id, text)),
        1 => (0..4_usize).prop_map(Step::RemoveChunk),
        1 => (0..DOCUMENTS).prop_map(Step::Remove),
        1 => (0..DOCUMENTS).prop_map(Step::Forget),
        1 => Just(Step::Compact),
        1 => Just(Step::Reencode),
        1 => Just(Step::Reopen),
    ]
}

/// A corpus in a folder, with the documents of its source.
struct Place {
    folder: tempfile::TempDir,
    texts: Vec<Option<String>>,
    dimensions: usize,
    kind: &'static str,
    corpus: Option<Corpus>,
}

impl Place {
    async fn new(kind: &'static str) -> Self {
        let folder = tempfile::tempdir().expect("a temporary folder");
        let corpus = pipeline(DIMENSIONS[0], kind).open(folder.path().join("c")).await.expect("a corpus");
        Self { folder, texts: vec![None; DOCUMENTS], dimensions: DIMENSIONS[0], kind, corpus: Some(corpus) }
    }

    fn path(&self) -> std::path::PathBuf {
        self.folder.path().join("c")
    }

    fn corpus(&mut self) -> &Corpus {
        self.corpus.as_mut().expect("it is open")
    }

    async fn build(&mut self) {
        let all = self.texts.iter().enumerate().filter_map(|(at, text)| Some((format!("{at}.md"), text.clone()?)));
        let source = all.fold(MemorySource::new("rules"), |source, (name, text)| source.with(name, text));
        self.corpus().build(BuildRequest::default().source(source).prune(true)).await.expect("a build");
    }

    async fn take(&mut self, step: &Step) {
        match step {
            Step::Build(texts) => {
                texts.iter().for_each(|(at, text)| self.texts[*at] = Some(text.clone()));
                self.build().await;
            }
            Step::Lose(at) => {
                self.texts[*at] = None;
                self.build().await;
            }
            Step::Put(id, text) => {
                self.corpus().upsert([OwnChunk::new(format!("own{id}"), text)]).await.expect("put");
            }
            Step::RemoveChunk(id) => drop(self.corpus().remove_chunk(&format!("own{id}")).await.expect("removed")),
            Step::Remove(at) => drop(self.corpus().remove(&format!("{at}.md")).await.expect("removed")),
            Step::Forget(at) => {
                let name = format!("{at}.md");
                match self.corpus().forget(&name).await {
                    Ok(forgotten) => assert_eq!((forgotten.document, forgotten.still_there), (name, None)),
                    Err(error) => assert_eq!(error.kind(), ErrorKind::NotFound, "{error}"),
                }
            }
            Step::Compact => self.corpus().compact().await.expect("compacted"),
            Step::Reencode => {
                self.corpus = None;
                self.dimensions = DIMENSIONS[usize::from(self.dimensions == DIMENSIONS[0])];
                let (corpus, report) = pipeline(self.dimensions, self.kind)
                    .reencode(self.path(), &StopToken::default())
                    .await
                    .expect("encoded");
                assert!(!report.stopped);
                self.corpus = Some(corpus);
            }
            Step::Reopen => {
                self.corpus = None;
                let other = DIMENSIONS[usize::from(self.dimensions == DIMENSIONS[0])];
                let refused = pipeline(other, self.kind).open(self.path()).await.err().map(|error| error.kind());
                assert_eq!(refused, Some(ErrorKind::Mismatch));
                self.corpus = Some(pipeline(self.dimensions, self.kind).open(self.path()).await.expect("a corpus"));
            }
        }
    }
}

/// What SQL says of a corpus in a folder.
fn agrees(folder: &Path) {
    let sql = Connection::open_with_flags(folder.join("corpus.db"), rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY);
    let sql = sql.expect("SQLite");
    let number = |query: &str| sql.query_row(query, [], |row| row.get::<_, i64>(0)).expect(query);
    let text: String = sql.query_row("PRAGMA integrity_check", [], |row| row.get(0)).expect("a check");
    assert_eq!(text, "ok");
    assert!(!sql.prepare("PRAGMA foreign_key_check").and_then(|mut check| check.exists([])).expect("a check"));
    assert_eq!(number("SELECT count(*) FROM gone"), 0, "all that has gone is noted");

    // A chunk is a piece of its document's text, and so are the chunks of a document in their order.
    let cut = "SELECT count(*) FROM chunks JOIN documents ON documents.id = document
               WHERE CAST(substr(CAST(documents.text AS BLOB), start + 1, \"end\" - start) AS TEXT) <> chunks.text";
    assert_eq!(number(cut), 0, "a chunk is not what stands at its place");
    assert_eq!(
        number("SELECT count(*) FROM main.documents WHERE id NOT IN (SELECT document FROM chunks) AND text <> ''"),
        0
    );

    // A chunk has a row, or says what another says that is there and has one.
    let alone = "SELECT count(*) FROM chunks WHERE segment IS NULL AND same_as IS NULL";
    assert_eq!(number(alone), 0, "a chunk is nowhere");
    let lost = "SELECT count(*) FROM chunks AS a WHERE same_as IS NOT NULL
                AND NOT EXISTS (SELECT 1 FROM chunks AS b WHERE b.id = a.same_as AND b.segment IS NOT NULL)";
    assert_eq!(number(lost), 0, "what says the same is not there");
    assert_eq!(number("SELECT count(*) FROM chunks WHERE (segment IS NULL) <> (row IS NULL)"), 0);

    // Live rows are those of chunks, one for one; the files are those that are named.
    let mut named = BTreeSet::new();
    let mut segments = sql.prepare("SELECT id, rows, live FROM segments").expect("SQL");
    let mut rows = segments.query([]).expect("segments");
    while let Some(row) = rows.next().expect("a segment") {
        let (id, count): (i64, i64) = (row.get(0).expect("an id"), row.get(1).expect("a number"));
        let live: Option<Vec<u8>> = row.get(2).expect("bits");
        let is_live = |row: i64| live.as_ref().is_none_or(|bits| bits[row as usize / 8] >> (row % 8) & 1 == 1);
        let mut of_chunks = sql.prepare("SELECT row FROM chunks WHERE segment = ?").expect("SQL");
        let of_chunks: BTreeSet<i64> =
            of_chunks.query_map([id], |row| row.get(0)).expect("rows").collect::<Result<_, _>>().expect("rows");
        assert_eq!(of_chunks, (0..count).filter(|&row| is_live(row)).collect(), "segment {id} of {count} rows");
        let mut files = sql.prepare("SELECT name, kind FROM segment_files WHERE segment = ?").expect("SQL");
        let files =
            files.query_map([id], |row| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?))).expect("files");
        let files: Vec<(String, String)> = files.collect::<Result<_, _>>().expect("files");
        assert!((2..=3).contains(&files.len()), "vectors, keywords, and at most one approximate index");
        for (name, kind) in files {
            assert!(name.ends_with(&format!(".{kind}")), "{name} is of the kind {kind}");
            named.insert(name);
        }
    }
    let files = std::fs::read_dir(folder.join("segments")).expect("a folder").flatten();
    let files: BTreeSet<String> = files.map(|file| file.file_name().to_string_lossy().into_owned()).collect();
    assert_eq!(files, named);
}

async fn exported(corpus: &Corpus, folder: &Path) -> String {
    let file = folder.join("export.jsonl");
    corpus.export(std::fs::File::create(&file).expect("a file")).await.expect("exported");
    std::fs::read_to_string(file).expect("lines")
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn catalogue_segments_and_texts_agree_whatever_was_done(
        steps in prop::collection::vec(step(), 1..14),
        kind in prop::sample::select(vec!["auto", "exact", "graph", "lists"]),
    ) {
        let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
        runtime.block_on(async {
            let mut place = Place::new(kind).await;
            for step in &steps {
                place.take(step).await;
                agrees(&place.path());
            }
            place.corpus().verify().await.expect("sound indexes");

            // All of it goes out and in again, and comes out the same.
            let folder = place.folder.path().to_path_buf();
            let lines = exported(place.corpus(), &folder).await;
            let other = pipeline(place.dimensions, kind).open(folder.join("other")).await.expect("a corpus");
            other.import(std::io::Cursor::new(lines.clone())).await.expect("imported");
            agrees(&folder.join("other"));
            assert_eq!(exported(&other, &folder).await, lines);
        });
    }
}
