//! Plans with legs and rerankers of the user's own, expansions, and what became of an expected passage.

use logothete::config::GeneratorRole;
use logothete::search::{
    ExpansionKind, Expected, Filter, FusionKind, Leg, LegHit, LegQuestion, LostAt, Passage, RerankKind, Reranker,
};
use logothete::trace::TraceDetails;
use logothete::{Config, Corpus, Error, ErrorKind, MemorySource, Pipeline, Result, SearchRequest, SearchResult};
use rstest::rstest;

const QUAY: &str = "# East quay\n\nThe east quay has nine berths.\n\n## Moorings\n\nBollards stand every ten metres.\n\n## Water\n\n\
    Fresh water is to be had at each berth.\n\n# West quay\n\nThe west quay is for fishing vessels.\n";

/// A leg that always finds a document, with a score.
struct Always(&'static str, f32);

impl Leg for Always {
    fn name(&self) -> &'static str {
        "always"
    }

    fn find(&self, question: &LegQuestion<'_>) -> Result<Vec<LegHit>> {
        assert!(!question.text.is_empty() && question.count > 0);
        Ok(vec![LegHit::document(self.0, self.1), LegHit::document("no such document", 9.0)])
    }
}

/// A leg or a reranker that does what its name says.
struct Faulty(&'static str);

impl Leg for Faulty {
    fn name(&self) -> &'static str {
        "faulty"
    }

    fn find(&self, _: &LegQuestion<'_>) -> Result<Vec<LegHit>> {
        match self.0 {
            "panics" => panic!("the leg broke"),
            _ => Err(Error::new(ErrorKind::System, "the index of dates is missing")),
        }
    }
}

impl Reranker for Faulty {
    fn name(&self) -> &'static str {
        "faulty"
    }

    fn rerank(&self, _: &str, passages: &[Passage]) -> Result<Vec<f32>> {
        let count = passages.len();
        match self.0 {
            "panics" => panic!("the reranker broke"),
            "fails" => Err(Error::new(ErrorKind::System, "nobody is there")),
            "says too little" => Ok(vec![1.0; count - 1]),
            "is slow" => {
                std::thread::sleep(std::time::Duration::from_secs(2));
                Ok(vec![0.0; count])
            }
            _ => Ok((0..count).map(|at| if at == 1 { f32::NAN } else { at as f32 }).collect()),
        }
    }
}

/// A reranker that likes short passages.
struct Shortest;

impl Reranker for Shortest {
    fn name(&self) -> &'static str {
        "shortest"
    }

    fn rerank(&self, _: &str, passages: &[Passage]) -> Result<Vec<f32>> {
        Ok(passages.iter().map(|passage| -(passage.text.len() as f32)).collect())
    }
}

async fn corpus(pipeline: Pipeline) -> Corpus {
    let source = MemorySource::new("quays")
        .with("quay.md", QUAY)
        .with("fog.md", "# Fog\n\nIn fog the bell on the mole is rung each minute.\n")
        .with("ice.md", "# Ice\n\nIce is broken at six by the tug on duty.\n");
    let corpus = pipeline.in_memory().await.expect("a corpus");
    corpus.build(source).await.expect("a build");
    corpus
}

async fn search(corpus: &Corpus, request: impl Into<SearchRequest>) -> SearchResult {
    corpus.search(request).await.expect("a search")
}

fn settings(text: &str) -> Pipeline {
    Pipeline::from_config(&Config::parse(text).expect("settings")).expect("a pipeline")
}

#[tokio::test]
async fn a_leg_of_ones_own_takes_part_by_its_weight() {
    let plain = "[search]\nrerank = { kind = \"none\" }\n";
    let corpus = corpus(settings(plain).with_leg(Always("ice.md", 0.9), 100.0)).await;
    let found = search(&corpus, SearchRequest::new("Who rings the bell in fog?").traced()).await;
    assert_eq!(found.passages[0].location.document, "ice.md", "the weight is large");
    assert_eq!(found.passages[0].legs["always"].rank, 1);
    let record = found.trace.records.iter().find_map(|record| match &record.details {
        TraceDetails::Leg { name, leg } => Some((name.as_str(), leg.found, leg.weight)),
        _ => None,
    });
    assert_eq!(record, Some(("always", 1, 100.0)));
    let light = SearchRequest::new("Who rings the bell in fog?").leg_weight("always", 0.01);
    assert_eq!(search(&corpus, light).await.passages[0].location.document, "fog.md");
    let filtered = SearchRequest::new("bell").filter(Filter::parse("document != ice.md").expect("a filter"));
    assert!(search(&corpus, filtered).await.passages.iter().all(|passage| passage.location.document != "ice.md"));
}

