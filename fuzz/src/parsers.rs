//! The parsers, one target each.

use logothete_core::document::Parser;
use logothete_parse::{
    CaptionParser, CodeParser, DelimitedParser, DocxParser, EmailParser, EpubParser, HtmlParser, JsonParser,
    MarkdownParser, PdfParser, PptxParser, SheetParser, TextParser,
};

use crate::Target;
use crate::read::read;

pub const TARGETS: &[(&str, Target)] = &[
    ("captions", |bytes| with(&CaptionParser, "a.vtt", bytes)),
    ("code", |bytes| with(&CodeParser, "a.rs", bytes)),
    ("delimited", |bytes| with(&DelimitedParser, "a.csv", bytes)),
    ("docx", |bytes| with(&DocxParser::default(), "a.docx", bytes)),
    ("email", |bytes| with(&EmailParser::default(), "a.eml", bytes)),
    ("epub", |bytes| with(&EpubParser, "a.epub", bytes)),
    ("html", |bytes| with(&HtmlParser, "a.html", bytes)),
    ("json", |bytes| with(&JsonParser::default(), "a.json", bytes)),
    ("markdown", |bytes| with(&MarkdownParser::default(), "a.md", bytes)),
    ("pdf", |bytes| with(&PdfParser::default(), "a.pdf", bytes)),
    ("pptx", |bytes| with(&PptxParser, "a.pptx", bytes)),
    ("sheets", sheets),
    ("text", |bytes| with(&TextParser, "a.txt", bytes)),
];

fn with(parser: &dyn Parser, name: &str, bytes: &[u8]) {
    read(parser, name, bytes);
}

/// Old binary files are read by a library that panics on some damaged ones. The parser catches that; the fuzzer cannot.
fn sheets(bytes: &[u8]) {
    if !bytes.starts_with(b"\xD0\xCF\x11\xE0") {
        read(&SheetParser::default(), "a.xlsx", bytes);
    }
}
