//! What a stage of your own must keep, as tests to run on it.
//!
//! Each function tries a stage in ways that a corpus does, and returns an error that lists every promise that it breaks. A test of your own project needs two
//! lines:
//!
//! ```
//! use logothete::search::{Leg, LegHit, LegQuestion};
//! # struct Newest;
//! # impl Leg for Newest {
//! #     fn name(&self) -> &str { "newest" }
//! #     fn find(&self, _: &LegQuestion<'_>) -> logothete::Result<Vec<LegHit>> { Ok(vec![LegHit::document("news.md", 1.0)]) }
//! # }
//!
//! fn my_leg_keeps_the_contract() -> logothete::Result<()> {
//!     logothete::contract::leg(&Newest, &["What is new?"])
//! }
//! # my_leg_keeps_the_contract().expect("it does");
//! ```
//!
//! A stage that panics breaks its contract. What only you can know, such as whether the passages are good ones, is for an evaluation to tell.

mod answering;
mod encoding;
mod finding;
mod reading;

pub use answering::{check, generator};
pub use encoding::encoder;
pub use finding::{leg, reranker, transform};
pub use reading::{chunker, parser, source};

use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use crate::threads::caught_in;

/// Texts that users and documents have, and programs forget.
const ODD_TEXTS: [&str; 8] = [
    "",
    " ",
    "?",
    "\u{0}\n\r\t",
    "a",
    "🚢 日本語 العربية",
    "\"quoted (open [brackets {and",
    "ﬁﬃ e\u{301}\u{301}\u{301}",
];

/// The promises of a stage, and those that it breaks.
struct Promises {
    stage: &'static str,
    broken: Vec<String>,
}

impl Promises {
    fn of(stage: &'static str) -> Self {
        Self { stage, broken: Vec::new() }
    }

    /// Begins with what every stage promises: a name for people, and a fingerprint that stays.
    fn of_stage(stage: &'static str, name: &str, fingerprint: impl Fn() -> Fingerprint) -> Self {
        let mut promises = Self::of(stage);
        promises.keep(!name.trim().is_empty(), "it has a name");
        promises.keep_fingerprint(fingerprint);
        promises
    }

    fn keep_fingerprint(&mut self, fingerprint: impl Fn() -> Fingerprint) {
        self.keep(fingerprint() == fingerprint(), "its fingerprint stays the same");
    }

    /// Notes a promise that is broken.
    fn keep(&mut self, is_kept: bool, promise: impl Into<String>) {
        let promise = promise.into();
        if !is_kept && !self.broken.contains(&promise) {
            self.broken.push(promise);
        }
    }

    /// Calls the stage. A call that fails, or panics, breaks a promise.
    fn call<T>(&mut self, promise: &str, work: impl FnOnce() -> Result<T>) -> Option<T> {
        caught_in(self.stage, work).map_err(|error| self.keep(false, format!("{promise} ({error})"))).ok()
    }

    /// Calls the stage, which may fail but not panic.
    fn survive<T>(&mut self, with: &str, work: impl FnOnce() -> T) -> Option<T> {
        self.call(&format!("it does not panic, {with}"), || Ok(work()))
    }

    /// Asks the stage about a text twice, and returns what it says. It must say the same both times, and may fail only for a text that nobody means.
    fn same_twice<T: PartialEq>(&mut self, text: &str, is_meant: bool, work: impl Fn() -> Result<T>) -> Option<T> {
        let about = named(text);
        let first = match is_meant {
            true => self.call(&format!("it has an answer, {about}"), &work),
            false => self.survive(&about, || work().ok()).flatten(),
        }?;
        let again = self.survive(&about, || work().ok()).flatten();
        self.keep(again.as_ref() == Some(&first), format!("it says the same twice, {about}"));
        Some(first)
    }

    fn kept(self) -> Result<()> {
        match self.broken.as_slice() {
            [] => Ok(()),
            broken => {
                let message = format!("{} breaks its contract: {}", self.stage, broken.join("; "));
                Err(Error::new(ErrorKind::InvalidRequest, message))
            }
        }
    }
}

/// Returns a text for a message: the beginning of it, with its signs written out.
fn named(text: &str) -> String {
    let short: String = text.chars().take(40).collect();
    format!("for {short:?}")
}

/// A text that is longer than any limit.
fn long_text() -> String {
    "The pilot boards at the fairway buoy and leaves at the lock. ".repeat(2_000)
}
