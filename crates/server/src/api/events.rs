//! Streams of server-sent events.

use std::convert::Infallible;
use std::time::Duration;

use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use futures_util::{Stream, StreamExt};
use serde::Serialize;

use crate::problem::Problem;
use crate::service::Service;

/// A quiet stream says so often that it is alive.
const BEAT: Duration = Duration::from_secs(15);

/// Returns an event with a name and a value as JSON.
pub(crate) fn event(name: &str, value: &impl Serialize) -> Event {
    match serde_json::to_string(value) {
        Ok(json) => Event::default().event(name).data(json),
        Err(_) => Event::default().event("problem").data("{}"),
    }
}

/// Returns the event that ends a stream whose service closes.
pub(crate) fn closing() -> Event {
    let status = axum::http::StatusCode::SERVICE_UNAVAILABLE;
    event("problem", &Problem::new(status, "closing", "the service is closing; ask again later"))
}

/// Returns a response that streams events. It is counted as long as it is open.
pub(crate) fn stream(service: &Service, events: impl Stream<Item = Event> + Send + 'static) -> Response {
    let open = service.meters().stream();
    let events = events.map(move |event| {
        let _ = &open;
        Ok::<_, Infallible>(event)
    });
    let mut response = Sse::new(events).keep_alive(KeepAlive::new().interval(BEAT)).into_response();
    // A proxy that kept events back would make a stream a lump.
    response.headers_mut().insert("x-accel-buffering", axum::http::HeaderValue::from_static("no"));
    response
}
