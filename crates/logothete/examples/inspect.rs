//! Looks into a corpus: its fields and documents, the chunks of each with their texts, and the section around a chunk.

use logothete::{MemorySource, Pipeline, Result};

const NOTICE: &str = "# Notice 6\n\nIssued by the Marrowby Harbour Authority.\n\n## Draughts\n\nThe greatest draughts are \
    those of this table.\n\n| Berth | Draught |\n|---|---|\n| Berth 7 | 7.9 m |\n| Berth 8 | 9.1 m |\n";

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    let corpus = Pipeline::default().in_memory().await?;
    println!("{}", corpus.build(MemorySource::new("notices").with("notice-6.md", NOTICE)).await?);
    let info = corpus.info().await?;
    for field in &info.fields {
        println!("field {} ({})", field.name, field.kind);
    }
    for document in info.documents {
        println!("\n{}, {} bytes of text", document.document, document.text_bytes);
        for chunk in corpus.chunks(&document.document).await? {
            println!("\n{} at {}: {}", chunk.chunk, chunk.location.span, chunk.location.section.join(" › "));
            chunk.readable_parts().for_each(|part| println!("  {part}"));
            let section = corpus.section(&chunk.chunk).await?;
            println!("  its section has {} bytes", section.text.len());
        }
    }
    Ok(())
}