#[rstest]
#[case("panics", "the leg panicked: the leg broke")]
#[case("fails", "the index of dates is missing")]
#[tokio::test]
async fn a_leg_that_fails_is_left_out_and_named(#[case] how: &'static str, #[case] why: &str) {
    let request = SearchRequest::new("Who rings the bell?").traced();
    let with = search(&corpus(Pipeline::default().with_leg(Faulty(how), 1e6)).await, request).await;
    assert!(
        with.trace
            .records
            .iter()
            .any(|record| matches!(&record.details, TraceDetails::LeftOut { note } if note.contains(why)))
    );
    let without = search(&corpus(Pipeline::default()).await, "Who rings the bell?").await;
    assert_eq!(with.passages, without.passages, "it drags nothing down, whatever its weight");
    assert!(
        with.notes.len() == 1 && with.notes[0].contains("“faulty”") && with.notes[0].contains(why),
        "{:?}",
        with.notes
    );
}

#[tokio::test]
async fn an_unknown_leg_is_an_error_that_names_the_others() {
    let corpus = corpus(settings("[search]\nlegs = { headngs = 0.2 }\n")).await;
    let error = corpus.search("bell").await.expect_err("no such leg");
    assert!(error.to_string().contains("did you mean headings?"), "{error}");
}

#[tokio::test]
async fn headings_find_sections_and_neighbours_what_is_beside() {
    let plan = "[search]\nkeyword = 0.0\nvector = 0.0\nlegs = { headings = 1.0 }\nrerank = { kind = \"none\" }\n";
    let found = search(&corpus(settings(plan)).await, "moorings of the east quay").await;
    let best = found.passages.iter().find(|passage| passage.legs.contains_key("headings")).expect("a passage");
    assert!(best.text.contains("Bollards"), "{}", best.text);
    let plan = "[chunk]\nlimit = 12\n[search]\nkeyword = 1.0\nvector = 0.0\nlegs = { neighbours = 0.5 }\nrerank = { kind = \"none\" }\n";
    let found = search(&corpus(settings(plan)).await, "bollards").await;
    let beside: Vec<&str> =
        found.passages.iter().filter(|one| one.legs.contains_key("neighbours")).map(|one| one.text.as_str()).collect();
    assert!(
        beside.iter().any(|text| text.contains("nine berths"))
            && beside.iter().any(|text| text.contains("Fresh water")),
        "{beside:?}"
    );
}

#[tokio::test]
async fn a_reranker_of_ones_own_orders_the_passages() {
    let corpus = corpus(Pipeline::default().with_reranker(Shortest)).await;
    let found = search(&corpus, "berths, fog and ice").await;
    let lengths: Vec<usize> = found.passages.iter().map(|passage| passage.text.len()).collect();
    assert!(lengths.len() > 2 && lengths.is_sorted(), "{lengths:?}");
    assert!(found.notes.is_empty() && found.passages.iter().all(|passage| passage.fused.is_some()));
    let error = Pipeline::default().configured(|config| config.search.rerank.kind = RerankKind::Own);
    let error = error.in_memory().await.expect("a corpus").search("bell").await.expect_err("there is none");
    assert!(error.to_string().contains("with_reranker"), "{error}");
}

#[rstest]
#[case("panics", "the reranker broke")]
#[case("fails", "nobody is there")]
#[case("says too little", "scores for")]
#[case("is slow", "it took more than 0.05 s")]
#[case("returns NaN", "its score of passage 2 is no number")]
#[tokio::test]
async fn a_reranker_that_fails_leaves_the_fused_order(#[case] how: &'static str, #[case] why: &str) {
    let pipeline =
        Pipeline::default().with_reranker(Faulty(how)).configured(|config| config.search.rerank.seconds = 0.05);
    let found = search(&corpus(pipeline).await, SearchRequest::new("berths, fog and ice").traced()).await;
    assert!(found.notes.len() == 1 && found.notes[0].contains(why), "{:?}", found.notes);
    assert!(
        found
            .trace
            .records
            .iter()
            .any(|record| matches!(&record.details, TraceDetails::LeftOut { note } if *note == found.notes[0]))
    );
    let ranks: Vec<usize> = found.passages.iter().map(|passage| passage.fused.expect("a fused rank").rank).collect();
    assert!(ranks.is_sorted() && ranks.len() > 2, "{ranks:?}");
}

