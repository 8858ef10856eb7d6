//! What a browser gives for a session: the token, so that the page need not keep it, and a key of its own for the generator.

use axum::Json;
use axum::extract::{Extension, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::input::Body;
use crate::problem::{Outcome, Problem};
use crate::service::Service;
use crate::visitors::Visitor;

/// The longest key, in bytes.
const MAX_KEY: usize = 1_000;

/// What the page must know before it asks for anything.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct SessionState {
    /// Whether a token must be given first.
    pub needs_token: bool,
    /// Whether the generator is a service that takes keys.
    pub takes_key: bool,
    /// Whether this visitor has given a key of their own.
    pub has_key: bool,
    /// Whether documents may be uploaded: `shared`, `private` or `off`.
    pub uploads: String,
}

/// What is given. What is left out stays as it is.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SessionBody {
    /// The token of the service.
    pub token: Option<String>,
    /// The visitor's own key for the generator; empty forgets it. It is kept in memory as long as the session lasts, and sent to the host of the generator only.
    pub key: Option<String>,
}

/// What this browser has given, and what it must give.
#[utoipa::path(get, path = "/v1/session", tag = "service", responses((status = 200, body = SessionState)))]
pub(crate) async fn state(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
) -> Json<SessionState> {
    let has_right = service.token().is_none() || service.sessions().has_right(&visitor);
    Json(SessionState {
        needs_token: !has_right,
        takes_key: has_right && service.main_corpus().pipeline().takes_key(),
        has_key: service.sessions().key(&visitor).is_some(),
        uploads: if has_right { service.config().uploads.name().to_owned() } else { String::new() },
    })
}

/// Takes the token, which gives this browser its right for as long as it keeps its cookie and comes back within half a day, or a key of the visitor's own.
#[utoipa::path(post, path = "/v1/session", tag = "service", request_body = SessionBody, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn begin(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    Body(body): Body<SessionBody>,
) -> Outcome<StatusCode> {
    if let Some(token) = service.token() {
        let has_right = match &body.token {
            Some(given) => token.is(given),
            None => service.sessions().has_right(&visitor),
        };
        if !has_right {
            return Err(Problem::new(StatusCode::UNAUTHORIZED, "no token", "this is not the token of the service"));
        }
        service.sessions().give_right(&visitor);
    }
    if let Some(key) = body.key {
        let key = key.trim();
        if key.len() > MAX_KEY || key.chars().any(|c| !c.is_ascii_graphic()) {
            return Err(Problem::invalid("this is no key: a key has letters, digits and signs, and no blanks"));
        }
        service.sessions().set_key(&visitor, Some(key).filter(|key| !key.is_empty()));
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Forgets what this browser has given.
#[utoipa::path(delete, path = "/v1/session", tag = "service", responses((status = 204)))]
pub(crate) async fn end(State(service): State<Service>, Extension(visitor): Extension<Visitor>) -> StatusCode {
    service.sessions().end(&visitor);
    StatusCode::NO_CONTENT
}
