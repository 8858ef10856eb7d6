//! Who may see which document.

use logothete::{Config, Corpus, ErrorKind, MemorySource, Pipeline, SearchRequest};
use rstest::rstest;

const OPEN: &str = "open.md";
const PILOTS: &str = "pilots.md";
const STAFF: &str = "staff.md";
const UNSAID: &str = "unsaid.md";

fn document(groups: Option<&str>, title: &str, text: &str) -> String {
    let groups = groups.map(|groups| format!("---\ngroups: {groups}\n---\n")).unwrap_or_default();
    format!("{groups}# {title}\n\n{text}\n")
}

async fn corpus_with(settings: &str) -> Corpus {
    let config = Config::parse(settings).expect("settings");
    let corpus = Pipeline::from_config(&config).expect("a pipeline").in_memory().await.expect("a corpus");
    let same = "The old signal lamp stands on the mole and is lit at dusk by the watch.";
    let source = MemorySource::new("harbour")
        .with(OPEN, document(Some("everyone"), "Lamp", same))
        .with(PILOTS, document(Some("[pilots, staff]"), "Lamp", same))
        .with(
            STAFF,
            document(Some("staff"), "Safe", "The safe of the harbour office opens with the number 4711 at dusk."),
        )
        .with(UNSAID, document(None, "Draft", "The draft of the signal rules says that the lamp is blue at dusk."));
    corpus.build(source).await.expect("a build");
    corpus
}

async fn corpus() -> Corpus {
    corpus_with("[search]\nallow = \"groups\"").await
}

/// The documents that a handle finds, also beside a passage.
async fn found(corpus: &Corpus) -> Vec<String> {
    let passages = corpus.search("signal lamp, safe, draft at dusk").await.expect("a search").passages;
    let also = |passage: &logothete::search::Passage| {
        let others = passage.also.iter().map(|other| other.location.document.clone());
        std::iter::once(passage.location.document.clone()).chain(others).collect::<Vec<_>>()
    };
    let mut names: Vec<String> = passages.iter().flat_map(also).collect();
    names.sort();
    names.dedup();
    names
}

#[rstest]
#[case(&[], &[OPEN])]
#[case(&["pilots"], &[OPEN, PILOTS])]
#[case(&["Staff"], &[OPEN, PILOTS, STAFF])]
#[case(&["nobody", "pil"], &[OPEN])]
#[case(&["staff", "pilots"], &[OPEN, PILOTS, STAFF])]
#[tokio::test]
async fn groups_decide_what_is_found(#[case] groups: &[&str], #[case] expected: &[&str]) {
    let corpus = corpus().await;
    let mine = corpus.for_groups(groups.iter().copied()).expect("groups");
    assert_eq!(found(&mine).await, expected);
    let documents = mine.info().await.expect("facts").documents;
    assert_eq!(documents.iter().map(|info| info.document.as_str()).collect::<Vec<_>>(), expected);
    for name in [OPEN, PILOTS, STAFF, UNSAID] {
        let sees = expected.contains(&name);
        assert_eq!(mine.document(name).await.is_ok(), sees);
        assert_eq!(mine.parsed(name).await.is_ok(), sees);
        assert_eq!(mine.chunks(name).await.is_ok(), sees);
        assert_eq!(mine.metadata(name).await.is_ok(), sees);
        assert_eq!(mine.original(name).await.is_ok(), sees);
        assert_eq!(mine.digest([name], "default").await.is_ok(), sees);
        let chunk = corpus.for_owner().chunks(name).await.expect("chunks")[0].chunk.clone();
        assert_eq!(mine.chunk(chunk.as_str()).await.is_ok(), sees);
        assert_eq!(mine.section(&chunk).await.is_ok(), sees);
    }
}

