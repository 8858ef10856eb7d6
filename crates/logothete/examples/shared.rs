//! One corpus, shared by tasks that search while another task builds: `cargo run --example shared`.

use logothete::{BuildRequest, Corpus, MemorySource, Pipeline};

/// The notices of a day.
fn notices(day: u32) -> BuildRequest {
    let text = format!("# Notice {day}\n\nThe swing bridge opens at {day} hours. The ferry waits at the fuel quay.");
    BuildRequest::default().source(MemorySource::new(format!("day-{day}")).with(format!("notice-{day}.md"), text))
}

/// Searches until a notice is found.
async fn wait_for(corpus: Corpus, day: u32) -> logothete::Result<String> {
    loop {
        let found = corpus.search(format!("+bridge +{day}")).await?;
        if let Some(passage) = found.passages.first() {
            return Ok(passage.location.to_string());
        }
        tokio::task::yield_now().await;
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> logothete::Result<()> {
    let corpus = Pipeline::default().in_memory().await?;

    // Clones share the open corpus. Each search sees the newest commit.
    let searches: Vec<_> = (6..9).map(|day| tokio::spawn(wait_for(corpus.clone(), day))).collect();
    let builder = corpus.clone();
    let builds = tokio::spawn(async move {
        for day in 6..9 {
            builder.build(notices(day)).await?;
        }
        Ok::<_, logothete::Error>(())
    });
    builds.await.expect("the task ends")?;
    for search in searches {
        println!("{}", search.await.expect("the task ends")?);
    }

    // A pinned handle keeps to one moment, whatever is built later.
    let yesterday = corpus.pin().await?;
    corpus.build(notices(9)).await?;
    let count = async |corpus: &Corpus| Ok::<_, logothete::Error>(corpus.info().await?.documents.len());
    println!("{} documents then, {} now", count(&yesterday).await?, count(&corpus).await?);
    Ok(())
}
