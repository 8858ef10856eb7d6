//! Conversations. Each visitor has their own: the name under which one is kept begins with that of the visitor.

use axum::Json;
use axum::extract::{Extension, Request, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use logothete::Conversation;
use logothete::conversation::Turn;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::ask::{Question, Telling, in_time, streamed};
use super::input::{At, Body, Given, InCorpus};
use super::schema;
use crate::problem::{Outcome, Problem};
use crate::random::unguessable;
use crate::service::Service;
use crate::visitors::Visitor;

/// The conversations of this visitor, the latest first.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct ConversationList {
    pub conversations: Vec<ConversationEntry>,
}

/// A conversation.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct ConversationEntry {
    pub id: String,
    /// When the first question was asked, such as `2026-03-31T12:00:00Z`.
    pub begun: String,
    pub last: String,
    pub turns: u64,
    pub first_question: String,
}

/// A conversation that begins.
#[derive(Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub(crate) struct BeginBody {}

/// Its name.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct Begun {
    pub id: String,
}

/// A whole conversation.
#[derive(Serialize)]
pub(crate) struct Whole {
    id: String,
    turns: Vec<Turn>,
}

/// Returns the conversation of a visitor.
async fn find(service: &Service, visitor: &Visitor, corpus: Option<&str>, id: &str) -> Outcome<Conversation> {
    if id.len() != 32 || !id.bytes().all(|byte| byte.is_ascii_hexdigit()) {
        return Err(unknown());
    }
    let served = service.served(corpus, visitor).await?;
    Ok(served.corpus.conversation(visitor.conversation(id))?)
}

fn unknown() -> Problem {
    Problem::not_found("this visitor has no conversation of this name")
}

/// The conversations of this visitor, who is known by a cookie.
#[utoipa::path(get, path = "/v1/conversations", tag = "conversations", params(InCorpus), responses(
    (status = 200, body = ConversationList),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    Given(at): Given<InCorpus>,
) -> Outcome<Json<ConversationList>> {
    let served = service.served(at.corpus.as_deref(), &visitor).await?;
    let all = served.corpus.conversations().await?;
    let own = all.into_iter().filter_map(|one| {
        let id = one.name.strip_prefix(&visitor.id)?.strip_prefix('/')?.to_owned();
        let (begun, last, turns) = (one.begun, one.last, one.turns);
        Some(ConversationEntry { id, begun, last, turns, first_question: one.first_question })
    });
    Ok(Json(ConversationList { conversations: own.collect() }))
}

/// Begins a conversation. It is kept from its first question on.
#[utoipa::path(post, path = "/v1/conversations", tag = "conversations", request_body = BeginBody, responses((status = 201, body = Begun)))]
pub(crate) async fn begin(_body: Body<BeginBody>) -> (StatusCode, Json<Begun>) {
    (StatusCode::CREATED, Json(Begun { id: unguessable() }))
}

/// All turns of a conversation.
#[utoipa::path(get, path = "/v1/conversations/{id}", tag = "conversations", params(("id" = String, Path), InCorpus), responses(
    (status = 200, body = schema::Conversation),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn one(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    At(id): At<String>,
    Given(at): Given<InCorpus>,
) -> Outcome<Json<Whole>> {
    let conversation = find(&service, &visitor, at.corpus.as_deref(), &id).await?;
    let turns = conversation.turns().await?;
    if turns.is_empty() {
        return Err(unknown());
    }
    Ok(Json(Whole { id, turns }))
}

/// A conversation as Markdown.
#[utoipa::path(get, path = "/v1/conversations/{id}/export", tag = "conversations", params(("id" = String, Path), InCorpus), responses(
    (status = 200, body = String, content_type = "text/markdown"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn export(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    At(id): At<String>,
    Given(at): Given<InCorpus>,
) -> Outcome<Response> {
    let conversation = find(&service, &visitor, at.corpus.as_deref(), &id).await?;
    let turns = conversation.turns().await?;
    if turns.is_empty() {
        return Err(unknown());
    }
    let parts = turns.iter().map(Turn::to_markdown).collect::<Vec<_>>().join("\n");
    let text = format!("# Conversation of {}\n\n{parts}", turns[0].asked);
    let name = "attachment; filename=\"conversation.md\"";
    Ok(([(header::CONTENT_TYPE, "text/markdown; charset=utf-8"), (header::CONTENT_DISPOSITION, name)], text)
        .into_response())
}

/// Removes a conversation.
#[utoipa::path(delete, path = "/v1/conversations/{id}", tag = "conversations", params(("id" = String, Path), InCorpus), responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    At(id): At<String>,
    Given(at): Given<InCorpus>,
) -> Outcome<StatusCode> {
    match find(&service, &visitor, at.corpus.as_deref(), &id).await?.delete().await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(unknown()),
    }
}

/// Asks the next question of a conversation; see `/v1/ask`. The reply has `said`, the question as it was asked; `question` stands alone.
#[utoipa::path(post, path = "/v1/conversations/{id}/ask", tag = "conversations", params(("id" = String, Path)), request_body = super::ask::AskBody, responses(
    (status = 200, content((schema::Turn = "application/json"), (String = "text/event-stream"))),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 429, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn ask(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    At(id): At<String>,
    request: Request,
) -> Outcome<Response> {
    let question = Question::of(request).await?;
    let asked = question.request()?;
    let (corpus, with_trace) = (question.body.corpus, question.body.trace);
    let conversation = find(&service, &visitor, corpus.as_deref(), &id).await?;
    let pass = service.gate().enter(question.from).await?;
    let telling = Telling { service, visitor, corpus, with_trace };
    if !question.streams {
        let turn = in_time(&telling.service, conversation.ask(asked)).await?;
        return Ok(Json(telling.told(turn)).into_response());
    }
    Ok(streamed(telling, pass, async move |tell| conversation.ask_streaming(asked, tell).await))
}
