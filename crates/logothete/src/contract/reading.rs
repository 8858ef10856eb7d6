//! Sources, parsers and chunkers.

use std::collections::HashSet;

use logothete_core::chunk::{Chunker, Unit};
use logothete_core::document::{Budget, Document, Input, Parser, Span};
use logothete_core::{ErrorKind, Result};

use super::{Promises, long_text, named};
use crate::source::{Item, Source};
use crate::threads::caught_future;

/// So many items of a source are read.
const MAX_READ: usize = 20;
/// A file is cut off at so many places.
const CUTS: usize = 16;

/// Tries a source: it lists the same items each time, under clean paths, and reads what it lists.
///
/// # Errors
/// If a promise is broken; the message lists them.
pub async fn source(source: &dyn Source) -> Result<()> {
    let mut promises = Promises::of("the source");
    promises.keep(!source.location().is_empty(), "it has a location");
    promises.keep(source.location() == source.location(), "its location stays the same");
    let mut listed: Vec<Vec<Item>> = Vec::new();
    for _ in 0..2 {
        match caught_future("the source", async { source.items().await }).await {
            Ok(items) => listed.push(items.filter_map(Result::ok).collect()),
            Err(error) => {
                promises.keep(false, format!("it lists its items ({error})"));
                return promises.kept();
            }
        }
    }
    promises.keep(listed[0] == listed[1], "it lists the same items twice, in the same order");
    let mut paths = HashSet::new();
    for item in &listed[0] {
        let path = item.path.as_str();
        promises.keep(!path.is_empty(), "each item has a path");
        promises.keep(paths.insert(path), format!("each path is listed once, {}", named(path)));
        let is_relative = !path.starts_with('/') && !path.contains('\\') && path.split('/').all(|part| part != "..");
        promises.keep(is_relative, format!("paths are relative, with / between their parts, {}", named(path)));
    }
    for item in listed[0].iter().take(MAX_READ) {
        match caught_future("the source", async { source.read(item, u64::MAX).await }).await {
            Ok(content) => {
                let size = content.bytes.len() as u64;
                let is_said = item.size.is_none_or(|said| said == size) || item.part.is_some();
                promises
                    .keep(is_said, format!("the size that it lists is the size of the content, {}", named(&item.path)));
                if size > 1 {
                    let short = caught_future("the source", async { source.read(item, 1).await }).await;
                    let is_short = short.is_err() || short.is_ok_and(|content| content.bytes.len() <= 1);
                    promises.keep(is_short, format!("it reads no more than it may, {}", named(&item.path)));
                }
            }
            Err(error) => promises.keep(false, format!("it reads what it lists, {} ({error})", named(&item.path))),
        }
    }
    promises.kept()
}

/// Tries a parser on some files, by name and content: it reads them, always in the same way, and does not panic on files that are damaged.
///
/// # Errors
/// If a promise is broken; the message lists them.
pub fn parser(parser: &dyn Parser, files: &[(&str, &[u8])]) -> Result<()> {
    let mut promises = Promises::of("the parser");
    promises.keep(!parser.media_types().is_empty(), "it has a media type");
    promises.keep(parser.media_types().iter().all(|kind| kind.contains('/')), "media types are written as kind/format");
    let is_bare = |ending: &&str| !ending.starts_with('.') && **ending == ending.to_lowercase();
    promises.keep(parser.endings().iter().all(is_bare), "endings are lower case and have no dot");
    promises.keep_fingerprint(|| parser.fingerprint());
    for (name, bytes) in files {
        let parse = |bytes: &[u8]| parser.parse(&Input { name, bytes, budget: &Budget::default() });
        promises.survive(&named(name), || (parser.recognises(bytes), parser.fits(bytes)));
        let read = promises.call(&format!("it reads a file, {}", named(name)), || parse(bytes));
        if let Some(document) = &read {
            documented(&mut promises, document, name);
            let again = promises.call("it reads the same file twice", || parse(bytes));
            promises.keep(again.as_ref() == Some(document), "the same bytes make the same document");
        }
        for cut in 0..CUTS {
            let length = bytes.len() * cut / CUTS;
            promises.survive("for a file that broke off", || parse(&bytes[..length]).is_ok());
            let mut damaged = bytes.to_vec();
            damaged.iter_mut().skip(length).step_by(7).for_each(|byte| *byte ^= 0x5a);
            promises.survive("for a damaged file", || parse(&damaged).is_ok());
        }
        let mut small = Budget::default();
        small.max_text = 1;
        let limited = || parser.parse(&Input { name, bytes, budget: &small }).map(|document| document.text.len());
        let kept = promises.survive("with a small budget", limited);
        // The builder of documents counts; a parser that does without it must count itself, or the registry refuses what it made.
        let is_kept = kept.is_none_or(|kept| match kept {
            Ok(length) => length <= 1 || small.check().is_err(),
            Err(error) => error.kind() == ErrorKind::Limit || small.check().is_err(),
        });
        promises.keep(is_kept, "it stops when the budget of a file is spent");
    }
    promises.kept()
}

