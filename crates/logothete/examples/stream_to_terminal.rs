//! An answer that is shown while it is written, in a conversation that remembers. Run from the root of the repository:
//! `cargo run --release -p logothete --example stream_to_terminal`

use std::io::Write;

use logothete::Pipeline;
use logothete::answer::AskEvent;
use logothete::trace::TraceDetails;
use logothete_simulator::ScriptedGenerator;

fn show(event: AskEvent<'_>) {
    match event {
        AskEvent::Text(text) => print!("{text}"),
        AskEvent::Stage(step) => {
            if let TraceDetails::Condense { question, .. } = &step.details {
                println!("(searching: {question})");
            }
        }
        _ => {}
    }
    // A terminal that is gone needs no text.
    let _ = std::io::stdout().flush();
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> logothete::Result<()> {
    let pipeline = Pipeline::default().with_generator(ScriptedGenerator::answers());
    let corpus = pipeline.open("harbour.corpus").await?;
    corpus.build("demo/documents").await?;
    let conversation = corpus.conversation("regatta")?;
    for question in ["When is the regatta?", "Where can small craft watch it from?", "Where does that come from?"] {
        println!("? {question}");
        let turn = conversation.ask_streaming(question, show).await?;
        println!();
        for source in &turn.reply.answer.sources {
            println!("  [{}] {}", source.marker, source.location);
        }
        println!();
    }
    Ok(())
}
