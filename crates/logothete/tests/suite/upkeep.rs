//! What is done to a corpus from code besides building it: chunks under own ids, forgetting, compacting, another encoder,
//! exporting, pinning; filters and the order of what is found.

use std::collections::BTreeMap;
use std::path::Path;

use logothete::document::{BlockKind, DocumentBuilder, Value};
use logothete::search::Filter;
use logothete::vector::IndexKind;
use logothete::{
    BuildRequest, Config, Corpus, ErrorKind, Hashing, MemorySource, OwnChunk, Pipeline, Progress, SearchRequest, Stage,
    StopToken,
};
use rstest::rstest;

fn light() -> Pipeline {
    Pipeline::default().with_encoder(Hashing::new(96).expect("settings"))
}

async fn corpus(pipeline: &Pipeline) -> (tempfile::TempDir, Corpus) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let corpus = pipeline.open(folder.path().join("c")).await.expect("a corpus");
    (folder, corpus)
}

fn notices() -> BuildRequest {
    let notice = |number: usize, kind: &str, text: &str| {
        format!("---\nkind: {kind}\nnumber: {number}\ndate: 2025-0{number}-01\n---\n\n# Notice {number}\n\n{text}\n")
    };
    let source = MemorySource::new("notices")
        .with("one.md", notice(1, "draught", "The draught at the north berth is seven metres."))
        .with("two.md", notice(2, "closure", "The north berth is shut for dredging."))
        .with("three.md", notice(3, "draught", "The draught at the south berth is nine metres."))
        .with("four.md", notice(4, "bridge", "The swing bridge opens at the berth on demand."));
    BuildRequest::default().source(source)
}

async fn names(corpus: &Corpus, request: SearchRequest) -> Vec<String> {
    let found = corpus.search(request).await.expect("a search");
    found.passages.into_iter().map(|passage| passage.location.document).collect()
}

/// Every document with the ids and texts of its chunks.
async fn held(corpus: &Corpus) -> BTreeMap<String, Vec<(String, String)>> {
    let mut all = BTreeMap::new();
    for info in corpus.info().await.expect("facts").documents {
        let detail = corpus.document(&info.document).await.expect("a document");
        let mut chunks = Vec::new();
        for chunk in detail.chunks {
            let detail = corpus.chunk(chunk.chunk.as_str()).await.expect("a chunk");
            chunks.push((chunk.chunk.to_string(), detail.text));
        }
        all.insert(info.document, chunks);
    }
    all
}

/// Whether some bytes stand in any file of a folder.
fn stands_in(folder: &Path, words: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut folders = vec![folder.to_path_buf()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).expect("a folder").flatten() {
            if entry.path().is_dir() {
                folders.push(entry.path());
                continue;
            }
            let bytes = std::fs::read(entry.path()).expect("a file").to_ascii_lowercase();
            if bytes.windows(words.len()).any(|some| some == words.as_bytes()) {
                found.push(entry.path().display().to_string());
            }
        }
    }
    found
}

#[rstest]
#[case("kind = draught", &["one.md", "three.md"])]
#[case("kind = draught and number > 1", &["three.md"])]
#[case("date >= 2025-02 and date < 2025-04", &["three.md", "two.md"])]
#[case("document fits \"t*\" or kind = bridge", &["four.md", "three.md", "two.md"])]
#[case("section = \"notice 4\"", &["four.md"])]
#[case("kind = nothing", &[])]
#[tokio::test]
async fn a_filter_confines_both_legs(#[case] filter: &str, #[case] expected: &[&str]) {
    let (_folder, corpus) = corpus(&light()).await;
    corpus.build(notices()).await.expect("a build");
    let request = SearchRequest::new("the berth").filter(Filter::parse(filter).expect("a filter"));
    let mut found = names(&corpus, request.clone()).await;
    found.sort();
    assert_eq!(found, expected);
    // A second time it is remembered, and an answer is confined too.
    assert_eq!(names(&corpus, request).await.len(), expected.len());
    let question = SearchRequest::new("What is the draught at the north berth?");
    let answer = corpus.ask(question.filter(Filter::parse(filter).expect("a filter"))).await.expect("an answer");
    assert!(
        answer.answer.sources.iter().all(|source| expected.contains(&source.location.document.as_str())),
        "{answer}"
    );
}

