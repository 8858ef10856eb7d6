//! A corpus as an HTTP service on this machine, with a page to ask it.
//!
//! ```no_run
//! use logothete::{Pipeline, config::ServeConfig};
//! use logothete_server::Service;
//!
//! # async fn run() -> Result<(), Box<dyn std::error::Error>> {
//! let corpus = Pipeline::default().open("harbour.corpus").await?;
//! let service = Service::new(corpus, ServeConfig::default());
//! let listener = tokio::net::TcpListener::bind("127.0.0.1:8472").await?;
//! service.serve(listener, std::future::pending()).await?;
//! # Ok(())
//! # }
//! ```
//!
//! [`Service::router`] is a router of axum to mount in a server of one's own. The API is described by [`openapi`], which the service returns at
//! `/v1/openapi.json` too. There is no logic of a corpus here: `api/` turns requests into calls of [`logothete`], and its values into JSON;
//! [`Tools`] does so for programs that speak the Model Context Protocol.

mod api;
mod corpora;
mod gate;
mod guard;
mod jobs;
mod meters;
mod page;
mod problem;
mod random;
mod service;
mod tools;
mod uploads;
mod visitors;

pub use api::openapi;
pub use service::Service;
pub use tools::Tools;
