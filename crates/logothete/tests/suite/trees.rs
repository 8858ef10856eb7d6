//! The tree of summaries of a corpus: grown by builds, followed, searched, told, exported, erased.

use std::path::Path;

use logothete::answer::Status;
use logothete::config::{GeneratorRole, TreeKind};
use logothete::search::Filter;
use logothete::tree::{TreeEnd, TreeOverview};
use logothete::{BuildRequest, Corpus, ErrorKind, Hashing, MemorySource, Pipeline, SearchRequest, StopToken};
use logothete_simulator::{Fault, ScriptedGenerator};
use rstest::rstest;

/// What notices are about: a word that belongs to each subject, and others that go with it.
const SUBJECTS: [(&str, &str); 5] = [
    ("pilot", "boards at the outer buoy and stays on the bridge of the vessel"),
    ("crane", "lifts crates from the hold and is greased before each shift"),
    ("lock", "is shut at night and opened for fishing boats at dawn"),
    ("bell", "is rung in fog from the tower beside the lighthouse"),
    ("rope", "is dried in the loft and spliced by the watch"),
];

fn notice(number: usize) -> (String, String) {
    let (subject, more) = SUBJECTS[number % SUBJECTS.len()];
    let text = format!(
        "# Notice {number} on the {subject}\n\nThe {subject} of quay {number} {more}. Each {subject} has a number, and {subject} {number} was looked at in week {number}.\n"
    );
    (format!("{subject}-{number:02}.md"), text)
}

fn notices(numbers: impl IntoIterator<Item = usize>) -> BuildRequest {
    let source = numbers
        .into_iter()
        .map(notice)
        .fold(MemorySource::new("notices"), |source, (name, text)| source.with(name, text));
    BuildRequest::default().source(source)
}

fn pipeline() -> Pipeline {
    Pipeline::default().with_encoder(Hashing::new(256).expect("settings")).configured(|config| {
        (config.tree.kind, config.tree.max_parts) = (TreeKind::Sentences, 10);
    })
}

async fn corpus(pipeline: &Pipeline, folder: &Path) -> Corpus {
    pipeline.open(folder.join("c")).await.expect("a corpus")
}

async fn overview(corpus: &Corpus) -> TreeOverview {
    corpus.tree().await.expect("a look").expect("a tree")
}

fn tree_files(folder: &Path) -> Vec<Vec<u8>> {
    let files =
        std::fs::read_dir(folder.join("c/segments")).expect("a folder").map(|entry| entry.expect("a file").path());
    let trees = files.filter(|file| file.extension().is_some_and(|end| end == "tree"));
    trees.map(|file| std::fs::read(file).expect("its bytes")).collect()
}

#[tokio::test]
async fn a_build_grows_a_tree_whose_summaries_are_of_the_documents() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = corpus(&pipeline(), folder.path()).await;
    let report = corpus.build(notices(0..40)).await.expect("a build");
    let grown = report.tree.expect("a tree");
    assert!(grown.grown && grown.chunks == 40 && grown.told == grown.nodes && grown.levels >= 2, "{grown:?}");
    let tree = overview(&corpus).await;
    assert_eq!((tree.end, tree.tops().len(), tree.tops()[0].chunks), (TreeEnd::Whole, 1, 40));
    assert_eq!(tree.nodes.len(), tree.levels.iter().map(|level| level.nodes).sum::<usize>());
    for node in &tree.nodes {
        assert!(!node.sources.is_empty() && !node.label.is_empty(), "{node:?}");
        for source in &node.sources {
            let text = corpus.text(&source.location.document, source.location.span).await.expect("a place");
            assert_eq!(text.split_whitespace().collect::<Vec<_>>().join(" "), source.text);
            assert!(node.summary.contains(&source.text));
        }
    }
    // What is as it was is not told again.
    let report = corpus.build(notices(0..40)).await.expect("a build");
    assert_eq!(report.tree.map(|tree| (tree.told, tree.grown)), Some((0, false)));
    corpus.verify().await.expect("a sound corpus");
    assert_eq!(tree_files(folder.path()).len(), 1, "files of trees before are removed");
}

