//! Near-duplicates: chunks that say the same, or nearly.
//!
//! Chunks are compared statement by statement: sentences, list items, table rows. Two statements are the same if their words are,
//! ignoring case, punctuation, hyphens, white space and articles. Figures and signs count. Two chunks under the same heading are
//! near-duplicates if two thirds of the letters of each are in statements of the other. The statements that only one of them has
//! are known exactly, so that a changed figure is never treated as a duplicate.
//!
//! Each chunk has a sketch to find candidates: the four lowest hashes of its statements, without headings (Broder, 1997).
//! Near-duplicates of up to four statements always share a hash of their sketches, longer ones nearly always. Chunks without a
//! common statement are never compared.

use std::collections::HashMap;

use super::{Chunk, Sentence};
use crate::document::{BlockKind, Span};

/// The highest number of hashes in a sketch.
pub const SKETCH: usize = 4;

/// The content of a chunk for comparison.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Statements {
    /// A hash of each statement, with its number of letters.
    statements: Vec<(u64, usize)>,
    /// Marks the statements that are headings.
    headings: Vec<bool>,
    /// A hash of the heading above it.
    heading: u64,
    /// Whether the statements are the whole content; `false` if it begins or ends inside a sentence.
    whole: bool,
    /// A hash of the whole content.
    all: u64,
}

impl Statements {
    /// Returns the statements of a chunk.
    pub fn of_chunk(chunk: &Chunk) -> Self {
        Self::new(&chunk.text, chunk.span, &chunk.sentences, &chunk.section, !chunk.cuts_sentence)
    }

    /// Returns the statements of a text at a span. `whole` says that the sentences are the whole text.
    pub(crate) fn new(text: &str, span: Span, sentences: &[Sentence], section: &[String], whole: bool) -> Self {
        let slice = |inner: Span| text.get(inner.start.wrapping_sub(span.start)..inner.end.wrapping_sub(span.start));
        let statements = sentences.iter().map(|sentence| said(slice(sentence.span).unwrap_or_default())).collect();
        let heading = section.last().map_or(0, |heading| said(heading).0);
        let headings = sentences.iter().map(|sentence| sentence.kind == BlockKind::Heading).collect();
        Self { statements, headings, heading, whole, all: said(text).0 }
    }

    /// Returns the sketch for finding candidates: up to four hashes.
    pub fn sketch(&self) -> Vec<u64> {
        let said = self.statements.iter().zip(&self.headings).filter(|(_, heading)| !**heading);
        let mut hashes: Vec<u64> = said.map(|((hash, _), _)| mixed(*hash)).collect();
        if !self.whole || hashes.is_empty() {
            // If sentences are cut, or if there are none, the whole text is one statement.
            hashes = vec![mixed(self.all)];
        }
        hashes.sort_unstable();
        hashes.dedup();
        hashes.truncate(SKETCH);
        hashes
    }

    /// Returns the positions of the statements that the other lacks; `None` if the two are not near-identical.
    pub fn beyond(&self, other: &Self) -> Option<Vec<usize>> {
        if self.heading != other.heading {
            return None;
        }
        if self.all == other.all {
            return Some(Vec::new());
        }
        if !self.whole || !other.whole {
            return None;
        }
        let mut theirs: HashMap<u64, usize> = HashMap::new();
        for (hash, _) in &other.statements {
            *theirs.entry(*hash).or_default() += 1;
        }
        let mut beyond = Vec::new();
        let (mut own, mut common) = (0, 0);
        for (index, (hash, letters)) in self.statements.iter().enumerate() {
            own += letters;
            match theirs.get_mut(hash).filter(|left| **left > 0) {
                Some(left) => {
                    *left -= 1;
                    common += letters;
                }
                None => beyond.push(index),
            }
        }
        let theirs: usize = other.statements.iter().map(|(_, letters)| letters).sum();
        (common * 3 >= own.max(theirs) * 2 && common > 0).then_some(beyond)
    }

    /// Returns the places of these statements in the other, if it has them.
    pub fn places_in(&self, other: &Self) -> Vec<Option<usize>> {
        let place = |hash: u64| other.statements.iter().position(|(theirs, _)| *theirs == hash);
        self.statements.iter().map(|(hash, _)| place(*hash)).collect()
    }
}

