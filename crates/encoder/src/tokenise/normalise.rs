//! Text as the vocabulary spells it, and where its words end.

use serde::{Deserialize, Serialize};
use unicode_normalization::UnicodeNormalization;
use unicode_properties::{GeneralCategory, GeneralCategoryGroup, UnicodeGeneralCategory};

/// The steps that change a text before its words are looked up, in order.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Normaliser {
    /// Control characters are left out.
    pub clean: bool,
    /// Ideographs are words of their own.
    pub single_ideographs: bool,
    /// Accents are left out.
    pub strip_accents: bool,
    /// Capitals become small letters.
    pub lowercase: bool,
}

impl Normaliser {
    /// Gives each word of a text to a function, in order, until it says `false`. Words are runs of characters without
    /// white space; a punctuation mark is a word of its own.
    pub fn words(&self, text: &str, mut each: impl FnMut(&str) -> bool) {
        let mut words = Words { word: String::new(), each: &mut each, going: true };
        let mut rest = text;
        while !rest.is_empty() && words.going {
            let ascii = rest.bytes().position(|byte| !byte.is_ascii()).unwrap_or(rest.len());
            let (plain, behind) = rest.split_at(ascii);
            for byte in plain.bytes() {
                self.add_ascii(byte, &mut words);
                if !words.going {
                    return;
                }
            }
            // An ASCII character never changes its neighbours, so runs can be normalised separately.
            let run = behind.bytes().position(|byte| byte.is_ascii()).unwrap_or(behind.len());
            let (run, behind) = behind.split_at(run);
            self.add_run(run, &mut words);
            rest = behind;
        }
        words.end();
    }

    fn add_ascii(&self, byte: u8, words: &mut Words<'_>) {
        match byte {
            b' ' | b'\t' | b'\n' | b'\r' | 0x0b | 0x0c if !(self.clean && matches!(byte, 0x0b | 0x0c)) => words.end(),
            0..0x20 | 0x7f if self.clean => {}
            _ if byte.is_ascii_punctuation() => words.mark(char::from(byte)),
            _ if self.lowercase => words.word.push(char::from(byte.to_ascii_lowercase())),
            _ => words.word.push(char::from(byte)),
        }
    }

    /// Adds characters outside of ASCII.
    fn add_run(&self, run: &str, words: &mut Words<'_>) {
        let kept = run.chars().filter(|&c| !(self.clean && is_other(c)));
        let spaced = kept.flat_map(|c| {
            let alone = self.single_ideographs && is_ideograph(c);
            [alone.then_some(' '), Some(c), alone.then_some(' ')].into_iter().flatten()
        });
        if self.strip_accents {
            let bare = spaced.nfd().filter(|c| c.general_category() != GeneralCategory::NonspacingMark);
            self.add_cased(bare, words);
        } else {
            self.add_cased(spaced, words);
        }
    }

    fn add_cased(&self, characters: impl Iterator<Item = char>, words: &mut Words<'_>) {
        for c in characters {
            if self.lowercase {
                c.to_lowercase().for_each(|c| words.add(c));
            } else {
                words.add(c);
            }
        }
    }
}

/// Collects words.
struct Words<'a> {
    word: String,
    each: &'a mut dyn FnMut(&str) -> bool,
    going: bool,
}

impl Words<'_> {
    fn add(&mut self, c: char) {
        if c.is_whitespace() {
            self.end();
        } else if c.is_ascii_punctuation() || c.general_category_group() == GeneralCategoryGroup::Punctuation {
            self.mark(c);
        } else {
            self.word.push(c);
        }
    }

    fn mark(&mut self, c: char) {
        self.end();
        self.word.push(c);
        self.end();
    }

    fn end(&mut self) {
        if self.going && !self.word.is_empty() {
            self.going = (self.each)(&self.word);
        }
        self.word.clear();
    }
}

fn is_other(c: char) -> bool {
    c == '\u{fffd}' || c.general_category_group() == GeneralCategoryGroup::Other
}

/// Returns `true` for characters in the blocks that BERT's vocabularies treat as ideographs.
fn is_ideograph(c: char) -> bool {
    matches!(c,
        '\u{4e00}'..='\u{9fff}' | '\u{3400}'..='\u{4dbf}' | '\u{20000}'..='\u{2a6df}' | '\u{2a700}'..='\u{2b73f}'
        | '\u{2b740}'..='\u{2b81f}' | '\u{2b920}'..='\u{2ceaf}' | '\u{f900}'..='\u{faff}' | '\u{2f800}'..='\u{2fa1f}')
}
