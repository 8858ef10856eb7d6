//! The HTTP API, a module a subject: requests become calls of the library, and its values JSON.

// The macro that describes a handler names types in full.
#![allow(unused_qualifications)]

mod ask;
mod conversations;
mod corpora;
mod description;
mod documents;
mod events;
mod health;
mod input;
mod jobs;
mod schema;
mod search;
mod session;
mod traces;

pub use description::openapi;
pub(crate) use traces::Traces;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::middleware::from_fn_with_state;
use axum::routing::{delete, get, post};

use crate::guard;
use crate::page;
use crate::problem::Problem;
use crate::service::Service;
use crate::tools::Tools;

/// The size of a request that is no upload, in bytes.
const MAX_BODY: usize = 1_000_000;

pub(crate) fn router(service: &Service) -> Router {
    let uploads = Router::new()
        .route("/v1/documents", get(documents::list).post(documents::upload).layer(DefaultBodyLimit::disable()));
    Router::new()
        .route("/v1/health", get(health::health))
        .route("/v1/metrics", get(health::metrics))
        .route("/v1/openapi.json", get(description::served))
        .route("/v1/session", get(session::state).post(session::begin).delete(session::end))
        .route("/v1/corpora", get(corpora::list).post(corpora::make))
        .route("/v1/corpora/{name}", delete(corpora::remove))
        .route("/v1/documents/{name}", get(documents::one).delete(documents::remove))
        .route("/v1/documents/{name}/text", get(documents::text))
        .route("/v1/documents/{name}/pages/{page}", get(documents::page))
        .route("/v1/suggestions", get(documents::suggestions))
        .route("/v1/jobs", get(jobs::list))
        .route("/v1/jobs/{job}", get(jobs::one).delete(jobs::stop))
        .route("/v1/jobs/{job}/events", get(jobs::events))
        .route("/v1/search", post(search::search))
        .route("/v1/ask", post(ask::ask))
        .route("/v1/conversations", get(conversations::list).post(conversations::begin))
        .route("/v1/conversations/{id}", get(conversations::one).delete(conversations::remove))
        .route("/v1/conversations/{id}/ask", post(conversations::ask))
        .route("/v1/conversations/{id}/export", get(conversations::export))
        .route("/v1/traces/{id}", get(traces::one))
        .layer(DefaultBodyLimit::max(MAX_BODY))
        .merge(uploads)
        // The protocol describes itself, so `openapi` says nothing of it.
        .route_service("/tools", Tools::over_http(service))
        .route("/", get(page::page))
        .route("/favicon.ico", get(page::icon))
        .fallback(async || Problem::not_found("there is nothing here; the API is described at /v1/openapi.json"))
        .method_not_allowed_fallback(async || {
            let status = axum::http::StatusCode::METHOD_NOT_ALLOWED;
            Problem::new(status, "method not allowed", "this path knows other methods; see /v1/openapi.json")
        })
        .layer(from_fn_with_state(service.clone(), guard::admit))
        .with_state(service.clone())
}
