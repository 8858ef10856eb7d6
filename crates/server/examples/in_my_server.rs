//! Mounts the page and the API in a server of one's own, behind its own authentication.
//!
//! `cargo run -p logothete-server --example in_my_server`, then open `http://127.0.0.1:8473/`, as `clerk` with the password `tide`.

use std::net::SocketAddr;

use axum::Router;
use axum::extract::Request;
use axum::http::{StatusCode, header};
use axum::middleware::{Next, from_fn};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use logothete::config::ServeConfig;
use logothete::{BuildRequest, MemorySource, Pipeline};
use logothete_server::Service;

/// `clerk:tide` as browsers send it.
const CLERK: &str = "Basic Y2xlcms6dGlkZQ==";

/// Lets in whom this server knows. A real one would look a session up.
async fn authenticated(request: Request, next: Next) -> Response {
    let given = request.headers().get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    match given {
        Some(CLERK) => next.run(request).await,
        _ => (StatusCode::UNAUTHORIZED, [(header::WWW_AUTHENTICATE, "Basic realm=\"harbour\"")]).into_response(),
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let notices =
        MemorySource::new("notices").with("bells.md", "# Bells\n\nThe great bell is rung every twenty seconds in fog.");
    let corpus = Pipeline::default().in_memory().await?;
    corpus.build(BuildRequest::default().source(notices)).await?;

    let service = Service::new(corpus, ServeConfig::default());
    let harbour = service.router().layer(from_fn(authenticated));
    let app = Router::new().route("/tides", get(async || "High water at 10:31, 7.3 metres")).merge(harbour);

    let port = std::env::args().nth(1).and_then(|port| port.parse().ok()).unwrap_or(8473);
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", port)).await?;
    println!("The page is at http://{}/", listener.local_addr()?);
    // With the addresses of its clients, the service can limit how often each asks.
    let app = app.into_make_service_with_connect_info::<SocketAddr>();
    axum::serve(listener, app)
        .with_graceful_shutdown(async move {
            // It fails only where a program cannot listen for it.
            let _ = tokio::signal::ctrl_c().await;
            service.close().await;
        })
        .await?;
    Ok(())
}