#[rstest]
#[case(ExpansionKind::None, "Bollards stand every ten metres.", 0)]
#[case(ExpansionKind::Neighbours, "nine berths", 1)]
#[case(ExpansionKind::Section, "Moorings", 0)]
#[case(ExpansionKind::Page, "Moorings", 0)]
#[case(ExpansionKind::Table, "Bollards", 0)]
#[tokio::test]
async fn a_passage_comes_with_what_is_around_it(
    #[case] kind: ExpansionKind,
    #[case] with: &str,
    #[case] merged: usize,
) {
    let small = settings("[chunk]\nlimit = 12\n").configured(|config| config.search.expand.kind = kind);
    let corpus = corpus(small).await;
    let found = search(&corpus, SearchRequest::new("bollards every ten metres").passages(10).traced()).await;
    let first = &found.passages[0];
    assert!(first.text.contains("Bollards") && first.text.contains(with), "{}", first.text);
    assert!(first.sentences.iter().all(|sentence| !first.slice(sentence.span).is_empty()));
    assert!(found.passages.iter().map(|passage| passage.rank).eq(1..=found.passages.len()));
    let expanded = found.trace.records.iter().find_map(|record| match record.details {
        TraceDetails::Expand { merged, .. } => Some(merged),
        _ => None,
    });
    assert_eq!(expanded.is_some(), kind != ExpansionKind::None);
    assert!(expanded.unwrap_or(0) >= merged, "passages that meet are one");
    let reply = corpus.ask("What stands every ten metres?").await.expect("an answer");
    assert!(reply.answer.claims.iter().any(|claim| claim.text.contains("ten metres")), "{:?}", reply.answer.claims);
}

async fn expected(corpus: &Corpus, request: SearchRequest, filter: &str) -> Expected {
    let request = request.expecting(Filter::parse(filter).expect("a filter"));
    search(corpus, request).await.expected.expect("what became of it")
}

#[tokio::test]
async fn a_passage_that_was_expected_is_followed_through_the_steps() {
    let corpus = corpus(Pipeline::default()).await;
    let bell = || SearchRequest::new("Who rings the bell in fog?");
    let found = expected(&corpus, bell(), "document = fog.md").await;
    assert_eq!((found.lost, found.shown, found.fused, found.legs["keyword"]), (None, Some(1), Some(1), Some(1)));
    let gone = expected(&corpus, bell(), "document = rain.md").await;
    assert_eq!((gone.lost, gone.chunks), (Some(LostAt::Corpus), 0));
    let filter = Filter::parse("document != fog.md").expect("a filter");
    assert_eq!(expected(&corpus, bell().filter(filter), "document = fog.md").await.lost, Some(LostAt::Filter));
    let few = bell().passages(1).leg_depth("keyword", 1).leg_depth("vector", 1);
    assert_eq!(expected(&corpus, few, "document = ice.md").await.lost, Some(LostAt::Legs));
    let last = expected(&corpus, bell().passages(1), "document = ice.md").await;
    assert_eq!((last.lost, last.shown), (Some(LostAt::Fusion), None));
    assert!(last.fused.is_some_and(|rank| rank > 1) && last.reranked.is_some());
    let ranged = expected(&corpus, bell().scores(2.0..), "document = fog.md").await;
    assert_eq!(ranged.lost, Some(LostAt::Choose));
}

#[rstest]
#[case(FusionKind::Scores)]
#[case(FusionKind::Ranks)]
#[case(FusionKind::Calibrated)]
#[tokio::test]
async fn every_fusion_finds_what_both_legs_find_first(#[case] fusion: FusionKind) {
    let pipeline = Pipeline::default().configured(|config| {
        (config.search.fusion, config.search.rerank.kind) = (fusion, RerankKind::None);
    });
    let corpus = corpus(pipeline).await;
    for weight in [1e-6, 1.0, 1e6] {
        let request = SearchRequest::new("Who rings the bell in fog?").leg_weight("keyword", weight);
        let found = search(&corpus, request).await;
        assert_eq!(found.passages[0].location.document, "fog.md");
        assert!(found.passages.iter().all(|passage| (0.0..=1.0).contains(&passage.score)));
    }
}

