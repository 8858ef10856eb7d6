//! The exchange of a token for a right of the browser, so that the page need not keep the token.

use axum::Json;
use axum::extract::{Extension, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::input::Body;
use crate::problem::{Outcome, Problem};
use crate::service::Service;
use crate::visitors::Visitor;

/// What the page must know before it asks for anything.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct SessionState {
    /// Whether a token must be given first.
    pub needs_token: bool,
}

/// The token.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SessionBody {
    pub token: String,
}

/// Whether this browser must give the token first.
#[utoipa::path(get, path = "/v1/session", tag = "service", responses((status = 200, body = SessionState)))]
pub(crate) async fn state(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
) -> Json<SessionState> {
    Json(SessionState { needs_token: service.token().is_some() && !service.rights().has(&visitor) })
}

/// Gives this browser the right that the token gives, for as long as it keeps its cookie and comes back within half a day.
#[utoipa::path(post, path = "/v1/session", tag = "service", request_body = SessionBody,
    responses((status = 204), (status = 401, body = Problem, content_type = "application/problem+json")))]
pub(crate) async fn begin(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    Body(body): Body<SessionBody>,
) -> Outcome<StatusCode> {
    if service.token().is_some_and(|token| !token.is(&body.token)) {
        return Err(Problem::new(StatusCode::UNAUTHORIZED, "no token", "this is not the token of the service"));
    }
    service.rights().give(&visitor);
    Ok(StatusCode::NO_CONTENT)
}

/// Takes the right of this browser.
#[utoipa::path(delete, path = "/v1/session", tag = "service", responses((status = 204)))]
pub(crate) async fn end(State(service): State<Service>, Extension(visitor): Extension<Visitor>) -> StatusCode {
    service.rights().take(&visitor);
    StatusCode::NO_CONTENT
}
