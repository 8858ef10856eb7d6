//! What a request may change about its search, and what comes back: plans, traces, passages as JSON.

use std::collections::{BTreeMap, BTreeSet};

use logothete::chunk::ChunkId;
use logothete::search::{LegPlan, Passage, Plan, RerankKind};
use logothete::trace::{StepOutcome, Trace, TraceDetails};
use logothete::{BuildRequest, Corpus, ErrorKind, MemorySource, Pipeline, SearchRequest};
use proptest::prelude::*;
use rstest::rstest;

use crate::answers::corpus;

/// A plan of one leg.
fn only(leg: &str) -> Plan {
    let mut plan = Plan::default();
    plan.legs = vec![LegPlan::new(leg, 1.0)];
    plan
}

async fn found(corpus: &Corpus, request: SearchRequest) -> Vec<Passage> {
    corpus.search(request).await.expect("a search").passages
}

fn chunks(passages: &[Passage]) -> Vec<&str> {
    passages.iter().map(|passage| passage.chunk.as_str()).collect()
}

/// How often the trace of a request has each stage.
fn stages(trace: &Trace, wanted: fn(&TraceDetails) -> bool) -> usize {
    trace.records.iter().filter(|record| wanted(&record.details)).count()
}

#[tokio::test]
async fn a_reranker_says_what_moved_each_candidate() {
    let (corpus, _folder) = corpus().await;
    let mut alike = Plan::default();
    alike.diversity.repeat = 1.0;
    let request = || SearchRequest::new("Which tug has the greatest bollard pull?").plan(alike.clone());
    let result = corpus.search(request().explained()).await.expect("a search");
    let candidates = result.trace.records.iter().find_map(|record| match &record.details {
        TraceDetails::Rerank { candidates, .. } => Some(candidates),
        _ => None,
    });
    let candidates = candidates.expect("a step of the reranker");
    assert!(candidates.is_sorted_by(|a, b| a.score >= b.score));
    let ranks: BTreeSet<usize> = candidates.iter().map(|one| one.from).collect();
    assert_eq!(ranks, (1..=candidates.len()).collect(), "each candidate stands once in the new order");
    for passage in &result.passages {
        let one = candidates.iter().find(|one| one.chunk == passage.chunk).expect("a candidate");
        assert_eq!((one.score, one.from), (passage.score, passage.fused.expect("a fused rank").rank));
        assert!(one.shares.values().all(|share| share.abs() >= 0.05) && !one.shares.is_empty());
    }

    // A trace that is not asked for every candidate has as many as are returned.
    let short = corpus.search(request().passages(3).traced()).await.expect("a search");
    let recorded = short.trace.records.iter().find_map(|record| match &record.details {
        TraceDetails::Rerank { candidates, .. } => Some(candidates.len()),
        _ => None,
    });
    assert_eq!(recorded, Some(3));

    // Without it, and where one leg alone counts, the fused order stays.
    let mut plain = Plan::default();
    plain.rerank.kind = RerankKind::None;
    for request in [request().plan(plain), request().leg_weight("keyword", 0.0)] {
        let result = corpus.search(request.traced()).await.expect("a search");
        assert_eq!(stages(&result.trace, |details| matches!(details, TraceDetails::Rerank { .. })), 0);
        assert!(result.passages.iter().all(|passage| passage.fused.is_none()));
    }
    // Candidates below its depth come after those that it looked at.
    let mut shallow = Plan::default();
    shallow.rerank.depth = 2;
    let found = found(&corpus, request().plan(shallow)).await;
    assert!(found[..2].iter().all(|passage| passage.fused.is_some_and(|fused| fused.rank <= 2)));
    assert!(found[2..].iter().all(|passage| passage.score == 0.0));
}

