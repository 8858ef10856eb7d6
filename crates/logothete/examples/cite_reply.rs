//! Passages become a prompt, and the markers of a model's reply become quotations again. Nothing is sent: the reply is made up.

use logothete::chunk::Sentence;
use logothete::prompt::{Prompt, fenced};
use logothete::search::Passage;
use logothete::verify::{check, cited_claims};
use logothete::{MemorySource, Pipeline, Result};

const REPLY: &str = "Berth 7 has a greatest draught of 7.9 metres. [1] The bridge opens on the hour. [1]";

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let corpus = Pipeline::default().in_memory().await?;
    let notice = "The greatest draught at Berth 7 is 7.9 metres. The berth is dredged in June.";
    corpus.build(MemorySource::new("notices").with("notice-6.md", notice)).await?;
    let question = "What is the greatest draught at Berth 7?";
    let passages = corpus.search(question).await?.passages;

    let material = passages.iter().map(|passage| fenced(&format!("passage {}", passage.rank), &passage.text));
    let material = format!("{}\n\n{question}", material.collect::<Vec<_>>().join("\n\n"));
    let prompt =
        Prompt::new("Answer from the passages only. Put the number of a passage behind each sentence.", material);
    println!("{}\n", prompt.text());

    for claim in cited_claims(REPLY) {
        for passage in passages.iter().filter(|passage| claim.markers.contains(&passage.rank)) {
            let quotation = nearest(claim.text, passage);
            let verdict = check(claim.text, quotation).verdict;
            println!("{}\n  {verdict} by {}: “{quotation}”", claim.text, passage.location);
        }
    }
    Ok(())
}

/// Returns the part of a passage that supports a claim best.
fn nearest<'a>(claim: &str, passage: &'a Passage) -> &'a str {
    let share = |part: &&Sentence| (check(claim, passage.slice(part.span)).share * 1000.0) as u32;
    passage.sentences.iter().max_by_key(share).map(|part| passage.slice(part.span)).unwrap_or_default()
}
