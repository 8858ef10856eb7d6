//! Taking requests apart, with problem documents for what is wrong with them.

use axum::extract::rejection::{JsonRejection, PathRejection, QueryRejection};
use axum::extract::{FromRequest, FromRequestParts, Json, Path, Query, Request};
use axum::http::StatusCode;
use axum::http::request::Parts;
use logothete::search::Filter;
use serde::Deserialize;
use serde::de::DeserializeOwned;
use utoipa::IntoParams;

use crate::problem::{Outcome, Problem};

/// A body of JSON.
pub(crate) struct Body<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Body<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Outcome<Self> {
        let body = Json::<T>::from_request(request, state).await;
        body.map(|Json(value)| Self(value)).map_err(|error: JsonRejection| match error.status() {
            StatusCode::PAYLOAD_TOO_LARGE => Problem::new(error.status(), "too large", error.body_text()),
            StatusCode::UNSUPPORTED_MEDIA_TYPE => {
                Problem::new(error.status(), "unsupported", "send JSON, with Content-Type: application/json")
            }
            _ => Problem::invalid(error.body_text()),
        })
    }
}

/// Parts of the path.
pub(crate) struct At<T>(pub T);

impl<T: DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for At<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Outcome<Self> {
        let path = Path::<T>::from_request_parts(parts, state).await;
        path.map(|Path(value)| Self(value)).map_err(|error: PathRejection| Problem::not_found(error.body_text()))
    }
}

/// Parameters behind the question mark.
pub(crate) struct Given<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequestParts<S> for Given<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Outcome<Self> {
        let query = Query::<T>::from_request_parts(parts, state).await;
        query.map(|Query(value)| Self(value)).map_err(|error: QueryRejection| Problem::invalid(error.body_text()))
    }
}

/// Which corpus is meant.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct InCorpus {
    /// The name of the corpus; without it, the first one.
    pub corpus: Option<String>,
}

/// Reads a filter such as `date >= "2025-01-01" and kind = "notice"`.
pub(crate) fn filter(written: Option<&str>) -> Outcome<Option<Filter>> {
    let parsed = written.filter(|written| !written.trim().is_empty()).map(Filter::parse).transpose();
    parsed.map_err(|error| Problem { place: error.place().map(str::to_owned), ..Problem::invalid(error.message()) })
}
