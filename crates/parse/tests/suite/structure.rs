//! Documents made of parts that are known come back as these parts, in every format that can say them.

use logothete_core::document::{Block, BlockKind, Document, Span};
use logothete_parse::parse;
use proptest::prelude::*;

/// A part of a document.
#[derive(Clone, Debug)]
enum Part {
    Heading(u8, String),
    Paragraph(String),
    List(Vec<String>),
    Code(Vec<String>),
    Quotation(String),
}

/// Words that mean nothing to any format.
fn line() -> impl Strategy<Value = String> {
    prop::collection::vec("[A-Za-zäöüé港]{2,9}", 1..7).prop_map(|words| words.join(" "))
}

fn part() -> impl Strategy<Value = Part> {
    prop_oneof![
        2 => (1_u8..5, line()).prop_map(|(level, text)| Part::Heading(level, text)),
        4 => line().prop_map(Part::Paragraph),
        1 => prop::collection::vec(line(), 2..5).prop_map(Part::List),
        1 => prop::collection::vec("[a-z]{1,8}( = [0-9]|\\(|;)?[0-9]{0,3}", 1..4).prop_map(Part::Code),
        1 => line().prop_map(Part::Quotation),
    ]
}

fn parts() -> impl Strategy<Value = Vec<Part>> {
    // Two lists one behind the other are one.
    prop::collection::vec(part(), 1..9).prop_map(|mut parts| {
        parts.dedup_by_key(|part| std::mem::discriminant(part));
        parts
    })
}

/// What is expected: kind, level of a heading, text.
fn expected(parts: &[Part]) -> Vec<(BlockKind, u8, String)> {
    let each = parts.iter().flat_map(|part| match part {
        Part::Heading(level, text) => vec![(BlockKind::Heading, *level, text.clone())],
        Part::Paragraph(text) => vec![(BlockKind::Paragraph, 0, text.clone())],
        Part::List(items) => items.iter().map(|item| (BlockKind::ListItem, 0, item.clone())).collect(),
        Part::Code(lines) => vec![(BlockKind::Code, 0, lines.join("\n"))],
        Part::Quotation(text) => vec![(BlockKind::Quotation, 0, text.clone())],
    });
    each.collect()
}

fn found(document: &Document) -> Vec<(BlockKind, u8, String)> {
    let text = |block: &Block| document.text[block.span.range()].to_owned();
    let level = |block: &Block| if block.kind == BlockKind::Heading { block.level } else { 0 };
    document.blocks.iter().map(|block| (block.kind, level(block), text(block))).collect()
}

fn markdown(parts: &[Part]) -> String {
    let each = parts.iter().map(|part| match part {
        Part::Heading(level, text) => format!("{} {text}\n", "#".repeat((*level).into())),
        Part::Paragraph(text) => format!("{text}\n"),
        Part::List(items) => items.iter().map(|item| format!("- {item}\n")).collect(),
        Part::Code(lines) => format!("```\n{}\n```\n", lines.join("\n")),
        Part::Quotation(text) => format!("> {text}\n"),
    });
    each.collect::<Vec<_>>().join("\n")
}

fn html(parts: &[Part]) -> String {
    let each = parts.iter().map(|part| match part {
        Part::Heading(level, text) => format!("<h{level}>{text}</h{level}>"),
        Part::Paragraph(text) => format!("<p>{text}</p>"),
        Part::List(items) => {
            format!("<ul>{}</ul>", items.iter().map(|item| format!("<li>{item}</li>")).collect::<String>())
        }
        Part::Code(lines) => format!("<pre><code>{}</code></pre>", lines.join("\n")),
        Part::Quotation(text) => format!("<blockquote>{text}</blockquote>"),
    });
    format!("<!doctype html><html><body><main>{}</main></body></html>", each.collect::<String>())
}

/// Base64 as mails have it.
fn base64(bytes: &[u8]) -> String {
    const SIGNS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let mut out = String::new();
    for three in bytes.chunks(3) {
        let number = three.iter().enumerate().fold(0_u32, |all, (at, &byte)| all | u32::from(byte) << (16 - 8 * at));
        for at in 0..4 {
            let sign = SIGNS[(number >> (18 - 6 * at)) as usize & 63] as char;
            out.push(if at <= three.len() { sign } else { '=' });
        }
        if out.len() % 77 == 76 {
            out.push('\n');
        }
    }
    out
}

