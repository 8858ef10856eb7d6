//! What a request must pass before anything is looked up: the name of the host, the page that it comes from, the token.

mod browser;
mod token;

pub(crate) use browser::{Hosts, is_from_elsewhere};
pub(crate) use token::Token;

use std::net::SocketAddr;
use std::time::Instant;

use axum::extract::{ConnectInfo, MatchedPath, Request, State};
use axum::http::{HeaderName, HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use crate::problem::Problem;
use crate::random::unguessable;
use crate::service::Service;
use crate::visitors::Visitor;

/// What is answered without a token: the page, which holds no data, whether the service lives, and the exchange of a token for a right.
const OPEN: [&str; 4] = ["/", "/favicon.ico", "/v1/health", "/v1/session"];
const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");

/// Lets a request pass or not, and completes the headers of the response.
pub(crate) async fn admit(State(service): State<Service>, mut request: Request, next: Next) -> Response {
    let began = Instant::now();
    let id = unguessable();
    let visitor = Visitor::of(text(&request, &header::COOKIE));
    let route = request.extensions().get::<MatchedPath>().map(|path| path.as_str().to_owned());
    let refusal = refusal(&service, &request, &visitor);
    let mut response = match refusal {
        Some(problem) => problem.into_response(),
        None => {
            request.extensions_mut().insert(visitor.clone());
            next.run(request).await
        }
    };
    service.meters().count(route.as_deref().unwrap_or("none"), response.status().as_u16(), began.elapsed());
    let headers = response.headers_mut();
    let mut set = |name: HeaderName, value: &str| {
        if let Ok(value) = HeaderValue::from_str(value) {
            headers.entry(name).or_insert(value);
        }
    };
    set(REQUEST_ID, &id);
    set(header::X_CONTENT_TYPE_OPTIONS, "nosniff");
    set(header::REFERRER_POLICY, "no-referrer");
    set(header::CACHE_CONTROL, "no-store");
    set(header::CONTENT_SECURITY_POLICY, "default-src 'none'; frame-ancestors 'none'");
    set(HeaderName::from_static("cross-origin-resource-policy"), "same-origin");
    set(HeaderName::from_static("cross-origin-opener-policy"), "same-origin");
    if visitor.is_new {
        set(header::SET_COOKIE, &visitor.cookie());
    }
    response
}

/// Returns a header that is text.
fn text<'a>(request: &'a Request, name: &HeaderName) -> Option<&'a str> {
    request.headers().get(name).and_then(|value| value.to_str().ok())
}

/// Returns why a request does not pass; `None` if it does. Looks at nothing that the corpus holds.
fn refusal(service: &Service, request: &Request, visitor: &Visitor) -> Option<Problem> {
    let host = text(request, &header::HOST).unwrap_or_default();
    if !service.hosts().has(host) {
        let detail = "this service does not go by that name; list it under hosts in [serve]";
        return Some(Problem::new(StatusCode::MISDIRECTED_REQUEST, "unknown host", detail));
    }
    if is_from_elsewhere(request.method(), request.headers(), host) {
        let detail = "the request comes from a page of another site";
        return Some(Problem::new(StatusCode::FORBIDDEN, "foreign page", detail));
    }
    let token = service.token()?;
    let path = request.uri().path();
    if OPEN.contains(&path)
        || service.sessions().has_right(visitor)
        || token.is_in(text(request, &header::AUTHORIZATION))
    {
        return None;
    }
    let detail = "send the token: Authorization: Bearer …";
    Some(Problem::new(StatusCode::UNAUTHORIZED, "no token", detail))
}

/// Returns the address that a request came from; `None` in a server that does not tell.
pub(crate) fn address(request: &axum::http::Extensions) -> Option<std::net::IpAddr> {
    request.get::<ConnectInfo<SocketAddr>>().map(|ConnectInfo(address)| address.ip())
}
