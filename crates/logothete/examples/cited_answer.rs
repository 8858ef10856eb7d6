//! A model answers from the passages that were found, and its markers become quotations. The model is a stand-in on this machine;
//! for another one change address, model and allow. Run from the root of the repository:
//! `cargo run --release -p logothete --example cited_answer`

use logothete::{Config, Pipeline};
use logothete_simulator::ModelService;

#[tokio::main(flavor = "current_thread")]
async fn main() -> logothete::Result<()> {
    let service = ModelService::start()?;
    let config = Config::parse(&format!(
        "[privacy]\nallow = [\"{}\"]\n[generator]\nkind = \"remote\"\naddress = \"{}\"\nmodel = \"stand-in\"",
        service.host(),
        service.address()
    ))?;
    let corpus = Pipeline::from_config(&config)?.open("harbour.corpus").await?;
    corpus.build("demo/documents").await?;

    let question = "What draught may enter the North Channel at low water?";
    let preview = corpus.preview_prompt(question).await?;
    println!("{} tokens would go to {}\n", preview.tokens, preview.generator.unwrap_or_default());
    let reply = corpus.ask(question).await?;
    println!("{reply}\n");
    for claim in &reply.answer.claims {
        println!("{}: {}", claim.verdict, claim.text);
    }
    Ok(())
}
