//! The service as its clients see it: over HTTP, on a port of this machine.

mod asking;
mod browser;
mod client;
mod description;
mod documents;
mod examples;
mod guards;
mod page;
mod streams;
mod tools;
mod visitors;
