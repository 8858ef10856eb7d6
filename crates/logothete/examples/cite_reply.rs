//! Passages become messages for a model that you call yourself, and the markers of its reply become quotations again. Nothing is
//! sent: the reply is made up.

use logothete::answer::Answer;
use logothete::prompt::{AnswerSettings, Templates, answer_prompt};
use logothete::search::Passage;
use logothete::text::count_words;
use logothete::{MemorySource, Pipeline, Result};

const REPLY: &str = "Berth 7 has a greatest draught of 7.9 metres [1]. The bridge opens on the hour [1].";

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let corpus = Pipeline::default().in_memory().await?;
    let notice = "The greatest draught at Berth 7 is 7.9 metres. The berth is dredged in June.";
    corpus.build(MemorySource::new("notices").with("notice-6.md", notice)).await?;
    let question = "What is the greatest draught at Berth 7?";
    let passages = corpus.search(question).await?.passages;

    // Tokens are counted as your model counts them; four for three words is a usual estimate.
    let count = |text: &str| count_words(text) as u64 * 4 / 3;
    let asked = answer_prompt(question, &[], &passages, &Templates::default(), &AnswerSettings::default(), &count)?;
    for message in &asked.prompt.messages {
        println!("{}: {}\n", message.author.name(), message.content);
    }

    let shown: Vec<Passage> = asked.passages.iter().map(|at| passages[*at].clone()).collect();
    let answer = Answer::from_reply(question, REPLY, &shown);
    for claim in &answer.claims {
        println!("{}: {} {:?}", claim.verdict, claim.text, claim.citations);
    }
    for source in &answer.sources {
        println!("[{}] {}: “{}”", source.marker, source.location, source.quotation);
    }
    Ok(())
}
