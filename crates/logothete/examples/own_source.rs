//! A source of your own: documents that are rows, messages or records and not files. This one has the entries of a log book; the corpus keeps one document
//! for each, and reads again only what has changed. Run from the root of the repository:
//! `cargo run --release -p logothete --example own_source`

use std::sync::Arc;

use logothete::source::{Content, Item, Items};
use logothete::{BoxFuture, Pipeline, Result, Source, contract};

/// The day of an entry, and its text.
struct LogBook(Vec<(&'static str, &'static str)>);

impl Source for LogBook {
    /// Stays the same from one build to the next: documents that are gone from here are removed.
    fn location(&self) -> String {
        "log book".to_owned()
    }

    fn items(&self) -> BoxFuture<'_, Result<Items>> {
        let item = |(day, text): &(&str, &str)| {
            let mut item = Item { path: format!("{day}.md"), size: Some(text.len() as u64), ..Item::default() };
            item.metadata.insert("day".to_owned(), (*day).into());
            Ok(item)
        };
        let items: Vec<Result<Item>> = self.0.iter().map(item).collect();
        Box::pin(async move { Ok(Box::new(items.into_iter()) as Items) })
    }

    fn read<'a>(&'a self, item: &'a Item, max: u64) -> BoxFuture<'a, Result<Content>> {
        Box::pin(async move {
            let entry = self.0.iter().find(|(day, _)| item.path.starts_with(day));
            let bytes = entry.map_or("", |(_, text)| text).bytes().take(max as usize).collect();
            Ok(Content { bytes, media_type: None })
        })
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let monday = ("2025-11-17", "The yacht ran aground on the spit at two and was towed off at five.");
    let tuesday = ("2025-11-18", "The crane on New Quay was out of service until noon.");
    // What a test of your own project would do.
    contract::source(&LogBook(vec![monday, tuesday])).await?;

    let corpus = Pipeline::default().in_memory().await?;
    for book in [vec![monday], vec![monday, tuesday]] {
        let report = corpus.build(Arc::new(LogBook(book))).await?;
        println!("{} added, {} unchanged", report.added, report.unchanged);
    }
    println!("{}", corpus.ask("When was the crane on New Quay out of service?").await?);
    Ok(())
}