#[rstest]
#[case(0.5, 0)]
#[case(0.0, 0)]
#[case(1.0, 1)]
#[case(0.5, 2)]
#[tokio::test]
async fn a_section_counts_less_each_time_and_a_document_so_many_times(#[case] repeat: f32, #[case] max: usize) {
    let (corpus, _folder) = corpus().await;
    let search = |repeat: f32, max: usize| {
        let mut plan = Plan::default();
        plan.passages = 100;
        plan.diversity.repeat = repeat;
        plan.diversity.max_of_document = max;
        SearchRequest::new("When may a vessel enter the north channel?").plan(plan).traced()
    };
    let before: BTreeMap<ChunkId, f32> =
        found(&corpus, search(1.0, 0)).await.into_iter().map(|passage| (passage.chunk, passage.score)).collect();
    let result = corpus.search(search(repeat, max)).await.expect("a search");
    let later = result.trace.records.iter().find_map(|record| match record.details {
        TraceDetails::Choose { later, .. } => Some(later),
        _ => None,
    });
    let (first, last) = result.passages.split_at(result.passages.len() - later.expect("a step that chooses"));
    assert_eq!(last.is_empty(), max == 0);
    assert!(first.is_sorted_by(|a, b| a.score >= b.score) && last.is_sorted_by(|a, b| a.score >= b.score));
    assert!(
        result.passages.iter().map(|passage| &passage.chunk).collect::<BTreeSet<_>>().into_iter().eq(before.keys())
    );
    let (mut sections, mut documents) = (BTreeMap::new(), BTreeMap::new());
    for passage in first {
        let document = documents.entry(&passage.location.document).or_insert(0);
        *document += 1;
        assert!(max == 0 || *document <= max);
    }
    if max == 0 {
        for passage in first {
            let place = (&passage.location.document, &passage.location.section);
            let earlier = sections.entry(place).or_insert(0);
            let expected = before[&passage.chunk] * repeat.powi(*earlier);
            assert!((passage.score - expected).abs() < 1e-6, "{}: {} is not {expected}", passage.chunk, passage.score);
            *earlier += 1;
        }
        assert!(sections.values().any(|count| *count > 1), "a section has several passages");
    }
}

#[tokio::test]
async fn a_request_overrides_the_plan_and_leaves_it_as_it_was() {
    let (corpus, _folder) = corpus().await;
    let request = || SearchRequest::new("Which tug has the greatest bollard pull?");
    let both = found(&corpus, request()).await;
    assert!(both.iter().any(|passage| passage.legs.len() == 2));

    // One leg: the order is that of its scores, and nothing else ran.
    for leg in ["keyword", "vector"] {
        let result = corpus.search(request().plan(only(leg)).traced()).await.expect("a search");
        assert!(result.passages.iter().all(|passage| passage.legs.keys().eq([leg])), "{leg}");
        assert!(result.passages.is_sorted_by(|a, b| a.legs[leg].score >= b.legs[leg].score), "{leg}");
        let keyword = stages(&result.trace, |details| matches!(details, TraceDetails::Keyword { .. }));
        let vector = stages(&result.trace, |details| matches!(details, TraceDetails::Vector { .. }));
        assert_eq!((keyword, vector), if leg == "keyword" { (1, 0) } else { (0, 1) });
        // A leg of weight 0 is listed and does not count, so the order is that of the other leg.
        let other = if leg == "keyword" { "vector" } else { "keyword" };
        let silent = found(&corpus, request().leg_weight(other, 0.0)).await;
        assert_eq!(chunks(&silent)[0], chunks(&result.passages)[0], "{leg}");
    }

    // Depths and ranges of scores.
    let shallow = found(&corpus, request().passages(3).leg_depth("vector", 1)).await;
    assert_eq!(shallow.len(), 3, "a leg returns at least as many as the request wants");
    let bound = both.iter().filter_map(|passage| passage.legs.get("vector")).map(|leg| leg.score).fold(0.0, f32::max);
    let near = found(&corpus, request().leg_scores("vector", bound - 0.05..)).await;
    assert!(!near.is_empty() && near.iter().all(|passage| passage.legs["vector"].score >= bound - 0.05));
    assert!(found(&corpus, request().leg_scores("vector", 1.5..)).await.is_empty());
    let upper = both[0].score;
    assert!(found(&corpus, request().scores(..upper)).await.iter().all(|passage| passage.score < upper));

    // The next request knows nothing of it.
    assert_eq!(chunks(&found(&corpus, request()).await), chunks(&both));
}

#[rstest]
#[case(SearchRequest::new("tug").leg_weight("keywords", 1.0), "keyword")]
#[case(SearchRequest::new("tug").leg_depth("vectors", 3), "vector")]
#[case(SearchRequest::new("tug").plan(only("keywrd")), "keyword")]
#[tokio::test]
async fn a_leg_that_is_not_there_is_an_invalid_request(#[case] request: SearchRequest, #[case] meant: &str) {
    let corpus = Pipeline::default().in_memory().await.expect("a corpus");
    let error = corpus.search(request.traced()).await.expect_err("no such leg");
    assert_eq!(error.kind(), ErrorKind::InvalidRequest);
    assert!(error.to_string().contains(&format!("did you mean {meant}?")), "{error}");
    let failed: Vec<&StepOutcome> = error
        .trace()
        .expect("a trace")
        .records
        .iter()
        .map(|record| &record.outcome)
        .filter(|one| !one.is_done())
        .collect();
    assert!(
        matches!(failed[..], [StepOutcome::Failed(message)] if error.to_string().contains(message.as_str())),
        "{failed:?}"
    );
}

