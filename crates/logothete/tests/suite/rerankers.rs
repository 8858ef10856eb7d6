//! Rerankers that a search does not compute itself: cross-encoders, services and generators.

#[path = "../../../encoder/tests/suite/made_up/mod.rs"]
mod made_up;

use std::time::Duration;

use logothete::config::GeneratorRole;
use logothete::search::{Passage, RerankKind, SearchResult};
use logothete::trace::TraceDetails;
use logothete::{Config, Corpus, CrossEncoder, ErrorKind, MemorySource, Pipeline, SearchRequest};
use logothete_simulator::{Fault, RerankFault, RerankService, ScriptedGenerator};
use made_up::{Model, Sizes};
use rstest::rstest;

const QUESTION: &str = "Who rings the bell in fog?";

async fn corpus(pipeline: Pipeline) -> Corpus {
    let source = MemorySource::new("quays")
        .with("fog.md", "# Fog\n\nIn fog the bell on the mole is rung each minute by the watch.\n")
        .with("bell.md", "# Bell\n\nThe bell was cast of bronze. Who rings it in fog is the watch.\n")
        .with("ice.md", "# Ice\n\nIce is broken at six by the tug on duty.\n")
        .with("rope.md", "# Ropes\n\nRopes are dried in the loft when the wind is in the east.\n");
    let corpus = pipeline.in_memory().await.expect("a corpus");
    corpus.build(source).await.expect("a build");
    corpus
}

async fn search(corpus: &Corpus) -> SearchResult {
    corpus.search(SearchRequest::new(QUESTION).traced()).await.expect("a search")
}

fn settings(text: &str) -> Config {
    Config::parse(text).expect("settings")
}

fn documents(passages: &[Passage]) -> Vec<&str> {
    passages.iter().map(|passage| passage.location.document.as_str()).collect()
}

/// What the trace has of the reranker: its name, how long it was waited for, and how many candidates it shows.
fn reranker(found: &SearchResult) -> Option<(&str, Option<f64>, usize)> {
    found.trace.records.iter().find_map(|record| match &record.details {
        TraceDetails::Rerank { reranker, waited_ms, candidates } => {
            Some((reranker.as_str(), *waited_ms, candidates.len()))
        }
        _ => None,
    })
}

/// The order is that of fusion, and a note and the trace say why.
fn assert_left(found: &SearchResult, why: &str) {
    assert!(found.notes.len() == 1 && found.notes[0].contains(why), "{:?}", found.notes);
    let ranks: Vec<usize> = found.passages.iter().map(|passage| passage.fused.expect("a rank").rank).collect();
    assert!(ranks.is_sorted() && ranks.len() > 2, "{ranks:?}");
    let is_told = |details: &TraceDetails| matches!(details, TraceDetails::LeftOut { note } if *note == found.notes[0]);
    assert!(found.trace.records.iter().any(|record| is_told(&record.details)));
}

/// A folder with a made-up cross-encoder.
fn cross_encoder() -> tempfile::TempDir {
    let sizes = Sizes { hidden: 32, heads: 2, layers: 2, wide: 48 };
    let mut model = Model::of(sizes);
    for (name, outputs) in [("pooler.dense", sizes.hidden), ("classifier", 1)] {
        model.tensors.push((format!("{name}.weight"), vec![outputs, sizes.hidden]));
        model.tensors.push((format!("{name}.bias"), vec![outputs]));
    }
    let folder = tempfile::tempdir().expect("a folder");
    model.write(folder.path());
    folder
}

fn with_cross_encoder(folder: &tempfile::TempDir, seconds: &str) -> Config {
    let path = toml::Value::String(folder.path().display().to_string());
    settings(&format!("[search]\nrerank = {{ kind = \"cross\", seconds = {seconds} }}\n[reranker]\nfolder = {path}\n"))
}

#[tokio::test]
async fn a_cross_encoder_orders_what_it_reads() {
    let folder = cross_encoder();
    let corpus = corpus(Pipeline::from_config(&with_cross_encoder(&folder, "60.0")).expect("a pipeline")).await;
    let found = search(&corpus).await;
    let model = CrossEncoder::from_folder(folder.path(), logothete::Precision::Int8, None).expect("a model");
    for passage in &found.passages {
        let text = format!("{}\n\n{}", passage.context, passage.text);
        let expected = model.scores(QUESTION, &[&text], |_| false).expect("a score")[0];
        assert_eq!(Some(passage.score), expected, "{}", passage.location.document);
    }
    assert!(found.passages.is_sorted_by(|a, b| a.score >= b.score) && found.passages.len() == 4);
    assert_eq!((reranker(&found).map(|(_, waited, shown)| (waited, shown)), found.notes.len()), (Some((None, 4)), 0));
    assert!(corpus.ask(QUESTION).await.is_ok());
}

