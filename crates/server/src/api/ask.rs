//! Asking: a reply as JSON, or as a stream of what happens.

use std::future::Future;
use std::net::IpAddr;

use axum::Json;
use axum::extract::{Extension, FromRequest, Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::sse::Event;
use axum::response::{IntoResponse, Response};
use futures_util::stream;
use logothete::answer::AskEvent;
use logothete::conversation::Turn;
use logothete::{Reply, SearchRequest};
use serde::{Deserialize, Serialize};
use serde_json::json;
use tokio::sync::mpsc::{UnboundedSender, unbounded_channel};
use utoipa::ToSchema;

use super::events;
use super::input::{Body, filter};
use super::schema;
use super::traces::Told;
use crate::gate::Pass;
use crate::guard::address;
use crate::problem::{Outcome, Problem};
use crate::service::Service;
use crate::visitors::Visitor;

/// A question.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AskBody {
    pub question: String,
    /// The name of the corpus; without it, the first one.
    pub corpus: Option<String>,
    /// A filter, such as `document = "byelaws.pdf"`.
    pub filter: Option<String>,
    /// Whether the reply has its trace.
    #[serde(default)]
    pub trace: bool,
}

/// A question, and where it came from.
pub(super) struct Question {
    pub body: AskBody,
    pub from: Option<IpAddr>,
    pub streams: bool,
}

impl Question {
    /// Takes a request apart.
    pub(super) async fn of(request: Request) -> Outcome<Self> {
        let from = address(request.extensions());
        let streams = wants_events(request.headers());
        let Body(body) = Body::<AskBody>::from_request(request, &()).await?;
        Ok(Self { body, from, streams })
    }

    /// Returns the request to a corpus. The trace is kept even if it is not sent, so that it can be looked at later.
    pub(super) fn request(&self) -> Outcome<SearchRequest> {
        let request = SearchRequest::new(&self.body.question).traced();
        Ok(match filter(self.body.filter.as_deref())? {
            Some(filter) => request.filter(filter),
            None => request,
        })
    }
}

fn wants_events(headers: &HeaderMap) -> bool {
    let accepted = headers.get(header::ACCEPT).and_then(|value| value.to_str().ok());
    accepted.is_some_and(|accepted| accepted.contains("text/event-stream"))
}

/// Answers a question, each sentence with its source; or refuses, and names what came nearest.
///
/// With `Accept: text/event-stream`: `stage` for each stage that has ended, `text` for each piece of the answer as it comes, `claim` for each claim that was held
/// against its sources, and at the end `sources`, and `end` with the whole reply, or `problem`.
#[utoipa::path(post, path = "/v1/ask", tag = "asking", request_body = AskBody, responses(
    (status = 200, content((schema::Reply = "application/json"), (String = "text/event-stream"))),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 429, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn ask(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    request: Request,
) -> Outcome<Response> {
    let question = Question::of(request).await?;
    let asked = question.request()?;
    let served = service.served(question.body.corpus.as_deref(), &visitor).await?;
    let pass = service.gate().enter(question.from).await?;
    let (corpus, with_trace) = (question.body.corpus, question.body.trace);
    let telling = Telling { service, visitor, corpus, with_trace };
    let asking = served.corpus;
    if !question.streams {
        let reply = in_time(&telling.service, asking.ask(asked)).await?;
        return Ok(Json(telling.told(reply)).into_response());
    }
    Ok(streamed(telling, pass, async move |tell| asking.ask_streaming(asked, tell).await))
}

/// What holds a reply: the reply itself, or a turn of a conversation.
pub(super) trait Replied {
    fn reply(&mut self) -> &mut Reply;
}

impl Replied for Reply {
    fn reply(&mut self) -> &mut Reply {
        self
    }
}

impl Replied for Turn {
    fn reply(&mut self) -> &mut Reply {
        &mut self.reply
    }
}

