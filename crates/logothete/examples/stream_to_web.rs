//! An answer that streams into a web server: each step is an event of the browser's `EventSource`. A reader that goes away stops the answer.
//! Run from the root of the repository: `cargo run --release -p logothete --example stream_to_web`

use std::convert::Infallible;

use axum::extract::{Query, State};
use axum::response::sse::{Event, Sse};
use axum::routing::get;
use futures_util::{Stream, StreamExt};
use logothete::answer::AskStep;
use logothete::{Corpus, Error, ErrorKind, Pipeline, Result};
use logothete_simulator::ScriptedGenerator;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

#[derive(serde::Deserialize)]
struct Asked {
    question: String,
}

async fn ask(
    State(corpus): State<Corpus>,
    Query(asked): Query<Asked>,
) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let events = corpus.ask_steps(asked.question).map(|step| {
        let event = match step {
            Ok(AskStep::Text(text)) => Event::default().event("text").data(text),
            Ok(AskStep::Reply(reply)) => {
                let sources: Vec<String> =
                    reply.answer.sources.iter().map(|source| source.location.to_string()).collect();
                Event::default().event("sources").data(sources.join("; "))
            }
            Ok(_) => Event::default().comment("a stage has ended"),
            Err(error) => Event::default().event("problem").data(error.to_string()),
        };
        Ok(event)
    });
    Sse::new(events)
}

fn failed(error: std::io::Error) -> Error {
    Error::new(ErrorKind::System, "the network").because(error)
}

/// Does what a browser does: asks, and reads until the server has said all.
async fn browse(address: std::net::SocketAddr, question: &str) -> std::io::Result<String> {
    let mut stream = TcpStream::connect(address).await?;
    let request = format!(
        "GET /ask?question={} HTTP/1.1\r\nHost: {address}\r\nConnection: close\r\n\r\n",
        question.replace(' ', "+")
    );
    stream.write_all(request.as_bytes()).await?;
    let mut response = String::new();
    stream.read_to_string(&mut response).await?;
    Ok(response)
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let corpus = Pipeline::default().with_generator(ScriptedGenerator::answers()).open("harbour.corpus").await?;
    corpus.build("demo/documents").await?;
    let listener = TcpListener::bind("127.0.0.1:0").await.map_err(failed)?;
    let address = listener.local_addr().map_err(failed)?;
    let app = axum::Router::new().route("/ask", get(ask)).with_state(corpus);
    // A real service stays in this call.
    tokio::spawn(async move { axum::serve(listener, app).await });

    let response = browse(address, "When is the regatta?").await.map_err(failed)?;
    for line in response.lines().filter(|line| line.starts_with("event") || line.starts_with("data")) {
        println!("{line}");
    }
    Ok(())
}
