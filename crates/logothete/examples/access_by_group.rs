//! Who may see which document: the field `groups` of each lists the groups that may, and everybody finds as many passages as there are for them.
//! Run from the root of the repository: `cargo run --release -p logothete --example access_by_group`

use logothete::{MemorySource, Pipeline, Result};

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let source = MemorySource::new("keys")
        .with("gate.md", "---\ngroups: everyone\n---\n# Gate\n\nThe key of the gate hangs in the office.\n")
        .with("safe.md", "---\ngroups: [staff, auditors]\n---\n# Safe\n\nThe key of the safe hangs behind the chart.\n")
        .with("draft.md", "# Draft\n\nThe key of the lamp room will hang by the door.\n");
    let pipeline = Pipeline::default().configured(|config| config.search.allow = "groups".to_owned());
    let corpus = pipeline.in_memory().await?;
    corpus.build(source).await?;

    // A handle that was made without groups sees what everyone may see.
    let handles =
        [("anybody", corpus.clone()), ("staff", corpus.for_groups(["staff"])?), ("owner", corpus.for_owner())];
    for (who, handle) in handles {
        let found = handle.search("Where does the key hang?").await?.passages;
        let names: Vec<&str> = found.iter().map(|passage| passage.location.document.as_str()).collect();
        println!("{who} finds {}", names.join(", "));
        println!(
            "  {}",
            handle.ask("Where does the key of the safe hang?").await?.answer.answer.lines().next().unwrap_or_default()
        );
    }
    Ok(())
}
