//! The tests of the crate through its public interface, as one program: linking is most of what they would cost otherwise.

mod asking;
mod check;
mod chunks;
mod digest;
mod eval;
mod extract;
mod filters;
mod indexes;
mod keyword;
mod learning;
mod measuring;
mod near_duplicates;
mod prompt;
mod replies;
mod rerank;
mod tables;
mod text;
mod tokens;
mod tree;
mod verify;
