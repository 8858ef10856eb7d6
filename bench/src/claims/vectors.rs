//! Claims and sources as vectors of their words, for the program that trains the network of the verifier.

use std::collections::HashMap;
use std::io::{self, Write};

use logothete_core::text::{fold, sentences};
use logothete_core::vector::Encoder;
use logothete_core::verify::Meaning;
use serde_json::{Value, json};

use super::{Pair, grown};

/// So many lines are read before their texts are encoded together.
const LINES: usize = 256;
/// So many texts are encoded at once, those of like length.
const TEXTS: usize = 32;

/// Returns pairs, and those that are made from them, as lines of JSON.
pub fn as_lines(pairs: &[Pair]) -> String {
    let line = |pair: &Pair, written: bool| {
        json!({
            "subject": pair.subject, "kind": pair.kind, "mark": pair.mark, "claim": pair.claim, "source": pair.evidence, "written": written,
        })
        .to_string()
            + "\n"
    };
    let made = grown(pairs);
    pairs.iter().map(|pair| line(pair, true)).chain(made.iter().map(|pair| line(pair, false))).collect()
}

/// Writes the vectors of lines of JSON with a `claim` and a `source`.
///
/// For each line: the bytes of the claim, the number of the sentences of the source, the claim; and of each sentence its bytes and itself. A text is its words: a hash of
/// the word, and a byte for each number, in 254ths. Counts and hashes have four bytes, the lowest first.
///
/// # Errors
/// If a line is no such object, a text cannot be encoded, or nothing can be written.
pub fn write_vectors(lines: &str, encoder: &dyn Encoder, mut out: impl Write) -> io::Result<()> {
    let mut known = HashMap::new();
    let lines: Vec<&str> = lines.lines().collect();
    for lines in lines.chunks(LINES) {
        let rows: Vec<Row> = lines.iter().map(|line| Row::read(line)).collect::<io::Result<_>>()?;
        let texts = rows.iter().flat_map(|row| std::iter::once(&row.claim).chain(&row.sentences));
        let mut texts: Vec<&str> = texts.map(String::as_str).filter(|text| !known.contains_key(*text)).collect();
        texts.sort_by_key(|text| (text.len(), *text));
        texts.dedup();
        for texts in texts.chunks(TEXTS) {
            let meanings = Meaning::of(encoder, texts).map_err(io::Error::other)?;
            known
                .extend(texts.iter().zip(&meanings).map(|(text, meaning)| ((*text).to_owned(), packed(text, meaning))));
        }
        for row in &rows {
            let claim = &known[&row.claim];
            out.write_all(&(claim.len() as u32).to_le_bytes())?;
            out.write_all(&(row.sentences.len() as u32).to_le_bytes())?;
            out.write_all(claim)?;
            for sentence in &row.sentences {
                out.write_all(&(known[sentence].len() as u32).to_le_bytes())?;
                out.write_all(&known[sentence])?;
            }
        }
    }
    out.flush()
}

/// A claim, and the sentences of its source.
struct Row {
    claim: String,
    sentences: Vec<String>,
}

impl Row {
    fn read(line: &str) -> io::Result<Self> {
        let value: Value = serde_json::from_str(line)?;
        let text = |key: &str| {
            let text = value[key].as_str().map(str::to_owned);
            text.ok_or_else(|| io::Error::other(format!("a line without {key}: {line}")))
        };
        let source = text("source")?;
        let sentences = sentences(&source).into_iter().map(|span| source[span.range()].to_owned()).collect();
        Ok(Self { claim: text("claim")?, sentences })
    }
}

fn packed(text: &str, meaning: &Meaning) -> Vec<u8> {
    let mut bytes = Vec::new();
    for (span, vector) in &meaning.words {
        bytes.extend(hash(&fold(&text[span.range()])).to_le_bytes());
        bytes.extend(vector.iter().map(|value| (value * 254.0).round().clamp(-127.0, 127.0) as i8 as u8));
    }
    bytes
}

/// Returns a hash of a word (FNV-1a, Fowler, Noll and Vo).
fn hash(word: &str) -> u32 {
    word.bytes().fold(0x811c_9dc5, |hash, byte| (hash ^ u32::from(byte)).wrapping_mul(0x0100_0193))
}
