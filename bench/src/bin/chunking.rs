//! How fast documents are cut, on one thread, beside counting their words by Unicode Annex 29 in the same run; and the
//! memory it takes for ten times as much text. `chunking [MEGABYTES]`, 16 if nothing is said.

use std::time::Instant;

use logothete_bench::median;
use logothete_core::chunk::{
    ByPage, Chunker, Limit, LinePattern, Marked, Rows, Sentences, Separators, Structure, Whole, Window, chunks,
};
use logothete_core::document::{BlockKind, Document, DocumentBuilder};
use unicode_segmentation::UnicodeSegmentation;

/// How often each is measured.
const REPEATS: usize = 5;
/// About how long a document is, in bytes.
const DOCUMENT: usize = 200_000;

fn main() {
    let megabytes: usize = std::env::args().nth(1).and_then(|number| number.parse().ok()).unwrap_or(16);
    let count = (megabytes * 1_000_000).div_ceil(DOCUMENT);
    let documents: Vec<Document> = (0..count).map(|number| made(number as u64)).collect();
    let bytes: usize = documents.iter().map(|document| document.text.len()).sum();
    println!("{} documents, {:.1} MB of text, one thread, median of {REPEATS}", documents.len(), bytes as f64 / 1e6);

    let words = || documents.iter().map(|document| document.text.unicode_words().count()).sum::<usize>();
    let limit = Limit::default;
    let ways: Vec<(&str, Box<dyn Chunker>)> = vec![
        ("structure", Box::new(Structure::new(limit()))),
        ("sentences", Box::new(Sentences::new(limit()))),
        ("separators", Box::new(Separators::new(limit(), Separators::usual()).expect("separators"))),
        ("window", Box::new(Window::new(limit()))),
        ("pages", Box::new(ByPage::default())),
        ("marked", Box::new(Marked::new(limit(), LinePattern::new("=== * ===").expect("a pattern")))),
        ("rows", Box::new(Rows::new(limit(), 10).expect("rows"))),
        ("whole", Box::new(Whole::default())),
    ];
    let mut times = vec![Vec::new(); ways.len() + 1];
    let mut made_of = vec![0; ways.len()];
    for _ in 0..REPEATS {
        let since = Instant::now();
        let counted = words();
        times[ways.len()].push(since.elapsed().as_secs_f64());
        assert!(counted > 0);
        for (index, (_, chunker)) in ways.iter().enumerate() {
            let since = Instant::now();
            made_of[index] = cut(documents.iter(), &**chunker);
            times[index].push(since.elapsed().as_secs_f64());
        }
    }
    let peer = median(times.pop().unwrap_or_default());
    println!("| strategy | chunks | MB/s | time to that of counting words |");
    println!("|---|---:|---:|---:|");
    for ((name, _), (times, chunks)) in ways.iter().zip(times.into_iter().zip(made_of)) {
        let time = median(times);
        println!("| {name} | {chunks} | {:.0} | {:.2} |", bytes as f64 / 1e6 / time, time / peer);
    }
    println!("counting words: {:.0} MB/s", bytes as f64 / 1e6 / peer);

    drop(documents);
    // One document after the other, as a build does it.
    let structure = Structure::default();
    for times in [1, 10] {
        let documents = (0..count * times).map(|number| made(number as u64));
        let chunks: usize = documents.map(|document| cut([&document].into_iter(), &structure)).sum();
        println!("{} MB one by one: {chunks} chunks, peak memory {:.1} MB", megabytes * times, peak());
    }
}

fn cut<'a>(documents: impl Iterator<Item = &'a Document>, chunker: &dyn Chunker) -> usize {
    documents.map(|document| chunks(document, &document.name, chunker).map_or(0, |made| made.len())).sum()
}

/// The most memory that the process has had, in megabytes; 0 where the system does not tell.
fn peak() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    line.and_then(|line| line.split_whitespace().next()?.parse::<f64>().ok()).unwrap_or(0.0) / 1e3
}

/// A made-up register: headings, paragraphs of a few sentences, lists, a table now and then, code once in a while.
fn made(seed: u64) -> Document {
    const WORDS: [&str; 40] = [
        "vessel",
        "berth",
        "harbour",
        "tide",
        "pilot",
        "mooring",
        "draught",
        "channel",
        "signal",
        "the",
        "of",
        "and",
        "in",
        "is",
        "a",
        "shall",
        "quay",
        "crane",
        "Authority",
        "master",
        "No. 7",
        "8.4",
        "metres",
        "lock",
        "bridge",
        "at",
        "before",
        "under",
        "weather",
        "anchor",
        "light",
        "buoy",
        "dues",
        "tug",
        "fog",
        "bell",
        "cable",
        "north",
        "e.g.",
        "storm",
    ];
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut next = |below: u64| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state % below
    };
    let mut builder = DocumentBuilder::new(format!("register/{seed}.txt"), "text/plain");
    let mut bytes = 0;
    let mut page = 0;
    while bytes < DOCUMENT {
        if bytes / 3_000 >= page as usize {
            page += 1;
            builder.page(page);
        }
        let mut sentence = |words: u64| {
            let words: Vec<&str> = (0..words).map(|_| WORDS[next(40) as usize]).collect();
            format!("Then {}.", words.join(" "))
        };
        let kind = (bytes / 7) % 23;
        let text = match kind {
            0..=2 => {
                let text = sentence(4);
                builder.heading(1 + (kind as u8 % 3), &text);
                text
            }
            3..=6 => {
                let text = format!("{} {}", sentence(9), sentence(7));
                builder.block(BlockKind::ListItem, &text);
                text
            }
            7 => {
                let rows: Vec<Vec<String>> =
                    (0..12).map(|row| vec![format!("Berth {row}"), sentence(3), sentence(2)]).collect();
                builder.table(1, &rows);
                rows.concat().concat()
            }
            8 => {
                let text: Vec<String> = (0..8).map(|_| sentence(6)).collect();
                builder.block(BlockKind::Code, &text.join("\n"));
                text.concat()
            }
            _ => {
                let text: Vec<String> = (0..5).map(|words| sentence(8 + words * 3)).collect();
                builder.block(BlockKind::Paragraph, &text.join(" "));
                text.concat()
            }
        };
        bytes += text.len();
    }
    builder.finish()
}
