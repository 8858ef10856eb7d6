//! What a search finds, however the corpus came to be and however its vectors are searched.

use std::collections::BTreeSet;

use logothete::document::Metadata;
use logothete::search::{ChunkFacts, DocumentFacts, Filter, Passage};
use logothete::{BuildRequest, Config, Corpus, Hashing, MemorySource, OwnChunk, Pipeline, SearchRequest};
use proptest::prelude::*;
use rstest::rstest;

fn pipeline(settings: &str) -> Pipeline {
    let config: Config = toml::from_str(settings).expect("settings");
    Pipeline::from_config(&config).expect("a pipeline").with_encoder(Hashing::new(64).expect("settings"))
}

async fn in_memory(settings: &str) -> Corpus {
    pipeline(settings).in_memory().await.expect("a corpus")
}

async fn found(corpus: &Corpus, request: impl Into<SearchRequest>) -> Vec<Passage> {
    corpus.search(request).await.expect("a search").passages
}

/// Ids and the scores of the legs, in an order that does not depend on where rows are.
fn scores(passages: Vec<Passage>) -> BTreeSet<String> {
    passages
        .into_iter()
        .map(|one| {
            format!("{} {:?} {:?}", one.chunk, one.score, one.legs.values().map(|leg| leg.score).collect::<Vec<_>>())
        })
        .collect()
}

fn run<T>(work: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_current_thread().build().expect("a runtime").block_on(work)
}

#[tokio::test]
async fn documents_are_found_in_their_languages() {
    let corpus = in_memory("").await;
    let source = MemorySource::new("a")
        .with("de.md", "# Hafenordnung\n\nDie Häfen sind bei Sturm geschlossen, und die Schiffe bleiben an den Liegeplätzen, bis der Wind nachlässt.\n")
        .with("en.md", "# Harbour rules\n\nThe harbours are closed in a storm, and ships stay at their berths until the wind has dropped again.\n")
        .with("fr.md", "# Règlement du port\n\nLes bateaux restent dans les bassins pendant la tempête, et les pilotes attendent que le vent tombe.\n")
        .with("ja.md", "# 港の規則\n\n嵐のときは港が閉鎖され、船は風が弱まるまで停泊所にとどまります。水深は八メートルです。\n");
    corpus.build(BuildRequest::default().source(source)).await.expect("a build");
    for (query, document) in [
        ("+Hafen", "de.md"),
        ("+Schiff", "de.md"),
        ("+harbour", "en.md"),
        ("+bateau", "fr.md"),
        ("+pilote", "fr.md"),
        ("+水深", "ja.md"),
        ("\"風が弱まる\"", "ja.md"),
    ] {
        let passages = found(&corpus, query).await;
        assert_eq!(
            passages.iter().map(|one| one.location.document.as_str()).collect::<Vec<_>>(),
            [document],
            "{query}"
        );
    }
}

#[rstest]
#[case("fields = { title = 6, headings = 1, context = 1, body = 1 }", "title")]
#[case("fields = { title = 1, headings = 1, context = 1, body = 6 }", "body")]
#[case("fields = { title = 1, headings = 1, context = 6, body = 1 }", "context")]
#[tokio::test]
async fn the_weights_of_fields_decide_what_comes_first(#[case] fields: &str, #[case] first: &str) {
    let corpus = in_memory(&format!("[index]\n{fields}\n[search]\nvector = 0.0")).await;
    // Each says something of its own, so that none stands for another.
    let chunks = [
        OwnChunk::new("title", "Nothing else is said in so many words here.")
            .title("Dredging")
            .context("Other matters"),
        OwnChunk::new("body", "Dredging. No more than this was written on the page.")
            .title("Other")
            .context("Other matters"),
        OwnChunk::new("context", "One may look for it on this page in vain, alas.")
            .title("Other")
            .context("Of dredging"),
    ];
    corpus.upsert(chunks).await.expect("put");
    assert_eq!(found(&corpus, "dredging").await[0].chunk.as_str(), first);
}

