//! The corpora of the service.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::input::{At, Body};
use crate::problem::{Outcome, Problem};
use crate::service::Service;

/// The corpora by name.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct CorpusList {
    pub corpora: Vec<CorpusName>,
}

/// A corpus.
#[derive(Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct CorpusName {
    /// 1 to 40 small letters, digits and hyphens.
    #[schema(pattern = "^[a-z0-9-]{1,40}$")]
    pub name: String,
}

/// The corpora; the one that the service was started with is called `main` and comes first.
#[utoipa::path(get, path = "/v1/corpora", tag = "corpora", responses((status = 200, body = CorpusList)))]
pub(crate) async fn list(State(service): State<Service>) -> Json<CorpusList> {
    let names = service.corpora().names().await;
    Json(CorpusList { corpora: names.into_iter().map(|name| CorpusName { name }).collect() })
}

/// Makes an empty corpus, of the same settings as the first.
#[utoipa::path(post, path = "/v1/corpora", tag = "corpora", request_body = CorpusName, responses(
    (status = 201, body = CorpusName),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn make(
    State(service): State<Service>,
    Body(body): Body<CorpusName>,
) -> Outcome<(StatusCode, Json<CorpusName>)> {
    super::documents::may_change(&service, None)?;
    let made = service.corpora().make(&body.name).await?;
    Ok((StatusCode::CREATED, Json(CorpusName { name: made.name })))
}

/// Removes a corpus that was made through the service, with its documents and conversations.
#[utoipa::path(delete, path = "/v1/corpora/{name}", tag = "corpora", params(("name" = String, Path)), responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(State(service): State<Service>, At(name): At<String>) -> Outcome<StatusCode> {
    super::documents::may_change(&service, None)?;
    service.corpora().remove(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}
