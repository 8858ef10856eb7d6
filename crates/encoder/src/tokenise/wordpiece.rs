//! Word pieces: each word is cut into the longest pieces of the vocabulary, from the front.

use serde::{Deserialize, Serialize};

use super::{Normaliser, Vocabulary};

/// The settings of a tokeniser of word pieces.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct WordPieceSettings {
    /// How text is spelled before.
    pub normaliser: Normaliser,
    /// The token of a word that cannot be cut into known pieces.
    pub unknown: u32,
    /// A word of more characters than this is unknown.
    pub longest_word: usize,
    /// The tokens in front of a text.
    pub before: Vec<u32>,
    /// The tokens after a text.
    pub after: Vec<u32>,
    /// Text that always becomes one token, such as `[SEP]`.
    pub literal: Vec<(String, u32)>,
}

/// A tokeniser of word pieces.
pub struct WordPiece {
    vocabulary: Vocabulary,
    settings: WordPieceSettings,
}

impl WordPiece {
    /// Creates a tokeniser with a vocabulary.
    pub fn new(vocabulary: Vocabulary, settings: WordPieceSettings) -> Self {
        Self { vocabulary, settings }
    }

    /// Returns its settings.
    pub fn settings(&self) -> &WordPieceSettings {
        &self.settings
    }

    /// Returns the pieces that it knows.
    pub fn vocabulary(&self) -> &Vocabulary {
        &self.vocabulary
    }

    /// Returns the tokens of a text, up to `most` of them.
    pub fn tokens(&self, text: &str, most: usize) -> Vec<u32> {
        let mut tokens = Vec::new();
        let mut hashes = Vec::new();
        let mut rest = text;
        while tokens.len() < most {
            let found = self.first_literal(rest);
            let (plain, behind) = rest.split_at(found.map_or(rest.len(), |(at, ..)| at));
            self.settings.normaliser.words(plain, |word| {
                self.add_word(word, &mut tokens, &mut hashes);
                tokens.len() < most
            });
            let Some((_, length, token)) = found else { break };
            tokens.push(token);
            rest = &behind[length..];
        }
        tokens.truncate(most);
        tokens
    }

    /// Returns the place, the length and the number of the first literal token; the longest if several begin at one place.
    fn first_literal(&self, text: &str) -> Option<(usize, usize, u32)> {
        let literal = self.settings.literal.iter();
        let found = literal.filter_map(|(written, token)| Some((text.find(written.as_str())?, written.len(), *token)));
        found.min_by_key(|&(at, length, _)| (at, std::cmp::Reverse(length)))
    }

    fn add_word(&self, word: &str, tokens: &mut Vec<u32>, hashes: &mut Vec<u64>) {
        let from = tokens.len();
        let mut at = 0;
        let known = word.len() <= self.settings.longest_word || word.chars().count() <= self.settings.longest_word;
        while known && at < word.len() {
            match self.vocabulary.longest_start(&word[at..], at > 0, hashes) {
                Some((token, length)) => {
                    tokens.push(token);
                    at += length;
                }
                None => break,
            }
        }
        if at < word.len() {
            tokens.truncate(from);
            tokens.push(self.settings.unknown);
        }
    }
}
