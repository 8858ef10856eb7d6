//! Values, traits and computation of Logothete. This crate opens no file or socket, reads no clock, and prints nothing.
//!
//! The modules follow the flow of data. Building: [`document`] → [`chunk`] → [`vector`] and [`keyword`] indexes. Asking: [`query`] →
//! [`search`] → [`evidence`] → [`verify`] → [`answer`]. [`digest`] tells what a whole document says. [`prompt`] assembles what a generator receives. [`eval`] scores results.
//! [`text`] splits text into words and sentences, and [`segment`] has what all index files share. Every function can be called alone.
//!
//! ```
//! use logothete_core::chunk::{self, Structure};
//! use logothete_core::document::{BlockKind, DocumentBuilder};
//!
//! let mut builder = DocumentBuilder::new("notice.txt", "text/plain");
//! builder.heading(1, "Fog signal");
//! builder.block(BlockKind::Paragraph, "The bell is rung once every 20 seconds.");
//! let document = builder.finish();
//!
//! let chunks = chunk::chunks(&document, "notices/notice.txt", &Structure::default())?;
//! assert_eq!(chunks[0].section, ["Fog signal"]);
//! assert_eq!(chunks[0].text, document.slice(chunks[0].span));
//! # Ok::<(), logothete_core::Error>(())
//! ```

pub mod answer;
pub mod chunk;
pub mod digest;
pub mod document;
mod error;
pub mod eval;
pub mod evidence;
mod fingerprint;
pub mod keyword;
pub mod learn;
pub mod prompt;
pub mod quantity;
pub mod query;
mod random;
pub mod rerank;
mod round;
pub mod search;
pub mod segment;
pub mod suggest;
pub mod table;
pub mod text;
pub mod trace;
pub mod tree;
mod usage;
pub mod vector;
pub mod verify;

pub use error::{Error, ErrorKind, Result, panic_message};
pub use fingerprint::Fingerprint;
pub use round::{round_milliseconds, round_score};
pub use usage::TokenUsage;
