//! Many questions, some at a time, with a line of JSON for each answer. A batch that is stopped goes on where it ended, and asks nothing twice.
//! Run from the root of the repository: `cargo run --release -p logothete --example batch_to_file`

use logothete::{AskBatch, Pipeline, Result};

const QUESTIONS: [&str; 3] = [
    "What draught may enter the North Channel at low water?",
    "When does the swing bridge open?",
    "Who is the harbour master of Atlantis?",
];

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let corpus = Pipeline::default().open("harbour.corpus").await?;
    corpus.build("demo/documents").await?;
    let batch = AskBatch::new("answers.jsonl").max_concurrent(1);
    let stop = batch.stop_token();
    // The first run is stopped after its first answer.
    let batch = batch.on_answer(move |told| {
        println!("  {} of {}: {}", told.number, told.of, told.question);
        stop.stop();
    });
    let report = corpus.ask_batch(QUESTIONS, &batch).await?;
    println!("stopped: {}, {} answered", report.stopped, report.answered);

    let report = corpus.ask_batch(QUESTIONS, &AskBatch::new("answers.jsonl")).await?;
    println!("{} kept, {} answered, {} of them refused", report.kept, report.answered, report.refused);
    Ok(())
}
