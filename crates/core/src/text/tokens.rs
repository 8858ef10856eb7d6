//! The tokens of a text that are indexed: words and identifiers.
//!
//! Words are those of Unicode Annex 29. Scripts without blanks have no words without a dictionary. Their tokens are pairs of
//! consecutive signs, and the last sign alone. Identifiers, numbers with units and references (`B-17`, `8.4m`, `§12(3)`) are
//! tokens as written, beside their words.

use unicode_segmentation::UnicodeSegmentation;

/// The longest identifier in bytes, as written.
const MAX_WRITTEN: usize = 64;

/// The kind of a token.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TokenKind {
    /// A word.
    Word,
    /// Two signs of a script without blanks, or the last sign of a run.
    Signs,
    /// A run with figures that is indexed as written. It has the position of its first word.
    Written,
}

/// A token of a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Token<'a> {
    /// The text of the token.
    pub text: &'a str,
    /// The position of its first word in the text, counted from 0.
    pub position: u32,
    /// The kind.
    pub kind: TokenKind,
}

/// Calls `each` with every token of a text in order, and returns the number of positions. Costs one pass.
pub fn tokens<'a>(text: &'a str, mut each: impl FnMut(Token<'a>)) -> u32 {
    let mut reader = Reader { text, position: 0, section_sign: None, each: &mut each };
    let bytes = text.as_bytes();
    let mut at = 0;
    while let Some(begin) = begin_of_run(text, at) {
        // Most runs are ASCII letters, which are read by bytes.
        let letters = letters(&bytes[begin..]);
        let behind = begin + letters;
        at = match bytes.get(behind) {
            None | Some(b' ' | b'\n' | b'\t' | b'\r') => behind,
            _ => behind + text[behind..].find(char::is_whitespace).unwrap_or(text.len() - behind),
        };
        reader.run(begin, at, letters);
    }
    reader.position
}

/// Returns the first place, from `at` on, that is not blank.
#[inline]
fn begin_of_run(text: &str, from: usize) -> Option<usize> {
    // Most often there is one blank, and then a letter.
    if let Some([b' ', next, ..]) = text.as_bytes().get(from..)
        && next.is_ascii_alphanumeric()
    {
        return Some(from + 1);
    }
    Some(from + text[from..].find(|c: char| !c.is_whitespace())?)
}

/// Returns the number of ASCII letters at the front.
#[inline]
fn letters(bytes: &[u8]) -> usize {
    const EACH: u128 = u128::MAX / 0xff;
    const HIGH: u128 = EACH << 7;
    let mut at = 0;
    // Sixteen bytes at a time: the sums reach the high bit of each byte that is at least `a`, and more than `z`.
    while let Some(sixteen) = bytes[at..].first_chunk() {
        let sixteen = u128::from_le_bytes(*sixteen);
        let small = (sixteen | EACH << 5) & !HIGH;
        let is_letter = (small + EACH * (0x80 - 0x61)) & !(small + EACH * (0x80 - 0x7b)) & !sixteen & HIGH;
        if is_letter != HIGH {
            return at + (is_letter ^ HIGH).trailing_zeros() as usize / 8;
        }
        at += 16;
    }
    at + bytes[at..].iter().take_while(|byte| byte.is_ascii_alphabetic()).count()
}

struct Reader<'a, 'f, F> {
    text: &'a str,
    position: u32,
    /// The place of a section sign alone before this run.
    section_sign: Option<usize>,
    each: &'f mut F,
}

impl<'a, F: FnMut(Token<'a>)> Reader<'a, '_, F> {
    fn give(&mut self, text: &'a str, position: u32, kind: TokenKind) {
        (self.each)(Token { text, position, kind });
    }

    fn word(&mut self, text: &'a str) {
        self.give(text, self.position, TokenKind::Word);
        self.position += 1;
    }

    /// Reads a run without white space, which begins with this number of ASCII letters.
    fn run(&mut self, begin: usize, end: usize, letters: usize) {
        let run = &self.text[begin..end];
        let sign = self.section_sign.take();
        if letters == run.len() || (letters > 0 && run[letters..].bytes().all(ends_a_word)) {
            self.word(&run[..letters]);
            return;
        }
        if matches!(run, "§" | "§§") {
            self.section_sign = Some(begin);
            return;
        }
        let first = self.position;
        let words = self.words(run);
        if run.bytes().any(|byte| byte.is_ascii_digit()) {
            self.written(run, first, words, sign.map(|sign| &self.text[sign..end]));
        }
    }

    /// Emits the words of a run, and returns their number.
    fn words(&mut self, run: &'a str) -> u32 {
        let first = self.position;
        // The start and the end of the sign before.
        let mut before: Option<(usize, usize)> = None;
        for (start, word) in run.unicode_word_indices() {
            let end = start + word.len();
            let unspaced = word.chars().next().is_some_and(is_unspaced);
            if let Some((from, to)) = before.take() {
                // The sign before forms a pair with this one, or is alone if no sign of its script follows.
                let to = if unspaced && to == start { end } else { to };
                self.give(&run[from..to], self.position - 1, TokenKind::Signs);
            }
            if unspaced {
                before = Some((start, end));
                self.position += 1;
                continue;
            }
            let unit = unit_of(word).unwrap_or(0);
            if unit > 0 {
                self.word(&word[..unit]);
            }
            self.word(&word[unit..]);
        }
        if let Some((from, to)) = before {
            self.give(&run[from..to], self.position - 1, TokenKind::Signs);
        }
        self.position - first
    }

