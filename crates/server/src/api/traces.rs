//! Traces of the last replies: how an answer was found, as JSON or as a page to study.

use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};

use axum::Json;
use axum::extract::{Extension, State};
use axum::http::{HeaderMap, header};
use axum::response::{Html, IntoResponse, Response};
use logothete::Reply;
use logothete_report::reply_page;

use super::input::At;
use super::schema;
use crate::problem::{Outcome, Problem};
use crate::random::unguessable;
use crate::service::Service;
use crate::visitors::Visitor;

/// So many replies are remembered.
const MAX_TOLD: usize = 200;
/// The page has styles of its own, and no script.
const POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'self'; sandbox";

/// A reply, and who got it.
#[derive(Clone)]
pub(crate) struct Told {
    pub visitor: String,
    /// As it was named in the request.
    pub corpus: Option<String>,
    pub reply: Reply,
}

/// The last replies.
#[derive(Default)]
pub(crate) struct Traces(Mutex<VecDeque<(String, Told)>>);

impl Traces {
    /// Keeps a reply; returns the name under which it is found.
    pub(crate) fn keep(&self, told: Told) -> String {
        let id = unguessable();
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= MAX_TOLD {
            all.pop_front();
        }
        all.push_back((id.clone(), told));
        id
    }

    fn find(&self, id: &str, visitor: &Visitor) -> Option<Told> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.iter().find(|(other, told)| other == id && told.visitor == visitor.id).map(|(_, told)| told.clone())
    }
}

/// How a reply that this visitor got came about: as JSON, or with `Accept: text/html` as a page.
#[utoipa::path(get, path = "/v1/traces/{id}", tag = "asking", params(("id" = String, Path)), responses(
    (status = 200, content((schema::Reply = "application/json"), (String = "text/html"))),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn one(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    At(id): At<String>,
    headers: HeaderMap,
) -> Outcome<Response> {
    let told = service.traces().find(&id, &visitor);
    let told = told.ok_or_else(|| Problem::not_found("there is no trace of this name; old ones are forgotten"))?;
    let accepted = headers.get(header::ACCEPT).and_then(|value| value.to_str().ok()).unwrap_or_default();
    if !accepted.contains("text/html") {
        return Ok(Json(super::ask::Sent { trace_id: id, value: told.reply }).into_response());
    }
    let corpus = service.served(told.corpus.as_deref(), &visitor).await?.corpus;
    let page = reply_page(&corpus, &told.reply, None).await?;
    Ok(([(header::CONTENT_SECURITY_POLICY, POLICY)], Html(page)).into_response())
}
