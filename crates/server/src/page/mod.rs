//! The page: one document with its style and its script, made once. A browser runs only what has these hashes.

use std::sync::LazyLock;

use axum::http::{StatusCode, header};
use axum::response::{Html, IntoResponse, Response};

const FRAME: &str = include_str!("page.html");
const STYLE: &str = include_str!("page.css");
const SCRIPT: &str = include_str!("page.js");

/// The page, and what a browser may do on it.
struct Page {
    html: String,
    policy: String,
}

static PAGE: LazyLock<Page> = LazyLock::new(|| {
    let html = FRAME.replacen("/*style*/", STYLE, 1).replacen("/*script*/", SCRIPT, 1);
    let policy = format!(
        "default-src 'none'; script-src 'sha256-{}'; style-src 'sha256-{}'; connect-src 'self'; img-src 'self' data:; frame-src 'self'; \
         base-uri 'none'; form-action 'none'; frame-ancestors 'none'; require-trusted-types-for 'script'",
        hash(SCRIPT),
        hash(STYLE)
    );
    Page { html, policy }
});

/// Returns the SHA-256 of a text in base 64, as policies have it.
fn hash(text: &str) -> String {
    use base64::Engine;
    use sha2::{Digest, Sha256};
    base64::engine::general_purpose::STANDARD.encode(Sha256::digest(text.as_bytes()))
}

pub(crate) async fn page() -> Response {
    ([(header::CONTENT_SECURITY_POLICY, PAGE.policy.as_str())], Html(PAGE.html.as_str())).into_response()
}

/// There is none; browsers ask for it all the same.
pub(crate) async fn icon() -> StatusCode {
    StatusCode::NO_CONTENT
}
