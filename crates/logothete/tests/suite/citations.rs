//! Whatever is asked of whatever documents: what is cited stands where the citation says, and requests hold.

use std::collections::BTreeMap;

use logothete::answer::Answer;
use logothete::search::{Filter, Passage};
use logothete::verify::Verdict;
use logothete::{BuildRequest, Corpus, Hashing, MemorySource, Pipeline, SearchRequest};
use proptest::prelude::*;

/// The texts of all documents by their names.
async fn texts(corpus: &Corpus, folder: &std::path::Path) -> BTreeMap<String, String> {
    let file = folder.join("all.jsonl");
    corpus.export(std::fs::File::create(&file).expect("a file")).await.expect("exported");
    let lines = std::fs::read_to_string(file).expect("lines");
    let rows = lines.lines().map(|line| serde_json::from_str::<serde_json::Value>(line).expect("JSON"));
    let documents = rows.filter_map(|mut row| Some(row.get_mut("documents")?.take()));
    let told = |row: &serde_json::Value, key: &str| row[key].as_str().expect("text").to_owned();
    documents.map(|row| (told(&row, "name"), told(&row, "text"))).collect()
}

/// Every citation is the very text of its document, and every claim has one.
fn is_honest(answer: &Answer, texts: &BTreeMap<String, String>) {
    assert_eq!(answer.is_refusal(), answer.claims.is_empty());
    assert_eq!(answer.is_refusal(), answer.sources.is_empty());
    for source in &answer.sources {
        let stands = |document: &str, from: usize, to: usize| texts[document].get(from..to).map(str::to_owned);
        let quoted = Some(source.quotation.clone());
        assert_eq!(
            stands(&source.location.document, source.location.span.start, source.location.span.end),
            quoted,
            "{answer:?}"
        );
        for other in &source.also {
            let there = Some(other.quotation.clone());
            assert_eq!(
                stands(&other.location.document, other.location.span.start, other.location.span.end),
                there,
                "{answer:?}"
            );
        }
        for matched in &source.matches {
            assert!(source.quotation.get(matched.start..matched.end).is_some_and(|word| !word.is_empty()));
        }
    }
    let markers: Vec<usize> = answer.sources.iter().map(|source| source.marker).collect();
    assert_eq!(markers, (1..=markers.len()).collect::<Vec<_>>(), "sources are numbered in their order");
    for claim in &answer.claims {
        assert!(!claim.citations.is_empty() && claim.verdict != Verdict::Unsupported, "{claim:?}");
        assert!(claim.citations.iter().all(|marker| markers.contains(marker)), "{claim:?}");
        assert!(answer.answer.contains(&claim.text), "{answer:?}");
    }
}

const SUBJECTS: [&str; 5] = ["The pilot", "A tug", "Berth 7", "The swing bridge", "Crane 2"];
const VERBS: [&str; 5] = ["boards", "opens", "is closed", "costs 40 crowns", "waits"];
const PLACES: [&str; 5] = ["at the outer buoy", "in fog", "until Friday", "on the quay", "before 6:30"];

fn sentence() -> impl Strategy<Value = String> {
    (0..5_usize, 0..5_usize, 0..5_usize)
        .prop_map(|(subject, verb, place)| format!("{} {} {}.", SUBJECTS[subject], VERBS[verb], PLACES[place]))
}

/// Documents with headings, lists, tables and what not.
fn document() -> impl Strategy<Value = String> {
    let block = prop_oneof![
        4 => prop::collection::vec(sentence(), 1..4).prop_map(|all| all.join(" ")),
        2 => sentence().prop_map(|sentence| format!("# {}", sentence.trim_end_matches('.'))),
        1 => prop::collection::vec(sentence(), 1..4).prop_map(|all| format!("- {}", all.join("\n- "))),
        1 => prop::collection::vec((0..5_usize, 0..90), 1..4).prop_map(|rows| {
            let rows = rows.iter().map(|(subject, fee)| format!("| {} | {fee} |\n", SUBJECTS[*subject]));
            format!("| What | Fee |\n|---|---|\n{}", rows.collect::<String>())
        }),
        1 => "\\PC{0,30}",
    ];
    prop::collection::vec(block, 1..7).prop_map(|blocks| blocks.join("\n\n"))
}

