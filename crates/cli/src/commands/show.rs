//! `logothete show`

use logothete::Result;
use logothete::corpus::{ChunkDetail, CorpusInfo, DocumentDetail};
use logothete::document::Metadata;
use logothete::vector::IndexKind;
use serde_json::json;

use super::{configuration, corpus};
use crate::args::CorpusArguments;
use crate::view::{Align, Style, bytes, count, indented, shortened, table, thousands, width};
use crate::{DONE, Output};

pub async fn run(at: &CorpusArguments, document: Option<&str>, chunk: Option<&str>, verify: bool) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let corpus = corpus(at, &config, &folder, true).await?;
    if verify {
        corpus.verify().await?;
    }
    let mut outcome = match (document, chunk) {
        (Some(name), _) => show_document(&corpus.document(name).await?),
        (None, Some(id)) => show_chunk(&corpus.chunk(id).await?),
        (None, None) => show_all(&corpus.info().await?),
    };
    if verify {
        outcome.text.push_str(&format!(
            "\n{}\n",
            fact("Verified", "every checksum agrees, and so does the catalogue").trim_end()
        ));
        outcome.json["verified"] = json!(true);
    }
    Ok(outcome)
}

/// Returns a line with a name and a value.
fn fact(name: &str, value: &str) -> String {
    format!("{} {value}\n", Style::of_stdout().faint(&format!("{name:<10}")))
}

fn show_all(info: &CorpusInfo) -> Output {
    let style = Style::of_stdout();
    let mut text = String::new();
    text.push_str(&fact("Corpus", &info.corpus.display().to_string()));
    text.push_str(&fact("Encoder", &info.encoder));
    text.push_str(&fact("Vectors", &format!("{} numbers each, distance {}", info.dimensions, info.distance.name())));
    let sizes = format!(
        "{} catalogue, {} indexes, {} cache",
        bytes(info.catalogue_bytes),
        bytes(info.index_bytes),
        bytes(info.cache_bytes)
    );
    text.push_str(&fact("Size", &sizes));
    text.push_str(&fact("Indexes", &indexes(info)));
    if info.variants > 0 {
        let corpora = count(info.variants, "corpus", "corpora");
        let size = bytes(info.variant_bytes);
        text.push_str(&fact("Variants", &format!("{corpora} of other settings, {size}; build --compact removes them")));
    }
    for source in &info.sources {
        text.push_str(&fact("Source", &source.display().to_string()));
    }
    let documents = count(info.documents.len() as u64, "document", "documents");
    let repeated = match info.repeated {
        0 => String::new(),
        repeated => format!(", {}", count(repeated, "duplicate", "duplicates")),
    };
    text.push_str(&fact("Holds", &format!("{documents}, {}{repeated}", count(info.chunks, "chunk", "chunks"))));
    if info.dead_rows > 0 {
        let share = info.dead_rows as f64 * 100.0 / info.rows as f64;
        let rows = count(info.dead_rows, "row", "rows");
        text.push_str(&fact("Deleted", &format!("{rows} of the indexes ({share:.0} %), until segments are merged")));
    }
    let fields = info.fields.iter().map(|field| format!("{} ({}, {})", field.name, field.kind, field.documents));
    let fields = fields.collect::<Vec<_>>().join(", ");
    if !fields.is_empty() {
        text.push_str(&fact("Metadata", indented(&fields, 11).trim()));
    }
    let mut rows = vec![["Document", "Pages", "Chunks", "Text", "Title"].map(String::from).to_vec()];
    for document in &info.documents {
        rows.push(vec![
            document.document.clone(),
            if document.pages == 0 { "–".to_owned() } else { document.pages.to_string() },
            thousands(document.chunks),
            bytes(document.text_bytes),
            document.title.clone().unwrap_or_default(),
        ]);
    }
    if !info.documents.is_empty() {
        text.push('\n');
        text.push_str(&table(&rows, &[Align::Left, Align::Right, Align::Right, Align::Right, Align::Left], 0, style));
    }
    for document in info.documents.iter().filter(|document| !document.warnings.is_empty()) {
        text.push_str(&format!("\n{} {}\n", style.warning("Read in part:"), document.document));
        for warning in &document.warnings {
            text.push_str(&indented(warning, 2));
        }
    }
    Output { text, json: json!(info), code: DONE }
}

