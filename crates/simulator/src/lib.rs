//! Stand-ins for the models that Logothete works with. They run in the same process, answer at once, do as they are told,
//! and write down what they were asked: for tests, for examples, and to try a pipeline before a model is paid for.

mod generator;

pub use generator::{Fault, ScriptedGenerator, part};
