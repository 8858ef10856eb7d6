//! A router sends each question where it belongs, and says why.

use logothete::config::GeneratorRole;
use logothete::routing::{Choice, Reason, Route, Router, Rule};
use logothete::search::{Filter, Plan};
use logothete::text::Language;
use logothete::{Config, Corpus, ErrorKind, MemorySource, Pipeline, SearchRequest};
use logothete_simulator::{Fault, ScriptedGenerator};
use rstest::rstest;

async fn corpus(documents: &[(&str, &str)]) -> Corpus {
    let corpus = Pipeline::default().in_memory().await.expect("a corpus");
    let source = documents.iter().fold(MemorySource::new("a"), |source, (name, text)| source.with(*name, *text));
    corpus.build(source).await.expect("a build");
    corpus
}

async fn byelaws() -> Corpus {
    corpus(&[
        ("speed.md", "# Speed\n\nNo vessel exceeds six knots in the outer basin.\n"),
        ("fines.md", "# Fines\n\nWhoever exceeds it pays ninety crowns.\n"),
    ])
    .await
}

async fn notices() -> Corpus {
    corpus(&[(
        "fog.md",
        "---\nkind: notice\n---\n\n# Fog signal\n\nThe bell on the mole is out of order until March.\n",
    )])
    .await
}

/// Byelaws by default; notices by a word, a field and a language.
async fn router() -> Router {
    let notices = Route::new("notices", &notices().await)
        .when(Rule::Words("out of order".to_owned()))
        .when(Rule::Field("kind".to_owned()))
        .when(Rule::Language(Language::German))
        .described("what is broken, shut or moved at present, such as lights, bells and buoys");
    let byelaws = Route::new("byelaws", &byelaws().await)
        .described("the rules for vessels in the harbour: speed, mooring, fines");
    Router::new().route(notices).route(byelaws).fallback("byelaws")
}

#[rstest]
#[case("What is out of order?", "notices", "the question has “out of order”")]
#[case("Wo ist die Glocke und wann geht sie wieder?", "notices", "the question is in de")]
#[case("Which bells and lights are broken?", "notices", "the question is like its description")]
#[case("What are the rules for speed and mooring?", "byelaws", "the question is like its description")]
#[case("zzz qqq", "byelaws", "no other route has it")]
#[tokio::test]
async fn a_question_goes_where_it_belongs(#[case] question: &str, #[case] name: &str, #[case] why: &str) {
    let choices = router().await.min_similarity(0.3).choose(question).await.expect("a choice");
    let [Choice { route, reason, .. }] = &choices[..] else { panic!("one route: {choices:?}") };
    assert!(route == name && reason.to_string().contains(why), "{route}: {reason}");
}

#[tokio::test]
async fn a_filter_that_names_a_field_decides() {
    let request = SearchRequest::new("bell").filter(Filter::parse("kind = notice").expect("a filter"));
    let found = router().await.search(request).await.expect("a search");
    assert_eq!(found.choices[0].reason, Reason::Rule(Rule::Field("kind".to_owned())));
    assert_eq!((found.passages[0].route.as_str(), found.passages[0].passage.rank), ("notices", 1));
}

#[tokio::test]
async fn several_routes_are_searched_together() {
    let both = router().await.max_routes(2).min_similarity(-1.0);
    let found = both.search("Which bell is broken, and who is fined for speed?").await.expect("a search");
    assert_eq!((found.choices.len(), found.searches.len()), (2, 2));
    let routes: std::collections::BTreeSet<&str> = found.passages.iter().map(|routed| routed.route.as_str()).collect();
    assert_eq!(routes.into_iter().collect::<Vec<_>>(), ["byelaws", "notices"]);
    assert!(found.passages.iter().map(|routed| routed.passage.rank).eq(1..=found.passages.len()));
    assert!(found.passages.is_sorted_by(|a, b| a.passage.score >= b.passage.score));
}

#[tokio::test]
async fn the_fallback_answers_what_the_first_route_cannot() {
    let notices = Route::new("notices", &notices().await).when(Rule::Words("pay".to_owned()));
    let router = Router::new().route(notices).route(Route::new("byelaws", &byelaws().await)).fallback("byelaws");
    let reply = router.ask("Who pays ninety crowns?").await.expect("an answer");
    assert_eq!(reply.choices.iter().map(|choice| choice.route.as_str()).collect::<Vec<_>>(), ["notices", "byelaws"]);
    assert_eq!(reply.choices[1].reason, Reason::Fallback);
    assert!(reply.reply.expect("a reply").answer.claims[0].text.contains("ninety crowns"));
}

