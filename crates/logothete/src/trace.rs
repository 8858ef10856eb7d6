//! Traces: the record of a search or a question, step by step.
//!
//! Each step is a span of `tracing` too, with the target `logothete`, the name `stage` and these fields: `stage`, the name of the stage
//! as in the JSON of the trace; `tokens_read` and `tokens_written`, if a model was asked; `error`, if the step failed. A request that
//! leaves the machine is an event with the target `logothete::sending` and the fields `host` and `what`.

use std::time::Instant;

pub use logothete_core::trace::*;
use logothete_core::{Error, Result, TokenUsage};
use tracing::Span;
use tracing::field::Empty;

use crate::answer::{AskEvent, Listener};

/// Records the steps of a call, if anybody wants to see them.
pub(crate) struct Recorder {
    started: Instant,
    /// `None` if nobody wants to see them.
    trace: Option<Trace>,
    open: Vec<u32>,
    /// The span in which the call was made.
    caller: Span,
    /// The spans of the open steps.
    spans: Vec<Span>,
    /// Whether the trace is returned, and not only told.
    keeps: bool,
    /// Who hears of each step when it ends.
    listener: Listener,
}

/// A step that has begun.
pub(crate) struct Started {
    at: f64,
    span: Span,
}

impl Recorder {
    /// Creates a recorder that does nothing unless it is enabled.
    pub(crate) fn new(enabled: bool) -> Self {
        Self {
            started: Instant::now(),
            trace: enabled.then(Trace::default),
            open: Vec::new(),
            caller: Span::current(),
            spans: Vec::new(),
            keeps: enabled,
            listener: Listener::default(),
        }
    }

    /// Creates a recorder that tells a listener of each step.
    pub(crate) fn telling(enabled: bool, listener: &Listener) -> Self {
        Self { keeps: enabled, listener: listener.clone(), ..Self::new(enabled || listener.is_some()) }
    }

    /// Returns `true` if somebody wants to see the steps.
    pub(crate) fn is_on(&self) -> bool {
        self.trace.is_some()
    }

    /// Begins a step that other steps are parts of.
    pub(crate) fn begin(&mut self, stage: &'static str, details: impl FnOnce() -> TraceDetails) {
        let Started { at: start, span } = self.start(stage);
        self.spans.push(span);
        let parent = self.open.last().copied();
        if let Some(trace) = &mut self.trace {
            let id = trace.records.len() as u32;
            trace.records.push(TraceRecord::new(id, parent, details(), start));
            self.open.push(id);
        }
    }

    /// Ends the step that was begun last.
    pub(crate) fn end(&mut self) {
        self.spans.pop();
        let now = self.now();
        if let Some((trace, id)) = self.trace.as_mut().zip(self.open.pop()) {
            let record = &mut trace.records[id as usize];
            record.took_ms = now - record.start_ms;
            self.listener.tell(AskEvent::Stage(record));
        }
    }

    /// Begins a step without parts, which [`step`](Self::step) records when it has ended.
    pub(crate) fn start(&self, stage: &'static str) -> Started {
        let parent = self.spans.last().unwrap_or(&self.caller).id();
        let span = tracing::info_span!(
            target: "logothete", parent: parent, "stage", stage, tokens_read = Empty, tokens_written = Empty, error = Empty
        );
        Started { at: self.now(), span }
    }

    /// Returns the time in milliseconds since the start.
    fn now(&self) -> f64 {
        if self.trace.is_some() { milliseconds(self.started) } else { 0.0 }
    }

    /// Records a step that has just ended.
    pub(crate) fn step(&mut self, start: Started, details: impl FnOnce() -> TraceDetails) {
        self.ended(start, details, |_| ());
    }

    /// Records a step that took tokens.
    pub(crate) fn spent_step(&mut self, start: Started, usage: TokenUsage, details: impl FnOnce() -> TraceDetails) {
        start.span.record("tokens_read", usage.sent).record("tokens_written", usage.received);
        self.ended(start, details, |record| record.usage = usage);
    }

    /// Records a step that failed.
    pub(crate) fn failed_step(&mut self, start: Started, error: &Error, details: impl FnOnce() -> TraceDetails) {
        start.span.record("error", error.to_string());
        self.ended(start, details, |record| record.outcome = StepOutcome::Failed(error.to_string()));
    }

    fn ended(
        &mut self,
        Started { at: start, span }: Started,
        details: impl FnOnce() -> TraceDetails,
        complete: impl FnOnce(&mut TraceRecord),
    ) {
        drop(span);
        let now = self.now();
        let parent = self.open.last().copied();
        if let Some(trace) = &mut self.trace {
            let id = trace.records.len() as u32;
            let mut record = TraceRecord::new(id, parent, details(), start);
            record.took_ms = now - start;
            complete(&mut record);
            self.listener.tell(AskEvent::Stage(&record));
            trace.records.push(record);
        }
    }

    /// Ends every step and returns the trace.
    pub(crate) fn finish(mut self) -> Trace {
        while !self.open.is_empty() {
            self.end();
        }
        self.trace.filter(|_| self.keeps).unwrap_or_default()
    }

    /// Adds the trace to an error, with the message in the steps that it ended.
    pub(crate) fn attach<T>(self, outcome: Result<T>) -> Result<(T, Trace)> {
        match outcome {
            Ok(value) => Ok((value, self.finish())),
            Err(error) => Err(self.failed(error)),
        }
    }

    /// Returns an error with the trace, and its message in the steps that it ended.
    pub(crate) fn failed(mut self, error: Error) -> Error {
        let message = error.to_string();
        for span in &self.spans {
            span.record("error", message.as_str());
        }
        if let Some(trace) = &mut self.trace {
            for id in &self.open {
                trace.records[*id as usize].outcome = StepOutcome::Failed(message.clone());
            }
        }
        let keeps = self.keeps && self.trace.is_some();
        let trace = self.finish();
        if keeps { error.with_trace(trace) } else { error }
    }
}

/// Returns the milliseconds since a moment.
pub(crate) fn milliseconds(since: Instant) -> f64 {
    since.elapsed().as_secs_f64() * 1e3
}