/// Other weights hold from the next build on, as if the corpus had been built with them, and nothing is encoded for it.
#[rstest]
#[case::few(50)]
#[case::more_than_are_written_at_a_time(10_500)]
#[tokio::test]
async fn other_weights_of_fields_hold_from_the_next_build_on(#[case] rows: usize) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let source = || {
        let lines = (0..rows).map(|row| format!("crate {row},cork {} rope {}\n", row % 7, row % 11));
        let table: String = std::iter::once("crate,holds\n".to_owned()).chain(lines).collect();
        let notes = "# Rope and cork\n\nCrate 5 holds nothing of it.\n\n# Crates\n\nRope 3 lies beside cork 3.\n";
        BuildRequest::default().source(MemorySource::new("a").with("crates.csv", table).with("notes.md", notes))
    };
    let settings = |fields: &str| format!("[chunk]\nstrategy = \"rows\"\nrows = 1\n[index]\nfields = {fields}\n");
    let even = settings("{ title = 1, headings = 1, context = 1, body = 1 }");
    let uneven = settings("{ title = 5, headings = 9, context = 1, body = 2 }");
    let corpus = pipeline(&even).open(folder.path().join("c")).await.expect("a corpus");
    corpus.build(source()).await.expect("a build");
    // One row is dead.
    corpus.upsert([OwnChunk::new("own", "Rope in crate 9.")]).await.expect("put");
    corpus.upsert([OwnChunk::new("own", "Cork in crate 9.")]).await.expect("put");
    let queries = ["+cork rope 3", "crates of rope", "crate 5"];
    let all = async |corpus: &Corpus| {
        let mut each = Vec::new();
        for query in queries {
            each.push(scores(found(corpus, SearchRequest::new(query).passages(200)).await));
        }
        each
    };
    let before = all(&corpus).await;
    drop(corpus);
    let corpus = pipeline(&uneven).open(folder.path().join("c")).await.expect("a corpus");
    assert_eq!(all(&corpus).await, before, "nothing has been built since");
    let largest = corpus.info().await.expect("facts").segments.iter().map(|segment| segment.rows).max();
    assert!(largest >= Some(rows as u64), "{largest:?}");
    let report = corpus.build(source()).await.expect("a build");
    assert_eq!((report.unchanged, report.encoded), (2, 0));
    let fresh = in_memory(&uneven).await;
    fresh.build(source()).await.expect("a build");
    fresh.upsert([OwnChunk::new("own", "Cork in crate 9.")]).await.expect("put");
    let (now, expected) = (all(&corpus).await, all(&fresh).await);
    assert_ne!(now, before);
    for ((query, now), expected) in queries.iter().zip(&now).zip(&expected) {
        assert_eq!(now, expected, "{query}");
    }
    corpus.verify().await.expect("sound indexes");
}

/// What is put in and taken out, a step at a time.
#[derive(Clone, Debug)]
enum Step {
    Put(u8, String),
    Remove(u8),
    Compact,
}

fn step() -> impl Strategy<Value = Step> {
    let text = "(cork|rope|buoy B-1[0-3]|tar|8\\.[1-3] m|slate){1}( (cork|rope|lamp|tar|bell|slate)){1,6}";
    prop_oneof![
        6 => (0_u8..12, text).prop_map(|(id, text)| Step::Put(id, text)),
        3 => (0_u8..12).prop_map(Step::Remove),
        1 => Just(Step::Compact),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(20))]

    #[test]
    fn whatever_was_done_a_search_finds_what_a_fresh_corpus_finds(steps in prop::collection::vec(step(), 1..25)) {
        run(async {
            let (stepped, fresh) = (in_memory("").await, in_memory("").await);
            let mut left = std::collections::BTreeMap::new();
            for step in &steps {
                match step {
                    Step::Put(id, text) => {
                        // Each says something of its own, so that none stands for another.
                        let text = format!("{text} of crate {id}");
                        stepped.upsert([OwnChunk::new(format!("c{id}"), &text)]).await.expect("put");
                        left.insert(*id, text);
                    }
                    Step::Remove(id) => {
                        let was = stepped.remove_chunk(&format!("c{id}")).await.expect("removed");
                        assert_eq!(was, left.remove(id).is_some());
                    }
                    Step::Compact => stepped.compact().await.expect("compacted"),
                }
            }
            fresh.upsert(left.iter().map(|(id, text)| OwnChunk::new(format!("c{id}"), text))).await.expect("put");
            for query in ["cork rope", "+tar slate", "B-12", "\"8.2 m\"", "bell -rope", "slat*", "crate"] {
                let (ours, theirs) = (found(&stepped, query).await, found(&fresh, query).await);
                assert_eq!(scores(ours), scores(theirs), "{query} after {steps:?}");
            }
            stepped.verify().await.expect("sound indexes");
        });
    }

    #[test]
    fn a_filter_leaves_what_it_holds_for(
        facts in prop::collection::vec((0_i32..4, "red|green|blue", any::<bool>()), 1..20),
        filter in "(not )?(number (=|!=|<|>=) [0-3]|colour (=|!=) (red|blue)|has extra)( (and|or) (not )?(number in [01]\\.\\.[23]|colour in \\(red, green\\)|extra = true))?",
    ) {
        run(async {
            let corpus = in_memory("").await;
            let chunk = |(at, (number, colour, extra)): (usize, &(i32, String, bool))| {
                let chunk = OwnChunk::new(format!("c{at}"), format!("Crate {at} holds cork."));
                let chunk = chunk.metadata("number", *number).metadata("colour", colour.as_str());
                if *extra { chunk.metadata("extra", true) } else { chunk }
            };
            // One that has every field, so that none is unknown.
            let all = [(9, "none".to_owned(), true)].into_iter().chain(facts.clone()).collect::<Vec<_>>();
            corpus.upsert(all.iter().enumerate().map(chunk)).await.expect("put");
            let filter = Filter::parse(&filter).expect("a filter");
            let metadata = |(number, colour, extra): &(i32, String, bool)| -> Metadata {
                let fields = [("number", (*number).into()), ("colour", colour.as_str().into())];
                let extra = extra.then(|| ("extra", true.into()));
                fields.into_iter().chain(extra).map(|(name, value)| (name.to_owned(), value)).collect()
            };
            let expected: BTreeSet<String> = all.iter().enumerate().filter(|(at, facts)| {
                let (name, metadata) = (format!("c{at}"), metadata(facts));
                let document = DocumentFacts { document: &name, title: None, media_type: "text/plain", metadata: &metadata };
                filter.holds(&ChunkFacts { document, pages: None, section: &[] })
            }).map(|(at, _)| format!("c{at}")).collect();
            let request = SearchRequest::new("crate cork").passages(50).filter(filter.clone());
            let ids: BTreeSet<String> = found(&corpus, request).await.into_iter().map(|one| one.chunk.to_string()).collect();
            assert_eq!(ids, expected, "{filter}");
        });
    }
}