#[tokio::test]
async fn a_tree_follows_what_comes_and_goes_and_grows_anew_when_much_has_changed() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = corpus(&pipeline(), folder.path()).await;
    corpus.build(notices(0..40)).await.expect("a build");
    let report = corpus.build(notices(2..42)).await.expect("a build").tree.expect("a tree");
    assert!(!report.grown && report.joined == 2 && report.gone == 2, "{report:?}");
    assert!(report.told > 0 && report.told < report.nodes, "{report:?}");
    let tree = overview(&corpus).await;
    assert!((tree.drift - 0.1).abs() < 1e-3 && tree.chunks == 40, "{}", tree.drift);
    let parts: Vec<String> = tree.level(1).flat_map(|node| node.parts.iter().map(ToString::to_string)).collect();
    for document in corpus.info().await.expect("facts").documents {
        let chunk = corpus.chunks(&document.document).await.expect("chunks").remove(0).chunk;
        assert!(parts.contains(&chunk.to_string()), "{}", document.document);
    }
    let report = corpus.build(notices(20..60).prune(true)).await.expect("a build").tree.expect("a tree");
    assert!(report.grown && report.chunks == 40, "{report:?}");
    assert!(overview(&corpus).await.drift.abs() < 1e-6);
}

#[tokio::test]
async fn one_document_has_no_tree_and_hinders_nothing() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = corpus(&pipeline(), folder.path()).await;
    let report = corpus.build(notices(0..1)).await.expect("a build").tree.expect("a tree");
    assert_eq!((report.nodes, report.end), (0, TreeEnd::TooFew));
    let found = corpus.search("What are the main topics of the pilot?").await.expect("a search");
    assert!(found.passages.len() == 1 && found.notes.is_empty(), "{:?}", found.notes);
}

#[tokio::test]
async fn a_question_about_the_whole_is_answered_from_many_places() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = corpus(&pipeline(), folder.path()).await;
    corpus.build(notices(0..40)).await.expect("a build");
    let question = "Give me an overview of the crane.";
    let found = corpus.search(SearchRequest::new(question)).await.expect("a search");
    assert!(found.passages.iter().any(|passage| passage.legs.contains_key("tree")));
    let reply = corpus.ask(question).await.expect("an answer");
    let answer = &reply.answer;
    assert_eq!(answer.status, Status::Answered, "{}", answer.answer);
    assert!(answer.sources.len() >= 4, "{}", answer.answer);
    assert!(answer.sources.iter().all(|source| source.location.document.starts_with("crane")), "{}", answer.answer);
    assert!(
        answer.reason.as_ref().is_some_and(|reason| reason.contains("about the whole") && reason.contains("crane"))
    );
    // A question of one fact is searched as ever, and so is one with a filter.
    let fact = corpus.search("When is the lock shut?").await.expect("a search");
    assert!(fact.passages.iter().all(|passage| !passage.legs.contains_key("tree")));
    let filter = Filter::parse("document = crane-06.md").expect("a filter");
    let reply = corpus.ask(SearchRequest::new(question).filter(filter)).await.expect("an answer");
    assert!(reply.answer.sources.iter().all(|source| source.location.document == "crane-06.md"));
    // What nothing is said of is refused.
    let reply = corpus.ask("Give me an overview of symphonic poetry and its metre.").await.expect("an answer");
    assert_eq!(reply.answer.status, Status::Refused, "{}", reply.answer.answer);
}

#[tokio::test]
async fn a_tree_of_another_encoder_is_stale_until_the_next_build() {
    let folder = tempfile::tempdir().expect("a folder");
    drop({
        let corpus = corpus(&pipeline(), folder.path()).await;
        corpus.build(notices(0..40)).await.expect("a build");
        corpus
    });
    let other = pipeline().with_encoder(Hashing::new(128).expect("settings"));
    let (corpus, _) = other.reencode(folder.path().join("c"), &StopToken::default()).await.expect("encoded");
    let stale = overview(&corpus).await.stale.expect("it is stale");
    assert!(stale.contains("encoded anew"), "{stale}");
    let question = "Give me an overview of the crane.";
    let found = corpus.search(question).await.expect("a search");
    assert!(found.passages.iter().all(|passage| !passage.legs.contains_key("tree")) && found.notes.is_empty());
    // A plan that names the leg is told why it is left out.
    let with_leg = other.configured(|config| {
        config.search.legs.insert("tree".to_owned(), 1.0);
    });
    let planned = with_leg.open(folder.path().join("c")).await.expect("a corpus");
    let found = planned.search("crane").await.expect("a search");
    assert!(found.notes.len() == 1 && found.notes[0].contains("another encoder; build"), "{:?}", found.notes);
    let report = planned.build(notices(0..40)).await.expect("a build").tree.expect("a tree");
    assert!(report.grown && overview(&planned).await.stale.is_none());
    assert!(planned.search("crane").await.expect("a search").notes.is_empty());
}

