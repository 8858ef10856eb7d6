//! Your own parser for a type of file that the library does not know: here tide tables, a line a tide. It is found by the
//! ending of the name, or by the media type where a server or an e-mail gives one. Run from the root of the repository:
//! `cargo run --release -p logothete --example own_parser`

use logothete::document::{Document, DocumentBuilder, Input, Parser};
use logothete::{Error, ErrorKind, Fingerprint, MemorySource, Pipeline, Result, contract};

struct TideTable;

impl Parser for TideTable {
    fn media_types(&self) -> &[&str] {
        &["application/x-tide-table"]
    }

    fn endings(&self) -> &[&str] {
        &["tides"]
    }

    /// Change this whenever the same file would give another document: a corpus then reads it again.
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["tide table", "1"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let text = std::str::from_utf8(input.bytes)
            .map_err(|error| Error::new(ErrorKind::Unreadable, "a tide table is written in UTF-8").because(error))?;
        let mut rows = vec![vec!["Time", "Tide", "Height in metres"]];
        for line in text.lines().filter(|line| !line.trim().is_empty()) {
            input.budget.check()?;
            rows.push(line.split_whitespace().collect());
        }
        // What would pass the limits of a file is left out, and the file is refused.
        let mut builder = DocumentBuilder::within(input.name, "application/x-tide-table", input.budget);
        builder.heading(1, "Tides at Marrowby");
        builder.table(1, &rows);
        Ok(builder.finish())
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let table = "04:12 low 0.9\n10:31 high 5.2\n16:40 low 1.1\n22:58 high 4.9\n";
    // What a test of your own project would do.
    contract::parser(&TideTable, &[("2025-11-18.tides", table.as_bytes())])?;
    let source = MemorySource::new("tides").with("2025-11-18.tides", table);

    let corpus = Pipeline::default().with_parser(TideTable).open("tides.corpus").await?;
    corpus.build(std::sync::Arc::new(source)).await?;
    println!("{}", corpus.ask("What is the height of the tide at 10:31?").await?);
    Ok(())
}
