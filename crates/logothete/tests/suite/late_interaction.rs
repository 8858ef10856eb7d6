//! The index of token vectors with the embedded encoder, on the demo.

use logothete::search::Filter;
use logothete::vector::{Role, TokenEncoder, TokenIndexWriter, max_similarity};
use logothete::{BuildRequest, Config, Corpus, MemorySource, Pipeline, SearchRequest, SearchResult, SentenceEncoder};

use crate::answers::corpus;

#[tokio::test]
async fn two_bits_find_nearly_what_whole_vectors_find() {
    let (corpus, _folder) = corpus().await;
    let encoder = SentenceEncoder::embedded().expect("the embedded encoder");
    let mut texts = Vec::new();
    for document in corpus.info().await.expect("facts").documents {
        let chunks = corpus.chunks(&document.document).await.expect("chunks");
        texts.extend(chunks.into_iter().map(|passage| passage.text));
    }
    let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
    let passages = encoder.encode_tokens(&texts, Role::Passage).expect("vectors");
    let mut writer = TokenIndexWriter::new(encoder.token_dimensions(), 2).expect("settings");
    passages.iter().for_each(|passage| writer.push(passage).expect("a row"));
    let index = writer.index().expect("an index");
    assert_eq!(index.tokens(), passages.iter().map(logothete::vector::Vectors::len).sum::<usize>());

    let questions = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/questions.jsonl"));
    let questions = questions.expect("questions");
    let (mut found, mut wanted) = (0, 0);
    for line in questions.lines().step_by(3) {
        let question: serde_json::Value = serde_json::from_str(line).expect("JSON");
        let text = question["question"].as_str().expect("a question");
        let query = encoder.encode_tokens(&[text], Role::Query).expect("vectors").remove(0);
        let mut exact: Vec<(f32, u32)> =
            (0..).zip(&passages).map(|(row, passage)| (max_similarity(&query, passage), row)).collect();
        exact.sort_by(|a, b| b.0.total_cmp(&a.0));
        let best: Vec<u32> = exact.iter().take(10).map(|(_, row)| *row).collect();
        found += index.search(&query, None, None, 10).iter().filter(|hit| best.contains(&hit.row)).count();
        wanted += best.len();
    }
    let recall = found as f32 / wanted as f32;
    println!("recall@10 {recall}");
    assert!(recall > 0.9, "{recall}");
}

const ALONE: &str = "[search]\nkeyword = 0.0\nvector = 0.0\nlegs = { tokens = 1.0 }\nrerank = { kind = \"none\" }\n";

fn settings(text: &str) -> Pipeline {
    Pipeline::from_config(&Config::parse(text).expect("settings")).expect("a pipeline")
}

fn notices() -> MemorySource {
    MemorySource::new("notices")
        .with("fog.md", "# Fog\n\nIn fog the bell on the mole is rung each minute by the watch.\n")
        .with("ice.md", "# Ice\n\nIce is broken at six by the tug on duty.\n")
        .with("rope.md", "# Ropes\n\nRopes are dried in the loft when the wind is in the east.\n")
}

fn documents(found: &SearchResult) -> Vec<&str> {
    found.passages.iter().map(|passage| passage.location.document.as_str()).collect()
}

async fn search(corpus: &Corpus, request: impl Into<SearchRequest>) -> SearchResult {
    corpus.search(request).await.expect("a search")
}

#[tokio::test]
async fn a_corpus_is_searched_by_its_tokens() {
    let corpus = settings(&format!("[index]\ntokens = 4\n{ALONE}")).in_memory().await.expect("a corpus");
    corpus.build(notices()).await.expect("a build");
    let question = "Who breaks the ice?";
    let found = search(&corpus, question).await;
    let encoder = SentenceEncoder::embedded().expect("the embedded encoder");
    let tokens = |text: &str, role| encoder.encode_tokens(&[text], role).expect("vectors").remove(0);
    assert_eq!((documents(&found)[0], found.notes.len()), ("ice.md", 0));
    for passage in &found.passages {
        let exact = max_similarity(&tokens(question, Role::Query), &tokens(&passage.indexed_text(), Role::Passage));
        let leg = passage.legs["tokens"];
        assert!((leg.score - exact).abs() < 0.05 * exact, "{} and not {exact}", leg.score);
    }
    let filter = Filter::parse("document != ice.md").expect("a filter");
    let filtered = search(&corpus, SearchRequest::new(question).filter(filter)).await;
    assert!(!documents(&filtered).contains(&"ice.md") && !filtered.passages.is_empty());
    let info = corpus.info().await.expect("facts");
    assert!(info.tokens > 30 && info.token_bytes > info.tokens * 196, "{} {}", info.tokens, info.token_bytes);
}

