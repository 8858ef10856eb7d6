//! What a build has spent, and may spend.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::config::Settings;

/// Tokens and money spent so far, beside their caps. What would cross a cap is refused before it is spent.
pub(super) struct Spending {
    most_tokens: Option<u64>,
    most_money: Option<f64>,
    spent: Mutex<(u64, f64)>,
    refused: AtomicBool,
    /// What the first thing that was refused would have come to, in tokens.
    wanted: AtomicU64,
}

impl Spending {
    pub(super) fn new(settings: &Settings) -> Self {
        Self {
            most_tokens: settings.most_tokens,
            most_money: settings.most_money,
            spent: Mutex::default(),
            refused: AtomicBool::new(false),
            wanted: AtomicU64::new(0),
        }
    }

    /// Whether so many tokens at so much money still fit. They are counted as spent, if they do; after the first thing
    /// that does not fit, nothing does.
    pub(super) fn spend(&self, tokens: u64, money: f64) -> bool {
        let mut spent = self.spent.lock().unwrap_or_else(PoisonError::into_inner);
        let after = (spent.0.saturating_add(tokens), spent.1 + money);
        // A cap is not crossed by the last digit of a sum.
        let fits = self.most_tokens.is_none_or(|most| after.0 <= most)
            && self.most_money.is_none_or(|most| after.1 <= most * (1.0 + 1e-9));
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
    pub(super) fn count(&self, tokens: u64, money: f64) {
        let mut spent = self.spent.lock().unwrap_or_else(PoisonError::into_inner);
        *spent = (spent.0.saturating_add(tokens), spent.1 + money);
    }

    /// Gives back what was counted and was not spent after all.
    pub(super) fn give_back(&self, tokens: u64, money: f64) {
        let mut spent = self.spent.lock().unwrap_or_else(PoisonError::into_inner);
        *spent = (spent.0.saturating_sub(tokens), (spent.1 - money).max(0.0));
    }

    /// Whether something was refused.
    pub(super) fn is_over(&self) -> bool {
        self.refused.load(Ordering::Relaxed)
    }

    /// What to say when something was refused, and how to go on.
    pub(super) fn message(&self) -> Option<String> {
        if !self.is_over() {
            return None;
        }
        let (tokens, money) = *self.spent.lock().unwrap_or_else(PoisonError::into_inner);
        let cap = match (self.most_tokens, self.most_money) {
            (Some(most), _) if self.wanted.load(Ordering::Relaxed) > most => format!("{most} tokens"),
            (_, Some(most)) => format!("{most} in money"),
            (Some(most), None) => format!("{most} tokens"),
            (None, None) => return None,
        };
        Some(format!(
            "the next document would cross the cap of {cap} in [limits]; {tokens} tokens were spent{}. What is done is kept: \
             build again to go on, with a higher cap if a single document needs more",
            if money > 0.0 { format!(", {money:.4} in money") } else { String::new() }
        ))
    }
}
