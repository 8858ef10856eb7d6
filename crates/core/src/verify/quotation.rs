//! Claims that repeat a sentence of their source: word for word, with typing errors, or with a denial more or less.

use super::lexicon;
use crate::text::{fold, is_stopword, list_marker, stem, words};

/// A claim of fewer words is too short to be told by them alone.
const MIN_WORDS: usize = 5;
/// One word in so many may be misspelt.
const WORDS_TO_AN_ERROR: usize = 5;
/// A word of fewer letters may have one error, a longer one two.
const LONG_WORD: usize = 8;

/// The words of a claim, folded.
pub(super) struct Quotation {
    words: Vec<String>,
    /// The places of those that deny nothing.
    bare: Vec<usize>,
}

impl Quotation {
    /// Takes the words of a text. The number of a list item is none of what it says.
    pub(super) fn of(text: &str) -> Self {
        let text = &text.trim_start()[list_marker(text).map_or(0, str::len)..];
        let words: Vec<String> = words(text).map(|word| fold(word.text)).collect();
        let bare = (0..words.len()).filter(|at| !denies(&words[*at])).collect();
        Self { words, bare }
    }

    /// Returns `true` if a sentence has the same words.
    pub(super) fn is_of(&self, sentence: &str) -> bool {
        !self.words.is_empty() && Self::of(sentence).words == self.words
    }

    /// Returns `true` if a sentence has the same words but for typing errors: a few that are no words, where the sentence has a word like them.
    pub(super) fn is_misspelt(&self, sentence: &str) -> bool {
        let other = Self::of(sentence).words;
        if self.words.len() < MIN_WORDS || self.words.len() != other.len() {
            return false;
        }
        let mut errors = self.words.iter().zip(&other).filter(|(own, right)| own != right);
        let count = errors.clone().count();
        count <= (self.words.len() / WORDS_TO_AN_ERROR).max(1) && errors.all(|(own, right)| is_error_for(own, right))
    }

    /// Returns `true` if a sentence has the words of the claim in one run, but for one such as `not`, which one of them has and the other lacks.
    pub(super) fn differs_by_a_denial(&self, sentence: &str) -> bool {
        let other = Self::of(sentence);
        if self.bare.len() < MIN_WORDS || self.bare.len() > other.bare.len() {
            return false;
        }
        let own_denials = self.words.len() - self.bare.len();
        let mut runs = (0..=other.bare.len() - self.bare.len()).filter(|from| {
            self.bare.iter().zip(&other.bare[*from..]).all(|(one, place)| self.words[*one] == other.words[*place])
        });
        // Where the words stand twice, once as the claim has them, it differs from none.
        let Some(first) = runs.next() else { return false };
        let denials = |from: usize| {
            // What denies stands before the first word too, as in “not before noon”.
            let start = if from == 0 { 0 } else { other.bare[from] };
            let end = other.bare[from + self.bare.len() - 1];
            other.words[start..=end].iter().filter(|word| denies(word)).count()
        };
        denials(first) != own_denials && runs.all(|from| denials(from) != own_denials)
    }
}

fn denies(word: &str) -> bool {
    matches!(word, "not" | "never" | "no")
}

/// Returns `true` if what is written is no word, and a word is like it.
fn is_error_for(written: &str, word: &str) -> bool {
    is_no_word(written) && is_like(written, word)
}

/// Returns `true` for letters that are no English word.
pub(super) fn is_no_word(written: &str) -> bool {
    is_plain(written) && !is_known(written)
}

/// Returns `true` if a typing error or two make what is written of a word. Letters that change places and doubled letters are errors in a name too; other
/// changes of a name that is no word may be another name.
pub(super) fn is_like(written: &str, word: &str) -> bool {
    if !is_plain(word) {
        return false;
    }
    let sorted = |text: &str| {
        let mut letters: Vec<char> = text.chars().collect();
        letters.sort_unstable();
        letters
    };
    let single = |text: &str| {
        let mut letters: Vec<char> = text.chars().collect();
        letters.dedup();
        letters
    };
    let max = if word.chars().count() < LONG_WORD { 1 } else { 2 };
    let has_same_letters = || sorted(written) == sorted(word) || single(written) == single(word);
    strsim::osa_distance(written, word) <= max && (is_known(word) || has_same_letters())
}

fn is_plain(text: &str) -> bool {
    text.chars().all(char::is_alphabetic)
}

fn is_known(text: &str) -> bool {
    is_stopword(text) || lexicon::knows(&stem(text))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const SOURCE: &str = "(1) No vessel shall exceed 8 knots in the North Channel or near Marrowby.";

    #[rstest]
    #[case::two_errors("No vessel shall excede 8 knots in the Nroth Channel or near Marrowby.", true)]
    #[case::letters_of_a_name("No vessel shall exceed 8 knots in the North Channel or near Marrwoby.", true)]
    #[case::single_letter("No vessel shall exceed 8 knots in the North Channel or near Marowby.", true)]
    #[case::another_number("No vessel shall exceed 9 knots in the North Channel or near Marrowby.", false)]
    #[case::another_word("No vessel shall exceed 8 knots in the South Channel or near Marrowby.", false)]
    #[case::another_name("No vessel shall exceed 8 knots in the North Channel or near Marroway.", false)]
    #[case::too_many("No vesel shal excede 8 nots in the Nroth Chanel or near Marrowby.", false)]
    fn typing_errors_are_told_from_other_words(#[case] claim: &str, #[case] expected: bool) {
        assert_eq!(Quotation::of(claim).is_misspelt(SOURCE), expected);
    }

    #[rstest]
    #[case("Vessel shall exceed 8 knots in the North Channel or near Marrowby.", true)]
    #[case("No vessel shall exceed 8 knots in the North Channel.", false)]
    #[case("No vessel shall never exceed 8 knots in the North Channel.", true)]
    #[case("Exceed 8 knots.", false)]
    fn a_denial_more_or_less_is_found(#[case] claim: &str, #[case] expected: bool) {
        assert_eq!(Quotation::of(claim).differs_by_a_denial(SOURCE), expected);
    }
}