#[tokio::test]
async fn what_a_cross_encoder_does_not_read_in_time_keeps_its_order() {
    let folder = cross_encoder();
    let corpus = corpus(Pipeline::from_config(&with_cross_encoder(&folder, "1e-9")).expect("a pipeline")).await;
    let found = search(&corpus).await;
    assert!(found.notes.len() == 1 && found.notes[0].contains("read 0 of 4 candidates"), "{:?}", found.notes);
    let ranks: Vec<usize> = found.passages.iter().map(|passage| passage.fused.expect("a rank").rank).collect();
    assert_eq!(ranks, [1, 2, 3, 4]);
}

#[rstest]
#[case::no_folder("", "set it to the folder of a model")]
#[case::missing("[reranker]\nfolder = \"no/such/folder\"\n", "this file is missing")]
fn a_cross_encoder_must_be_there(#[case] table: &str, #[case] said: &str) {
    let config = settings(&format!("[search]\nrerank = {{ kind = \"cross\" }}\n{table}"));
    let error = Pipeline::from_config(&config).expect_err("there is none").to_string();
    assert!(error.contains(said), "{error}");
}

fn with_service(service: &RerankService) -> Config {
    settings(&format!(
        "[search]\nrerank = {{ kind = \"remote\", seconds = 1.0, depth = 3 }}\n[privacy]\nallow = [\"{}\"]\nmask = [\"email\"]\n\
         [reranker]\naddress = \"{}\"\nmodel = \"judge\"\nheaders = {{ x-key = \"SECRET\" }}\nparameters = {{ top = 3 }}\n",
        service.host(),
        service.address()
    ))
}

#[tokio::test]
async fn a_service_scores_the_candidates_before_the_search() {
    let service = RerankService::start(None).expect("a service");
    let corpus = corpus(Pipeline::from_config(&with_service(&service)).expect("a pipeline")).await;
    let found = search(&corpus).await;
    assert_eq!(documents(&found.passages[..2]), ["bell.md", "fog.md"], "it has all three words");
    let (name, waited, shown) = reranker(&found).expect("a step");
    assert!(name == "judge" && waited.is_some_and(|waited| waited > 0.0 && waited <= found.took_ms) && shown == 3);
    let asked = service.asked();
    assert_eq!((asked.len(), asked[0].texts.len(), asked[0].query.as_str()), (1, 3, QUESTION));
    assert_eq!((&asked[0].body["model"], &asked[0].body["top"]), (&"judge".into(), &3.into()));
    assert_eq!(found.passages.last().map(|passage| passage.fused.expect("a rank").rank), Some(4), "not judged");

    let of_mail = corpus.search("Who rings? Write to bell@marrowby.example").await.expect("a search");
    assert_eq!(of_mail.notes, [""; 0]);
    assert!(!service.asked()[1].query.contains("bell@marrowby.example"), "{}", service.asked()[1].query);
    let reply = corpus.ask("Who rings the bell? When is ice broken?").await.expect("an answer");
    assert_eq!((reply.answer.claims.len(), service.asked().len()), (2, 4), "each part is judged by itself");
    let all = corpus.search_all(["bell", "ice", "bell"]).await.expect("searches");
    assert_eq!((all.len(), service.asked().len()), (3, 6), "the same is asked once");
}

#[rstest]
#[case::busy(RerankFault::Busy, "429")]
#[case::failing(RerankFault::Failing, "500")]
#[case::bad_key(RerankFault::BadKey, "401")]
#[case::stall(RerankFault::Stall(Duration::from_secs(3)), "did not answer")]
#[case::short(RerankFault::ShortList, "2 scores for 3 passages")]
#[case::no_number(RerankFault::NotANumber, "its score of passage 1 is no number")]
#[case::no_scores(RerankFault::NoScores, "without a list “scores”")]
#[case::not_json(RerankFault::NotJson, "not JSON")]
#[tokio::test]
async fn a_service_that_fails_leaves_the_fused_order(#[case] fault: RerankFault, #[case] why: &str) {
    let service = RerankService::start(Some(fault)).expect("a service");
    let corpus = corpus(Pipeline::from_config(&with_service(&service)).expect("a pipeline")).await;
    let found = search(&corpus).await;
    assert_left(&found, why);
    assert!(!found.notes[0].contains("SECRET"), "{}", found.notes[0]);
    assert_eq!(service.asked().len(), 1, "it is asked once");
}

