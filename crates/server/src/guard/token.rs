//! The token of the service.

use std::fmt;

/// A token that requests must carry. Only its hash is kept.
#[derive(Clone)]
pub(crate) struct Token(blake3::Hash);

impl fmt::Debug for Token {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Token")
    }
}

impl Token {
    pub(crate) fn new(token: &str) -> Self {
        Self(blake3::hash(token.as_bytes()))
    }

    /// Compares a token in a time that tells nothing of it: hashes are compared in constant time.
    pub(crate) fn is(&self, token: &str) -> bool {
        self.0 == blake3::hash(token.as_bytes())
    }

    /// Returns whether a header of authorisation carries the token.
    pub(crate) fn is_in(&self, header: Option<&str>) -> bool {
        let (scheme, token) = header.unwrap_or_default().split_once(' ').unwrap_or_default();
        scheme.eq_ignore_ascii_case("bearer") && self.is(token.trim())
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(Some("Bearer fog-horn"), true)]
    #[case(Some("bearer  fog-horn "), true)]
    #[case(Some("Bearer fog-hor"), false)]
    #[case(Some("Basic fog-horn"), false)]
    #[case(Some("fog-horn"), false)]
    #[case(Some(""), false)]
    #[case(None, false)]
    fn a_header_carries_it_or_not(#[case] header: Option<&str>, #[case] carries: bool) {
        assert_eq!(Token::new("fog-horn").is_in(header), carries);
    }
}
