//! Languages with their stemmers.

use super::{fold, words};
use rust_stemmers::{Algorithm, Stemmer};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::stopwords;

/// A language whose words can be stemmed, by its Snowball algorithm (M. Porter and others, 2001).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[allow(missing_docs)]
pub enum Language {
    English,
    Arabic,
    Danish,
    Dutch,
    Finnish,
    French,
    German,
    Greek,
    Hungarian,
    Italian,
    Norwegian,
    Portuguese,
    Romanian,
    Russian,
    Spanish,
    Swedish,
    Tamil,
    Turkish,
}

impl Serialize for Language {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.code())
    }
}

impl<'de> Deserialize<'de> for Language {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let code = String::deserialize(deserializer)?;
        let unknown = || format!("“{code}” is not the code of a language that questions are recognised in");
        Self::from_tag(&code).ok_or_else(|| serde::de::Error::custom(unknown()))
    }
}

/// The longest word that is stemmed, in bytes.
const LONGEST: usize = 64;

impl Language {
    /// All languages, in the order of their numbers in index segments.
    pub const ALL: [Self; 18] = [
        Self::English,
        Self::Arabic,
        Self::Danish,
        Self::Dutch,
        Self::Finnish,
        Self::French,
        Self::German,
        Self::Greek,
        Self::Hungarian,
        Self::Italian,
        Self::Norwegian,
        Self::Portuguese,
        Self::Romanian,
        Self::Russian,
        Self::Spanish,
        Self::Swedish,
        Self::Tamil,
        Self::Turkish,
    ];

    /// Returns the language of a tag such as `en`, `de-CH` or `eng`; `None` if it is unknown.
    pub fn from_tag(tag: &str) -> Option<Self> {
        let first = tag.split(['-', '_']).next().unwrap_or_default().to_ascii_lowercase();
        Some(match first.as_str() {
            "en" | "eng" => Self::English,
            "ar" | "ara" => Self::Arabic,
            "da" | "dan" => Self::Danish,
            "nl" | "nld" | "dut" => Self::Dutch,
            "fi" | "fin" => Self::Finnish,
            "fr" | "fra" | "fre" => Self::French,
            "de" | "deu" | "ger" => Self::German,
            "el" | "ell" | "gre" => Self::Greek,
            "hu" | "hun" => Self::Hungarian,
            "it" | "ita" => Self::Italian,
            "no" | "nb" | "nn" | "nob" | "nno" | "nor" => Self::Norwegian,
            "pt" | "por" => Self::Portuguese,
            "ro" | "ron" | "rum" => Self::Romanian,
            "ru" | "rus" => Self::Russian,
            "es" | "spa" => Self::Spanish,
            "sv" | "swe" => Self::Swedish,
            "ta" | "tam" => Self::Tamil,
            "tr" | "tur" => Self::Turkish,
            _ => return None,
        })
    }

