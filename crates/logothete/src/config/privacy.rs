//! `[privacy]`: what may leave the machine.

#[cfg(feature = "http")]
use logothete_core::ErrorKind;
use logothete_core::prompt::Mask;
use logothete_core::{Error, Result};
use serde::{Deserialize, Serialize};

/// `[privacy]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct PrivacyConfig {
    /// The hosts that may be connected to; none if empty.
    pub allow: Vec<String>,
    /// Whether this machine, and no other, may be connected to, whatever `allow` says.
    pub local_only: bool,
    /// What is replaced before text is sent, and put back in replies: `email`, `telephone`, `account`.
    pub mask: Vec<String>,
    /// Regular expressions of other text that is replaced.
    pub mask_patterns: Vec<String>,
}

impl PrivacyConfig {
    /// Allows connections to some hosts: names such as `docs.example.org`, or with a port `localhost:8080`.
    pub fn allowing<H: Into<String>>(hosts: impl IntoIterator<Item = H>) -> Self {
        Self { allow: hosts.into_iter().map(Into::into).collect(), ..Self::default() }
    }

    /// Returns what is replaced before text is sent; `None` if nothing is.
    ///
    /// # Errors
    /// If a kind is unknown, or a pattern is none.
    pub(crate) fn masking(&self) -> Result<Option<Mask>> {
        let mask = Mask::new(&self.mask, &self.mask_patterns).map_err(|error| {
            Error::new(error.kind(), error.message().to_owned()).at("[privacy] mask, mask_patterns")
        })?;
        Ok((!mask.is_empty()).then_some(mask))
    }

    /// Checks that a host may be connected to.
    ///
    /// # Errors
    /// If it may not; the message says what to set.
    #[cfg(feature = "http")]
    pub(crate) fn check(&self, host: &str, port: Option<u16>) -> Result<()> {
        let with_port = port.map_or_else(|| host.to_owned(), |port| format!("{host}:{port}"));
        let refused = |message: String| Err(Error::new(ErrorKind::Refused, format!("nothing was sent: {message}")));
        if self.local_only {
            return match is_loopback(host) {
                true => Ok(()),
                false => {
                    refused(format!("local_only in [privacy] allows this machine only, and {with_port} is another"))
                }
            };
        }
        let fits = |name: &String| name.eq_ignore_ascii_case(host) || name.eq_ignore_ascii_case(&with_port);
        match self.allow.iter().any(fits) {
            true => Ok(()),
            false => refused(format!("the host {with_port} is not allowed; add it to allow in [privacy]")),
        }
    }
}

impl From<&PrivacyConfig> for PrivacyConfig {
    fn from(config: &PrivacyConfig) -> Self {
        config.clone()
    }
}

impl From<Vec<String>> for PrivacyConfig {
    fn from(hosts: Vec<String>) -> Self {
        Self::allowing(hosts)
    }
}

/// Returns `true` for a host that is this machine.
#[cfg(feature = "http")]
fn is_loopback(host: &str) -> bool {
    let bare = host.trim_start_matches('[').trim_end_matches(']');
    bare.eq_ignore_ascii_case("localhost")
        || bare.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback())
}

#[cfg(all(test, feature = "http"))]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("localhost", true)]
    #[case("LOCALHOST", true)]
    #[case("127.0.0.1", true)]
    #[case("[::1]", true)]
    #[case("127.0.0.1.quay.test", false)]
    #[case("localhost.quay.test", false)]
    #[case("192.168.0.1", false)]
    fn this_machine_alone(#[case] host: &str, #[case] expected: bool) {
        let config = PrivacyConfig { allow: vec![host.to_owned()], local_only: true, ..PrivacyConfig::default() };
        assert_eq!(config.check(host, Some(8080)).is_ok(), expected);
    }

    #[rstest]
    #[case("quay.test", None, true)]
    #[case("QUAY.test", Some(81), true)]
    #[case("mole.test", Some(8080), true)]
    #[case("mole.test", None, false)]
    #[case("quay.test.other", None, false)]
    fn hosts_of_the_list(#[case] host: &str, #[case] port: Option<u16>, #[case] expected: bool) {
        let config = PrivacyConfig::allowing(["quay.test", "mole.test:8080"]);
        assert_eq!(config.check(host, port).is_ok(), expected);
    }
}
