//! A chat in a terminal: lines are questions, follow-ups are understood, and the conversation is there again the next time.
//! Run from the root of the repository: `cargo run --release -p logothete --example chat_terminal`, and type; an empty line ends it.

use std::io::{BufRead, Write, stdin, stdout};

use logothete::answer::AskEvent;
use logothete::trace::TraceDetails;
use logothete::{Pipeline, Result};

fn prompt() {
    print!("> ");
    // A terminal that is gone ends the loop by itself.
    let _ = stdout().flush();
}

fn show(event: AskEvent<'_>) {
    match event {
        AskEvent::Text(text) => println!("{text}"),
        AskEvent::Stage(step) => {
            if let TraceDetails::Condense { question, .. } = &step.details {
                println!("(searched for: {question})");
            }
        }
        _ => {}
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let corpus = Pipeline::default().open("harbour.corpus").await?;
    corpus.build("demo/documents").await?;
    let talk = corpus.conversation("at the quay")?;
    for turn in talk.turns().await? {
        println!("> {}\n{}", turn.question, turn.reply.answer.answer);
    }
    prompt();
    for line in stdin().lock().lines().map_while(std::result::Result::ok) {
        if line.trim().is_empty() {
            break;
        }
        match talk.ask_streaming(line.trim(), show).await {
            Ok(turn) => {
                for source in &turn.reply.answer.sources {
                    println!("  [{}] {}", source.marker, source.location);
                }
            }
            // A question without words is no reason to leave.
            Err(error) => println!("{error}"),
        }
        prompt();
    }
    println!();
    Ok(())
}