/// Prints the number of rows of the indexes, and how they are searched.
fn indexes(info: &CorpusInfo) -> String {
    let kinds =
        [(IndexKind::Exact, "scanned"), (IndexKind::Graph, "through a graph"), (IndexKind::Lists, "through lists")];
    let parts: Vec<String> = kinds
        .iter()
        .filter_map(|(kind, name)| {
            let rows: u64 =
                info.segments.iter().filter(|segment| segment.index == *kind).map(|segment| segment.rows).sum();
            (rows > 0).then(|| format!("{} {name}", thousands(rows)))
        })
        .collect();
    let segments = count(info.segments.len() as u64, "segment", "segments");
    let tokens = match info.tokens {
        0 => String::new(),
        tokens => format!("; {}, {}", count(tokens, "token", "tokens"), bytes(info.token_bytes)),
    };
    match parts.as_slice() {
        [] => segments,
        parts => format!("{segments}, vectors: {}; {}{tokens}", parts.join(", "), count(info.terms, "term", "terms")),
    }
}

/// Metadata, a line each, the first with a name before it.
fn metadata(metadata: &Metadata) -> String {
    let names = std::iter::once("Metadata").chain(std::iter::repeat(""));
    let lines = names.zip(metadata);
    lines.map(|(name, (key, value))| fact(name, &shortened(&format!("{key}: {value}"), width() - 11))).collect()
}

fn show_document(document: &DocumentDetail) -> Output {
    let style = Style::of_stdout();
    let info = &document.info;
    let mut text = fact("Document", &style.place(&info.document));
    if let Some(title) = &info.title {
        text.push_str(&fact("Title", title));
    }
    text.push_str(&fact("Type", &info.media_type));
    let pages = if info.pages == 0 { String::new() } else { format!("{}, ", count(info.pages, "page", "pages")) };
    let size = format!("{pages}{} of text, {}", bytes(info.text_bytes), count(info.chunks, "chunk", "chunks"));
    text.push_str(&fact("Holds", &size));
    text.push_str(&metadata(&document.metadata));
    let mut rows = vec![["Chunk", "Pages", "Words", "Span", "Section"].map(String::from).to_vec()];
    for chunk in &document.chunks {
        rows.push(vec![
            chunk.chunk.to_string(),
            chunk.pages.map_or_else(
                || "–".to_owned(),
                |pages| {
                    let (first, last) = (pages.first, pages.last);
                    if first == last { first.to_string() } else { format!("{first}–{last}") }
                },
            ),
            chunk.size.to_string(),
            format!("{}–{}", chunk.span.start, chunk.span.end),
            chunk.section.join(" › "),
        ]);
    }
    text.push('\n');
    text.push_str(&table(&rows, &[Align::Left, Align::Right, Align::Right, Align::Right, Align::Left], 0, style));
    for warning in &info.warnings {
        text.push_str(&format!("\n{} {warning}\n", style.warning("Read in part:")));
    }
    Output { text, json: json!(document), code: DONE }
}

fn show_chunk(chunk: &ChunkDetail) -> Output {
    let style = Style::of_stdout();
    let mut text = fact("Chunk", chunk.chunk.as_str());
    let pages = chunk.location.pages.map(|pages| format!(", {pages}")).unwrap_or_default();
    text.push_str(&fact("Document", &format!("{}{pages}", style.place(&chunk.location.document))));
    if !chunk.location.section.is_empty() {
        text.push_str(&fact("Section", &chunk.location.section.join(" › ")));
    }
    text.push_str(&fact(
        "Span",
        &format!("{}–{} of the document's text", chunk.location.span.start, chunk.location.span.end),
    ));
    text.push_str(&metadata(&chunk.metadata));
    if let Some(same) = &chunk.duplicate_of {
        text.push_str(&fact("Says what", &format!("{same} says")));
    }
    match &chunk.vector {
        Some(vector) => {
            let first = vector.first.iter().map(|number| format!("{number:.4}")).collect::<Vec<_>>().join(" ");
            let length = format!("{} numbers, length {:.4}", vector.dimensions, vector.length);
            text.push_str(&fact("Vector", &format!("{first} … ({length})")));
        }
        None => text.push_str(&fact("Vector", "none: the other chunk stands for it")),
    }
    for (name, part) in [("Context", Some(&chunk.context)), ("Indexed", chunk.indexed.as_ref())] {
        if let Some(part) = part.filter(|part| !part.is_empty()) {
            text.push_str(&format!("\n{}\n{}", style.strong(name), indented(part, 2)));
        }
    }
    text.push_str(&format!("\n{}\n", style.strong("Text")));
    for line in chunk.text.lines() {
        text.push_str(&if line.is_empty() { "\n".to_owned() } else { indented(line, 2) });
    }
    Output { text, json: json!(chunk), code: DONE }
}