/// With enough rows that they are not scanned: a filter keeps a half, a tenth, a hundredth.
#[rstest]
#[case("graph")]
#[case("lists")]
#[tokio::test]
async fn large_segments_are_searched_under_filters(#[case] kind: &str) {
    const CHUNKS: i32 = 5_000;
    let (corpus, mut exact) =
        (in_memory(&format!("[index]\nkind = \"{kind}\"")).await, in_memory("[index]\nkind = \"exact\"").await);
    let words = ["cork", "rope", "tar", "slate", "lamp", "bell", "oil", "sand", "salt", "coal", "hemp", "pitch"];
    let chunk = |at: i32| {
        let word = |factor: i32| words[(at * factor / 7 + at % 5) as usize % words.len()];
        let text = format!("Crate {at} holds {} and {}, beside {} from shed {}.", word(1), word(3), word(11), at % 97);
        OwnChunk::new(format!("c{at}"), text).metadata("number", at % 100)
    };
    for corpus in [&corpus, &mut exact] {
        corpus.upsert((0..CHUNKS).map(chunk)).await.expect("put");
        corpus.compact().await.expect("compacted");
    }
    assert_eq!(serde_json::json!(corpus.info().await.expect("facts").segments[0].index), kind);
    for filter in ["number >= 0", "number < 50", "number in 10..19", "number = 7"] {
        let (mut same, mut all) = (0, 0);
        for query in ["cork and tar from shed 12", "hemp beside pitch", "salt and coal", "crate 4711 with lamp oil"] {
            let request = SearchRequest::new(query).filter(Filter::parse(filter).expect("a filter"));
            let leg = |passages: Vec<Passage>| -> BTreeSet<String> {
                passages
                    .into_iter()
                    .filter(|one| one.legs.contains_key("vector"))
                    .map(|one| one.chunk.to_string())
                    .collect()
            };
            let (ours, theirs) = (leg(found(&corpus, request.clone()).await), leg(found(&exact, request).await));
            same += ours.intersection(&theirs).count();
            all += theirs.len();
        }
        assert!(same * 10 >= all * 8, "{kind} where {filter}: {same} of {all}");
    }
    corpus.verify().await.expect("sound indexes");
}

#[tokio::test]
async fn a_list_of_contents_comes_after_what_it_points_to_and_is_not_quoted() {
    let topics =
        ["Mooring at the east quay", "Tugs at night", "Ice in the basin", "Dues of fishing vessels", "Fog signals"];
    let link = |at: usize| format!("- [{}](part-{at}.md)\n", topics[at]);
    let contents = format!("# All parts\n\n{}", (0..topics.len()).map(link).collect::<String>());
    let mut source = MemorySource::new("guide").with("contents.md", contents.as_str());
    for (at, topic) in topics.iter().enumerate() {
        let text = format!(
            "# Part {at}\n\nAbout {}: ask the harbour office, which keeps a register of it.\n",
            topic.to_lowercase()
        );
        source = source.with(format!("part-{at}.md"), text.as_str());
    }
    let corpus = Pipeline::default().in_memory().await.expect("a corpus");
    corpus.build(source).await.expect("a build");
    for (at, topic) in topics.iter().enumerate() {
        let found = corpus.search(*topic).await.expect("a search").passages;
        assert_eq!(found[0].location.document, format!("part-{at}.md"), "{topic}");
        assert!(found.iter().any(|passage| passage.location.document == "contents.md"), "nothing is lost");
        let reply = corpus.ask(format!("Who keeps a register of {}?", topic.to_lowercase())).await.expect("an answer");
        assert!(reply.answer.sources.iter().all(|source| source.location.document != "contents.md"));
    }
}
