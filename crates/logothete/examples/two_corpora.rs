//! A question answered over two corpora: rules send it to one of them, and the other is asked if the first has no answer.
//! Run from the root of the repository: `cargo run --release -p logothete --example two_corpora`

use logothete::routing::{Route, Router, Rule};
use logothete::{Corpus, MemorySource, Pipeline, Result};

async fn corpus(source: MemorySource) -> Result<Corpus> {
    let corpus = Pipeline::default().in_memory().await?;
    corpus.build(source).await?;
    Ok(corpus)
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let harbour = Pipeline::default().open("harbour.corpus").await?;
    harbour.build("demo/documents").await?;
    let canteen = MemorySource::new("canteen")
        .with("menu.md", "# Menu\n\nOn Fridays the canteen serves fish soup.\n")
        .with("hours.md", "# Hours\n\nThe canteen opens at eleven and closes at two.\n");

    let router = Router::new()
        .route(Route::new("canteen", &corpus(canteen).await?).when(Rule::Words("canteen".to_owned())))
        .route(Route::new("harbour", &harbour))
        .fallback("harbour");

    let questions = [
        "When does the canteen open?",
        "What draught may enter the North Channel at low water?",
        // The rule sends this one to the canteen, which does not know.
        "How far from the canteen's power cable must a vessel stay when she anchors?",
    ];
    for question in questions {
        let routed = router.ask(question).await?;
        println!("? {question}");
        for choice in &routed.choices {
            println!("  asked {}, because {}", choice.route, choice.reason);
        }
        if let Some(reply) = routed.reply {
            println!("  {}\n", reply.answer.answer.replace('\n', "\n  "));
        }
    }
    Ok(())
}
