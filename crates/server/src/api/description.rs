//! The description of the API, made from the types of its requests and responses.

use axum::http::header;
use axum::response::{IntoResponse, Response};
use utoipa::openapi::{Content, Ref, ResponseBuilder};
use utoipa::{Modify, OpenApi};

use super::{ask, conversations, corpora, documents, health, jobs, search, session, traces};

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Logothete",
        description = "Search a corpus of documents, and ask it: answers cite their passages. Errors are problem documents (RFC 9457). Where the service has a \
                       token, send it as `Authorization: Bearer …`."
    ),
    modifiers(&Failures),
    paths(
        health::health,
        health::metrics,
        served,
        session::state,
        session::begin,
        session::end,
        corpora::list,
        corpora::make,
        corpora::remove,
        documents::list,
        documents::upload,
        documents::one,
        documents::remove,
        documents::text,
        documents::page,
        documents::suggestions,
        jobs::list,
        jobs::one,
        jobs::stop,
        jobs::events,
        search::search,
        ask::ask,
        conversations::list,
        conversations::begin,
        conversations::one,
        conversations::remove,
        conversations::ask,
        conversations::export,
        traces::one,
    )
)]
struct Described;

/// Any operation may fail in ways that it shares with all others: a missing token, a body of another type, a request that is too large.
struct Failures;

impl Modify for Failures {
    fn modify(&self, described: &mut utoipa::openapi::OpenApi) {
        let problem = Content::new(Some(Ref::from_schema_name("Problem")));
        let response =
            ResponseBuilder::new().description("what went wrong").content("application/problem+json", problem).build();
        for path in described.paths.paths.values_mut() {
            for operation in [&mut path.get, &mut path.post, &mut path.delete].into_iter().flatten() {
                operation.responses.responses.insert("default".to_owned(), response.clone().into());
            }
        }
    }
}

/// Returns the description of the API: an OpenAPI 3.1 document as JSON.
pub fn openapi() -> String {
    Described::openapi().to_pretty_json().unwrap_or_default() + "\n"
}

/// This document.
#[utoipa::path(get, path = "/v1/openapi.json", tag = "service", responses((status = 200, body = Object)))]
pub(crate) async fn served() -> Response {
    ([(header::CONTENT_TYPE, "application/json")], openapi()).into_response()
}