#[tokio::test]
async fn what_is_forgotten_is_in_no_summary() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = corpus(&pipeline(), folder.path()).await;
    corpus.build(notices(0..40)).await.expect("a build");
    let said = "quay 6 ";
    let holds = |files: &[Vec<u8>]| files.iter().any(|file| String::from_utf8_lossy(file).contains(said));
    corpus.grow_tree(true, &StopToken::default()).await.expect("a tree");
    corpus.forget("crane-06.md").await.expect("forgotten");
    assert!(corpus.tree().await.expect("a look").is_none() && tree_files(folder.path()).is_empty());
    let report = corpus.build(notices((0..40).filter(|number| *number != 6))).await.expect("a build");
    assert!(report.tree.is_some_and(|tree| tree.grown) && !holds(&tree_files(folder.path())));
}

#[tokio::test]
async fn a_damaged_tree_is_found_and_grown_again() {
    let folder = tempfile::tempdir().expect("a folder");
    drop({
        let corpus = corpus(&pipeline(), folder.path()).await;
        corpus.build(notices(0..40)).await.expect("a build");
        corpus
    });
    let file = std::fs::read_dir(folder.path().join("c/segments"))
        .expect("a folder")
        .map(|entry| entry.expect("a file").path())
        .find(|file| file.extension().is_some_and(|end| end == "tree"))
        .expect("a tree");
    let mut bytes = std::fs::read(&file).expect("its bytes");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 4;
    std::fs::write(&file, &bytes).expect("written");
    let damaged = corpus(&pipeline(), folder.path()).await;
    assert_eq!(damaged.verify().await.expect_err("a damaged byte").kind(), ErrorKind::Corpus);
    let found = damaged.search("Give me an overview of the crane.").await.expect("a search without it");
    assert!(!found.passages.is_empty());
    let report = damaged.build(notices(0..40)).await.expect("a build").tree.expect("a tree");
    assert!(report.grown);
    drop(damaged);
    corpus(&pipeline(), folder.path()).await.verify().await.expect("a sound corpus");
}

#[tokio::test]
async fn a_tree_is_exported_and_imported() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = corpus(&pipeline(), folder.path()).await;
    corpus.build(notices(0..40)).await.expect("a build");
    let file = folder.path().join("export.jsonl");
    corpus.export(std::fs::File::create(&file).expect("a file")).await.expect("exported");
    let other = pipeline().in_memory().await.expect("a corpus");
    other.import(std::io::BufReader::new(std::fs::File::open(&file).expect("a file"))).await.expect("imported");
    assert_eq!(overview(&other).await, overview(&corpus).await);
    other.verify().await.expect("a sound corpus");
}

/// A model that says in one sentence what its texts are about, and counts.
fn model() -> ScriptedGenerator {
    ScriptedGenerator::new("summaries by script", |prompt| {
        let text = prompt.text();
        let subject =
            SUBJECTS.iter().max_by_key(|(subject, _)| text.matches(subject).count()).map(|(subject, _)| *subject);
        format!("This is about the {}, and much else.", subject.unwrap_or("harbour"))
    })
}

fn written(model: &ScriptedGenerator) -> Pipeline {
    pipeline()
        .configured(|config| config.tree.kind = TreeKind::Generator)
        .with_generator_for(GeneratorRole::Tree, model.clone())
}

#[tokio::test]
async fn a_model_writes_the_summaries_once() {
    let folder = tempfile::tempdir().expect("a folder");
    let model = model();
    let corpus = corpus(&written(&model), folder.path()).await;
    let report = corpus.build(notices(0..40)).await.expect("a build").tree.expect("a tree");
    assert!(report.told == report.nodes && report.tokens.sent > 0 && report.broken.is_none(), "{report:?}");
    assert_eq!(model.asked().len(), report.nodes);
    let tree = overview(&corpus).await;
    assert!(
        tree.nodes
            .iter()
            .all(|node| node.written && node.summary.starts_with("This is about the ") && !node.sources.is_empty())
    );
    corpus.grow_tree(true, &StopToken::default()).await.expect("a tree");
    assert_eq!(model.asked().len(), report.nodes, "the replies are in the cache");
}