#[tokio::test]
async fn of_several_places_that_say_the_same_the_allowed_one_is_shown() {
    let (_folder, corpus) = corpus(&light()).await;
    let text = "# Rule\n\nFenders are hung before a tug comes alongside.\n";
    let source = MemorySource::new("a").with("a.md", text).with("b.md", text).with("c.md", text);
    corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    let request = SearchRequest::new("fenders").filter(Filter::parse("document in (b.md, c.md)").expect("a filter"));
    let found = corpus.search(request).await.expect("a search").passages;
    assert_eq!((found.len(), found[0].location.document.as_str()), (1, "b.md"));
    assert_eq!(found[0].also.iter().map(|other| other.location.document.as_str()).collect::<Vec<_>>(), ["c.md"]);
}

#[tokio::test]
async fn what_a_request_asks_for_that_cannot_be_is_an_error() {
    let (_folder, corpus) = corpus(&light()).await;
    corpus.build(notices()).await.expect("a build");
    let request = SearchRequest::new("berth").filter(Filter::parse("knid = draught").expect("a filter"));
    let error = corpus.search(request).await.expect_err("no such field");
    assert_eq!(error.to_string(), "filter: no document has the field “knid”; did you mean kind?");
    for (filter, said) in [
        ("page > first", "“page” is a number, which “first” is not"),
        ("number in 2..many", "“number” is a number, which “many” is not"),
        ("date >= may or number = 1", "“date” is a date such as 2025-03, which “may” is not"),
        ("not date in (2025, soon)", "“date” is a date such as 2025-03, which “soon” is not"),
    ] {
        let request = SearchRequest::new("berth").filter(Filter::parse(filter).expect("a filter"));
        let error = corpus.search(request).await.expect_err("it cannot be");
        assert_eq!(error.to_string(), format!("filter: {said}"));
    }
    for fine in ["number = \"2\"", "kind > 3", "title = 2025-03", "date < 2025-05-01 and page in ..9"] {
        let request = SearchRequest::new("berth").filter(Filter::parse(fine).expect("a filter"));
        corpus.search(request).await.expect("it may be");
    }
    let error = corpus.search(SearchRequest::new("berth").sort_by("numbr")).await.expect_err("no such field");
    assert_eq!(error.to_string(), "sort: no document has the field “numbr”; did you mean number?");
    assert_eq!(names(&corpus, SearchRequest::new("berth").sort_by("page")).await.len(), 4, "no passage has a page");
    let error = corpus.search(SearchRequest::new("berth").leg_scores("vektor", 0.1..)).await.expect_err("no such leg");
    assert_eq!(error.to_string(), "there is no leg “vektor”; did you mean vector?");
}

#[tokio::test]
async fn passages_are_sorted() {
    let (_folder, corpus) = corpus(&light()).await;
    corpus.build(notices()).await.expect("a build");
    let up = names(&corpus, SearchRequest::new("berth").sort_by("number")).await;
    assert_eq!(up, ["one.md", "two.md", "three.md", "four.md"]);
    let down = names(&corpus, SearchRequest::new("berth").sort_down_by("date").passages(3)).await;
    assert_eq!(down.len(), 3);
    assert!(
        down.windows(2)
            .all(|pair| up.iter().position(|one| *one == pair[0]) > up.iter().position(|one| *one == pair[1]))
    );
}

