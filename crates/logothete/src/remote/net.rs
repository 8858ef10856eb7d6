//! The only place that makes HTTP clients: time-outs, no automatic redirects, and the allow list.

use std::time::Duration;

use logothete_core::{Error, ErrorKind, Result};
use ureq::Agent;
use ureq::http::Uri;

use crate::config::PrivacyConfig;

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
pub(crate) fn allowed_address(address: &str, privacy: &PrivacyConfig) -> Result<Uri> {
    let uri: Uri = address
        .parse()
        .ok()
        .filter(|uri: &Uri| matches!(uri.scheme_str(), Some("http" | "https")) && uri.host().is_some())
        .ok_or_else(|| Error::new(ErrorKind::Configuration, "this is not an address; write it as https://host/path"))?;
    privacy.check(uri.host().unwrap_or_default(), uri.port_u16())?;
    Ok(uri)
}

/// Returns the host of an address, with its port if it names one.
pub(crate) fn host(address: &str) -> String {
    let uri: Option<Uri> = address.parse().ok();
    let port = |uri: &Uri| uri.port_u16().map(|port| format!(":{port}")).unwrap_or_default();
    uri.map(|uri| format!("{}{}", uri.host().unwrap_or_default(), port(&uri))).unwrap_or_default()
}

/// Says that a request is about to be sent: an event of `tracing` with the target `logothete::sending`.
pub(crate) fn announce(host: &str, what: &str) {
    tracing::info!(target: "logothete::sending", host, what);
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("http://quay.test/x", true)]
    #[case("http://quay.test:81/x", true)]
    #[case("http://quay.test.other/x", false)]
    #[case("file:///etc/passwd", false)]
    fn addresses(#[case] address: &str, #[case] expected: bool) {
        assert_eq!(allowed_address(address, &PrivacyConfig::allowing(["quay.test"])).is_ok(), expected);
    }
}