/// A reply as it is sent.
#[derive(Serialize)]
pub(super) struct Sent<T> {
    /// The name under which its trace is found.
    pub trace_id: String,
    #[serde(flatten)]
    pub value: T,
}

/// What becomes of a reply: who gets it, and with what.
pub(super) struct Telling {
    pub service: Service,
    pub visitor: Visitor,
    /// The corpus as it was named in the request.
    pub corpus: Option<String>,
    pub with_trace: bool,
}

impl Telling {
    /// Keeps the trace of a reply, and returns the reply as it is sent.
    pub(super) fn told<T: Replied>(&self, mut value: T) -> Sent<T> {
        let reply = value.reply();
        let told = Told { visitor: self.visitor.id.clone(), corpus: self.corpus.clone(), reply: reply.clone() };
        let trace_id = self.service.traces().keep(told);
        if !self.with_trace {
            reply.trace = logothete::trace::Trace::default();
        }
        Sent { trace_id, value }
    }
}

/// Waits for an answer as long as is allowed.
pub(super) async fn in_time<T>(service: &Service, work: impl Future<Output = logothete::Result<T>>) -> Outcome<T> {
    let most = service.config().max_time();
    match tokio::time::timeout(most, work).await {
        Ok(done) => Ok(done?),
        Err(_) => {
            let detail = format!("it took more than {} s and was given up; raise seconds in [serve]", most.as_secs());
            Err(Problem::new(StatusCode::GATEWAY_TIMEOUT, "too slow", detail))
        }
    }
}

/// Tells what happens while a question is answered.
pub(super) type Tell = Box<dyn FnMut(AskEvent<'_>) + Send>;

/// Streams what happens while a question is answered, and the reply. A client that leaves ends the work.
pub(super) fn streamed<T, W>(telling: Telling, pass: Pass, work: impl FnOnce(Tell) -> W + Send + 'static) -> Response
where
    T: Replied + Serialize + Send + 'static,
    W: Future<Output = logothete::Result<T>> + Send + 'static,
{
    let (sender, receiver) = unbounded_channel::<Step>();
    let teller = sender.clone();
    let work = work(Box::new(move |event| said(&teller, event)));
    let service = telling.service.clone();
    let mut closing = service.closing();
    let task = tokio::spawn(async move {
        // Nobody receives these if the client has left.
        let last = tokio::select! {
            done = in_time(&telling.service, work) => match done {
                Ok(mut value) => {
                    let sources = json!({ "sources": value.reply().answer.sources });
                    let _ = sender.send(Step::Next(events::event("sources", &sources)));
                    events::event("end", &telling.told(value))
                }
                Err(problem) => events::event("problem", &problem),
            },
            _ = closing.wait_for(|closing| *closing) => events::closing(),
        };
        drop(pass);
        let _ = sender.send(Step::Last(last));
    });
    let working = AbortOnDrop(task);
    let received = stream::unfold(Some((receiver, working)), |open| async move {
        let (mut receiver, working) = open?;
        match receiver.recv().await? {
            Step::Next(event) => Some((event, Some((receiver, working)))),
            // Work that was given up may still have something to say, which nobody is told.
            Step::Last(event) => Some((event, None)),
        }
    });
    events::stream(&service, received)
}

/// An event of a stream.
enum Step {
    Next(Event),
    Last(Event),
}

/// Sends what happened as an event.
fn said(to: &UnboundedSender<Step>, happened: AskEvent<'_>) {
    let event = match happened {
        AskEvent::Stage(record) => events::event("stage", record),
        AskEvent::Text(text) => events::event("text", &json!({ "text": text })),
        AskEvent::Claim(claim) => events::event("claim", claim),
        _ => return,
    };
    // The client may have left.
    let _ = to.send(Step::Next(event));
}

/// Work that ends when nobody waits for it any more.
struct AbortOnDrop(tokio::task::JoinHandle<()>);

impl Drop for AbortOnDrop {
    fn drop(&mut self) {
        self.0.abort();
    }
}