#[tokio::test]
async fn only_passages_with_scores_in_a_range_are_returned() {
    let (_folder, corpus) = corpus(&light()).await;
    corpus.build(notices()).await.expect("a build");
    let all = corpus.search("north berth").await.expect("a search").passages;
    let middle = all[1].score;
    assert!(all[0].score > middle && middle > all[all.len() - 1].score, "{all:?}");
    let kept = async |request: SearchRequest| -> Vec<(usize, String)> {
        let found = corpus.search(request).await.expect("a search").passages;
        found.into_iter().map(|passage| (passage.rank, passage.location.document)).collect()
    };
    let expected = |holds: &dyn Fn(f32) -> bool| -> Vec<(usize, String)> {
        let names = all.iter().filter(|passage| holds(passage.score)).map(|passage| passage.location.document.clone());
        names.enumerate().map(|(at, name)| (at + 1, name)).collect()
    };
    let north = || SearchRequest::new("north berth");
    assert_eq!(kept(north().scores(middle..)).await, expected(&|score| score >= middle));
    assert_eq!(kept(north().scores(..middle)).await, expected(&|score| score < middle));
    assert_eq!(kept(north().scores(..=middle).scores(middle..)).await, expected(&|score| score == middle));
    // Better ones that are left out take no places.
    assert_eq!(kept(north().scores(..middle).passages(1)).await, expected(&|score| score < middle)[..1]);
    assert_eq!(kept(SearchRequest::new("swing").leg_scores("keyword", 0.1..)).await, [(1, "four.md".to_owned())]);
}

#[tokio::test]
async fn several_questions_are_asked_in_one_call() {
    let (_folder, corpus) = corpus(&light()).await;
    corpus.build(notices()).await.expect("a build");
    let together = corpus.search_all(["swing", "dredging"]).await.expect("searches");
    assert_eq!(
        [&together[0], &together[1]].map(|found| found.passages[0].location.document.as_str()),
        ["four.md", "two.md"]
    );
    let questions = ["When does the swing bridge open?", "Who won the frostbite race?", "Where is dredging?"];
    let answers = corpus.ask_all(questions).await.expect("answers");
    assert_eq!(answers.iter().map(|answer| answer.answer.question.as_str()).collect::<Vec<_>>(), questions);
    for (question, together) in questions.iter().zip(&answers) {
        let alone = corpus.ask(*question).await.expect("an answer");
        assert_eq!((&alone.answer, &alone.answer.sources), (&together.answer, &together.answer.sources));
    }
    assert!(!answers[0].answer.is_refusal() && answers[1].answer.is_refusal(), "{answers:?}");
    assert_eq!(
        corpus.ask_all(["berth", " "]).await.expect_err("nothing asked").message(),
        "the question is empty; ask something"
    );
    assert!(corpus.ask_all(Vec::<&str>::new()).await.expect("nothing").is_empty());
}

#[rstest]
#[case("graph", IndexKind::Graph)]
#[case("lists", IndexKind::Lists)]
#[tokio::test]
async fn a_build_that_is_stopped_at_its_indexes_is_searched_without_them(#[case] name: &str, #[case] kind: IndexKind) {
    let config = Config::parse(&format!("[index]\nkind = \"{name}\"\n")).expect("settings");
    let pipeline =
        Pipeline::from_config(&config).expect("a pipeline").with_encoder(Hashing::new(96).expect("settings"));
    let (_folder, corpus) = corpus(&pipeline).await;
    let request = notices();
    let stop = request.stop_token();
    let at_indexes = move |progress: &Progress| {
        if progress.stage == Stage::Indexes {
            stop.stop();
        }
    };
    let report = corpus.build(request.on_progress(at_indexes)).await.expect("a build");
    assert_eq!((report.added, report.stopped), (4, true), "all documents were read before");
    let kinds = async |corpus: &Corpus| -> Vec<IndexKind> {
        corpus.info().await.expect("facts").segments.into_iter().map(|segment| segment.index).collect()
    };
    assert_eq!(kinds(&corpus).await, [IndexKind::Exact]);
    let before = names(&corpus, SearchRequest::new("north berth")).await;
    assert_eq!(corpus.build(notices()).await.expect("a build").unchanged, 4);
    assert_eq!(kinds(&corpus).await, [kind]);
    assert_eq!(names(&corpus, SearchRequest::new("north berth")).await, before);
}