#[tokio::test]
async fn a_passage_that_is_written_as_json_and_read_again_is_whole() {
    let (corpus, _folder) = corpus().await;
    let notice =
        "# Fog signal\n\nThe horn on the north mole sounds every thirty seconds. Ships answer with one long blast.\n";
    let copies = MemorySource::new("copies").with("fog.md", notice).with("fog-again.md", notice);
    corpus.build(BuildRequest::default().source(copies)).await.expect("a build");
    let (mut read, mut with_duplicates) = (0, 0);
    for query in
        ["What does Crane 2 cost?", "storm", "When is the lock open?", "+berth -ferry", "horn on the north mole"]
    {
        for passage in found(&corpus, SearchRequest::new(query).passages(30)).await {
            let json = serde_json::to_string(&passage).expect("JSON");
            let again: Passage = serde_json::from_str(&json).expect("a passage");
            // Scores are written with six decimals, so they are compared as they are written.
            assert_eq!(serde_json::to_string(&again).expect("JSON"), json);
            assert_eq!(
                (&again.location, &again.text, &again.context),
                (&passage.location, &passage.text, &passage.context)
            );
            assert_eq!((&again.sentences, &again.also), (&passage.sentences, &passage.also));
            read += 1;
            with_duplicates += usize::from(!passage.also.is_empty());
        }
    }
    assert!(read > 100 && with_duplicates > 0, "{read} passages, {with_duplicates} of them with duplicates");
}

#[tokio::test]
async fn a_trace_costs_a_word_and_is_absent_without_it() {
    let (corpus, _folder) = corpus().await;
    let question = "What is the fee for a pilot at night?";
    let plain = corpus.ask(question).await.expect("an answer");
    let traced = corpus.ask(SearchRequest::new(question).traced()).await.expect("an answer");
    assert!(plain.trace.is_empty() && !traced.trace.is_empty());
    assert_eq!(plain.answer, traced.answer, "looking changes nothing");
    assert!(corpus.search(question).await.expect("a search").trace.is_empty());
    // Many requests at a time have a trace each.
    let requests = ["tug", "berth", "crane"].map(|query| SearchRequest::new(query).traced());
    for (result, query) in
        corpus.search_all(requests).await.expect("searches").into_iter().zip(["tug", "berth", "crane"])
    {
        let root = &result.trace.records[0];
        assert!(
            root.parent.is_none() && matches!(&root.details, TraceDetails::Search { query: said } if said == query)
        );
        assert_eq!(stages(&result.trace, |details| matches!(details, TraceDetails::Search { .. })), 1);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// Whatever numbers a request holds, a search finds passages in the bounds or says what is wrong.
    #[test]
    fn no_plan_ends_in_a_panic(
        weight in prop_oneof![any::<f32>(), Just(f32::NAN), Just(f32::INFINITY), Just(-1.0), 0.0_f32..2.0],
        depth in prop_oneof![Just(0), Just(usize::MAX), 0_usize..100],
        passages in prop_oneof![Just(0), Just(usize::MAX), 0_usize..100],
        (from, to) in (any::<f32>(), any::<f32>()),
    ) {
        tokio::runtime::Builder::new_current_thread().build().expect("a runtime").block_on(async {
            let corpus = Pipeline::default().with_encoder(logothete::Hashing::new(64).expect("dimensions"));
            let corpus = corpus.in_memory().await.expect("a corpus");
            let texts = ["The tug is moored.", "The crane is painted.", "The ferry sails."];
            let own = texts.iter().enumerate().map(|(at, text)| logothete::OwnChunk::new(format!("c{at}"), *text));
            corpus.upsert(own).await.expect("put");
            let request = SearchRequest::new("the tug").passages(passages).leg_weight("vector", weight);
            let request = request.leg_depth("keyword", depth).leg_scores("vector", from..=to);
            match corpus.search(request).await {
                Ok(result) => {
                    assert!(result.passages.len() <= passages.min(3));
                    for passage in &result.passages {
                        assert!((from..=to).contains(&passage.legs["vector"].score));
                        assert!((0.0..=1.0).contains(&passage.score), "{}", passage.score);
                    }
                }
                Err(error) => assert_eq!(error.kind(), ErrorKind::InvalidRequest, "{error}"),
            }
        });
    }
}
