//! A transform of your own: what a question is searched for besides. This one knows what the people of the harbour call things; put a call of your model in
//! its place. Run from the root of the repository: `cargo run --release -p logothete --example own_transform`

use logothete::search::Transform;
use logothete::{Pipeline, Result, contract};

/// What people say, and what the documents call it.
const SAID: [(&str, &str); 3] =
    [("the old girl", "the tug"), ("the fun fair on the water", "the regatta"), ("the gaffer", "the harbour master")];

struct Slang;

impl Transform for Slang {
    fn name(&self) -> &'static str {
        "slang"
    }

    fn queries(&self, question: &str) -> Result<Vec<String>> {
        let lower = question.to_lowercase();
        let meant = SAID.iter().filter(|(said, _)| lower.contains(said));
        Ok(meant.map(|(said, meant)| lower.replace(said, meant)).collect())
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    // What a test of your own project would do.
    contract::transform(&Slang, &["When is the fun fair on the water?"])?;

    let question = "When is the fun fair on the water?";
    for pipeline in [Pipeline::default(), Pipeline::default().with_transform(Slang)] {
        let corpus = pipeline.open("slang.corpus").await?;
        corpus.build("demo/documents").await?;
        let found = corpus.search(question).await?;
        for part in &found.parts {
            println!("also searched: {}", part.query);
        }
        for passage in found.passages.iter().take(2) {
            println!("{}. {}", passage.rank, passage.location);
        }
        println!("{}\n", corpus.ask(question).await?.answer.answer);
    }
    Ok(())
}
