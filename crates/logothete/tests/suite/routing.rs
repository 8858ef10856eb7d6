//! A router sends each question where it belongs, and says why.

use logothete::routing::{Choice, Reason, Route, Router, Rule};
use logothete::search::{Filter, Plan};
use logothete::text::Language;
use logothete::{Corpus, ErrorKind, MemorySource, Pipeline, SearchRequest};
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
    assert_eq!(found.choices[0].reason, Reason::Field("kind".to_owned()));
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