/// Two chunks are always put together, while another handle asks for both.
#[tokio::test]
async fn what_is_asked_in_one_call_is_of_one_moment() {
    const ROUNDS: usize = 25;
    let (folder, writer) = corpus(&light()).await;
    let pair = |round: usize| {
        ["pilot", "ferry"]
            .map(|name| OwnChunk::new(name, format!("The {name} leaves at round {round:03} from the quay.")))
    };
    writer.upsert(pair(0)).await.expect("put");
    let reader = light().open(folder.path().join("c")).await.expect("a corpus");
    let done = std::cell::Cell::new(false);
    let write = async {
        for round in 1..=ROUNDS {
            writer.upsert(pair(round)).await.expect("put");
        }
        done.set(true);
    };
    let read = async {
        let mut seen = Vec::new();
        while !done.get() {
            let found = reader.search_all(["+pilot", "+ferry"]).await.expect("searches");
            let round = |at: usize| {
                let [passage] = found[at].passages.as_slice() else { panic!("{found:?}") };
                let from = passage.text.find("round ").expect("it is there") + 6;
                passage.text[from..from + 3].parse::<usize>().expect("a number")
            };
            assert_eq!(round(0), round(1), "half of a put was seen");
            seen.push(round(0));
            let answers =
                reader.ask_all(["When does the pilot leave?", "When does the ferry leave?"]).await.expect("answers");
            let said = |at: usize| answers[at].answer.sources[0].quotation.replace(["pilot", "ferry"][at], "");
            assert_eq!(said(0), said(1));
        }
        seen
    };
    let ((), seen) = tokio::join!(write, read);
    assert!(seen.is_sorted() && seen.len() > 1, "{seen:?}");
}

#[tokio::test]
async fn what_must_be_there_holds_for_the_vector_leg_too() {
    let (_folder, corpus) = corpus(&light()).await;
    corpus.build(notices()).await.expect("a build");
    assert_eq!(names(&corpus, "berth -north -swing".into()).await, ["three.md"]);
    assert_eq!(names(&corpus, "draught \"north berth\"".into()).await[0], "one.md");
    assert_eq!(names(&corpus, "+swing draught".into()).await, ["four.md"]);
    let found = corpus.search("dregding").await.expect("a search");
    assert_eq!((found.misspelt[0].word.as_str(), found.passages[0].location.document.as_str()), ("dregding", "two.md"));
}

#[rstest]
#[case(false)]
#[case(true)]
#[tokio::test]
async fn chunks_are_kept_under_own_ids(#[case] in_memory: bool) {
    let (_folder, on_disk) = corpus(&light()).await;
    let corpus = if in_memory { light().in_memory().await.expect("a corpus") } else { on_disk };
    let chunk = |text: &str| OwnChunk::new("rule/7", text).title("Mooring").metadata("year", 2024);
    let report =
        corpus.upsert([chunk("Lines are doubled in a gale."), OwnChunk::new("rule/8", "Fires are out at dusk.")]).await;
    assert_eq!(report.expect("put").added, 2);
    let found = corpus.search("gale").await.expect("a search").passages;
    assert_eq!((found[0].chunk.as_str(), found[0].location.title.as_deref()), ("rule/7", Some("Mooring")));
    // The same again changes nothing, another text replaces it.
    let again = corpus.upsert([chunk("Lines are doubled in a gale.")]).await.expect("put");
    assert_eq!((again.unchanged, again.encoded), (1, 0));
    let changed = corpus.upsert([chunk("Lines are tripled in a storm.")]).await.expect("put");
    assert_eq!((changed.changed, changed.chunks), (1, 2));
    assert!(corpus.search("+gale").await.expect("a search").passages.is_empty());
    assert_eq!(corpus.chunk("rule/7").await.expect("a chunk").metadata["year"], Value::Number(2024.0));
    let answer = corpus.ask("When are lines tripled?").await.expect("an answer");
    assert_eq!(answer.answer.sources[0].location.document, "rule/7", "{answer}");
    assert!(
        corpus.remove_chunk("rule/7").await.expect("removed") && !corpus.remove_chunk("rule/7").await.expect("gone")
    );
    assert!(corpus.search("+storm").await.expect("a search").passages.is_empty());
    let empty = corpus.upsert([OwnChunk::new("rule/9", "  ")]).await.expect_err("no text");
    assert_eq!(empty.to_string(), "rule/9: this chunk has no text");
    corpus.verify().await.expect("sound indexes");
}

