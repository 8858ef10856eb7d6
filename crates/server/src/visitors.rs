//! Visitors: a browser is known by a cookie that it got, and keeps the right that a token gave it.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use crate::random::unguessable;

/// The name of the cookie.
pub(crate) const COOKIE: &str = "logothete_visitor";
/// A right that was not used for so long is gone.
const MAX_QUIET: Duration = Duration::from_secs(12 * 60 * 60);
/// So many rights are kept; then those that are unused for the longest time go.
const MAX_RIGHTS: usize = 10_000;

/// Who sends a request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Visitor {
    /// 32 hexadecimal digits.
    pub id: String,
    /// Whether the browser does not have its cookie yet.
    pub is_new: bool,
}

impl Visitor {
    /// Returns the visitor of a header with cookies, or a new one.
    pub(crate) fn of(cookies: Option<&str>) -> Self {
        let pairs = cookies.unwrap_or_default().split(';').filter_map(|pair| pair.trim().split_once('='));
        let is_id = |id: &str| id.len() == 32 && id.bytes().all(|byte| byte.is_ascii_hexdigit());
        let known = pairs.filter(|(name, _)| *name == COOKIE).map(|(_, id)| id).find(|id| is_id(id));
        match known {
            Some(id) => Self { id: id.to_owned(), is_new: false },
            None => Self { id: unguessable(), is_new: true },
        }
    }

    /// Returns the cookie that makes the browser known.
    pub(crate) fn cookie(&self) -> String {
        format!("{COOKIE}={}; Path=/; HttpOnly; SameSite=Strict; Max-Age=31536000", self.id)
    }

    /// Returns the name under which a conversation of this visitor is kept.
    pub(crate) fn conversation(&self, id: &str) -> String {
        format!("{}/{id}", self.id)
    }
}

/// The visitors who have shown the token.
#[derive(Default)]
pub(crate) struct Rights(Mutex<HashMap<String, Instant>>);

impl Rights {
    pub(crate) fn give(&self, visitor: &Visitor) {
        let mut rights = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if rights.len() >= MAX_RIGHTS
            && let Some(oldest) = rights.iter().min_by_key(|(_, at)| **at).map(|(id, _)| id.clone())
        {
            rights.remove(&oldest);
        }
        rights.insert(visitor.id.clone(), Instant::now());
    }

    pub(crate) fn take(&self, visitor: &Visitor) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&visitor.id);
    }

    /// Returns whether a visitor has shown the token not long ago.
    pub(crate) fn has(&self, visitor: &Visitor) -> bool {
        let mut rights = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match rights.get_mut(&visitor.id) {
            Some(at) if at.elapsed() < MAX_QUIET => {
                *at = Instant::now();
                true
            }
            _ => {
                rights.remove(&visitor.id);
                false
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const ID: &str = "0123456789abcdef0123456789abcdef";

    #[rstest]
    #[case(Some("a=b; logothete_visitor=0123456789abcdef0123456789abcdef"), true)]
    #[case(Some("logothete_visitor=../../etc"), false)]
    #[case(Some("logothete_visitor="), false)]
    #[case(Some("other=0123456789abcdef0123456789abcdef"), false)]
    #[case(None, false)]
    fn a_visitor_is_known_by_a_cookie(#[case] cookies: Option<&str>, #[case] is_known: bool) {
        let visitor = Visitor::of(cookies);
        assert_eq!((visitor.id == ID, visitor.is_new), (is_known, !is_known));
        assert_eq!(visitor.id.len(), 32);
    }

    #[test]
    fn a_right_is_of_one_visitor_and_is_given_back() {
        let (rights, one, other) = (Rights::default(), Visitor::of(None), Visitor::of(None));
        rights.give(&one);
        assert!(rights.has(&one) && !rights.has(&other));
        rights.take(&one);
        assert!(!rights.has(&one));
    }
}
