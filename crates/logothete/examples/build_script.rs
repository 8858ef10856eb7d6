//! Documentation that a build keeps true: what a text says is held against the documents, and the build fails if they contradict it. Put the body of `main`
//! into the `build.rs` of your own project. Run from the root of the repository:
//! `cargo run --release -p logothete --example build_script`

use std::process::ExitCode;

use logothete::verify::Verdict;
use logothete::{Pipeline, Result};

/// In a project this is `std::fs::read_to_string("README.md")`.
const TEXT: &str = "\
The greatest draught in the North Channel at low water is 5.4 metres.

Vessels stay at least 30 metres from the power cable when they anchor.
";

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<ExitCode> {
    println!("cargo::rerun-if-changed=demo/documents");
    println!("cargo::rerun-if-changed=README.md");

    // In a build script the corpus goes to the folder of the variable OUT_DIR, so that the next build reads only what has changed.
    let folder = std::env::var("OUT_DIR").unwrap_or_else(|_| ".".to_owned());
    let corpus = Pipeline::default().open(format!("{folder}/harbour.corpus")).await?;
    corpus.build("demo/documents").await?;

    let report = corpus.check("README.md", TEXT).await?;
    for claim in report.claims.iter().filter(|claim| claim.verdict == Verdict::Contradicted) {
        let reason = claim.reason.as_deref().unwrap_or("the documents say otherwise");
        println!("cargo::warning=README.md, line {}: {reason}", claim.line);
    }
    // A real build script would end with an error: `std::process::exit(1)`.
    println!("{} claims, {} contradicted", report.claims.len(), report.count(Verdict::Contradicted));
    Ok(ExitCode::SUCCESS)
}
