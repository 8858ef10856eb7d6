//! The only place that makes HTTP clients: time-outs, no automatic redirects, and the allow list.

use std::time::Duration;

use logothete_core::{Error, ErrorKind, Result};
use ureq::Agent;
use ureq::http::Uri;

/// The time that a server may take to accept a connection.
const MAX_CONNECT_TIME: Duration = Duration::from_secs(10);

/// Returns a client whose requests may take up to `max_time`. A redirect is returned as a response: it could lead to a host
/// that is not allowed.
pub(crate) fn agent(max_time: Duration) -> Agent {
    Agent::config_builder()
        .timeout_connect(Some(MAX_CONNECT_TIME))
        .timeout_global(Some(max_time))
        .max_redirects(0)
        .max_redirects_will_error(false)
        .http_status_as_error(false)
        .user_agent("logothete")
        .build()
        .into()
}

/// Parses an address whose host must be allowed.
pub(crate) fn allowed_address(address: &str, allowed: &[String]) -> Result<Uri> {
    let uri: Uri = address
        .parse()
        .ok()
        .filter(|uri: &Uri| matches!(uri.scheme_str(), Some("http" | "https")) && uri.host().is_some())
        .ok_or_else(|| Error::new(ErrorKind::Configuration, "this is not an address; write it as https://host/path"))?;
    let host = uri.host().unwrap_or_default();
    let with_port = uri.port_u16().map_or_else(|| host.to_owned(), |port| format!("{host}:{port}"));
    let fits = |name: &String| name.eq_ignore_ascii_case(host) || name.eq_ignore_ascii_case(&with_port);
    if allowed.iter().any(fits) {
        return Ok(uri);
    }
    let message = format!("nothing was sent: the host {with_port} is not allowed; add it to allow in [privacy]");
    Err(Error::new(ErrorKind::Refused, message))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("http://quay.test/x", true)]
    #[case("http://quay.test:81/x", true)]
    #[case("http://mole.test:8080/x", true)]
    #[case("http://mole.test/x", false)]
    #[case("http://quay.test.other/x", false)]
    #[case("file:///etc/passwd", false)]
    fn hosts(#[case] address: &str, #[case] expected: bool) {
        let allowed = ["quay.test".to_owned(), "mole.test:8080".to_owned()];
        assert_eq!(allowed_address(address, &allowed).is_ok(), expected);
    }
}
