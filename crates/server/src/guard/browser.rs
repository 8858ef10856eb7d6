//! What browsers say of themselves: the host that they think they talk to, and the page that sent the request.

use std::collections::BTreeSet;
use std::net::IpAddr;

use axum::http::{HeaderMap, Method, header};

/// The names under which the service is reached. A page that has its own name lead to this machine (rebinding) is not among them.
#[derive(Clone, Debug)]
pub(crate) struct Hosts(BTreeSet<String>);

impl Hosts {
    pub(crate) fn new(more: &[String]) -> Self {
        Self(more.iter().map(|host| host.to_ascii_lowercase()).chain(["localhost".to_owned()]).collect())
    }

    /// Returns whether a header names the service: by one of its names, or by an address, which nobody can rebind.
    pub(crate) fn has(&self, header: &str) -> bool {
        let name = name_of(header);
        name.parse::<IpAddr>().is_ok() || self.0.contains(&name.to_ascii_lowercase())
    }
}

/// Returns a host without its port and the brackets of an address.
fn name_of(host: &str) -> &str {
    if let Some(address) = host.strip_prefix('[') {
        return address.split_once(']').map_or(address, |(address, _)| address);
    }
    host.rsplit_once(':').map_or(host, |(name, _)| name)
}

/// Returns whether a page of another site sent a request. Programs, which send none of these headers, pass.
///
/// Following a link to the page is no harm; anything else from another site is refused.
pub(crate) fn is_from_elsewhere(method: &Method, headers: &HeaderMap, host: &str) -> bool {
    let text = |name: &str| headers.get(name).and_then(|value| value.to_str().ok());
    let reads = *method == Method::GET || *method == Method::HEAD;
    let site = text("sec-fetch-site");
    let follows = reads && text("sec-fetch-mode") == Some("navigate") && text("sec-fetch-dest") == Some("document");
    if site.is_some_and(|site| !matches!(site, "same-origin" | "none")) && !follows {
        return true;
    }
    match text(header::ORIGIN.as_str()) {
        None => false,
        Some(origin) => {
            let own = origin.split_once("://").is_some_and(|(_, named)| named.eq_ignore_ascii_case(host));
            !own
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("127.0.0.1:8472", true)]
    #[case("[::1]:8472", true)]
    #[case("localhost", true)]
    #[case("LOCALHOST:80", true)]
    #[case("harbour.example:443", true)]
    #[case("evil.example", false)]
    #[case("127.0.0.1.evil.example:8472", false)]
    #[case("", false)]
    fn hosts(#[case] header: &str, #[case] is_known: bool) {
        assert_eq!(Hosts::new(&["harbour.example".to_owned()]).has(header), is_known);
    }

    #[rstest]
    #[case::a_program("POST", &[], false)]
    #[case::the_page("POST", &[("origin", "http://localhost:1"), ("sec-fetch-site", "same-origin")], false)]
    #[case::another_origin("POST", &[("origin", "http://evil.example")], true)]
    #[case::no_origin("POST", &[("origin", "null")], true)]
    #[case::another_port("GET", &[("origin", "http://localhost:2")], true)]
    #[case::another_site("GET", &[("sec-fetch-site", "cross-site"), ("sec-fetch-mode", "no-cors")], true)]
    #[case::a_sibling("GET", &[("sec-fetch-site", "same-site"), ("sec-fetch-mode", "cors")], true)]
    #[case::a_link("GET", &[("sec-fetch-site", "cross-site"), ("sec-fetch-mode", "navigate"), ("sec-fetch-dest", "document")], false)]
    #[case::a_form("POST", &[("sec-fetch-site", "cross-site"), ("sec-fetch-mode", "navigate"), ("sec-fetch-dest", "document")], true)]
    #[case::a_frame("GET", &[("sec-fetch-site", "cross-site"), ("sec-fetch-mode", "navigate"), ("sec-fetch-dest", "iframe")], true)]
    fn pages(#[case] method: &str, #[case] headers: &[(&'static str, &'static str)], #[case] is_elsewhere: bool) {
        let method: Method = method.parse().expect("a method");
        let headers =
            headers.iter().map(|(name, value)| (name.parse().expect("a name"), value.parse().expect("a value")));
        assert_eq!(is_from_elsewhere(&method, &headers.collect(), "localhost:1"), is_elsewhere);
    }
}
