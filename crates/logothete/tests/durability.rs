//! A build that is killed at any moment leaves a corpus that opens, verifies and can be finished.
#![cfg(unix)]

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use logothete::{Corpus, Pipeline};

/// The environment variable that makes this test's own program the one that builds.
const CHILD: &str = "LOGOTHETE_TEST_BUILD";

async fn build(folder: &Path) -> (Corpus, logothete::BuildReport) {
    let mut corpus = Pipeline::default().open(folder.join("c.corpus")).await.expect("the corpus opens");
    let report = corpus.build(folder.join("docs")).await.expect("a build");
    (corpus, report)
}

/// Not a test of its own: what the killed process runs.
#[tokio::test]
async fn child() {
    if let Some(folder) = std::env::var_os(CHILD) {
        build(Path::new(&folder)).await;
    }
}

#[tokio::test]
async fn a_killed_build_loses_nothing_that_was_committed() {
    const FILES: usize = 120;
    let place = tempfile::tempdir().expect("a temporary folder");
    let docs = place.path().join("docs");
    fs::create_dir(&docs).expect("a folder");
    let write = |number: usize, round: usize| {
        let text = format!(
            "# Crate {number}\n\nIn round {round} crate {number} holds cork.\n\n## Rope\n\nRope lies beside it."
        );
        fs::write(docs.join(format!("{number:03}.md")), text).expect("a file");
    };
    (0..FILES).for_each(|number| write(number, 0));

    let mut killed = 0;
    for round in 1..=12 {
        (0..FILES).step_by(3).for_each(|number| write(number, round));
        let test = std::env::current_exe().expect("this test has a path");
        let mut child = Command::new(test)
            .args(["child", "--exact"])
            .env(CHILD, place.path())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("it runs");
        // Spread over the length of a build, without a clock to agree on.
        std::thread::sleep(Duration::from_millis(7 * round as u64));
        child.kill().expect("it can be killed");
        killed += usize::from(!child.wait().expect("it ends").success());

        let corpus = Pipeline::default().open(place.path().join("c.corpus")).await.expect("the corpus opens");
        corpus.verify().await.expect("its checksums agree");
        corpus.search("cork").await.expect("it can be searched");
        let info = corpus.info().await.expect("it can be shown");
        assert_eq!(info.chunks, info.documents.iter().map(|document| document.chunks).sum::<u64>());
        assert!(info.documents.iter().all(|document| document.chunks == 2), "no document is half there");
    }
    assert!(killed > 0, "no build was killed before its end");

    let (corpus, report) = build(place.path()).await;
    assert_eq!(report.added + report.changed + report.unchanged, FILES);
    corpus.verify().await.expect("its checksums agree");
    let found = corpus.search("round 12 crate 117").await.expect("a search");
    assert!(found.passages[0].text.contains("In round 12 crate 117 holds cork."), "{}", found.passages[0].text);
}
