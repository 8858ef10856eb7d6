//! Turns tokens into terms.

use unicode_normalization::UnicodeNormalization;

use crate::text::{Language, Token, TokenKind, fold};

/// The longest term in bytes. Longer ones are cut off, both in the index and in queries.
const LONGEST: usize = 128;

/// Returns the term of a token in a language. Without a language, words keep their endings.
pub(super) fn term(token: &Token<'_>, language: Option<Language>) -> String {
    let mut term = match token.kind {
        TokenKind::Word => {
            let folded = fold(token.text);
            language.map_or_else(|| folded.clone(), |language| language.stem(&folded))
        }
        TokenKind::Signs => token.text.nfkc().collect(),
        TokenKind::Written => {
            token.text.nfkc().filter(|c| !c.is_whitespace()).flat_map(char::to_lowercase).collect::<String>()
        }
    };
    if term.len() > LONGEST {
        let end = (0..=LONGEST).rev().find(|&at| term.is_char_boundary(at)).unwrap_or(0);
        term.truncate(end);
    }
    term
}

/// A set of languages, a bit each. The lowest bit is text in none of them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Languages(u32);

impl Languages {
    /// Adds a language.
    pub(super) fn add(&mut self, language: Option<Language>) {
        self.0 |= 1 << Self::number(language);
    }

    /// Returns the number of a language in segments.
    pub(super) fn number(language: Option<Language>) -> u32 {
        language.map_or(0, |language| language as u32 + 1)
    }

    /// Returns the bits for a segment.
    pub(super) fn bits(self) -> u32 {
        self.0
    }

    /// Returns the languages of a segment's bits; unknown bits are ignored.
    pub(super) fn from_bits(bits: u32) -> Self {
        Self(bits & ((2 << Language::ALL.len()) - 1))
    }

    /// Returns the union with others.
    pub fn and(self, others: Self) -> Self {
        Self(self.0 | others.0)
    }

    /// Returns the languages in the order of their numbers.
    pub fn iter(self) -> impl Iterator<Item = Option<Language>> {
        let all = std::iter::once(None).chain(Language::ALL.into_iter().map(Some));
        all.filter(move |&language| self.0 >> Self::number(language) & 1 == 1)
    }
}
