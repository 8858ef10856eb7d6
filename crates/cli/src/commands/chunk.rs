//! `logothete chunk`

use std::path::PathBuf;

use logothete::chunk::{self, Chunk, Structure};
use logothete::document::{Document, Span};
use logothete::{Error, ErrorKind, Result};
use serde_json::json;

use super::{configuration, failures, parsed};
use crate::args::Place;
use crate::view::{Style, count, shortened, width, wrap};
use crate::{DONE, FAILED, Outcome};

/// How many bars the histogram has at most.
const BARS: usize = 8;

pub fn run(place: &Place, files: &[PathBuf], limit: Option<usize>, overlap: Option<usize>) -> Result<Outcome> {
    let (config, _) = configuration(place)?;
    let limit = limit.unwrap_or(config.chunk.limit);
    // A limit alone on the command line keeps the share of the overlap sensible.
    let overlap = overlap.unwrap_or_else(|| config.chunk.overlap.min(limit / 6));
    let chunker =
        Structure::new(limit, overlap).map_err(|error| Error::new(ErrorKind::Configuration, error.message()))?;
    let parsed = parsed(&config, files)?;
    let style = Style::of_stdout();
    let mut text = String::new();
    let mut all = Vec::new();
    for document in parsed.documents.iter().map(|read| &read.document) {
        let chunks = chunk::chunks(document, &document.name, &chunker)?;
        text.push_str(&render(document, &chunks, style));
        all.extend(chunks);
    }
    text.push_str(&histogram(&all, limit, style));
    text.push_str(&failures(&parsed.failed, style));
    let json = json!({ "chunks": all, "unit": "words", "limit": limit, "overlap": overlap, "failed": parsed.failed });
    Ok(Outcome { text, json, code: if parsed.documents.is_empty() { FAILED } else { DONE } })
}

/// Each chunk with its text; what it repeats of the chunk before stands back.
fn render(document: &Document, chunks: &[Chunk], style: Style) -> String {
    let mut out = format!("{}  {}\n", style.strong(&document.name), count(chunks.len() as u64, "chunk", "chunks"));
    let mut end = 0;
    for (index, chunk) in chunks.iter().enumerate() {
        let mut facts = vec![count(chunk.size as u64, "word", "words")];
        facts.extend(chunk.pages.map(|pages| pages.to_string()));
        facts.extend(chunk.section.last().cloned());
        let head = shortened(&format!("── {} ── {}", index + 1, facts.join(", ")), width());
        out.push_str(&format!("\n{}\n", style.place(&head)));
        let repeated = Span::new(chunk.span.start, end.clamp(chunk.span.start, chunk.span.end));
        for (text, faint) in
            [(document.slice(repeated), true), (document.slice(Span::new(repeated.end, chunk.span.end)), false)]
        {
            for line in text.split("\n").filter(|line| !line.trim().is_empty()).flat_map(|line| wrap(line, width() - 4))
            {
                if faint {
                    out.push_str(&format!("  {} {}\n", style.faint("↑"), style.faint(&line)));
                } else {
                    out.push_str(&format!("    {line}\n"));
                }
            }
        }
        end = chunk.span.end;
    }
    out.push('\n');
    out
}

/// How many chunks there are of each size.
fn histogram(chunks: &[Chunk], limit: usize, style: Style) -> String {
    if chunks.is_empty() {
        return String::new();
    }
    let step = limit.div_ceil(BARS).max(1);
    let longest = chunks.iter().map(|chunk| chunk.size).max().unwrap_or(0);
    let mut counts = vec![0usize; longest / step + 1];
    for chunk in chunks {
        counts[chunk.size.saturating_sub(1) / step] += 1;
    }
    while counts.last() == Some(&0) {
        counts.pop();
    }
    let most = counts.iter().copied().max().unwrap_or(1).max(1);
    let room = width().saturating_sub(30);
    let total: usize = chunks.iter().map(|chunk| chunk.size).sum();
    let shortest = chunks.iter().map(|chunk| chunk.size).min().unwrap_or(0);
    let mut out = format!(
        "{}  {shortest} to {longest} words, {} on average\n",
        style.strong(&count(chunks.len() as u64, "chunk", "chunks")),
        total / chunks.len()
    );
    for (index, &number) in counts.iter().enumerate() {
        let bar = "█".repeat((number * room).div_ceil(most));
        let range = format!("{}–{}", index * step + 1, (index + 1) * step);
        out.push_str(&format!("  {range:>9}  {number:>5}  {bar}\n"));
    }
    out
}