#[tokio::test]
async fn what_is_asked_of_a_plan_must_make_sense() {
    let with = |setting: &str| Config::parse(&format!("[search]\n{setting}\n")).and_then(|config| config.validate());
    for setting in [
        "diversity = { novelty = 1.5 }",
        "diversity = { max_overlap = -0.1 }",
        "expand = { kind = \"section\", max_words = 0 }",
        "rerank = { seconds = 0.0 }",
        "legs = { headings = -1.0 }",
        "fusion = \"hope\"",
        "contents = 3.0",
    ] {
        assert!(with(setting).is_err(), "{setting}");
    }
    with("legs = { headings = 0.5, neighbours = 1000000.0 }\nfusion = \"ranks\"").expect("settings that are valid");
}

#[tokio::test]
async fn a_question_in_another_language_is_remarked_on() {
    let corpus = corpus(Pipeline::default()).await;
    let found = search(&corpus, "Wie lang ist der Kai, an dem die Fähre liegt?").await;
    assert_eq!(found.notes, ["The question is in German, and the documents are in English; ask in that language."]);
    assert!(search(&corpus, "How long is the quay that the ferry uses?").await.notes.is_empty());
    let reply = corpus.ask("Wie lang ist der Kai, an dem die Fähre liegt?").await.expect("an answer");
    assert_eq!(reply.notes, found.notes, "an answer says it too");
    let german = MemorySource::new("kai").with(
        "kai.txt",
        "Der Kai ist im Winter gesperrt, und die Fähre liegt an der Mole. Die Glocke wird bei Nebel geläutet.\n",
    );
    corpus.build(german).await.expect("a build");
    let found = search(&corpus, "Wie lang ist der Kai, an dem die Fähre liegt?").await;
    assert!(found.notes.len() == 1 && found.notes[0].contains("was not made for German"), "{:?}", found.notes);
}

#[rstest]
#[case::punctuation("?!… — ()")]
#[case::blanks("   \n ")]
#[tokio::test]
async fn a_query_without_words_is_refused_whatever_the_plan(#[case] query: &str) {
    let corpus = corpus(Pipeline::default().with_leg(Always("ice.md", 1.0), 1.0).with_reranker(Shortest)).await;
    assert_eq!(corpus.search(query).await.expect_err("no word").kind(), ErrorKind::InvalidRequest);
}

#[tokio::test]
async fn a_very_long_query_is_searched() {
    let corpus = corpus(Pipeline::default()).await;
    let query = "the bell is rung in fog by nobody ".repeat(3_000);
    assert!(query.len() > 100_000);
    assert_eq!(search(&corpus, query).await.passages[0].location.document, "fog.md");
}

#[tokio::test]
async fn abbreviations_are_searched_for_as_the_documents_define_them() {
    let source = MemorySource::new("radio")
        .with("terms.md", "# Terms\n\nEvery vessel keeps its automatic identification system (AIS) switched on.\n")
        .with("rule.md", "# Rule\n\nA broken automatic identification system is reported within the hour.\n")
        .with("fees.md", "# Fees\n\nThe register of AIS numbers costs nine crowns.\n");
    let corpus = settings("[search]\nabbreviations = true\n").in_memory().await.expect("a corpus");
    corpus.build(source).await.expect("a build");
    let found = search(&corpus, SearchRequest::new("When is a broken AIS reported?").traced()).await;
    let wording = &found.wordings[0];
    assert_eq!((wording.from.as_str(), wording.to.as_str()), ("AIS", "automatic identification system"));
    assert_eq!(
        (wording.document.as_deref(), found.passages[0].location.document.as_str()),
        (Some("terms.md"), "rule.md")
    );
    assert!(
        found
            .trace
            .records
            .iter()
            .any(|record| matches!(&record.details, TraceDetails::Transform { kind, .. } if kind == "wording"))
    );
    let other = search(&corpus, "What does the register of automatic identification system numbers cost?").await;
    assert_eq!((other.wordings[0].to.as_str(), other.passages[0].location.document.as_str()), ("AIS", "fees.md"));
    let request = SearchRequest::new("When is a broken AIS reported?");
    let elsewhere = request.filter(Filter::parse("document != terms.md").expect("a filter"));
    assert!(search(&corpus, elsewhere).await.wordings.is_empty(), "what a filter hides defines nothing");
    let off = Pipeline::default().in_memory().await.expect("a corpus");
    off.build(MemorySource::new("radio").with("terms.md", "The automatic identification system (AIS) is on.\n"))
        .await
        .expect("a build");
    assert!(search(&off, "Where is the AIS?").await.wordings.is_empty());
}