fn question() -> impl Strategy<Value = String> {
    prop_oneof![
        3 => (0..5_usize, 0..5_usize).prop_map(|(subject, place)| format!("When is it that {} waits {}?", SUBJECTS[subject], PLACES[place])),
        3 => (0..5_usize).prop_map(|subject| format!("What is the fee of {}, and where does the pilot board?", SUBJECTS[subject])),
        1 => "\\PC{1,40}",
    ]
}

async fn corpus(documents: &[String]) -> Corpus {
    let pipeline = Pipeline::default().with_encoder(Hashing::new(64).expect("settings"));
    let corpus = pipeline.in_memory().await.expect("a corpus");
    let source = documents.iter().enumerate().fold(MemorySource::new("a"), |source, (at, text)| {
        source.with(format!("{at}.md"), format!("---\nnumber: {at}\n---\n\n{text}\n"))
    });
    corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    corpus
}

fn run(work: impl Future<Output = ()>) {
    tokio::runtime::Builder::new_current_thread().build().expect("a runtime").block_on(work);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    #[test]
    fn what_is_cited_stands_where_it_says(
        documents in prop::collection::vec(document(), 1..5),
        questions in prop::collection::vec(question(), 1..5),
    ) {
        run(async {
            let folder = tempfile::tempdir().expect("a temporary folder");
            let corpus = corpus(&documents).await;
            let texts = texts(&corpus, folder.path()).await;
            for question in questions {
                match corpus.ask(&question).await {
                    Ok(reply) => is_honest(&reply.answer, &texts),
                    Err(error) => assert!(!question.contains(char::is_alphanumeric), "{question:?}: {error}"),
                }
            }
        });
    }

    #[test]
    fn what_a_request_says_holds_for_what_comes_back(
        documents in prop::collection::vec(document(), 2..6),
        query in "(pilot|tug|bridge|fog|quay|crane)( (boards|opens|waits|buoy))?",
        count in 1_usize..9,
        least in 0.0_f32..1.0,
        above in 0_i32..4,
        down: bool,
    ) {
        run(async {
            let corpus = corpus(&documents).await;
            let all = corpus.search(SearchRequest::new(&query).passages(200)).await.expect("a search").passages;
            assert!(all.windows(2).all(|pair| pair[0].score >= pair[1].score), "the best come first");
            assert!(all.iter().enumerate().all(|(at, passage)| passage.rank == at + 1));
            let some = corpus.search(SearchRequest::new(&query).passages(count)).await.expect("a search").passages;
            assert_eq!(some, all[..count.min(all.len())], "fewer are the first of many");

            let ids = |passages: &[Passage]| -> Vec<String> {
                passages.iter().map(|passage| passage.chunk.to_string()).collect()
            };
            let good = corpus.search(SearchRequest::new(&query).passages(200).scores(least..)).await.expect("a search");
            let expected: Vec<Passage> = all.iter().filter(|passage| passage.score >= least).cloned().collect();
            assert_eq!(ids(&good.passages), ids(&expected));

            let number = |passage: &Passage| passage.location.document.trim_end_matches(".md").parse::<i32>().expect("a number");
            let filter = Filter::field("number").more_than(above);
            let kept = corpus.search(SearchRequest::new(&query).passages(200).filter(filter)).await.expect("a search").passages;
            assert!(kept.iter().all(|passage| number(passage) > above));

            let request = SearchRequest::new(&query).passages(200);
            let request = if down { request.sort_down_by("number") } else { request.sort_by("number") };
            let sorted = corpus.search(request).await.expect("a search").passages;
            let numbers: Vec<i32> = sorted.iter().map(|passage| if down { -number(passage) } else { number(passage) }).collect();
            assert!(numbers.is_sorted(), "{numbers:?}");
            let (mut a, mut b) = (ids(&sorted), ids(&all));
            a.sort();
            b.sort();
            assert_eq!(a, b, "an order changes nothing of what is found");
        });
    }
}
