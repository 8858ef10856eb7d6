//! From a folder to a cited answer. Run from the root of the repository:
//! `cargo run --release -p logothete --example quickstart`

use logothete::Pipeline;

#[tokio::main(flavor = "current_thread")]
async fn main() -> logothete::Result<()> {
    let corpus = Pipeline::default().open("harbour.corpus").await?;
    corpus.build("demo/documents").await?;
    let reply = corpus.ask("What draught may enter the north channel at low water?").await?;
    println!("{reply}");
    Ok(())
}