#[tokio::test]
async fn documents_are_put_replaced_and_removed_from_code() {
    let (_folder, corpus) = corpus(&light()).await;
    corpus.build(notices()).await.expect("a build");
    let document = |text: &str| {
        let mut builder = DocumentBuilder::new("minutes.txt", "text/plain");
        builder.heading(1, "Minutes");
        builder.block(BlockKind::Paragraph, text);
        builder.finish()
    };
    let report =
        corpus.upsert([document("The crane is hired out."), document("The crane is sold.")]).await.expect("put");
    assert_eq!((report.added, report.changed), (1, 1), "the second replaces the first");
    assert!(corpus.search("+hired").await.expect("a search").passages.is_empty());
    assert_eq!(names(&corpus, "+crane".into()).await, ["minutes.txt"]);
    // A build of the notices leaves it alone, and its name is its own.
    assert_eq!(corpus.build(notices()).await.expect("a build").removed, 0);
    let mut builder = DocumentBuilder::new("one.md", "text/plain");
    builder.block(BlockKind::Paragraph, "Mine.");
    let error = corpus.upsert([builder.finish()]).await.expect_err("the name is taken");
    assert!(error.to_string().contains("another source"), "{error}");
    let cut = corpus.document("one.md").await.expect("a document").chunks[0].chunk.to_string();
    assert_eq!(corpus.remove_chunk(&cut).await.expect_err("it was cut").kind(), ErrorKind::Refused);
    assert!(corpus.remove("minutes.txt").await.expect("removed"));
    assert!(corpus.search("+crane").await.expect("a search").passages.is_empty());
}

#[tokio::test]
async fn a_forgotten_document_is_nowhere_in_the_files() {
    let (folder, corpus) = corpus(&light()).await;
    let secret = "zanzibarine quokkas";
    let text =
        |word: &str| format!("# Ledger\n\nThe {secret} owe {word} crowns to the quartermaster of the dry dock.\n");
    let source = |word: &str| {
        let source =
            MemorySource::new("a").with("ledger.md", text(word)).with("bell.md", "# Bell\n\nRing the bell twice.");
        // Others before and behind it, and one that says nearly the same.
        let others =
            (0..30).map(|at| (format!("n{at}.md"), format!("# Note {at}\n\nCrate {at} holds cork and rope.\n")));
        let source = others.fold(source, |source, (name, text)| source.with(name, text));
        BuildRequest::default().source(source)
    };
    corpus.build(source("seven")).await.expect("a build");
    corpus.build(source("eleven")).await.expect("a build: an older version is there too");
    corpus.upsert([OwnChunk::new("also", "The quokkas are fed.")]).await.expect("put");
    let before = corpus.info().await.expect("facts");
    assert!(!stands_in(folder.path(), secret).is_empty());
    let vector = corpus.search("zanzibarine").await.expect("a search").passages[0].chunk.to_string();
    let vector = corpus.chunk(&vector).await.expect("a chunk").vector.expect("a vector").first;

    let error = corpus.forget("lodger.md").await.expect_err("no such document");
    assert!(error.to_string().contains("did you mean ledger.md?"), "{error}");
    let forgotten = corpus.forget("ledger.md").await.expect("forgotten");
    assert_eq!((forgotten.chunks, forgotten.still_there), (1, None));
    for words in [secret, "zanzibarin", "quartermast", "eleven crowns", "seven crowns", "ledger"] {
        assert_eq!(stands_in(folder.path(), words), Vec::<String>::new(), "{words}");
    }
    let numbers: Vec<u8> = vector[..4].iter().flat_map(|number| number.to_le_bytes()).collect();
    let all = stands_in_bytes(folder.path(), &numbers);
    assert_eq!(all, 0, "its vector is gone");
    // What others say stays.
    assert_eq!(stands_in(folder.path(), "quokkas are fed").len(), 1);
    let after = corpus.info().await.expect("facts");
    assert_eq!((after.documents.len() + 1, after.dead_rows), (before.documents.len(), 0));
    assert_eq!(names(&corpus, "+bell".into()).await, ["bell.md"]);
    corpus.verify().await.expect("sound indexes");
}

