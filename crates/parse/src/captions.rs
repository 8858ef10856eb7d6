//! Time-stamped captions (WebVTT and SubRip): what is said in a recording, and when.

use logothete_core::document::{BlockKind, Document, DocumentBuilder, Input, Parser, Piece, Value};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use crate::plain;

/// A pause longer than this parts two paragraphs, in seconds.
const PAUSE: f64 = 3.0;
/// A paragraph spans no more than this, in seconds.
const LONGEST: f64 = 45.0;

/// Reads time-stamped captions.
#[derive(Clone, Copy, Debug, Default)]
pub struct CaptionParser;

/// Something said.
struct Cue {
    start: f64,
    end: f64,
    speaker: Option<String>,
    text: String,
}

impl Parser for CaptionParser {
    fn media_types(&self) -> &[&str] {
        &["text/vtt", "application/x-subrip"]
    }

    fn endings(&self) -> &[&str] {
        &["vtt", "srt"]
    }

    fn recognises(&self, bytes: &[u8]) -> bool {
        let start = bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes);
        start.starts_with(b"WEBVTT") && start.get(6).is_none_or(|&b| b.is_ascii_whitespace())
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        crate::detect::not_text(bytes).is_none()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["captions 2"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let decoded = plain::decode(input.bytes);
        let mut builder = DocumentBuilder::within(input.name, "text/vtt", input.budget);
        decoded.note(&mut builder);
        let text = decoded.text().replace("\r\n", "\n").replace('\r', "\n");
        let mut cues = Vec::new();
        let mut damaged = 0;
        for block in text.split("\n\n") {
            match cue(block) {
                Some(cue) => cues.push(cue),
                None if block.contains("-->") => damaged += 1,
                None => {}
            }
        }
        if cues.is_empty() {
            return Err(Error::new(ErrorKind::Unreadable, "no caption with a time was found in it"));
        }
        if damaged > 0 {
            builder.warn(format!("the times of {damaged} captions cannot be read; they were left out"));
        }
        if let Some(title) = text.lines().next().and_then(|line| line.strip_prefix("WEBVTT")) {
            let title = title.trim().trim_start_matches(['-', '–']).trim();
            if !title.is_empty() {
                builder.metadata("title", Value::Text(title.to_owned()));
            }
        }
        let length = cues.iter().map(|cue| cue.end).fold(0.0, f64::max);
        builder.metadata("seconds", Value::Number(length.round()));
        write(&cues, &mut builder);
        Ok(builder.finish())
    }
}

/// Joins captions to paragraphs: one speaker, no long pause, ended with a sentence where that is near.
fn write(cues: &[Cue], builder: &mut DocumentBuilder) {
    let mut from = 0;
    while from < cues.len() {
        let mut end = from + 1;
        while end < cues.len() {
            let (last, next) = (&cues[end - 1], &cues[end]);
            let length = next.end - cues[from].start;
            let sentence_ended = last.text.ends_with(['.', '!', '?', '。', '…']);
            if next.speaker != cues[from].speaker
                || next.start - last.end > PAUSE
                || length > LONGEST
                || length > LONGEST / 2.0 && sentence_ended
            {
                break;
            }
            end += 1;
        }
        let said = cues[from..end].iter().enumerate().map(|(at, cue)| {
            let text = match (at, &cue.speaker) {
                (0, Some(speaker)) => format!("{speaker}: {}", cue.text),
                (0, None) => cue.text.clone(),
                _ => format!(" {}", cue.text),
            };
            Piece { seconds: Some(cue.start), ..text.as_str().into() }
        });
        builder.pieces(BlockKind::Paragraph, 0, &said.collect::<Vec<_>>());
        from = end;
    }
}

/// Reads one caption; `None` for notes, styles and text without times.
fn cue(block: &str) -> Option<Cue> {
    let mut lines = block.lines().skip_while(|line| !line.contains("-->"));
    let (start, end) = lines.next()?.split_once("-->")?;
    let (start, end) = (seconds(start.trim())?, seconds(end.split_whitespace().next()?)?);
    let raw = lines.collect::<Vec<_>>().join(" ");
    let speaker = raw.split_once("<v").and_then(|(_, rest)| {
        let (name, _) = rest.split_once('>')?;
        let name = name.split_once(' ').map_or("", |(_, name)| name).trim();
        (!name.is_empty()).then(|| name.to_owned())
    });
    let text = without_marks(&raw);
    (!text.is_empty() && start.is_finite() && end.is_finite()).then_some(Cue { start, end, speaker, text })
}

/// Seconds from `01:02:03.450`, `02:03,450`.
fn seconds(written: &str) -> Option<f64> {
    let mut total = 0.0;
    let parts: Vec<&str> = written.split(':').collect();
    if !(2..=3).contains(&parts.len()) {
        return None;
    }
    for part in parts {
        let value: f64 = part.replace(',', ".").parse().ok()?;
        if !(0.0..1_000_000.0).contains(&value) {
            return None;
        }
        total = total * 60.0 + value;
    }
    Some(total)
}

/// Returns a caption's text without its marks, its entities written out.
fn without_marks(raw: &str) -> String {
    let mut text = String::new();
    let mut inside = false;
    for c in raw.chars() {
        match c {
            '<' => inside = true,
            '>' if inside => inside = false,
            c if !inside => text.push(c),
            _ => {}
        }
    }
    let text = text.replace("&lt;", "<").replace("&gt;", ">").replace("&nbsp;", " ").replace("&amp;", "&");
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