fn documented(promises: &mut Promises, document: &Document, name: &str) {
    promises.keep(document.name == name, "the document has the name of its file");
    promises.keep(!document.media_type.is_empty(), "the document has a media type");
    let is_inside = |span: Span| document.text.get(span.range()).is_some();
    promises.keep(
        document.blocks.iter().all(|block| is_inside(block.span)),
        "blocks lie inside the text, on character boundaries",
    );
    let ascend = document.blocks.windows(2).all(|pair| pair[0].span.end <= pair[1].span.start);
    promises.keep(ascend, "blocks ascend and do not overlap");
    promises.keep(!document.text.contains('\r'), "lines of the text end with \\n alone");
}

/// Tries a chunker on some documents: its chunks lie in the text, keep to its limit, and are the same each time.
///
/// # Errors
/// If a promise is broken; the message lists them.
pub fn chunker(chunker: &dyn Chunker, documents: &[Document]) -> Result<()> {
    let mut promises = Promises::of("the chunker");
    promises.keep_fingerprint(|| chunker.fingerprint());
    for document in documents {
        let about = named(&document.name);
        let Some(spans) = promises.call(&format!("it cuts a document, {about}"), || chunker.cut(document)) else {
            continue;
        };
        let is_inside = |span: &Span| span.start <= span.end && document.text.get(span.range()).is_some();
        promises
            .keep(spans.iter().all(is_inside), format!("spans lie inside the text, on character boundaries, {about}"));
        let starts = spans.windows(2).all(|pair| pair[0].start <= pair[1].start && pair[0] != pair[1]);
        promises.keep(starts, format!("spans come in order, each once, {about}"));
        promises.keep(spans.iter().all(|span| !span.is_empty()), format!("no span is empty, {about}"));
        if !document.text.trim().is_empty() && chunker.applies_to(document) {
            promises.keep(!spans.is_empty(), format!("a document with text has a chunk, {about}"));
        }
        if let Some((limit, most)) = chunker.limit().and_then(|limit| Some((limit, limit.most()?))) {
            let measured = |span: &Span| document.text.get(span.range()).map_or(0, |text| limit.unit().measure(text));
            let is_short = spans.iter().all(|span| measured(span) <= most || matches!(limit.unit(), Unit::Tokens(_)));
            promises.keep(is_short, format!("no chunk is longer than its limit, {about}"));
        }
        let again = promises.call("it cuts the same document twice", || chunker.cut(document));
        promises.keep(again.as_ref() == Some(&spans), "the same document is cut in the same way");
    }
    for text in ["", "🚢", &long_text(), "word\n\n\n\nword"] {
        let document = Document { name: "odd".to_owned(), text: text.to_owned(), ..Document::default() };
        promises.survive("for a document without blocks", || chunker.cut(&document).is_ok());
    }
    promises.kept()
}
