//! Visitors: a browser is known by a cookie that it got, and has a session: the right that a token gave it, and a key of its own.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crate::random::unguessable;

/// The name of the cookie.
pub(crate) const COOKIE: &str = "logothete_visitor";
/// A session that was not used for so long is gone.
const MAX_QUIET: Duration = Duration::from_secs(12 * 60 * 60);
/// So many sessions are kept; then the one that is unused for the longest time goes.
const MAX_SESSIONS: usize = 10_000;

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

/// What a visitor has given for as long as they keep coming.
#[derive(Clone, Default)]
struct Session {
    /// When it was used last; `None` means never.
    at: Option<Instant>,
    /// Whether they have shown the token.
    has_right: bool,
    /// Their own key for the generator. Nothing prints it.
    key: Option<Arc<str>>,
}

/// The sessions of all visitors, in memory only.
#[derive(Default)]
pub(crate) struct Sessions(Mutex<HashMap<String, Session>>);

impl Sessions {
    /// Notes that a visitor has shown the token.
    pub(crate) fn give_right(&self, visitor: &Visitor) {
        self.change(visitor, |session| session.has_right = true);
    }

    /// Returns whether a visitor has shown the token not long ago.
    pub(crate) fn has_right(&self, visitor: &Visitor) -> bool {
        self.find(visitor).is_some_and(|session| session.has_right)
    }

    /// Keeps a visitor's own key, or forgets it.
    pub(crate) fn set_key(&self, visitor: &Visitor, key: Option<&str>) {
        self.change(visitor, |session| session.key = key.map(Arc::from));
    }

    /// Returns a visitor's own key.
    pub(crate) fn key(&self, visitor: &Visitor) -> Option<Arc<str>> {
        self.find(visitor)?.key
    }

    /// Forgets all that a visitor has given.
    pub(crate) fn end(&self, visitor: &Visitor) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&visitor.id);
    }

    fn change(&self, visitor: &Visitor, change: impl FnOnce(&mut Session)) {
        let mut sessions = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if sessions.len() >= MAX_SESSIONS
            && let Some(oldest) = sessions.iter().min_by_key(|(_, session)| session.at).map(|(id, _)| id.clone())
        {
            sessions.remove(&oldest);
        }
        let session = sessions.entry(visitor.id.clone()).or_default();
        session.at = Some(Instant::now());
        change(session);
    }

    fn find(&self, visitor: &Visitor) -> Option<Session> {
        let mut sessions = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let session = sessions.get_mut(&visitor.id)?;
        if session.at.is_some_and(|at| at.elapsed() >= MAX_QUIET) {
            sessions.remove(&visitor.id);
            return None;
        }
        session.at = Some(Instant::now());
        Some(session.clone())
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
    fn a_session_is_of_one_visitor_and_ends() {
        let (sessions, one, other) = (Sessions::default(), Visitor::of(None), Visitor::of(None));
        sessions.give_right(&one);
        sessions.set_key(&one, Some("a key"));
        assert!(sessions.has_right(&one) && !sessions.has_right(&other));
        assert_eq!((sessions.key(&one).as_deref(), sessions.key(&other)), (Some("a key"), None));
        sessions.set_key(&one, None);
        assert!(sessions.key(&one).is_none() && sessions.has_right(&one));
        sessions.end(&one);
        assert!(!sessions.has_right(&one));
    }

    #[test]
    fn no_more_sessions_are_kept_than_there_is_room_for() {
        let sessions = Sessions::default();
        for _ in 0..MAX_SESSIONS + 5 {
            sessions.give_right(&Visitor::of(None));
        }
        assert_eq!(sessions.0.lock().expect("sessions").len(), MAX_SESSIONS);
    }
}