#[tokio::test]
async fn without_a_match_and_a_fallback_nothing_is_searched() {
    let alone = Router::new().route(Route::new("notices", &notices().await).when(Rule::Words("fog".to_owned())));
    let found = alone.search("Who pays?").await.expect("a search");
    assert!(found.choices.is_empty() && found.passages.is_empty());
    assert!(alone.ask("Who pays?").await.expect("no answer").reply.is_none());
    let wrong = Router::new().fallback("nowhere").search("Who pays?").await.expect_err("there is no such route");
    assert_eq!((wrong.kind(), wrong.message().contains("“nowhere”")), (ErrorKind::InvalidRequest, true));
}

#[tokio::test]
async fn a_route_has_a_plan_of_its_own() {
    let mut plan = Plan::default();
    plan.passages = 1;
    let route = Route::new("one", &byelaws().await).plan(plan).when(Rule::Question(true));
    let router = Router::new().route(route);
    assert_eq!(router.search("Who exceeds it?").await.expect("a search").passages.len(), 1);
    assert!(router.search("speed").await.expect("a search").choices.is_empty(), "that is no question");
}

/// Two described routes among which a generator chooses.
async fn chosen_by(generator: ScriptedGenerator) -> Router {
    let pipeline = Pipeline::default().with_generator_for(GeneratorRole::Route, generator);
    let corpus = pipeline.in_memory().await.expect("a corpus");
    let fees = Route::new("fees", &corpus).described("what ships pay");
    let tides = Route::new("tides", &byelaws().await).described("when the water is high");
    Router::new().route(fees).route(tides).choosing_by_generator(true)
}

#[tokio::test]
async fn a_generator_chooses_by_the_descriptions() {
    let router = chosen_by(ScriptedGenerator::answers()).await;
    let choices = router.choose("When is the water high?").await.expect("a choice");
    assert_eq!((choices.len(), choices[0].route.as_str()), (1, "tides"));
    assert_eq!(choices[0].reason.to_string(), "answers by script chose it by its description");
    let both = chosen_by(ScriptedGenerator::new("both", |_| "Tides, fees".to_owned())).await.max_routes(2);
    let choices = both.choose("anything").await.expect("a choice");
    assert_eq!(choices.iter().map(|choice| choice.route.as_str()).collect::<Vec<_>>(), ["tides", "fees"]);
}

#[rstest]
#[case::fails(ScriptedGenerator::answers().failing_at(1, Fault::Refused))]
#[case::names_none(ScriptedGenerator::new("a script", |_| "none of them".to_owned()))]
#[tokio::test]
async fn descriptions_decide_if_the_generator_does_not(#[case] generator: ScriptedGenerator) {
    let choices = chosen_by(generator).await.choose("When is there high water?").await.expect("a choice");
    assert!(choices[0].route == "tides" && matches!(choices[0].reason, Reason::Similarity(_)), "{choices:?}");
}

#[tokio::test]
async fn a_configuration_describes_routes() {
    let folder = tempfile::tempdir().expect("a folder");
    for (name, text) in [("rules", "No vessel exceeds six knots.\n"), ("news", "The bell on the mole is broken.\n")] {
        let corpus = Pipeline::default().open(folder.path().join(name)).await.expect("a corpus");
        corpus.build(MemorySource::new(name).with("a.txt", text)).await.expect("a build");
    }
    let file = folder.path().join("logothete.toml");
    let text = "[routing]\nfallback = \"rules\"\n[routing.routes.news]\ncorpus = \"news\"\nwords = [\"broken\"]\nlanguages = [\"de\"]\n\
                search = { passages = 1, rerank = { kind = \"none\" } }\n[routing.routes.rules]\ncorpus = \"rules\"\n";
    std::fs::write(&file, text).expect("written");
    let config = Config::read(&file).expect("settings");
    let router = Router::from_config(&config).await.expect("a router");
    let found = router.search("What is broken?").await.expect("a search");
    assert_eq!((found.choices[0].route.as_str(), found.passages.len()), ("news", 1));
    assert!(found.passages[0].passage.fused.is_none(), "its plan has no reranker");
    assert_eq!(router.choose("How fast?").await.expect("a choice")[0].reason, Reason::Fallback);

    for (wrong, said) in [
        (text.replace("\"de\"", "\"xx\""), "“xx” is not the code of a language"),
        (text.replace("passages = 1", "passages = 0"), "set 1 or more"),
        (text.replace("passages = 1", "pasages = 1"), "did you mean `passages`?"),
        (text.replace("fallback = \"rules\"", "fallback = \"rule\""), "no route of this name"),
        (text.replace("corpus = \"news\"", "corpus = \"new\""), "a corpus that is not there"),
        ("[routing]\n".to_owned(), "there are no routes"),
    ] {
        std::fs::write(&file, wrong).expect("written");
        let config = Config::read(&file).expect("settings");
        let error = Router::from_config(&config).await.expect_err(said).to_string();
        assert!(error.contains(said), "{error}");
    }
}
