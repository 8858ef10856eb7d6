//! Errors as problem documents (RFC 9457).

use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use logothete::{Error, ErrorKind};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Why a request failed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub(crate) struct Problem {
    /// What kind of problem it is, as a name that does not change.
    #[serde(rename = "type")]
    pub name: String,
    /// The kind in words.
    pub title: String,
    /// The status of HTTP.
    pub status: u16,
    /// What failed, and what to do.
    pub detail: String,
    /// What the problem is about: a document, a field, a setting.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// The seconds after which the request may be sent again.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub retry_after: Option<u64>,
}

impl Problem {
    pub(crate) fn new(status: StatusCode, title: &str, detail: impl Into<String>) -> Self {
        let name = format!("urn:logothete:{}", title.to_lowercase().replace(' ', "-"));
        let status = status.as_u16();
        Self { name, title: title.to_owned(), status, detail: detail.into(), place: None, retry_after: None }
    }

    /// The service has enough to do.
    pub(crate) fn too_many(detail: impl Into<String>, retry_after: u64) -> Self {
        let mut problem = Self::new(StatusCode::TOO_MANY_REQUESTS, "too many requests", detail);
        problem.retry_after = Some(retry_after.max(1));
        problem
    }

    pub(crate) fn not_found(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::NOT_FOUND, "not found", detail)
    }

    pub(crate) fn invalid(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::BAD_REQUEST, "invalid request", detail)
    }
}

impl From<Error> for Problem {
    fn from(error: Error) -> Self {
        let (status, title) = match error.kind() {
            ErrorKind::NotFound => (StatusCode::NOT_FOUND, "not found"),
            ErrorKind::InvalidRequest => (StatusCode::BAD_REQUEST, "invalid request"),
            ErrorKind::Unreadable => (StatusCode::UNPROCESSABLE_ENTITY, "unreadable"),
            ErrorKind::Unsupported => (StatusCode::UNSUPPORTED_MEDIA_TYPE, "unsupported"),
            ErrorKind::Refused => (StatusCode::CONFLICT, "refused"),
            ErrorKind::Busy => (StatusCode::CONFLICT, "busy"),
            ErrorKind::Limit => (StatusCode::UNPROCESSABLE_ENTITY, "limit"),
            ErrorKind::Unavailable => (StatusCode::SERVICE_UNAVAILABLE, "unavailable"),
            ErrorKind::Cancelled => (StatusCode::SERVICE_UNAVAILABLE, "cancelled"),
            ErrorKind::Configuration => (StatusCode::INTERNAL_SERVER_ERROR, "configuration"),
            ErrorKind::Mismatch => (StatusCode::INTERNAL_SERVER_ERROR, "mismatch"),
            ErrorKind::Corpus => (StatusCode::INTERNAL_SERVER_ERROR, "corpus"),
            _ => (StatusCode::INTERNAL_SERVER_ERROR, "system"),
        };
        let mut problem = Self::new(status, title, error.message());
        problem.place = error.place().map(str::to_owned);
        if matches!(error.kind(), ErrorKind::Busy | ErrorKind::Unavailable) {
            problem.retry_after = Some(error.retry_after().map_or(1, |pause| pause.as_secs().max(1)));
        }
        problem
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let body = serde_json::to_string(&self).unwrap_or_default();
        let mut response = (status, [(header::CONTENT_TYPE, "application/problem+json")], body).into_response();
        if let Some(seconds) = self.retry_after {
            response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from(seconds));
        }
        if status == StatusCode::UNAUTHORIZED {
            response.headers_mut().insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        response
    }
}

/// The outcome of a handler.
pub(crate) type Outcome<T> = Result<T, Problem>;