#[tokio::test]
async fn a_model_that_fails_half_way_leaves_what_it_wrote_and_goes_on() {
    let folder = tempfile::tempdir().expect("a folder");
    let whole = {
        let elsewhere = tempfile::tempdir().expect("a folder");
        let corpus = corpus(&written(&model()), elsewhere.path()).await;
        corpus.build(notices(0..40)).await.expect("a build");
        overview(&corpus).await
    };
    let lowest = whole.levels[0].nodes;
    // The first request above the lowest level is refused.
    let failing = model().failing_at(lowest + 1, Fault::Refused);
    let corpus = corpus(&written(&failing), folder.path()).await;
    let report = corpus.build(notices(0..40)).await.expect("a build").tree.expect("a tree");
    assert!(report.broken.is_some() && report.levels == 1, "{report:?}");
    assert_eq!(overview(&corpus).await.levels.len(), 1);
    let before = failing.asked().len();
    let report = corpus.build(notices(0..40)).await.expect("a build").tree.expect("a tree");
    assert!(report.broken.is_none() && overview(&corpus).await.nodes == whole.nodes);
    let asked = failing.asked().len() - before;
    assert!(asked > 0 && asked <= whole.nodes.len() - lowest, "what was written is not paid for again: {asked}");
}

#[rstest]
#[case::parts(|config: &mut logothete::Config| config.tree.max_parts = 1, "[tree] max_parts")]
#[case::words(|config: &mut logothete::Config| config.tree.max_words = 0, "[tree] max_words")]
#[case::levels(|config: &mut logothete::Config| config.tree.max_levels = 0, "[tree] max_levels")]
#[case::weight(|config: &mut logothete::Config| config.tree.weight = f32::NAN, "[tree] weight")]
fn settings_out_of_bounds_are_named(#[case] change: fn(&mut logothete::Config), #[case] place: &str) {
    let mut config = logothete::Config::default();
    change(&mut config);
    let error = config.validate().expect_err("a wrong setting");
    assert_eq!(error.place(), Some(place));
}

#[tokio::test]
async fn a_tree_of_a_model_needs_one() {
    let folder = tempfile::tempdir().expect("a folder");
    let without = pipeline().configured(|config| config.tree.kind = TreeKind::Generator);
    let corpus = corpus(&without, folder.path()).await;
    let error = corpus.build(notices(0..5)).await.expect_err("no model");
    assert!(error.to_string().contains("no model is set"), "{error}");
    assert_eq!(corpus.info().await.expect("facts").documents.len(), 5, "the documents are there");
}

/// A document of many chunks about several subjects.
fn handbook(sections: usize) -> String {
    let section = |number| {
        let (subject, more) = SUBJECTS[number % SUBJECTS.len()];
        format!(
            "## The {subject} of quay {number}\n\nThe {subject} {more}. Each {subject} has a number, and {subject} {number} was looked at in week {number}.\n\n"
        )
    };
    format!("# Handbook\n\n{}", (0..sections).map(section).collect::<String>())
}

async fn with_handbook(pipeline: &Pipeline) -> Corpus {
    let corpus = pipeline.in_memory().await.expect("a corpus");
    corpus.build(MemorySource::new("books").with("handbook.md", handbook(40))).await.expect("a build");
    corpus.build(notices(0..10)).await.expect("a build");
    corpus
}

#[tokio::test]
async fn a_document_has_a_tree_of_its_own_that_is_not_kept() {
    let corpus = with_handbook(&pipeline().configured(|config| config.tree.kind = TreeKind::Off)).await;
    let tree = corpus.tree_of(["handbook.md"]).await.expect("a tree");
    let chunks = corpus.chunks("handbook.md").await.expect("chunks");
    assert_eq!(tree.chunks as usize, chunks.len());
    assert!(tree.levels.len() > 1 && tree.end == TreeEnd::Whole, "{:?}", tree.levels);
    for source in tree.nodes.iter().flat_map(|node| &node.sources) {
        assert_eq!(source.location.document, "handbook.md");
        let text = corpus.text("handbook.md", source.location.span).await.expect("a place");
        assert_eq!(text.split_whitespace().collect::<Vec<_>>().join(" "), source.text);
    }
    assert_eq!(corpus.tree().await.expect("a look"), None, "the corpus has none");
    assert_eq!(corpus.tree_of(["handbook.md"]).await.expect("a tree"), tree, "it grows the same way");
    let several = corpus.tree_of(["handbook.md", "crane-01.md", "handbook.md"]).await.expect("a tree");
    assert!(several.chunks > tree.chunks);
    let small = corpus.tree_of(["crane-01.md"]).await.expect("a tree");
    assert_eq!((small.levels.len(), small.end), (0, TreeEnd::TooFew));
    let error = corpus.tree_of(["handbok.md"]).await.expect_err("no document");
    assert!(error.to_string().contains("did you mean handbook.md?"), "{error}");
}

