//! The tests of the crate through its public interface, as one program: linking is most of what they would cost otherwise.

mod claims;
mod cross;
mod hashing;
mod inputs;
mod made_up;
mod network;
mod parity;
mod pieces;
mod plain;