    /// Returns its code of two letters.
    pub fn code(self) -> &'static str {
        match self {
            Self::English => "en",
            Self::Arabic => "ar",
            Self::Danish => "da",
            Self::Dutch => "nl",
            Self::Finnish => "fi",
            Self::French => "fr",
            Self::German => "de",
            Self::Greek => "el",
            Self::Hungarian => "hu",
            Self::Italian => "it",
            Self::Norwegian => "no",
            Self::Portuguese => "pt",
            Self::Romanian => "ro",
            Self::Russian => "ru",
            Self::Spanish => "es",
            Self::Swedish => "sv",
            Self::Tamil => "ta",
            Self::Turkish => "tr",
        }
    }

    /// Returns the language of a question, by its function words; `None` if fewer than two of them belong to one language and to no other.
    ///
    /// A question is too short for the letters to tell. Costs a look into eighteen short lists for each of the first fifty words.
    pub fn of_question(question: &str) -> Option<Self> {
        const MAX_WORDS: usize = 50;
        let words: Vec<String> = words(question).take(MAX_WORDS).map(|word| fold(word.text)).collect();
        let count = |language: Self| words.iter().filter(|word| language.is_stopword(word)).count();
        let mut counts: Vec<(usize, Self)> =
            Self::ALL.into_iter().map(|language| (count(language), language)).collect();
        counts.sort_by_key(|(count, _)| std::cmp::Reverse(*count));
        match counts[..] {
            [(best, language), (second, _), ..] if best >= 2 && best > second => Some(language),
            _ => None,
        }
    }

    fn algorithm(self) -> Algorithm {
        match self {
            Self::English => Algorithm::English,
            Self::Arabic => Algorithm::Arabic,
            Self::Danish => Algorithm::Danish,
            Self::Dutch => Algorithm::Dutch,
            Self::Finnish => Algorithm::Finnish,
            Self::French => Algorithm::French,
            Self::German => Algorithm::German,
            Self::Greek => Algorithm::Greek,
            Self::Hungarian => Algorithm::Hungarian,
            Self::Italian => Algorithm::Italian,
            Self::Norwegian => Algorithm::Norwegian,
            Self::Portuguese => Algorithm::Portuguese,
            Self::Romanian => Algorithm::Romanian,
            Self::Russian => Algorithm::Russian,
            Self::Spanish => Algorithm::Spanish,
            Self::Swedish => Algorithm::Swedish,
            Self::Tamil => Algorithm::Tamil,
            Self::Turkish => Algorithm::Turkish,
        }
    }

    /// Returns the stem of a folded word. A word with other signs than letters, or of another script, stays whole.
    pub fn stem(self, folded: &str) -> String {
        let script = |c: char| match self {
            Self::Russian => ('\u{400}'..'\u{530}').contains(&c),
            Self::Greek => ('\u{370}'..'\u{400}').contains(&c) || ('\u{1f00}'..'\u{2000}').contains(&c),
            Self::Arabic => ('\u{620}'..'\u{6d4}').contains(&c),
            Self::Tamil => ('\u{b80}'..'\u{c00}').contains(&c),
            _ => c < '\u{250}',
        };
        let plain = |c: char| c == '\'' || (script(c) && (c.is_alphabetic() || self == Self::Tamil));
        if folded.len() > LONGEST || !folded.chars().all(plain) {
            return folded.to_owned();
        }
        if self == Self::English && !folded.is_ascii() {
            return folded.to_owned();
        }
        let stem = Stemmer::create(self.algorithm()).stem(folded).into_owned();
        if stem.is_empty() { folded.to_owned() } else { stem }
    }

    /// Returns `true` if a folded word is a function word.
    pub fn is_stopword(self, folded: &str) -> bool {
        match self {
            Self::English => stopwords::is_stopword(folded),
            _ => stopwords::of_language(self).split_ascii_whitespace().any(|word| word == folded),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("How long is the berth that the ferry uses?", Some(Language::English))]
    #[case("Wie lang ist der Liegeplatz der Fähre?", Some(Language::German))]
    #[case("Quelle est la profondeur de la passe pour les navires ?", Some(Language::French))]
    #[case("¿Cuál es la profundidad del canal para los buques?", Some(Language::Spanish))]
    #[case("Какая глубина у входа в гавань и когда он закрыт?", Some(Language::Russian))]
    #[case("Berth 9", None)]
    #[case("港", None)]
    #[case("", None)]
    fn the_language_of_a_question_is_told_by_its_small_words(
        #[case] question: &str,
        #[case] expected: Option<Language>,
    ) {
        assert_eq!(Language::of_question(question), expected);
    }

    #[test]
    fn codes_are_read_as_they_are_written() {
        assert!(Language::ALL.into_iter().all(|language| Language::from_tag(language.code()) == Some(language)));
    }

    #[rstest]
    #[case("de", "häfen", "haf")]
    #[case("fr-CA", "bateaux", "bateau")]
    #[case("rus", "корабли", "корабл")]
    #[case("es", "canales", "canal")]
    #[case("en", "channels", "channel")]
    #[case("sv", "hamnarna", "hamn")]
    fn words_come_to_their_stems(#[case] tag: &str, #[case] word: &str, #[case] stem: &str) {
        assert_eq!(Language::from_tag(tag).expect("known").stem(word), stem);
    }

    #[test]
    fn every_language_has_function_words_and_finds_its_tag() {
        for language in Language::ALL {
            let list = stopwords::of_language(language);
            assert!(language == Language::English || list.split_ascii_whitespace().count() > 25, "{language:?}");
            assert!(list.split_ascii_whitespace().all(|word| language.is_stopword(word)));
        }
        assert!(Language::German.is_stopword("und") && !Language::German.is_stopword("hafen"));
        assert_eq!(Language::from_tag("zxx"), None);
    }

    proptest! {
        #[test]
        fn no_word_stops_a_stemmer(word in "\\PC{0,20}", greek in "[α-ωά-ώ]{0,12}", tamil in "[\u{b80}-\u{bff}]{0,9}", arabic in "[\u{620}-\u{65f}]{0,9}") {
            for language in Language::ALL {
                for word in [&word, &greek, &tamil, &arabic] {
                    prop_assert!(word.is_empty() || !language.stem(word).is_empty());
                }
            }
        }
    }
}
