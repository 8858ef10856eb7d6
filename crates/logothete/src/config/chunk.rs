//! `[chunk]`: how documents are cut.

use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

/// A way of cutting.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Strategy {
    /// Blocks under their headings.
    #[default]
    Structure,
    /// Whole sentences, whatever the headings.
    Sentences,
    /// At separators, the coarsest that fits first.
    Separators,
    /// Windows of a fixed size.
    Window,
    /// A chunk a page.
    Pages,
    /// At lines that fit a pattern.
    Marked,
    /// A fixed number of table rows at a time.
    Rows,
    /// A chunk a document.
    Whole,
    /// At changes of subject, by the encoder's vectors.
    Topics,
}

impl Strategy {
    /// All of them, with their names.
    pub const ALL: [(&str, Self); 9] = [
        ("structure", Self::Structure),
        ("sentences", Self::Sentences),
        ("separators", Self::Separators),
        ("window", Self::Window),
        ("pages", Self::Pages),
        ("marked", Self::Marked),
        ("rows", Self::Rows),
        ("whole", Self::Whole),
        ("topics", Self::Topics),
    ];

    /// Returns its name.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(_, strategy)| *strategy == self).map_or("", |(name, _)| name)
    }

    /// Returns the strategy of a name.
    ///
    /// # Errors
    /// If there is none; the message lists them.
    pub fn named(name: &str) -> Result<Self> {
        Self::ALL.iter().find(|(known, _)| *known == name).map(|(_, strategy)| *strategy).ok_or_else(|| {
            let known = Self::ALL.map(|(name, _)| name).join(", ");
            Error::new(ErrorKind::Configuration, format!("there is no strategy {name:?}; there are {known}"))
        })
    }

    /// Returns `true` if its chunks are as long as they are, unless a limit is asked for.
    pub(crate) fn is_unlimited(self) -> bool {
        matches!(self, Self::Pages | Self::Marked | Self::Whole)
    }
}

/// The unit of lengths.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum ChunkUnit {
    /// Words.
    #[default]
    Words,
    /// Characters as people see them.
    Characters,
    /// The tokens of the encoder.
    Tokens,
}

impl ChunkUnit {
    /// Returns the unit of a name.
    ///
    /// # Errors
    /// If there is none.
    pub fn named(name: &str) -> Result<Self> {
        match name {
            "words" => Ok(Self::Words),
            "characters" => Ok(Self::Characters),
            "tokens" => Ok(Self::Tokens),
            _ => {
                let message = format!("there is no unit {name:?}; there are words, characters, tokens");
                Err(Error::new(ErrorKind::Configuration, message))
            }
        }
    }
}

/// The context before each chunk, which helps a search to find it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum ChunkContext {
    /// Title, section path, the header of a table.
    #[default]
    Headings,
    /// That context, and a sentence or two that a generator writes from the document.
    Generated,
}

/// `[chunk]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct ChunkConfig {
    /// How documents are cut.
    pub strategy: Strategy,
    /// The unit of the limit and the overlap.
    pub unit: ChunkUnit,
    /// The most in a chunk, context included. Without it 150 words, 1,000 characters or 200 tokens; pages, marked parts and
    /// whole documents have no limit then.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<usize>,
    /// The overlap with the chunk before. Without it, a fifteenth of the limit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub overlap: Option<usize>,
    /// For `separators`: what to cut at, the coarsest first. `blank line`, `line`, `sentence` and `word` mean what they say;
    /// everything else is taken as it stands.
    pub separators: Vec<String>,
    /// For `marked`: what a marked line looks like, with `*` for anything.
    pub marker: String,
    /// For `rows`: how many rows a chunk has.
    pub rows: usize,
    /// The context before each chunk.
    pub context: ChunkContext,
    /// For generated context: the most of it, in the unit of the limit. Without it a third of the limit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub generated_limit: Option<usize>,
    /// For generated context: how many words of the document around a chunk the generator is shown.
    pub generated_from: usize,
}

impl Default for ChunkConfig {
    fn default() -> Self {
        Self {
            strategy: Strategy::default(),
            unit: ChunkUnit::default(),
            limit: None,
            overlap: None,
            separators: ["blank line", "line", "sentence", "word"].map(str::to_owned).to_vec(),
            marker: String::new(),
            rows: 10,
            context: ChunkContext::default(),
            generated_limit: None,
            generated_from: 2000,
        }
    }
}
