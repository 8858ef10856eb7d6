//! Stops work that is under way.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Requests that running work stops. Clones share one flag.
#[derive(Clone, Debug, Default)]
pub struct StopToken(Arc<AtomicBool>);

impl StopToken {
    /// Requests a stop. The work ends at the next document, and keeps what is done.
    pub fn stop(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Returns `true` if a stop was requested.
    pub fn is_stopped(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }

    pub(crate) fn stop_on_drop(&self) -> StopOnDrop {
        StopOnDrop(Some(self.clone()))
    }
}

/// Requests a stop when it is dropped, unless it was disarmed.
pub(crate) struct StopOnDrop(Option<StopToken>);

impl StopOnDrop {
    pub(crate) fn disarm(mut self) {
        self.0 = None;
    }
}

impl Drop for StopOnDrop {
    fn drop(&mut self) {
        if let Some(token) = &self.0 {
            token.stop();
        }
    }
}