fn quoted_printable(bytes: &[u8]) -> String {
    let (mut out, mut column) = (String::new(), 0);
    for &byte in bytes {
        let plain = byte == b'\n' || (byte.is_ascii_graphic() && byte != b'=') || byte == b' ';
        let sign = if plain { char::from(byte).to_string() } else { format!("={byte:02X}") };
        if column + sign.len() > 70 && byte != b'\n' {
            out.push_str("=\n");
            column = 0;
        }
        column = if byte == b'\n' { 0 } else { column + sign.len() };
        out.push_str(&sign);
    }
    out
}

proptest! {
    #[test]
    fn markdown_and_pages_of_the_web_say_the_same(parts in parts()) {
        let document = parse("a.md", markdown(&parts).as_bytes()).expect("Markdown");
        prop_assert_eq!(found(&document), expected(&parts), "{}", markdown(&parts));
        let document = parse("a.html", html(&parts).as_bytes()).expect("HTML");
        prop_assert_eq!(found(&document), expected(&parts), "{}", html(&parts));
    }

    /// What was read can be written as Markdown, and read again as the same.
    #[test]
    fn written_as_markdown_a_document_is_the_same(parts in parts()) {
        let document = parse("a.html", html(&parts).as_bytes()).expect("HTML");
        let again = parse("b.md", document.to_markdown().as_bytes()).expect("Markdown");
        prop_assert_eq!(found(&again), found(&document), "{}", document.to_markdown());
    }

    #[test]
    fn captions_know_their_moment(
        cues in prop::collection::vec((1_u32..50_000, 1_u32..9_000, line()), 1..12),
        hours: bool,
        srt: bool,
    ) {
        let mut from = 0;
        let (mut file, mut expected) = (if srt { String::new() } else { "WEBVTT\n\n".to_owned() }, Vec::new());
        for (number, (gap, long, text)) in cues.iter().enumerate() {
            from += gap;
            let point = if srt { ',' } else { '.' };
            let time = |at: u32| {
                let (h, m, s) = (at / 3_600_000, at / 60_000 % 60, at / 1_000 % 60);
                let short = !hours && !srt && h == 0;
                let front = if short { String::new() } else { format!("{h:02}:") };
                format!("{front}{m:02}:{s:02}{point}{:03}", at % 1_000)
            };
            // A word of its own, by which it is found again.
            let text = format!("Cue{number}x {text}.");
            file.push_str(&format!("{}\n{} --> {}\n{text}\n\n", number + 1, time(from), time(from + long)));
            expected.push((format!("Cue{number}x "), f64::from(from) / 1e3));
            from += long;
        }
        let document = parse(if srt { "a.srt" } else { "a.vtt" }, file.as_bytes()).expect("captions");
        for (words, seconds) in expected {
            let at = document.text.find(&words).expect("it is there");
            let told = document.seconds(Span::new(at, at + words.len())).expect("a moment");
            prop_assert!((told - seconds).abs() < 1e-3, "{words}: {told} is not {seconds}");
        }
    }

    #[test]
    fn mails_say_the_same_however_they_are_encoded(lines in prop::collection::vec(line(), 1..6), subject in line()) {
        let text = lines.iter().map(|line| format!("{line}.\n")).collect::<Vec<_>>().join("\n");
        let head = |subject: &str, encoding: &str| {
            format!("From: tower@marrowby.example\nSubject: {subject}\nMIME-Version: 1.0\nContent-Type: text/plain; charset=utf-8\nContent-Transfer-Encoding: {encoding}\n\n")
        };
        let words = subject.split(' ').map(|word| format!("=?utf-8?b?{}?=", base64(format!("{word} ").as_bytes()))).collect::<Vec<_>>().join("\n ");
        let mails = [
            head(&subject, "8bit") + &text,
            head(&words, "base64") + &base64(text.as_bytes()),
            head(&words, "quoted-printable") + &quoted_printable(text.as_bytes()),
        ];
        let read: Vec<Document> = mails.iter().map(|mail| parse("a.eml", mail.as_bytes()).expect("a mail")).collect();
        for (document, mail) in read.iter().zip(&mails) {
            prop_assert_eq!(document.title.as_deref(), Some(subject.as_str()), "{}", mail);
            prop_assert_eq!(&document.text, &read[0].text, "{}", mail);
        }
        for line in &lines {
            prop_assert!(read[0].text.contains(line.as_str()), "{line:?} in {:?}", read[0].text);
        }
    }
}
