//! A corpus that follows a folder: it is built again when something has changed, which reads what is new and nothing else.
//! Run from the root of the repository: `cargo run --release -p logothete --example watch_folder`

use std::fs;
use std::path::Path;
use std::time::Duration;

use logothete::{BuildReport, Corpus, Error, ErrorKind, Pipeline, Result};

const FOLDER: &str = "watched";

/// Builds until a build has read something, and looks again each second; here more often, so that you need not wait.
async fn next_change(corpus: &Corpus, folder: &Path) -> Result<BuildReport> {
    loop {
        // A build of a folder in which nothing has changed costs a look at its files.
        let report = corpus.build(folder).await?;
        if report.added + report.changed + report.removed > 0 {
            return Ok(report);
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

fn write(name: &str, text: &str) -> Result<()> {
    let failed = |error: std::io::Error| Error::new(ErrorKind::System, error.to_string()).at(name);
    fs::create_dir_all(FOLDER).and_then(|()| fs::write(Path::new(FOLDER).join(name), text)).map_err(failed)
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    write("notice-1.md", "# Notice 1\n\nThe swing bridge opens at six.\n")?;
    let corpus = Pipeline::default().in_memory().await?;

    // Somebody else writes into the folder meanwhile.
    let office = tokio::spawn(async {
        tokio::time::sleep(Duration::from_millis(300)).await;
        write("notice-2.md", "# Notice 2\n\nThe swing bridge opens at seven from Monday on.\n")
    });
    for _ in 0..2 {
        let report = next_change(&corpus, Path::new(FOLDER)).await?;
        println!("{} added, {} changed, {} removed", report.added, report.changed, report.removed);
        for passage in corpus.search("When does the swing bridge open?").await?.passages {
            println!("  {}. {}", passage.rank, passage.location);
        }
    }
    office.await.expect("the task ends")
}
