//! Chunks that say what another says: indexed once, cited with all their places, and never taken for the same when they differ.

use std::collections::BTreeSet;

use logothete::eval::read_questions;
use logothete::{BuildRequest, Corpus, MemorySource, Pipeline};
use proptest::prelude::*;
use tempfile::TempDir;

const RULES: &str = "# Mooring rules\n\nMooring lines must be tended at every turn of the tide. A vessel may not leave her berth \
    while the storm signal is shown. Fenders are to be hung before a tug comes alongside. The watch keeps a light at the gangway \
    from dusk until dawn.";

async fn corpus() -> (TempDir, Corpus) {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = Pipeline::default().open(folder.path().join("c.corpus")).await.expect("a corpus");
    (folder, corpus)
}

fn source(documents: &[(&str, &str)]) -> MemorySource {
    documents
        .iter()
        .fold(MemorySource::new("papers"), |source, (name, text)| source.with(*name, text.as_bytes().to_vec()))
}

/// Every place at which a search finds a word, and how many passages it took.
async fn places(corpus: &Corpus, query: &str) -> (usize, BTreeSet<String>) {
    // The vector leg finds everything in so small a corpus.
    let mut found = corpus.search(query).await.expect("a search").passages;
    found.retain(|passage| passage.legs.contains_key("keyword"));
    let places = found.iter().flat_map(|passage| {
        [passage.location.document.clone()]
            .into_iter()
            .chain(passage.also.iter().map(|other| other.location.document.clone()))
    });
    (found.len(), places.collect())
}

fn set(names: &[&str]) -> BTreeSet<String> {
    names.iter().map(|name| (*name).to_owned()).collect()
}

#[tokio::test]
async fn what_is_the_same_is_indexed_once_and_cited_with_all_its_places() {
    let (_folder, corpus) = corpus().await;
    let shouted = RULES.replace("Mooring lines", "MOORING-LINES").replace("the storm signal", "storm signal,");
    let source = source(&[("a.md", RULES), ("b.md", &shouted), ("c.md", "# Other\n\nSeals sleep on the pontoon.")]);
    let report = corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    assert_eq!((report.chunks, report.repeated, report.encoded), (3, 1, 2));
    assert_eq!(corpus.info().await.expect("info").repeated, 1);
    assert_eq!(places(&corpus, "fenders before a tug").await, (1, set(&["a.md", "b.md"])));
    let answer = corpus.ask("When may a vessel not leave her berth?").await.expect("an answer");
    let source = &answer.answer.sources[0];
    assert_eq!((source.location.document.as_str(), source.also.len()), ("a.md", 1), "{answer}");
    assert_eq!(source.also[0].quotation, "A vessel may not leave her berth while storm signal, is shown.");
    assert!(answer.to_string().contains("also in b.md, Mooring rules"), "{answer}");
}

#[tokio::test]
async fn what_differs_is_found_and_cited_alone() {
    let (_folder, corpus) = corpus().await;
    let changed = RULES.replace("from dusk until dawn", "from noon until midnight");
    let source = source(&[("a.md", RULES), ("b.md", &changed)]);
    let report = corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    // The second has a row of its own for the sentence that only it has.
    assert_eq!((report.repeated, report.encoded), (1, 2));
    let cited = async |question: &str| {
        let answer = corpus.ask(question).await.expect("an answer");
        let source = answer.answer.sources.first().cloned().expect("a source");
        let also: Vec<String> = source.also.iter().map(|other| other.location.document.clone()).collect();
        (source.location.document, also)
    };
    assert_eq!(cited("Until when does the watch keep a light: midnight?").await, ("b.md".to_owned(), Vec::new()));
    assert_eq!(cited("Does the watch keep a light at dawn?").await, ("a.md".to_owned(), Vec::new()));
    assert_eq!(cited("When are fenders to be hung for a tug?").await, ("a.md".to_owned(), vec!["b.md".to_owned()]));
}

#[tokio::test]
async fn the_same_words_under_another_heading_are_another_statement() {
    let (_folder, corpus) = corpus().await;
    let text = |berth: u32| {
        format!("# Register\n\n## Berth {berth}\n\nThe greatest draught is 8 metres and the length is 120 metres.")
    };
    let source = source(&[("a.md", &text(7)), ("b.md", &text(8))]);
    let report = corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    assert_eq!((report.repeated, report.encoded), (0, 2));
}

