//! A line on stderr before the first request to each host: who receives what.

use std::collections::HashSet;
use std::fmt::Debug;
use std::sync::{Mutex, PoisonError};

use tracing::field::{Field, Visit};
use tracing::span::{Attributes, Id, Record};
use tracing::{Event, Metadata, Subscriber};

/// Hears of requests that are about to be sent, and of nothing else.
#[derive(Default)]
pub struct Sending(Mutex<HashSet<String>>);

/// What the library says of a request.
#[derive(Default)]
struct Request {
    host: String,
    what: String,
}

impl Visit for Request {
    fn record_str(&mut self, field: &Field, value: &str) {
        match field.name() {
            "host" => value.clone_into(&mut self.host),
            "what" => value.clone_into(&mut self.what),
            _ => {}
        }
    }

    fn record_debug(&mut self, _: &Field, _: &dyn Debug) {}
}

impl Subscriber for Sending {
    fn enabled(&self, metadata: &Metadata<'_>) -> bool {
        metadata.target() == "logothete::sending"
    }

    fn new_span(&self, _: &Attributes<'_>) -> Id {
        Id::from_u64(1)
    }

    fn record(&self, _: &Id, _: &Record<'_>) {}

    fn record_follows_from(&self, _: &Id, _: &Id) {}

    fn event(&self, event: &Event<'_>) {
        let mut request = Request::default();
        event.record(&mut request);
        let mut told = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let line = format!("sending: {} to {}", request.what, request.host);
        if told.insert(line.clone()) {
            eprintln!("{}", crate::view::visible(&line, false));
        }
    }

    fn enter(&self, _: &Id) {}

    fn exit(&self, _: &Id) {}
}
