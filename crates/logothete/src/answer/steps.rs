//! An answer as a stream of what happens while it is made.

use std::fmt;
use std::pin::Pin;
use std::task::{Context, Poll};

use futures_core::Stream;
use logothete_core::Result;
use logothete_core::answer::Claim;
use logothete_core::trace::TraceRecord;
use serde::Serialize;
use tokio::sync::mpsc::{UnboundedReceiver, unbounded_channel};

use super::{AskEvent, Reply};
use crate::BoxFuture;

/// A step on the way to an answer; the last one is the reply.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum AskStep {
    /// A stage has ended.
    Stage(TraceRecord),
    /// More text of the answer.
    Text(String),
    /// A claim of a model that has ended, held against its sources.
    Claim(Claim),
    /// The whole answer. What was told before is in it.
    Reply(Box<Reply>),
}

impl From<AskEvent<'_>> for AskStep {
    fn from(event: AskEvent<'_>) -> Self {
        match event {
            AskEvent::Stage(record) => Self::Stage(record.clone()),
            AskEvent::Text(text) => Self::Text(text.to_owned()),
            AskEvent::Claim(claim) => Self::Claim(claim.clone()),
        }
    }
}

/// The steps of an answer. It ends after the reply, or after an error. Dropping it stops what it asked for.
pub struct AskSteps {
    answering: Option<BoxFuture<'static, Result<Reply>>>,
    steps: UnboundedReceiver<AskStep>,
    outcome: Option<Result<Reply>>,
}

impl fmt::Debug for AskSteps {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("AskSteps").field("is_answered", &self.answering.is_none()).finish_non_exhaustive()
    }
}

impl AskSteps {
    /// Creates the stream of what `ask` tells its listener, and of its outcome.
    pub(crate) fn new<F>(ask: impl FnOnce(Box<dyn FnMut(AskEvent<'_>) + Send>) -> F) -> Self
    where
        F: Future<Output = Result<Reply>> + Send + 'static,
    {
        let (sender, steps) = unbounded_channel();
        // Who does not read any more has dropped the stream, and with it the answer.
        let tell = Box::new(move |event: AskEvent<'_>| drop(sender.send(event.into())));
        Self { answering: Some(Box::pin(ask(tell))), steps, outcome: None }
    }
}

impl Stream for AskSteps {
    type Item = Result<AskStep>;

    fn poll_next(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        if let Some(answering) = &mut self.answering
            && let Poll::Ready(outcome) = answering.as_mut().poll(context)
        {
            (self.answering, self.outcome) = (None, Some(outcome));
        }
        match self.steps.poll_recv(context) {
            Poll::Ready(Some(step)) => Poll::Ready(Some(Ok(step))),
            // Everything was told, and the answer is on its way.
            Poll::Ready(None) if self.answering.is_some() => Poll::Pending,
            Poll::Ready(None) => {
                let outcome = self.outcome.take();
                Poll::Ready(outcome.map(|outcome| outcome.map(|reply| AskStep::Reply(Box::new(reply)))))
            }
            Poll::Pending => Poll::Pending,
        }
    }
}
