//! The tests of the crate through its public interface, as one program: linking is most of what they would cost otherwise.

mod access;
mod answers;
mod chunking;
mod citations;
mod composing;
mod consistency;
mod contracts;
mod corpus;
mod edges;
mod examples;
mod growth;
mod hostage;
mod late_interaction;
mod measuring;
mod plans;
mod reading;
mod repeats;
mod requests;
mod rerankers;
mod routing;
mod searching;
mod sharing;
mod sources;
mod spending;
mod trees;
mod upkeep;
