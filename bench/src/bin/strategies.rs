//! The retrieval scores of each way of cutting, on the demo's dev questions. See `docs/guide/chunking.md`.
//!
//! `strategies [SETTING…]`: a setting is `STRATEGY`, `STRATEGY:LIMIT` or `STRATEGY:LIMIT:OVERLAP`, in words; with none, all
//! strategies with their defaults. Run from the root of the repository.

use std::path::Path;

use logothete::Result;
use logothete_bench::strategies::{HEAD, dev_questions, row};

/// Every strategy, and the default one with other limits.
const ALL: [&str; 11] = [
    "structure",
    "structure:80",
    "structure:190",
    "sentences",
    "separators",
    "window",
    "pages",
    "marked",
    "rows",
    "whole",
    "topics",
];

fn main() -> Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let settings = if arguments.is_empty() { ALL.map(str::to_owned).to_vec() } else { arguments };
    let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
    let demo = Path::new("demo");
    let questions = dev_questions(demo)?;
    println!("{HEAD}");
    for setting in settings {
        println!("{}", runtime.block_on(row(&setting, demo, questions.clone()))?);
    }
    Ok(())
}
