//! What the service counts, in the text format of Prometheus.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// The upper bounds of the classes of durations, in seconds.
const BOUNDS: [f64; 10] = [0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 5.0, 30.0];

/// Counts of requests.
#[derive(Default)]
pub(crate) struct Meters {
    routes: Mutex<BTreeMap<String, Route>>,
    streams: Arc<AtomicUsize>,
}

#[derive(Default)]
struct Route {
    by_status: BTreeMap<u16, u64>,
    by_duration: [u64; BOUNDS.len()],
    count: u64,
    seconds: f64,
}

/// A stream of events that is open. Dropping it counts it as closed.
pub(crate) struct OpenStream(Arc<AtomicUsize>);

impl Drop for OpenStream {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Meters {
    /// Counts a request to a route, which is a pattern and never what a client made up.
    pub(crate) fn count(&self, route: &str, status: u16, took: Duration) {
        let seconds = took.as_secs_f64();
        let mut routes = self.routes.lock().unwrap_or_else(PoisonError::into_inner);
        let route = match routes.get_mut(route) {
            Some(route) => route,
            None => routes.entry(route.to_owned()).or_default(),
        };
        *route.by_status.entry(status).or_default() += 1;
        for (class, bound) in route.by_duration.iter_mut().zip(BOUNDS) {
            *class += u64::from(seconds <= bound);
        }
        route.count += 1;
        route.seconds += seconds;
    }

    /// Counts a stream as open until the returned value is dropped.
    pub(crate) fn stream(&self) -> OpenStream {
        self.streams.fetch_add(1, Ordering::Relaxed);
        OpenStream(self.streams.clone())
    }

    /// Returns all counts, and some more given as name, help and value.
    pub(crate) fn text(&self, more: &[(&str, &str, usize)]) -> String {
        let mut out = String::new();
        out.push_str(
            "# HELP logothete_requests_total Requests by route and status.\n# TYPE logothete_requests_total counter\n",
        );
        let routes = self.routes.lock().unwrap_or_else(PoisonError::into_inner);
        for (name, route) in &*routes {
            for (status, count) in &route.by_status {
                let _ = writeln!(out, "logothete_requests_total{{route=\"{name}\",status=\"{status}\"}} {count}");
            }
        }
        out.push_str(
            "# HELP logothete_request_seconds Time until the response began.\n# TYPE logothete_request_seconds histogram\n",
        );
        for (name, route) in &*routes {
            for (bound, count) in BOUNDS.iter().zip(&route.by_duration) {
                let _ = writeln!(out, "logothete_request_seconds_bucket{{route=\"{name}\",le=\"{bound}\"}} {count}");
            }
            let _ = writeln!(out, "logothete_request_seconds_bucket{{route=\"{name}\",le=\"+Inf\"}} {}", route.count);
            let _ = writeln!(out, "logothete_request_seconds_sum{{route=\"{name}\"}} {}", route.seconds);
            let _ = writeln!(out, "logothete_request_seconds_count{{route=\"{name}\"}} {}", route.count);
        }
        let streams = ("logothete_streams", "Open streams of events.", self.streams.load(Ordering::Relaxed));
        for (name, help, value) in std::iter::once(&streams).chain(more) {
            let _ = writeln!(out, "# HELP {name} {help}\n# TYPE {name} gauge\n{name} {value}");
        }
        out
    }
}