#[tokio::test]
async fn the_index_of_tokens_follows_the_documents() {
    let folder = tempfile::tempdir().expect("a folder");
    let with = format!("[index]\ntokens = 2\n{ALONE}");
    let corpus = settings(&with).open(folder.path()).await.expect("a corpus");
    corpus.build(notices()).await.expect("a build");
    let changed = MemorySource::new("notices")
        .with("fog.md", "# Fog\n\nIn fog nobody rings.\n")
        .with("ice.md", "# Ice\n\nIce is broken at six by the tug on duty.\n")
        .with("oil.md", "# Oil\n\nOil is kept in the shed beside the dry dock.\n");
    corpus.build(changed).await.expect("a build");
    assert_eq!(documents(&search(&corpus, "Where is oil kept?").await)[0], "oil.md");
    assert!(!documents(&search(&corpus, "Where are ropes dried?").await).contains(&"rope.md"), "it is gone");
    let before = search(&corpus, "Who breaks the ice?").await;
    corpus.compact().await.expect("one segment");
    let info = corpus.info().await.expect("facts");
    assert!(info.segments.len() == 1 && info.segments[0].tokens == info.tokens && info.tokens > 0);
    let after = search(&corpus, "Who breaks the ice?").await;
    assert_eq!(documents(&after)[0], "ice.md");
    let score = |found: &SearchResult| found.passages[0].legs["tokens"].score;
    assert!((score(&after) - score(&before)).abs() < 0.1 * score(&before), "merging loses little");
    corpus.forget("ice.md").await.expect("forgotten");
    assert!(!documents(&search(&corpus, "Who breaks the ice?").await).contains(&"ice.md"));
    corpus.verify().await.expect("a whole corpus");
    drop(corpus);

    // A byte of the index is damaged.
    let file =
        std::fs::read_dir(folder.path().join("segments")).expect("a folder").map(|entry| entry.expect("a file").path());
    let file = file.into_iter().find(|path| path.extension().is_some_and(|end| end == "tokens")).expect("an index");
    let mut bytes = std::fs::read(&file).expect("its bytes");
    let last = bytes.len() - 1;
    bytes[last] ^= 1;
    std::fs::write(&file, &bytes).expect("written");
    let corpus = settings(&with).open(folder.path()).await.expect("a corpus");
    let error = corpus.verify().await.expect_err("a damaged byte").to_string();
    assert!(error.contains(".tokens"), "{error}");
    drop(corpus);

    // Without the setting, the next build removes it.
    let corpus = settings("").open(folder.path()).await.expect("a corpus");
    corpus.build(notices()).await.expect("a build");
    assert_eq!(corpus.info().await.expect("facts").tokens, 0);
    assert!(!file.exists());
}

#[tokio::test]
async fn a_missing_index_of_tokens_is_said_and_searched_without() {
    let corpus = settings("[search]\nlegs = { tokens = 1.0 }\n").in_memory().await.expect("a corpus");
    corpus.build(notices()).await.expect("a build");
    let found = search(&corpus, "Who breaks the ice?").await;
    assert!(found.notes.len() == 1 && found.notes[0].contains("set tokens = 2 in [index]"), "{:?}", found.notes);
    assert_eq!(documents(&found)[0], "ice.md");
    let corpus = settings("[search]\nrerank = { kind = \"tokens\" }\n").in_memory().await.expect("a corpus");
    corpus.build(notices()).await.expect("a build");
    let found = search(&corpus, "Who breaks the ice?").await;
    assert!(found.notes.len() == 1 && found.notes[0].contains("the fused order stays"), "{:?}", found.notes);
    let hashing = "[encoder]\nkind = \"hashing\"\n[index]\ntokens = 2\n[search]\nlegs = { tokens = 1.0 }\n";
    let corpus = settings(hashing).in_memory().await.expect("a corpus");
    corpus.build(notices()).await.expect("a build without tokens");
    let found = search(&corpus, "Who breaks the ice?").await;
    assert!(found.notes[0].contains("the encoder has no vectors of tokens"), "{:?}", found.notes);
}

#[tokio::test]
async fn tokens_put_candidates_in_a_new_order() {
    let text = "[index]\ntokens = 2\n[search]\nrerank = { kind = \"tokens\" }\n";
    let corpus = settings(text).in_memory().await.expect("a corpus");
    let estimate = corpus.estimate(BuildRequest::default().source(notices())).await.expect("an estimate");
    assert_eq!(estimate.token_index_bytes, estimate.total.encoded_tokens * 38);
    corpus.build(notices()).await.expect("a build");
    let found = search(&corpus, SearchRequest::new("Who breaks the ice?").traced()).await;
    assert_eq!((documents(&found)[0], found.notes.len()), ("ice.md", 0));
    assert!(found.passages.is_sorted_by(|a, b| a.score >= b.score));
    assert!(found.passages.iter().all(|passage| passage.score <= 1.05 && passage.fused.is_some()));
    let wrong = Config::parse("[index]\ntokens = 3\n").and_then(|config| config.validate()).expect_err("three bits");
    assert!(wrong.to_string().contains("1, 2 or 4 bits"), "{wrong}");
}
