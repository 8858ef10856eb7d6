//! A generator of your own: whatever writes text from messages. This one repeats the first sentence of the first passage.
//! Run from the root of the repository: `cargo run --release -p logothete --example own_generator`

use logothete::generate::{Generation, GenerationRequest, GenerationStream};
use logothete::prompt::Prompt;
use logothete::text::{count_words, sentences};
use logothete::{Fingerprint, Generator, MemorySource, Pipeline, TokenUsage, contract};

struct FirstSentence;

impl Generator for FirstSentence {
    fn name(&self) -> String {
        "first sentence".to_owned()
    }

    /// Replies are cached by it and by the messages.
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["first sentence", "1"])
    }

    fn stream<'a>(&'a self, request: &'a GenerationRequest) -> GenerationStream<'a> {
        let material = request.prompt.messages.last().map(|message| message.content.as_str()).unwrap_or_default();
        // A passage begins with a marked line, its place, a blank line and, in a short document, its heading.
        let body = material.split("\n\n").nth(2).unwrap_or_default();
        let first = sentences(body).first().map_or("", |span| &body[span.range()]);
        let text = format!("{first} [1]");
        let usage = TokenUsage { sent: count_words(material) as u64, received: count_words(&text) as u64 };
        // A reply that comes in parts is a stream of `GenerationEvent::Text` and one `GenerationEvent::End`.
        Generation::new(text, usage).into_stream()
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> logothete::Result<()> {
    // What a test of your own project would do.
    contract::generator(&FirstSentence, Prompt::new("Answer.", "The bell is rung in fog.")).await?;

    let corpus = Pipeline::default().with_generator(FirstSentence).in_memory().await?;
    let notice = "# Bell\n\nThe bell is rung in fog. It hangs in the tower.";
    corpus.build(MemorySource::new("notices").with("bell.md", notice)).await?;
    println!("{}", corpus.ask("When is the bell rung?").await?);
    Ok(())
}
