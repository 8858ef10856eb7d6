//! Whether the service lives, and what it has counted.

use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::service::Service;

/// The state of the service.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct Health {
    /// `ready`, or `closing`.
    pub state: String,
    /// The version of the program.
    pub version: String,
}

/// Whether the service lives. Needs no token, and tells nothing of the corpus.
#[utoipa::path(get, path = "/v1/health", tag = "service", responses((status = 200, body = Health)))]
pub(crate) async fn health(State(service): State<Service>) -> axum::Json<Health> {
    let state = if *service.closing().borrow() { "closing" } else { "ready" };
    axum::Json(Health { state: state.to_owned(), version: env!("CARGO_PKG_VERSION").to_owned() })
}

/// Counts of requests, in the text format of Prometheus.
#[utoipa::path(get, path = "/v1/metrics", tag = "service", responses((status = 200, body = String, content_type = "text/plain")))]
pub(crate) async fn metrics(State(service): State<Service>) -> Response {
    let jobs = ("logothete_jobs", "Builds that have not ended.", service.jobs().at_work());
    let text = service.meters().text(&[jobs]);
    ([(header::CONTENT_TYPE, "text/plain; version=0.0.4; charset=utf-8")], text).into_response()
}
