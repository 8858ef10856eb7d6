//! The record of one question, stage by stage.

use std::time::Instant;

use serde_json::{Map, Value};

/// Collects what each stage did and how long it took.
pub(crate) struct Trace {
    stages: Vec<Value>,
    since: Instant,
}

impl Trace {
    /// Starts the clock.
    pub(crate) fn start() -> Self {
        Self { stages: Vec::new(), since: Instant::now() }
    }

    /// Ends a stage: writes what it did, with the time since the last one ended.
    pub(crate) fn stage(&mut self, name: &str, details: Value) {
        let mut stage = Map::new();
        stage.insert("stage".into(), name.into());
        stage.insert("took_ms".into(), milliseconds(self.since).into());
        if let Value::Object(details) = details {
            stage.extend(details);
        }
        self.stages.push(Value::Object(stage));
        self.since = Instant::now();
    }

    /// The stages in order.
    pub(crate) fn finish(self) -> Vec<Value> {
        self.stages
    }
}

/// The time since a moment, in milliseconds, to the microsecond.
pub(crate) fn milliseconds(since: Instant) -> f64 {
    (since.elapsed().as_secs_f64() * 1e6).round() / 1e3
}

/// A score to six decimals: a `f32` knows no more.
pub(crate) fn score(value: f32) -> f64 {
    (f64::from(value) * 1e6).round() / 1e6
}