#[tokio::test]
async fn nobody_is_told_that_a_hidden_document_is_there() {
    let corpus = corpus().await;
    let hidden = corpus.document(STAFF).await.expect_err("a hidden document");
    let missing = corpus.document("staffs.md").await.expect_err("no document");
    assert_eq!((hidden.kind(), hidden.message()), (missing.kind(), missing.message()));

    let reply = corpus.ask("Which number opens the safe of the harbour office?").await.expect("an answer");
    assert!(!reply.to_string().contains("4711"), "{reply}");
    let staff = corpus.for_groups(["staff"]).expect("groups");
    let reply = staff.ask("Which number opens the safe of the harbour office?").await.expect("an answer");
    assert!(reply.to_string().contains("4711"), "{reply}");

    let claim = "The safe of the harbour office opens with the number 4711 at dusk. [staff.md]";
    let report = corpus.check("text.md", claim).await.expect("a report");
    assert!(report.claims.iter().all(|claim| claim.evidence.is_none()
        || claim.evidence.as_ref().is_some_and(|source| source.location.document == OPEN)));
    assert_eq!(corpus.search("saef").await.expect("a search").misspelt.len(), 0, "words may stand in hidden documents");
}

#[tokio::test]
async fn a_counterpart_that_may_be_seen_stands_for_one_that_may_not() {
    let corpus = corpus().await;
    let passages = corpus.search("old signal lamp on the mole").await.expect("a search").passages;
    assert_eq!(passages[0].location.document, OPEN);
    assert!(passages.iter().all(|passage| passage.also.is_empty()));
    let chunks = corpus.chunks(OPEN).await.expect("chunks");
    assert!(chunks.iter().all(|chunk| chunk.also.is_empty()));
    let pilots = corpus.for_groups(["pilots"]).expect("groups");
    assert!(pilots.chunks(OPEN).await.expect("chunks").iter().any(|chunk| !chunk.also.is_empty()));
}

#[tokio::test]
async fn an_owner_sees_all_and_a_filter_narrows_what_a_group_sees() {
    let corpus = corpus().await;
    assert_eq!(found(&corpus.for_owner()).await, [OPEN, PILOTS, STAFF, UNSAID]);
    let staff = corpus.for_groups(["staff"]).expect("groups");
    let request = SearchRequest::new("signal lamp at dusk")
        .filter("document = staff.md or document = unsaid.md".parse().expect("a filter"));
    let passages = staff.search(request).await.expect("a search").passages;
    assert!(!passages.is_empty() && passages.iter().all(|passage| passage.location.document == STAFF));
    assert_eq!(corpus.tree().await.expect_err("a tree tells of all").kind(), ErrorKind::Refused);
    assert_eq!(corpus.for_owner().tree().await.expect("no tree"), None);
    assert_eq!(corpus.draft(3, 0).await.expect_err("drafts tell of all").kind(), ErrorKind::Refused);
}

#[tokio::test]
async fn pinned_handles_and_conversations_keep_who_asks() {
    let corpus = corpus().await;
    let pinned = corpus.for_groups(["staff"]).expect("groups").pin().await.expect("a moment");
    assert_eq!(found(&pinned).await, [OPEN, PILOTS, STAFF]);
    assert_eq!(found(&pinned.for_groups(["pilots"]).expect("groups")).await, [OPEN, PILOTS]);
    let talk = corpus.conversation("evening").expect("a conversation");
    let turn = talk.ask("Which number opens the safe of the harbour office?").await.expect("a turn");
    assert!(!format!("{turn:?}").contains("4711"));
}

#[tokio::test]
async fn groups_need_a_field_and_the_field_must_be_there() {
    let open = corpus_with("").await;
    assert_eq!(found(&open).await, [OPEN, PILOTS, STAFF, UNSAID], "without allow all see all");
    let error = open.for_groups(["pilots"]).expect_err("no field");
    assert_eq!((error.kind(), error.place()), (ErrorKind::Configuration, Some("[search] allow")));
    let slip = corpus_with("[search]\nallow = \"grups\"").await;
    let error = slip.search("lamp").await.expect_err("no document has the field");
    assert_eq!(error.place(), Some("[search] allow"));
    assert!(error.message().contains("did you mean groups?"), "{error}");
}
