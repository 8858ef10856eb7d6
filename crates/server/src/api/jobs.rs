//! Builds that are under way, and those that have ended.

use axum::Json;
use axum::extract::{Extension, State};
use axum::http::StatusCode;
use axum::response::Response;
use futures_util::stream;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::events;
use super::input::At;
use crate::jobs::Job;
use crate::problem::{Outcome, Problem};
use crate::service::Service;
use crate::visitors::Visitor;

/// The jobs, the latest first.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct JobList {
    pub jobs: Vec<Job>,
}

fn unknown() -> Problem {
    Problem::not_found("there is no job of this number; old ones are forgotten")
}

/// The builds that are under way, and the last ones that have ended.
#[utoipa::path(get, path = "/v1/jobs", tag = "jobs", responses((status = 200, body = JobList)))]
pub(crate) async fn list(State(service): State<Service>, Extension(visitor): Extension<Visitor>) -> Json<JobList> {
    Json(JobList { jobs: service.jobs().all(&visitor) })
}

/// The state of a build.
#[utoipa::path(get, path = "/v1/jobs/{job}", tag = "jobs", params(("job" = u64, Path)), responses(
    (status = 200, body = Job),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn one(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    At(job): At<u64>,
) -> Outcome<Json<Job>> {
    let watched = service.jobs().watch(job, &visitor).ok_or_else(unknown)?;
    let job = watched.borrow().clone();
    Ok(Json(job))
}

/// Stops a build. The documents that it has read are kept.
#[utoipa::path(delete, path = "/v1/jobs/{job}", tag = "jobs", params(("job" = u64, Path)), responses(
    (status = 202),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn stop(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    At(job): At<u64>,
) -> Outcome<StatusCode> {
    match service.jobs().stop(job, &visitor) {
        true => Ok(StatusCode::ACCEPTED),
        false => Err(unknown()),
    }
}

/// The progress of a build as events: `progress` with the job whenever it changes, and `end` with the job when it has ended.
#[utoipa::path(get, path = "/v1/jobs/{job}/events", tag = "jobs", params(("job" = u64, Path)), responses(
    (status = 200, body = String, content_type = "text/event-stream"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn events(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    At(job): At<u64>,
) -> Outcome<Response> {
    let mut watched = service.jobs().watch(job, &visitor).ok_or_else(unknown)?;
    watched.mark_changed();
    let events = stream::unfold((watched, false), |(mut watched, has_ended)| async move {
        if has_ended || watched.changed().await.is_err() {
            return None;
        }
        let job = watched.borrow_and_update().clone();
        let name = if job.has_ended() { "end" } else { "progress" };
        Some((events::event(name, &job), (watched, job.has_ended())))
    });
    Ok(events::stream(&service, events))
}
