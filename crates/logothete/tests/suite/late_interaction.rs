//! The index of token vectors with the embedded encoder, on the demo.

use logothete::SentenceEncoder;
use logothete::vector::{Role, TokenEncoder, TokenIndexWriter, max_similarity};

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
    let mut writer = TokenIndexWriter::new(384, 2).expect("settings");
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
    assert!(recall > 0.94, "{recall}");
}