    /// Emits a run with figures as written, if it is more than a word.
    fn written(&mut self, run: &'a str, first: u32, words: u32, with_sign: Option<&'a str>) {
        let bare = trimmed(run);
        let is_one_word = words == 1 && bare.chars().all(|c| c.is_alphanumeric() || ".,:'’_".contains(c));
        if !is_one_word && !bare.is_empty() && bare.len() <= MAX_WRITTEN {
            self.give(bare, first, TokenKind::Written);
            let without = bare.trim_start_matches('§');
            if without.len() < bare.len() && !without.is_empty() {
                self.give(without, first, TokenKind::Written);
            }
        }
        if let Some(reference) = with_sign.map(trimmed).filter(|reference| reference.len() <= MAX_WRITTEN) {
            self.give(reference, first, TokenKind::Written);
        }
    }
}

/// Returns `true` for a byte that may follow a word and does not belong to it.
fn ends_a_word(byte: u8) -> bool {
    matches!(byte, b'.' | b',' | b';' | b':' | b'!' | b'?' | b')' | b']' | b'"')
}

/// Returns `true` for signs of scripts without blanks between words.
fn is_unspaced(c: char) -> bool {
    matches!(c,
        '\u{0e00}'..='\u{0eff}' | '\u{1000}'..='\u{109f}' | '\u{1780}'..='\u{17ff}' | '\u{3041}'..='\u{309f}'
        | '\u{3400}'..='\u{4dbf}' | '\u{4e00}'..='\u{9fff}' | '\u{f900}'..='\u{faff}' | '\u{20000}'..='\u{323af}')
}

/// Returns the start of the unit after a number, as in `8.4m`.
fn unit_of(word: &str) -> Option<usize> {
    let at = word.find(|c: char| !(c.is_ascii_digit() || c == '.' || c == ','))?;
    let number = word.as_bytes()[..at].last().is_some_and(u8::is_ascii_digit);
    (number && word[at..].chars().all(char::is_alphabetic)).then_some(at)
}

/// Returns a run without the punctuation around it. A bracket stays if the run has its other half.
fn trimmed(run: &str) -> &str {
    let mut run = run;
    loop {
        let before = run.len();
        run = run
            .trim_end_matches(|c: char| ".,;:!?\"'”’»…".contains(c))
            .trim_start_matches(|c: char| "\"'“‘«„".contains(c));
        for (open, close) in [('(', ')'), ('[', ']'), ('{', '}'), ('<', '>')] {
            let count = |sign: char| run.matches(sign).count();
            if run.ends_with(close) && count(close) > count(open) {
                run = &run[..run.len() - 1];
            } else if run.starts_with(open) && count(open) > count(close) {
                run = &run[1..];
            }
        }
        if run.len() == before {
            return run;
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;
    use crate::text::words;

    fn read(text: &str) -> (Vec<(String, u32, TokenKind)>, u32) {
        let mut found = Vec::new();
        let count = tokens(text, |token| found.push((token.text.to_owned(), token.position, token.kind)));
        (found, count)
    }

    fn line(text: &str) -> String {
        let kind = |kind| match kind {
            TokenKind::Word => "",
            TokenKind::Signs => "~",
            TokenKind::Written => "=",
        };
        read(text).0.iter().map(|(text, at, of)| format!("{}{text}@{at}", kind(*of))).collect::<Vec<_>>().join(" ")
    }

    #[rstest]
    #[case::words("The pilot's boat, (No. 4).", "The@0 pilot's@1 boat@2 No@3 4@4")]
    #[case::identifier("Buoy B-17, lit.", "Buoy@0 B@1 17@2 =B-17@1 lit@3")]
    #[case::unit("8.4m or 8.4 m", "8.4@0 m@1 =8.4m@0 or@2 8.4@3 m@4")]
    #[case::reference("(see §12(3)).", "see@0 12@1 3@2 =§12(3)@1 =12(3)@1")]
    #[case::sign_apart("§ 12(3) says", "12@0 3@1 =12(3)@0 =§ 12(3)@0 says@2")]
    #[case::unspaced("東京港 open", "~東京@0 ~京港@1 ~港@2 open@3")]
    #[case::mixed("港B7", "~港@0 B7@1 =港B7@0")]
    #[case::time("at 06:40, twice", "at@0 06@1 40@2 =06:40@1 twice@3")]
    fn tokens_are(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(line(text), expected);
    }

    proptest! {
        #[test]
        fn letters_are_counted(bytes in prop::collection::vec(prop_oneof![8 => b'a'..=b'z', 8 => b'A'..=b'Z', 1 => any::<u8>()], 0..60)) {
            prop_assert_eq!(letters(&bytes), bytes.iter().take_while(|byte| byte.is_ascii_alphabetic()).count());
        }

        #[test]
        fn words_are_those_of_the_annex(text in "[a-zB0-9é'. ,()_-]{0,40}") {
            let (found, count) = read(&text);
            let kept: Vec<String> = found.iter().filter(|token| token.2 == TokenKind::Word).map(|token| token.0.clone()).collect();
            // A number with its unit is two.
            let expected: Vec<String> = words(&text).flat_map(|word| match unit_of(word.text) {
                Some(at) => vec![word.text[..at].to_owned(), word.text[at..].to_owned()],
                None => vec![word.text.to_owned()],
            }).collect();
            prop_assert_eq!(&kept, &expected);
            prop_assert_eq!(count as usize, kept.len());
        }

        #[test]
        fn nothing_panics_and_positions_rise(text in "\\PC{0,60}") {
            let (found, count) = read(&text);
            prop_assert!(found.iter().all(|token| token.1 < count.max(1) && !token.0.is_empty()));
            let words = found.iter().filter(|token| token.2 != TokenKind::Written).map(|token| token.1);
            prop_assert!(words.clone().zip(words.skip(1)).all(|(a, b)| a < b));
        }
    }
}
