//! Your own way of cutting. This one makes a chunk of every entry of a log, whatever its length, and leaves all other
//! documents to the chunker of the library. Run from the root of the repository:
//! `cargo run --release -p logothete --example own_chunker`

use logothete::chunk::{Chunker, Structure};
use logothete::document::{Document, Span};
use logothete::{Fingerprint, Pipeline, Result, contract, parse};

#[derive(Default)]
struct ByEntry {
    otherwise: Structure,
}

impl Chunker for ByEntry {
    /// Change this whenever the same document would be cut in another way: a build then cuts it again.
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["by entry 1", self.otherwise.fingerprint().as_str()])
    }

    /// Say where to cut. Text, pages, headings, context and ids are made from the spans.
    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let mut entries: Vec<Span> = Vec::new();
        let mut start = 0;
        for line in document.text.split_inclusive('\n') {
            let end = start + line.trim_end().len();
            match entries.last_mut() {
                _ if begins_entry(line) => entries.push(Span::new(start, end)),
                // An entry may go on in the lines below it.
                Some(entry) if end > start && entry.end + 1 == start => entry.end = end,
                _ => {}
            }
            start += line.len();
        }
        if entries.is_empty() { self.otherwise.cut(document) } else { Ok(entries) }
    }
}

/// Whether a line begins with a time, such as `06:40`.
fn begins_entry(line: &str) -> bool {
    let mut places =
        line.chars().zip("00:00 ".chars()).map(|(c, place)| c == place || (place == '0' && c.is_ascii_digit()));
    line.len() > 6 && places.all(|right| right)
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<()> {
    // What a test of your own project would do.
    let log = parse("log.txt", b"06:40 The tug left.\nShe came back.\n07:10 Fog.\n")?;
    contract::chunker(&ByEntry::default(), &[log])?;

    let corpus = Pipeline::default().with_chunker(ByEntry::default()).open("entries.corpus").await?;
    let report = corpus.build("demo/documents").await?;
    println!("{} chunks", report.chunks);
    for passage in corpus.search("yacht aground on the spit").await?.passages.iter().take(2) {
        println!("{}. {}\n   {}", passage.rank, passage.location, passage.text);
    }
    Ok(())
}
