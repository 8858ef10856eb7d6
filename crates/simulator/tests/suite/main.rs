//! The tests of the crate through its public interface, as one program: linking is most of what they would cost otherwise.

mod answers;
mod contexts;
mod conversations;
mod drafts;
mod embeddings;
mod misbehaving;
mod policies;
mod reading;
