//! The budget of a build: tokens, money and time.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use logothete_core::{Error, ErrorKind, Result};

use crate::config::LimitsConfig;

/// The tokens and the money spent so far, and their limits, and the end of the time. What would exceed a limit is refused before it is spent.
pub(crate) struct Spending {
    max_tokens: Option<u64>,
    max_money: Option<f64>,
    /// When the time of a build is over.
    until: Option<(Instant, u64)>,
    spent: Mutex<(u64, f64)>,
    refused: AtomicBool,
    /// The tokens of the first request that was refused.
    wanted: AtomicU64,
}

impl Spending {
    pub(crate) fn new(limits: &LimitsConfig) -> Self {
        Self {
            max_tokens: limits.max_tokens(),
            max_money: limits.max_money(),
            until: limits.max_build_time().map(|time| (Instant::now() + time, time.as_secs())),
            spent: Mutex::default(),
            refused: AtomicBool::new(false),
            wanted: AtomicU64::new(0),
        }
    }

    /// The budget of a question.
    pub(crate) fn for_question(limits: &LimitsConfig) -> Self {
        let mut spending = Self { until: None, ..Self::new(limits) };
        spending.max_tokens = (limits.question_tokens > 0).then_some(limits.question_tokens);
        spending.max_money = (limits.question_money > 0.0).then_some(limits.question_money);
        spending
    }

    /// Returns `true` if so many tokens at so much money still fit. They are counted as spent, if they do; after the first thing
    /// that does not fit, nothing does.
    pub(crate) fn spend(&self, tokens: u64, money: f64) -> bool {
        let mut spent = self.spent.lock().unwrap_or_else(PoisonError::into_inner);
        let after = (spent.0.saturating_add(tokens), spent.1 + money);
        // A cap is not crossed by the last digit of a sum.
        let fits = self.max_tokens.is_none_or(|max| after.0 <= max)
            && self.max_money.is_none_or(|max| after.1 <= max * (1.0 + 1e-9));
        if self.refused.load(Ordering::Relaxed) || !fits {
            if !self.refused.swap(true, Ordering::Relaxed) {
                self.wanted.store(after.0, Ordering::Relaxed);
            }
            return false;
        }
        *spent = after;
        true
    }

    /// Counts what was spent already, whether it fits or not.
    pub(crate) fn count(&self, tokens: u64, money: f64) {
        let mut spent = self.spent.lock().unwrap_or_else(PoisonError::into_inner);
        *spent = (spent.0.saturating_add(tokens), spent.1 + money);
    }

    /// Gives back what was counted and was not spent after all.
    pub(crate) fn give_back(&self, tokens: u64, money: f64) {
        let mut spent = self.spent.lock().unwrap_or_else(PoisonError::into_inner);
        *spent = (spent.0.saturating_sub(tokens), (spent.1 - money).max(0.0));
    }

    /// Returns `true` if something was refused, or the time is over.
    pub(crate) fn is_over(&self) -> bool {
        self.refused.load(Ordering::Relaxed) || self.is_late()
    }

    /// Returns `true` if the time of the build is over.
    pub(crate) fn is_late(&self) -> bool {
        self.until.is_some_and(|(until, _)| Instant::now() >= until)
    }

    /// Returns an error if something was refused.
    pub(crate) fn check(&self) -> Result<()> {
        match self.message() {
            Some(message) => Err(Error::new(ErrorKind::Limit, message)),
            None => Ok(()),
        }
    }

    /// Returns a remark about refused work, and how to continue.
    pub(crate) fn message(&self) -> Option<String> {
        if !self.is_over() {
            return None;
        }
        if let Some((_, seconds)) = self.until.filter(|_| !self.refused.load(Ordering::Relaxed)) {
            let message = format!(
                "the build took more than the {seconds} s of build_seconds in [limits]. What is done is kept: build again to continue"
            );
            return Some(message);
        }
        let (tokens, money) = *self.spent.lock().unwrap_or_else(PoisonError::into_inner);
        let cap = match (self.max_tokens, self.max_money) {
            (Some(max), _) if self.wanted.load(Ordering::Relaxed) > max => format!("{max} tokens"),
            (_, Some(max)) => format!("{max} in money"),
            (Some(max), None) => format!("{max} tokens"),
            (None, None) => return None,
        };
        Some(format!(
            "the next document would exceed the limit of {cap} in [limits]; {tokens} tokens were spent{}. What is done is kept: \
             build again to continue, with a higher limit if a single document needs more",
            if money > 0.0 { format!(", {money:.4} in money") } else { String::new() }
        ))
    }
}
