//! What happens while a question is answered, told as it happens.

use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

use logothete_core::answer::Claim;
use logothete_core::trace::TraceRecord;

/// Something that happened while a question was answered.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub enum AskEvent<'a> {
    /// A stage has ended.
    Stage(&'a TraceRecord),
    /// More text of the answer. The markers in it are those of the model, as it wrote them.
    Text(&'a str),
    /// A claim of a model that has ended, held against its sources.
    Claim(&'a Claim),
}

type Callback = Box<dyn FnMut(AskEvent<'_>) + Send>;

/// Who wants to hear of it; clones share one.
#[derive(Clone, Default)]
pub(crate) struct Listener(Option<Arc<Mutex<Callback>>>);

impl fmt::Debug for Listener {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Listener").field(&self.0.is_some()).finish()
    }
}

impl Listener {
    pub(crate) fn new(callback: impl FnMut(AskEvent<'_>) + Send + 'static) -> Self {
        Self(Some(Arc::new(Mutex::new(Box::new(callback)))))
    }

    /// Returns `true` if anybody listens.
    pub(crate) fn is_some(&self) -> bool {
        self.0.is_some()
    }

    pub(crate) fn tell(&self, event: AskEvent<'_>) {
        if let Some(callback) = &self.0 {
            callback.lock().unwrap_or_else(PoisonError::into_inner)(event);
        }
    }
}
