//! Prompts: the messages that a generator receives, assembled so that documents stay data.

mod answer;
mod context;
mod conversation;
mod digest;
mod draft;
mod fence;
mod group;
mod mask;
mod rerank;
mod route;
mod templates;
mod transform;

pub use answer::{
    AnswerMode, AnswerPrompt, AnswerSettings, OWN_KNOWLEDGE, REFUSAL, Reading, answer_prompt, refine_prompt,
    repair_message,
};
pub use context::{context_prompt, tidy_context};
pub use conversation::{
    PastTurn, condense_prompt, condensed_question, history, plain_summary, summarise_prompt, tidy_summary,
};
pub use digest::{DigestMaterial, DigestPrompt, digest_prompt};
pub use draft::{WrittenQuestion, draft_prompt, written_question};
pub use fence::fenced;
pub use group::group_prompt;
pub use mask::{Hidden, Mask};
pub use rerank::{ordered, rerank_prompt};
pub use route::{route_prompt, routes_named};
pub use templates::Templates;
pub use transform::{
    combine_prompt, hypothetical_passage, hypothetical_prompt, phrasings_prompt, rewrite_prompt, split_prompt,
    split_questions,
};

use serde::{Deserialize, Serialize};

/// The messages that a generator receives.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Prompt {
    /// The messages, in order.
    pub messages: Vec<Message>,
}

/// One message of a prompt.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Message {
    /// The role.
    pub author: Author,
    /// The text.
    pub content: String,
}

/// The role of the author of a message.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Author {
    /// The program: the instruction. No part of it comes from a document.
    System,
    /// The asker: a question, and fenced text of documents.
    User,
    /// The model, earlier in a conversation.
    Assistant,
}

impl Author {
    /// Returns the name in JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::System => "system",
            Self::User => "user",
            Self::Assistant => "assistant",
        }
    }
}

impl Prompt {
    /// Creates a prompt from an instruction and its material.
    pub fn new(instruction: impl Into<String>, material: impl Into<String>) -> Self {
        Self::default().with(Author::System, instruction).with(Author::User, material)
    }

    /// Adds a message to the prompt.
    #[must_use]
    pub fn with(mut self, author: Author, content: impl Into<String>) -> Self {
        self.messages.push(Message { author, content: content.into() });
        self
    }

    /// Returns all messages as one text.
    pub fn text(&self) -> String {
        self.messages.iter().map(|message| message.content.as_str()).collect::<Vec<_>>().join("\n\n")
    }
}