#[tokio::test]
async fn synonyms_find_what_is_called_otherwise() {
    let words = "[search]\nvector = 0.0\n";
    let both = format!("{words}synonyms = [[\"bell\", \"gong\"], [\"tug\", \"towing vessel\"]]\n");
    let without = search(&corpus(settings(words)).await, "towing vessels").await.passages;
    assert_ne!(without[0].location.document, "ice.md");
    let found = search(&corpus(settings(&both)).await, "gong").await;
    assert_eq!((found.passages[0].location.document.as_str(), found.wordings[0].to.as_str()), ("fog.md", "bell"));
    let found = search(&corpus(settings(&both)).await, "towing vessels").await;
    assert_eq!(found.passages[0].location.document, "ice.md", "{:?}", found.wordings);
}

/// A generator that makes a question into what a script says, and the documents that are found then.
async fn transformed(kind: &str, reply: Option<&'static str>, question: &str) -> SearchResult {
    let mut pipeline = settings(&format!("[search]\ntransform = \"{kind}\"\n"));
    if let Some(reply) = reply {
        let generator = logothete_simulator::ScriptedGenerator::new("a script", move |_| reply.to_owned());
        pipeline = pipeline.with_generator_for(GeneratorRole::Rewrite, generator);
    }
    search(&corpus(pipeline).await, SearchRequest::new(question).traced()).await
}

#[rstest]
#[case::by_rule("split", None, &["Who rings the bell in fog", "when is ice broken?"])]
#[case::by_generator("split", Some("1. Who is on the mole?\n2. When is ice broken?"), &["Who is on the mole?", "When is ice broken?"])]
#[case::phrasings("phrasings", Some("- Who tolls on the mole?\n- When does the tug go out?"), &["Who tolls on the mole?", "When does the tug go out?"])]
#[case::rewrite("rewrite", Some("bell on the mole, breaking of ice"), &["bell on the mole, breaking of ice"])]
#[case::hypothetical("hypothetical", Some("The tug breaks ice at six."), &["The tug breaks ice at six."])]
#[tokio::test]
async fn what_is_made_of_a_question_is_searched_and_shown(
    #[case] kind: &str,
    #[case] reply: Option<&'static str>,
    #[case] queries: &[&str],
) {
    let found = transformed(kind, reply, "Who rings the bell in fog, and when is ice broken?").await;
    assert_eq!(found.parts.iter().map(|part| part.query.as_str()).collect::<Vec<_>>(), queries);
    assert!(
        found.parts.iter().all(|part| !part.found.is_empty() && part.found.is_sorted_by(|a, b| a.score >= b.score))
    );
    let first: Vec<&str> = found.passages[..2].iter().map(|passage| passage.location.document.as_str()).collect();
    assert!(first.contains(&"fog.md") && first.contains(&"ice.md"), "{first:?}");
    let record = found.trace.records.iter().find_map(|record| match &record.details {
        TraceDetails::Transform { kind, queries } => Some((kind.as_str(), queries.len())),
        _ => None,
    });
    assert_eq!(record, Some((kind, queries.len())));
    assert_eq!(found.notes, [""; 0]);
    let chunks: std::collections::BTreeSet<_> = found.passages.iter().map(|passage| &passage.chunk).collect();
    assert_eq!(chunks.len(), found.passages.len(), "each passage comes once");
}

#[rstest]
#[case::without_a_generator("rewrite", None, "transform = rewrite needs a generator")]
#[case::one_question("split", None, "")]
#[case::nothing_said("phrasings", Some("???"), "")]
#[tokio::test]
async fn a_question_of_which_nothing_is_made_is_searched_as_it_is(
    #[case] kind: &str,
    #[case] reply: Option<&'static str>,
    #[case] note: &str,
) {
    let question = "Who rings the bell in fog?";
    let found = transformed(kind, reply, question).await;
    let plain = search(&corpus(Pipeline::default()).await, question).await;
    assert_eq!((found.parts.len(), &found.passages), (0, &plain.passages));
    assert!(found.notes.len() == usize::from(!note.is_empty()) && found.notes.iter().all(|one| one.contains(note)));
}
