//! The tests of the crate through its public interface, as one program: linking is most of what they would cost otherwise.

mod asking;
mod checking;
mod common;
mod comparing;
mod composing;
mod connections;
mod digesting;
mod edges;
mod guides;
mod isolated;
mod measuring;
mod parse;
mod plans;
mod questions;
mod readme;
mod repeats;
#[cfg(feature = "serve")]
mod serving;
mod trees;
mod upkeep;
mod use_and_misuse;
mod views;