fn stands_in_bytes(folder: &Path, bytes: &[u8]) -> usize {
    let files = [folder.join("c"), folder.join("c/segments")];
    let files = files.iter().flat_map(|folder| std::fs::read_dir(folder).expect("a folder").flatten());
    let contents = files.filter(|file| file.path().is_file()).map(|file| std::fs::read(file.path()).expect("a file"));
    contents.map(|all| all.windows(bytes.len()).filter(|some| *some == bytes).count()).sum()
}

#[tokio::test]
async fn compacting_leaves_one_segment_without_deleted_rows() {
    let (_folder, corpus) = corpus(&light()).await;
    for at in 0..5 {
        corpus.upsert([OwnChunk::new(format!("c{at}"), format!("Crate {at} holds cork."))]).await.expect("put");
    }
    corpus.remove("c3").await.expect("removed");
    let before = corpus.info().await.expect("facts");
    assert!(before.segments.len() > 1, "{:?}", before.segments);
    let found = corpus.search("crate cork").await.expect("a search").passages;
    corpus.compact().await.expect("compacted");
    let after = corpus.info().await.expect("facts");
    assert_eq!((after.segments.len(), after.rows, after.dead_rows), (1, 4, 0));
    let again = corpus.search("crate cork").await.expect("a search").passages;
    assert_eq!(
        again.iter().map(|one| (&one.chunk, one.score)).collect::<Vec<_>>(),
        found.iter().map(|one| (&one.chunk, one.score)).collect::<Vec<_>>()
    );
}