#[tokio::test]
async fn a_digest_tells_a_level_of_the_tree_of_a_document() {
    let corpus = with_handbook(&pipeline()).await;
    let tree = corpus.tree_of(["handbook.md"]).await.expect("a tree");
    for level in &tree.levels {
        let report = corpus.digest_at_level(["handbook.md"], level.level).await.expect("a digest");
        let digest = &report.digests[0];
        assert_eq!((digest.fields.len(), digest.document.as_str()), (level.nodes, "handbook.md"));
        let markers: Vec<usize> = digest.sources.iter().map(|source| source.marker).collect();
        assert_eq!(markers, (1..=digest.sources.len()).collect::<Vec<_>>());
        let starts: Vec<usize> = digest
            .fields
            .iter()
            .filter_map(|field| {
                let first = field.statements.first()?.claim.citations[0];
                Some(digest.sources[first - 1].location.span.start)
            })
            .collect();
        assert!(starts.is_sorted(), "summaries come in the order of the document");
    }
    let coarse = corpus.digest_at_level(["handbook.md"], tree.levels.len() as u32).await.expect("a digest");
    let fine = corpus.digest_at_level(["handbook.md"], 1).await.expect("a digest");
    assert!(coarse.digests[0].statements().count() < fine.digests[0].statements().count());
    for (document, level, said) in [
        ("handbook.md", 9, format!("its summaries have the levels 1 to {}", tree.levels.len())),
        ("handbook.md", 0, format!("its summaries have the levels 1 to {}", tree.levels.len())),
        (
            "crane-01.md",
            1,
            "it has too few chunks for summaries of several; ask for a digest without a level".to_owned(),
        ),
    ] {
        let error = corpus.digest_at_level([document], level).await.expect_err("no such level");
        assert_eq!((error.message(), error.place()), (said.as_str(), Some(document)));
    }
}

#[tokio::test]
async fn a_model_writes_the_tree_of_a_document_once_and_the_estimate_comes_first() {
    let model = model();
    let pipeline = written(&model);
    let corpus = pipeline.in_memory().await.expect("a corpus");
    let source = MemorySource::new("books").with("handbook.md", handbook(40));
    let request = || BuildRequest::default().source(source.clone());
    let estimate = corpus.estimate(request()).await.expect("an estimate");
    let expected = estimate.tree.expect("a model is to write");
    assert_eq!(model.asked().len(), 0, "an estimate asks nobody");
    let report = corpus.build(request()).await.expect("a build").tree.expect("a tree");
    assert!(report.nodes as u64 <= expected.summaries, "{} and {}", report.nodes, expected.summaries);
    assert!(
        report.tokens.sent <= expected.tokens.sent && expected.tokens.sent < report.tokens.sent * 3,
        "{expected:?} {:?}",
        report.tokens
    );
    assert!(report.tokens.received <= expected.tokens.received);

    let asked = model.asked().len();
    let tree = corpus.tree_of(["handbook.md"]).await.expect("a tree");
    assert!(tree.nodes.iter().all(|node| node.written));
    assert_eq!(model.asked().len(), asked, "the same chunks were summed up before");
    let none = with_handbook(&self::pipeline()).await.estimate(notices(20..22)).await.expect("an estimate").tree;
    assert_eq!(none, None, "sentences cost nothing");
}

#[tokio::test]
async fn a_tree_can_be_gone_down_from_the_top() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = corpus(&pipeline(), folder.path()).await;
    corpus.build(notices(0..40)).await.expect("a build");
    let question = "Give me an overview of the pilot notices.";
    let all = corpus.ask(question).await.expect("an answer");
    drop(corpus);
    let narrow = pipeline().configured(|config| config.tree.width = 3);
    let corpus = self::corpus(&narrow, folder.path()).await;
    let down = corpus.ask(question).await.expect("an answer");
    for reply in [&all, &down] {
        let documents: Vec<&str> =
            reply.answer.sources.iter().map(|source| source.location.document.as_str()).collect();
        assert!(documents.len() > 3 && documents.iter().all(|name| name.starts_with("pilot")), "{documents:?}");
    }
}
