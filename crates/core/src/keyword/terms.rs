//! The terms that a token is indexed under.

use unicode_normalization::UnicodeNormalization;

use crate::text::{Language, Token, TokenKind, fold};

/// A term is no longer than this in bytes; what goes beyond is cut off, in the index and in queries alike.
const LONGEST: usize = 128;

/// The term of a token in a language; without one, words keep their endings.
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

/// Some languages, a bit each; the lowest stands for text of none of them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Languages(u32);

impl Languages {
    /// Adds one.
    pub(super) fn add(&mut self, language: Option<Language>) {
        self.0 |= 1 << Self::number(language);
    }

    /// The number that a language has in segments.
    pub(super) fn number(language: Option<Language>) -> u32 {
        language.map_or(0, |language| language as u32 + 1)
    }

    /// As they stand in a segment.
    pub(super) fn bits(self) -> u32 {
        self.0
    }

    /// From a segment; bits that are not known stand for nothing.
    pub(super) fn from_bits(bits: u32) -> Self {
        Self(bits & ((2 << Language::ALL.len()) - 1))
    }

    /// These and those.
    pub(super) fn and(self, others: Self) -> Self {
        Self(self.0 | others.0)
    }

    /// All of them, in the order of their numbers.
    pub fn iter(self) -> impl Iterator<Item = Option<Language>> {
        let all = std::iter::once(None).chain(Language::ALL.into_iter().map(Some));
        all.filter(move |&language| self.0 >> Self::number(language) & 1 == 1)
    }
}
