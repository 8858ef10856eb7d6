//! Answers: from sentences of the documents, or written by a model from passages.

mod cite;
mod event;
mod extractive;
mod model;
mod reading;
mod reply;
mod steps;
mod streamed;
mod tables;
mod whole;

pub use event::AskEvent;
pub(crate) use event::Listener;
pub(crate) use extractive::{ask_all, reply, reply_with_passages};
pub use logothete_core::answer::*;
pub(crate) use model::{Asked, Model, find, finish, nothing_found, preview};
pub use model::{PreviewMessage, PromptPreview};
pub use reply::Reply;
pub use steps::{AskStep, AskSteps};
