//! Searching.

use axum::Json;
use axum::extract::FromRequest;
use axum::extract::{Extension, Request, State};
use logothete::{SearchRequest, SearchResult};
use serde::Deserialize;
use utoipa::ToSchema;

use super::input::{Body, filter};
use super::schema;
use crate::guard::address;
use crate::problem::{Outcome, Problem};
use crate::service::Service;
use crate::visitors::Visitor;

/// A search.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SearchBody {
    /// The words; `+word`, `-word`, `"some words"` and `word*` mean what they mean on the command line.
    pub query: String,
    /// The name of the corpus; without it, the first one.
    pub corpus: Option<String>,
    /// A filter, such as `date >= "2025-01-01"`.
    pub filter: Option<String>,
    /// The number of passages.
    #[schema(minimum = 1, maximum = 1000)]
    pub passages: Option<usize>,
}

/// So many passages are returned at most.
const MAX_PASSAGES: usize = 1_000;

/// Finds the passages that fit a query best.
#[utoipa::path(post, path = "/v1/search", tag = "asking", request_body = SearchBody, responses(
    (status = 200, body = schema::SearchResult),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 429, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn search(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    request: Request,
) -> Outcome<Json<SearchResult>> {
    let from = address(request.extensions());
    let Body(body) = Body::<SearchBody>::from_request(request, &()).await?;
    let mut asked = SearchRequest::new(&body.query);
    if let Some(filter) = filter(body.filter.as_deref())? {
        asked = asked.filter(filter);
    }
    if let Some(count) = body.passages {
        if !(1..=MAX_PASSAGES).contains(&count) {
            return Err(Problem::invalid(format!("passages is from 1 to {MAX_PASSAGES}")));
        }
        asked = asked.passages(count);
    }
    let served = service.served(body.corpus.as_deref(), &visitor).await?;
    let _pass = service.gate().enter(from).await?;
    let found = super::ask::in_time(&service, served.corpus.search(asked)).await?;
    Ok(Json(found))
}