/// Returns a hash of a statement, with its number of letters and figures.
///
/// Words count in lower case, without articles and apostrophes. White space, hyphens and punctuation between them are equal.
/// Everything else counts: figures with their points, signs such as `%`, `<` and the minus before a figure.
fn said(text: &str) -> (u64, usize) {
    let mut told = Told { hash: START, letters: 0 };
    let mut word = START;
    let mut begun: Option<usize> = None;
    let mut before = ' ';
    let mut signs = text.char_indices().peekable();
    while let Some((at, sign)) = signs.next() {
        let next = signs.peek().map_or(' ', |(_, next)| *next);
        let point = matches!(sign, '.' | ',') && before.is_ascii_digit() && next.is_ascii_digit();
        let minus = matches!(sign, '-' | '−' | '–') && !before.is_alphanumeric() && next.is_ascii_digit();
        let kept = sign.is_alphanumeric() || is_mark(sign);
        if kept || point || minus || !(sign.is_whitespace() || is_punctuation(sign)) {
            begun = begun.or(Some(at));
            told.letters += usize::from(kept);
            if sign.is_ascii() {
                word = step(word, &[sign.to_ascii_lowercase() as u8]);
            } else {
                let dash = if minus { '-' } else { sign };
                for lower in dash.to_lowercase() {
                    word = step(word, lower.encode_utf8(&mut [0; 4]).as_bytes());
                }
            }
        } else if !matches!(sign, '\'' | '’') {
            told.end(&text[begun.unwrap_or(at)..at], word);
            (word, begun) = (START, None);
        }
        before = sign;
    }
    told.end(&text[begun.unwrap_or(text.len())..], word);
    // Pure punctuation is compared as it is.
    if told.hash == START { (step(START, text.trim().as_bytes()), 0) } else { (told.hash, told.letters) }
}

struct Told {
    hash: u64,
    letters: usize,
}

impl Told {
    /// Adds a complete word, unless it is an article or empty.
    fn end(&mut self, word: &str, hash: u64) {
        let article = word.len() <= 3 && ["a", "an", "the"].iter().any(|article| article.eq_ignore_ascii_case(word));
        if !word.is_empty() && !article {
            self.hash = step(self.hash, &hash.to_le_bytes());
        }
    }
}

/// Returns `true` for marks that belong to the letter before them.
fn is_mark(sign: char) -> bool {
    matches!(sign, '\u{300}'..='\u{36f}' | '\u{93c}'..='\u{94d}' | '\u{200d}' | '\u{fe00}'..='\u{fe0f}')
}

fn is_punctuation(sign: char) -> bool {
    sign.is_ascii()
        && matches!(
            sign,
            '.' | ','
                | ';'
                | ':'
                | '!'
                | '?'
                | '\''
                | '"'
                | '('
                | ')'
                | '['
                | ']'
                | '{'
                | '}'
                | '-'
                | '_'
                | '*'
                | '|'
                | '#'
        )
        || matches!(sign, '‐'..='—' | '‘'..='‟' | '…' | '«' | '»' | '·' | '•' | '。' | '、' | '，' | '「' | '」' | '『' | '』' | '（' | '）' | '¿' | '¡')
}

/// FNV-1a, 64 bits.
const START: u64 = 0xcbf2_9ce4_8422_2325;

fn step(hash: u64, bytes: &[u8]) -> u64 {
    bytes.iter().fold(hash, |hash, byte| (hash ^ u64::from(*byte)).wrapping_mul(0x0000_0100_0000_01b3))
}

/// Returns a hash whose order is independent of the text.
fn mixed(hash: u64) -> u64 {
    let mixed = (hash ^ (hash >> 33)).wrapping_mul(0xff51_afd7_ed55_8ccd);
    (mixed ^ (mixed >> 29)).wrapping_mul(0x9e37_79b9_7f4a_7c15)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::said;

    #[rstest]
    #[case("The tide turns.", "tide  turns", true)]
    #[case("MOORING-LINES, don’t", "mooring lines don't", true)]
    #[case("Hafen (offen)", "hafen offen", true)]
    #[case("8.4 metres", "84 metres", false)]
    #[case("8.4", "8 4", false)]
    #[case("berths 1 2", "berths 12", false)]
    #[case("at -4 degrees", "at 4 degrees", false)]
    #[case("at −4 degrees", "at -4 degrees", true)]
    #[case("less < 20", "less > 20", false)]
    #[case("5 %", "5", false)]
    #[case("north", "south", false)]
    #[case("apart", "a part", false)]
    #[case("港口关闭。", "港口关闭", true)]
    #[case("…", "—", false)]
    fn the_same_or_not(#[case] one: &str, #[case] other: &str, #[case] same: bool) {
        assert_eq!(said(one).0 == said(other).0, same);
    }
}