#[tokio::test]
async fn another_encoder_takes_the_place_of_the_first() {
    let (folder, corpus) = corpus(&light()).await;
    corpus.build(notices()).await.expect("a build");
    corpus.remove("two.md").await.expect("removed");
    let reader = light().open(folder.path().join("c")).await.expect("a reader");
    let pinned = light().open(folder.path().join("c")).await.expect("a reader").pin().await.expect("pinned");
    let before = names(&pinned, "draught at the berth".into()).await;

    let other = Pipeline::default().with_encoder(Hashing::new(200).expect("settings"));
    let refused = other.open(folder.path().join("c")).await.expect_err("another encoder");
    assert!(refused.to_string().contains("encode the corpus again"), "{refused}");
    let stopped = StopToken::default();
    stopped.stop();
    let (_, report) = other.reencode(folder.path().join("c"), &stopped).await.expect("stopped at once");
    assert!(report.stopped && report.encoded == 0);
    assert_eq!(names(&reader, "draught at the berth".into()).await, before, "nothing has changed yet");

    let (renewed, report) = other.reencode(folder.path().join("c"), &StopToken::default()).await.expect("encoded");
    assert_eq!((report.encoded, report.stopped), (3, false));
    let info = renewed.info().await.expect("facts");
    assert_eq!((info.dimensions, info.rows), (200, 4));
    renewed.verify().await.expect("sound indexes");
    assert_eq!(names(&renewed, "+draught \"north berth\"".into()).await, ["one.md"]);
    // Those who read go on with the vectors that they know, until the rows change; one that is pinned goes on after that.
    let error = light().open(folder.path().join("c")).await.expect_err("it was not there before");
    assert_eq!(error.kind(), ErrorKind::Mismatch);
    for reader in [&reader, &pinned] {
        assert_eq!(names(reader, "draught at the berth".into()).await, before);
        reader.verify().await.expect("sound indexes");
    }
    assert_eq!(reader.info().await.expect("facts").dimensions, 96);
    assert_eq!(reader.export(std::io::sink()).await.expect_err("other vectors").kind(), ErrorKind::Mismatch);
    renewed.upsert([OwnChunk::new("c", "A walrus in the lock.")]).await.expect("put");
    assert_eq!(names(&pinned, "draught at the berth".into()).await, before);
    let error = reader.search("berth").await.expect_err("other vectors");
    assert!(error.kind() == ErrorKind::Mismatch && error.to_string().contains("hashing, 200 dimensions"), "{error}");
    reader.pin().await.expect_err("there is nothing it could read");
    let later = light().open(folder.path().join("c")).await.expect_err("other vectors");
    assert_eq!(later.kind(), ErrorKind::Mismatch);
    let (_, report) = other.reencode(folder.path().join("c"), &StopToken::default()).await.expect("nothing to do");
    assert_eq!((report.encoded, report.cached), (0, 0));
}

/// A handle that was open before writes nothing of the encoder that is no longer the corpus's.
#[tokio::test]
async fn a_writer_of_the_encoder_before_is_refused() {
    let (folder, corpus) = corpus(&light()).await;
    corpus.build(notices()).await.expect("a build");
    let own = || [OwnChunk::new("own", "A walrus lies in the lock.")];
    corpus.upsert(own()).await.expect("put");
    let other = Pipeline::default().with_encoder(Hashing::new(200).expect("settings"));
    let (renewed, _) = other.reencode(folder.path().join("c"), &StopToken::default()).await.expect("encoded");
    let before = held(&renewed).await;
    let more = BuildRequest::default().source(MemorySource::new("notices").with("five.md", "The lock is shut."));
    let outcomes = [
        corpus.build(more).await.err(),
        corpus.upsert([OwnChunk::new("more", "A seal lies in the lock.")]).await.err(),
        corpus.upsert(own()).await.err(),
        corpus.remove("two.md").await.err(),
        corpus.remove_chunk("own").await.err(),
        corpus.forget("two.md").await.err(),
        corpus.compact().await.err(),
    ];
    for (at, error) in outcomes.iter().enumerate() {
        assert_eq!(error.as_ref().map(logothete::Error::kind), Some(ErrorKind::Mismatch), "{at}: {error:?}");
    }
    assert_eq!(held(&renewed).await, before);
    assert_eq!(renewed.info().await.expect("facts").segments.len(), 2);
    renewed.verify().await.expect("sound indexes");
}

#[tokio::test]
async fn a_pinned_corpus_sees_one_moment() {
    let (folder, corpus) = corpus(&light()).await;
    corpus.build(notices()).await.expect("a build");
    let newest = light().open(folder.path().join("c")).await.expect("a reader");
    let reader = newest.pin().await.expect("pinned");
    for at in 0..12 {
        corpus.upsert([OwnChunk::new(format!("c{at}"), format!("A walrus in lock {at}."))]).await.expect("put");
    }
    corpus.compact().await.expect_err("a reader holds what was there before");
    assert!(reader.search("+walrus").await.expect("a search").passages.is_empty());
    assert_eq!(names(&reader, "+swing".into()).await, ["four.md"]);
    drop(reader);
    let reader = newest.pin().await.expect("pinned again");
    assert_eq!(reader.search("+walrus").await.expect("a search").passages.len(), 10);
    drop(reader);
    corpus.compact().await.expect("nobody is in the way");
    assert_eq!(newest.info().await.expect("facts").segments.len(), 1);
}

