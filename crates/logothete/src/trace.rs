//! Traces: the record of a search or a question, step by step.

use std::time::Instant;

use logothete_core::Result;
pub use logothete_core::trace::*;

/// Records the steps of a call, if anybody wants to see them.
pub(crate) struct Recorder {
    started: Instant,
    /// `None` if nobody wants to see them.
    trace: Option<Trace>,
    open: Vec<u32>,
}

impl Recorder {
    /// Creates a recorder that does nothing unless it is enabled.
    pub(crate) fn new(enabled: bool) -> Self {
        Self { started: Instant::now(), trace: enabled.then(Trace::default), open: Vec::new() }
    }

    /// Begins a step that other steps are parts of.
    pub(crate) fn begin(&mut self, details: impl FnOnce() -> TraceDetails) {
        let start = self.now();
        let parent = self.open.last().copied();
        if let Some(trace) = &mut self.trace {
            let id = trace.records.len() as u32;
            trace.records.push(TraceRecord::new(id, parent, details(), start));
            self.open.push(id);
        }
    }

    /// Ends the step that was begun last.
    pub(crate) fn end(&mut self) {
        let now = self.now();
        if let Some((trace, id)) = self.trace.as_mut().zip(self.open.pop()) {
            let record = &mut trace.records[id as usize];
            record.took_ms = now - record.start_ms;
        }
    }

    /// Returns the time in milliseconds since the start.
    pub(crate) fn now(&self) -> f64 {
        if self.trace.is_some() { milliseconds(self.started) } else { 0.0 }
    }

    /// Records a step that began at `start` and has just ended.
    pub(crate) fn step(&mut self, start: f64, details: impl FnOnce() -> TraceDetails) {
        let now = self.now();
        let parent = self.open.last().copied();
        if let Some(trace) = &mut self.trace {
            let id = trace.records.len() as u32;
            let mut record = TraceRecord::new(id, parent, details(), start);
            record.took_ms = now - start;
            trace.records.push(record);
        }
    }

    /// Ends every step and returns the trace.
    pub(crate) fn finish(mut self) -> Trace {
        while !self.open.is_empty() {
            self.end();
        }
        self.trace.unwrap_or_default()
    }

    /// Adds the trace to an error, with the message in the steps that it ended.
    pub(crate) fn attach<T>(mut self, outcome: Result<T>) -> Result<(T, Trace)> {
        match outcome {
            Ok(value) => Ok((value, self.finish())),
            Err(error) => {
                let message = error.to_string();
                if let Some(trace) = &mut self.trace {
                    for id in &self.open {
                        trace.records[*id as usize].outcome = StepOutcome::Failed(message.clone());
                    }
                }
                let traced = self.trace.is_some();
                let trace = self.finish();
                Err(if traced { error.with_trace(trace) } else { error })
            }
        }
    }
}

/// Returns the milliseconds since a moment.
pub(crate) fn milliseconds(since: Instant) -> f64 {
    since.elapsed().as_secs_f64() * 1e3
}
