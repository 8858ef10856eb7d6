//! Documents at addresses: fetched one by one, within limits, and only from hosts that are allowed.

use std::io::Read;
use std::time::Duration;

use logothete_core::document::Value;
use logothete_core::{Error, ErrorKind, Result};
use ureq::Agent;
use ureq::http::Uri;

use super::{Content, Item, Items, Source, too_large};
use crate::BoxFuture;
use crate::config::PrivacyConfig;
use crate::remote::net;
use crate::threads::blocking;

/// How long a server may take to send all of a document.
const MAX_TIME: Duration = Duration::from_secs(60);
/// A server may send on to another address this often; each is checked like the first.
const MAX_REDIRECTS: u32 = 5;

/// A list of addresses.
#[derive(Clone, Debug)]
pub struct WebSource {
    name: String,
    addresses: Vec<String>,
    fetcher: Fetcher,
}

/// Fetches from the allowed hosts.
#[derive(Clone, Debug)]
struct Fetcher {
    privacy: PrivacyConfig,
    agent: Agent,
}

impl WebSource {
    /// Creates a source that fetches from the allowed hosts only. With none, nothing can be fetched. The corpus knows the source by
    /// its name.
    pub fn new(name: impl Into<String>, addresses: Vec<String>, privacy: impl Into<PrivacyConfig>) -> Self {
        let agent = net::agent(MAX_TIME);
        Self { name: name.into(), addresses, fetcher: Fetcher { privacy: privacy.into(), agent } }
    }
}

impl Fetcher {
    fn fetch(&self, address: &str, max: u64) -> Result<Content> {
        let mut uri = net::allowed_address(address, &self.privacy)?;
        for _ in 0..=MAX_REDIRECTS {
            net::announce(&net::host(&uri.to_string()), "requests for documents");
            let response = self.agent.get(uri.clone()).call().map_err(|error| {
                Error::new(ErrorKind::Unavailable, format!("it could not be fetched: {error}")).because(error)
            })?;
            let status = response.status();
            if status.is_redirection() {
                let next = response.headers().get("location").and_then(|next| next.to_str().ok()).unwrap_or_default();
                uri = net::allowed_address(&joined(&uri, next), &self.privacy)?;
                continue;
            }
            if !status.is_success() {
                let kind = if status.is_server_error() { ErrorKind::Unavailable } else { ErrorKind::NotFound };
                return Err(Error::new(kind, format!("the server answered {status}")));
            }
            let media_type =
                response.headers().get("content-type").and_then(|kind| kind.to_str().ok()).map(str::to_owned);
            let mut bytes = Vec::new();
            let mut body = response.into_body().into_reader().take(max.saturating_add(1));
            body.read_to_end(&mut bytes).map_err(|error| {
                Error::new(ErrorKind::Unavailable, format!("it could not be fetched to its end: {error}"))
                    .because(error)
            })?;
            if bytes.len() as u64 > max {
                return Err(too_large(bytes.len() as u64, max));
            }
            return Ok(Content { bytes, media_type });
        }
        Err(Error::new(ErrorKind::Unavailable, format!("too many redirects (limit {MAX_REDIRECTS})")))
    }
}

/// Returns an address as it is meant on a page at another one.
fn joined(from: &Uri, to: &str) -> String {
    if to.contains("://") {
        return to.to_owned();
    }
    let host = from.authority().map(ToString::to_string).unwrap_or_default();
    let scheme = from.scheme_str().unwrap_or("https");
    match to.strip_prefix("//") {
        Some(rest) => format!("{scheme}://{rest}"),
        None if to.starts_with('/') => format!("{scheme}://{host}{to}"),
        None => {
            let folder = from.path().rsplit_once('/').map_or("", |(folder, _)| folder);
            format!("{scheme}://{host}{folder}/{to}")
        }
    }
}

/// Returns the name of a document at an address: the address without its scheme.
fn path_of(address: &str) -> String {
    let bare = address.split_once("://").map_or(address, |(_, rest)| rest);
    bare.trim_end_matches('/').to_owned()
}

impl Source for WebSource {
    fn location(&self) -> String {
        format!("web:{}", self.name)
    }

    fn items(&self) -> BoxFuture<'_, Result<Items>> {
        let items = self.addresses.clone().into_iter().map(|address| {
            let metadata = [("address".to_owned(), Value::Text(address.clone()))].into();
            // Servers say little that can be trusted about changes; the content's hash does.
            Ok(Item { path: path_of(&address), place: address, metadata, ..Item::default() })
        });
        Box::pin(async move { Ok(Box::new(items) as Items) })
    }

    fn read<'a>(&'a self, item: &'a Item, max: u64) -> BoxFuture<'a, Result<Content>> {
        let (fetcher, address) = (self.fetcher.clone(), item.place.clone());
        Box::pin(blocking(move || fetcher.fetch(&address, max)))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("http://quay.test/a/b.html", "c.pdf", "http://quay.test/a/c.pdf")]
    #[case("http://quay.test/a/b.html", "/c.pdf", "http://quay.test/c.pdf")]
    #[case("https://quay.test/a", "//mole.test/x", "https://mole.test/x")]
    #[case("https://quay.test/a", "http://mole.test/x", "http://mole.test/x")]
    fn redirections(#[case] from: &str, #[case] to: &str, #[case] expected: &str) {
        assert_eq!(joined(&from.parse().expect("an address"), to), expected);
    }
}
