//! Prompts: what a generator is sent, put together so that documents stay data.

mod context;
mod fence;

pub use context::{context_prompt, tidy_context};
pub use fence::fenced;

use serde::{Deserialize, Serialize};

/// What a generator is sent.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Prompt {
    /// What to do. Nothing of it comes from a document.
    pub instruction: String,
    /// What to do it with: fenced text of documents.
    pub material: String,
}

impl Prompt {
    /// All of it as one text.
    pub fn text(&self) -> String {
        format!("{}\n\n{}", self.instruction, self.material)
    }
}
