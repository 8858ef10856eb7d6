//! The tests of the crate through its public interface, as one program: linking is most of what they would cost otherwise.

mod bad_input;
mod common;
mod content;
mod documents;
mod formats;
mod fuzz;
mod growth;
mod layout;
mod lists_of_contents;
mod pages_and_rows;
mod round_trips;
mod structure;
mod understanding;