#[tokio::test]
async fn a_service_that_is_not_allowed_is_not_asked() {
    let service = RerankService::start(None).expect("a service");
    let mut config = with_service(&service);
    config.privacy.allow.clear();
    let corpus = corpus(Pipeline::from_config(&config).expect("a pipeline")).await;
    let error = corpus.search(QUESTION).await.expect_err("nothing may leave");
    assert_eq!((error.kind(), service.asked().len()), (ErrorKind::Refused, 0), "{error}");
}

fn by_generator(generator: &ScriptedGenerator) -> Pipeline {
    let pipeline = Pipeline::default().with_generator_for(GeneratorRole::Rerank, generator.clone());
    pipeline.configured(|config| config.search.rerank.kind = RerankKind::Generator)
}

#[tokio::test]
async fn a_generator_orders_the_list_and_is_paid_once() {
    let generator = ScriptedGenerator::answers();
    let corpus = corpus(by_generator(&generator)).await;
    let found = search(&corpus).await;
    assert_eq!(documents(&found.passages[..2]), ["bell.md", "fog.md"]);
    assert_eq!(reranker(&found).map(|(name, _, shown)| (name, shown)), Some(("answers by script", 4)));
    let tokens = |found: &SearchResult| -> u64 { found.trace.records.iter().map(|record| record.usage.sent).sum() };
    assert!(tokens(&found) > 20, "the trace says what it took");
    let again = search(&corpus).await;
    assert_eq!((again.passages, generator.asked().len()), (found.passages.clone(), 1), "the reply is in the cache");
    assert_eq!(tokens(&search(&corpus).await), 0);
}

#[rstest]
#[case::refused("[4], [2]", Some(Fault::Refused), "the model refused the request")]
#[case::empty("", None, "")]
#[case::no_order("I would rather not say.", None, "its reply names no passage")]
#[tokio::test]
async fn a_generator_that_fails_leaves_the_fused_order(
    #[case] reply: &'static str,
    #[case] fault: Option<Fault>,
    #[case] why: &str,
) {
    let mut generator = ScriptedGenerator::new("a script", move |_| reply.to_owned());
    if let Some(fault) = fault {
        generator = generator.failing_at(1, fault);
    }
    assert_left(&search(&corpus(by_generator(&generator)).await).await, why);
}

#[tokio::test]
async fn a_generator_sees_what_fits_its_context() {
    let generator = ScriptedGenerator::new("a script", |_| "2".to_owned());
    let pipeline = by_generator(&generator).configured(|config| {
        (config.generator.context_tokens, config.generator.max_tokens) = (60, 8);
    });
    let found = search(&corpus(pipeline).await).await;
    let text = generator.asked()[0].text();
    assert!(text.contains("[candidate 2 ") && !text.contains("[candidate 4 "), "{text}");
    assert_eq!(found.passages[0].fused.map(|fused| fused.rank), Some(2));
}

#[tokio::test]
async fn a_plan_that_wants_a_generator_needs_one() {
    let pipeline = Pipeline::default().configured(|config| config.search.rerank.kind = RerankKind::Generator);
    let error = corpus(pipeline).await.search(QUESTION).await.expect_err("there is none");
    assert!(error.to_string().contains("[generator] names none"), "{error}");
}

#[tokio::test]
async fn questions_of_a_set_are_judged_too() {
    let service = RerankService::start(None).expect("a service");
    let corpus = corpus(Pipeline::from_config(&with_service(&service)).expect("a pipeline")).await;
    let set =
        "{\"id\": \"1\", \"question\": \"Who rings the bell in fog?\", \"relevant\": [{\"document\": \"bell.md\"}]}";
    let questions = logothete::eval::read_questions(set).expect("a set");
    let run = corpus.evaluate("judged", questions).await.expect("a run");
    assert_eq!((run.per_question[0].metrics["mrr"], service.asked().len()), (1.0, 1));
}