#[tokio::test]
async fn a_statement_has_the_latest_of_its_dates() {
    let (_folder, corpus) = corpus().await;
    let dated = |date: &str| format!("---\ndate: {date}\n---\n{RULES}");
    let source = source(&[("old.md", &dated("2023-01-05")), ("young.md", &dated("2025-06-01"))]);
    corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    let answer = corpus.ask("When are fenders to be hung for a tug?").await.expect("an answer");
    let source = &answer.answer.sources[0];
    assert_eq!((source.location.document.as_str(), source.location.date.as_deref()), ("young.md", Some("2025-06-01")));
    assert_eq!(source.also[0].location.document, "old.md");
}

#[tokio::test]
async fn a_question_set_may_name_any_of_the_places() {
    let (_folder, corpus) = corpus().await;
    corpus.build(BuildRequest::default().source(source(&[("a.md", RULES), ("b.md", RULES)]))).await.expect("a build");
    let line = |document: &str| {
        let place = format!(r#"{{"document": "{document}", "section": "Mooring rules"}}"#);
        format!(
            r#"{{"id": "{document}", "question": "When are fenders to be hung for a tug?", "relevant": [{place}]}}"#
        )
    };
    let questions = read_questions(&[line("a.md"), line("b.md"), line("c.md")].join("\n")).expect("questions");
    let run = corpus.evaluate("places", questions).await.expect("a run");
    let outcome: Vec<_> = run.per_question.iter().map(|score| (score.first_rank, score.cited)).collect();
    assert_eq!(outcome, [(Some(1), Some(true)), (Some(1), Some(true)), (None, Some(false))]);
}

#[tokio::test]
async fn when_the_indexed_one_goes_another_takes_its_place() {
    let (folder, corpus) = corpus().await;
    let build = async |corpus: &Corpus, documents: &[(&str, &str)]| {
        corpus.build(BuildRequest::default().source(source(documents)).prune(true)).await.expect("a build")
    };
    let other = "# Other\n\nSeals sleep on the pontoon.";
    build(&corpus, &[("a.md", RULES), ("b.md", RULES), ("c.md", RULES), ("d.md", other)]).await;
    assert_eq!(places(&corpus, "fenders before a tug").await, (1, set(&["a.md", "b.md", "c.md"])));
    build(&corpus, &[("b.md", RULES), ("c.md", RULES), ("d.md", other)]).await;
    assert_eq!(places(&corpus, "fenders before a tug").await, (1, set(&["b.md", "c.md"])));
    // The one that is indexed changes, and the new one of the same build says the same again.
    build(&corpus, &[("b.md", other), ("c.md", RULES), ("d.md", other), ("e.md", RULES)]).await;
    assert_eq!(places(&corpus, "fenders before a tug").await, (1, set(&["c.md", "e.md"])));
    build(&corpus, &[("d.md", other)]).await;
    assert_eq!(places(&corpus, "fenders before a tug").await.1, set(&[]));
    corpus.verify().await.expect("sound indexes");
    drop(folder);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Whatever is added, changed and removed in whatever order: the corpus finds each document that says something, as a
    /// corpus does that was built at once.
    #[test]
    fn any_history_ends_where_one_build_ends(history in prop::collection::vec(prop::collection::vec(0usize..5, 4), 1..6)) {
        let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
        runtime.block_on(async {
            let changed = RULES.replace("from dusk until dawn", "from noon until midnight");
            let texts = ["", RULES, &changed, "# Other\n\nSeals sleep on the pontoon.", "# Mooring rules\n\nFenders are blue."];
            let (_folder, mut stepped) = corpus().await;
            let (_other, mut fresh) = corpus().await;
            for (step, state) in history.iter().enumerate() {
                let named: Vec<(String, &str)> = state.iter().enumerate().map(|(at, text)| (format!("{at}.md"), texts[*text])).collect();
                let mut documents: Vec<(&str, &str)> =
                    named.iter().filter(|(_, text)| !text.is_empty()).map(|(name, text)| (name.as_str(), *text)).collect();
                documents.push(("z.md", "# End\n\nThe last page is blank."));
                let last = step + 1 == history.len();
                for corpus in [Some(&mut stepped), last.then_some(&mut fresh)].into_iter().flatten() {
                    corpus.build(BuildRequest::default().source(source(&documents)).prune(true)).await.expect("a build");
                }
            }
            for query in ["fenders tug", "light at the gangway until midnight", "light until dawn", "seals", "fenders blue"] {
                let (stepped, fresh) = (places(&stepped, query).await.1, places(&fresh, query).await.1);
                assert_eq!(stepped, fresh, "{query}: {history:?}");
            }
            stepped.verify().await.expect("sound indexes");
        });
    }
}