#[tokio::test]
async fn an_export_is_imported_as_it_was() {
    let (folder, first) = corpus(&light()).await;
    first.build(notices()).await.expect("a build");
    first.upsert([OwnChunk::new("own", "A chunk of one's own.")]).await.expect("put");
    let file = folder.path().join("all.jsonl");
    let lines = first.export(std::fs::File::create(&file).expect("a file")).await.expect("exported");
    let text = std::fs::read_to_string(&file).expect("a file");
    assert_eq!(lines as usize, text.lines().count());
    let read = || std::io::BufReader::new(std::fs::File::open(&file).expect("a file"));

    let (_other, second) = corpus(&light()).await;
    assert_eq!(second.import(read()).await.expect("imported"), lines);
    assert_eq!(held(&second).await, held(&first).await);
    let found = |passages: Vec<logothete::search::Passage>| -> Vec<(String, f32)> {
        passages.into_iter().map(|one| (one.chunk.to_string(), one.score)).collect()
    };
    let query = "draught at the north berth";
    let (ours, theirs) = (second.search(query).await.expect("a search"), first.search(query).await.expect("a search"));
    assert_eq!(found(ours.passages), found(theirs.passages));
    second.verify().await.expect("sound indexes");
    // A build goes on from there, and a second import is refused.
    assert_eq!(second.build(notices()).await.expect("a build").unchanged, 4);
    assert_eq!(second.import(read()).await.expect_err("it holds documents").kind(), ErrorKind::Refused);

    let third = light().in_memory().await.expect("a corpus");
    let cut = text.lines().take(6).chain(["{\"chunks\": 7}"]).collect::<Vec<_>>().join("\n");
    let error = third.import(std::io::Cursor::new(cut)).await.expect_err("a line is wrong");
    assert_eq!(error.place(), Some("line 7"), "{error}");
    assert!(third.info().await.expect("facts").documents.is_empty(), "all or nothing");
    let other = Pipeline::default().with_encoder(Hashing::new(50).expect("settings"));
    let error = other.in_memory().await.expect("a corpus").import(read()).await.expect_err("another encoder");
    assert_eq!(error.kind(), ErrorKind::Mismatch);
}

#[rstest]
#[case("graph")]
#[case("lists")]
#[tokio::test]
async fn every_kind_of_index_finds_the_same_in_a_small_corpus(#[case] kind: &str) {
    let config: Config = toml::from_str(&format!("[index]\nkind = \"{kind}\"")).expect("settings");
    let pipeline =
        Pipeline::from_config(&config).expect("a pipeline").with_encoder(Hashing::new(96).expect("settings"));
    let (folder, first) = corpus(&pipeline).await;
    let (_other, exact) = corpus(&light()).await;
    first.build(notices()).await.expect("a build");
    exact.build(notices()).await.expect("a build");
    assert_eq!(serde_json::json!(first.info().await.expect("facts").segments[0].index), kind);
    for query in ["north berth", "swing bridge", "dredging"] {
        assert_eq!(names(&first, query.into()).await, names(&exact, query.into()).await);
    }
    first.verify().await.expect("sound indexes");
    drop(first);
    // Another kind takes its place at the next build.
    let again = light().open(folder.path().join("c")).await.expect("a corpus");
    again.build(notices()).await.expect("a build");
    assert_eq!(serde_json::json!(again.info().await.expect("facts").segments[0].index), "exact");
}
