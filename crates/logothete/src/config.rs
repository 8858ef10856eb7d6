//! `logothete.toml`: a table for each stage.

use std::path::{Path, PathBuf};

use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

use crate::source::closest;

/// The name of the configuration file.
const FILE_NAME: &str = "logothete.toml";

/// Everything that can be set. What a file leaves out has its default.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Config {
    /// Where documents come from.
    pub sources: SourcesConfig,
    /// How documents are cut.
    pub chunk: ChunkConfig,
    /// How text becomes vectors.
    pub encoder: EncoderConfig,
    /// How passages are found.
    pub search: SearchConfig,
    /// How answers are made.
    pub generator: GeneratorConfig,
    /// What is too much.
    pub limits: LimitsConfig,
}

/// `[sources]`
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct SourcesConfig {
    /// Files and folders, relative to the configuration file.
    pub paths: Vec<PathBuf>,
}

/// `[chunk]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct ChunkConfig {
    /// The most words in a chunk.
    pub limit: usize,
    /// How many words of the chunk before are repeated when a section is cut.
    pub overlap: usize,
}

impl Default for ChunkConfig {
    fn default() -> Self {
        Self { limit: 120, overlap: 20 }
    }
}

/// `[encoder]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct EncoderConfig {
    /// The length of the hashing encoder's vectors.
    pub dimensions: usize,
}

impl Default for EncoderConfig {
    fn default() -> Self {
        Self { dimensions: 512 }
    }
}

/// `[search]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct SearchConfig {
    /// How many passages a search returns.
    pub passages: usize,
    /// How much the keyword leg counts in the fusion.
    pub keyword: f32,
    /// How much the vector leg counts in the fusion.
    pub vector: f32,
}

impl Default for SearchConfig {
    fn default() -> Self {
        let settings = Settings::default();
        Self { passages: settings.passages, keyword: settings.keyword_weight, vector: settings.vector_weight }
    }
}

/// `[generator]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct GeneratorConfig {
    /// The share of a question, from 0 to 1, that an answer must cover; below it the question is refused.
    pub least_coverage: f32,
}

impl Default for GeneratorConfig {
    fn default() -> Self {
        Self { least_coverage: Settings::default().least_coverage }
    }
}

/// `[limits]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct LimitsConfig {
    /// The largest file that is read, in megabytes.
    pub file_megabytes: u64,
}

impl Default for LimitsConfig {
    fn default() -> Self {
        Self { file_megabytes: Settings::default().largest_file / 1_000_000 }
    }
}

/// The settings of a pipeline that are numbers.
#[derive(Clone, Debug, PartialEq)]
pub struct Settings {
    /// How many passages a search returns, and an answer is made from.
    pub passages: usize,
    /// How much the keyword leg counts in the fusion.
    pub keyword_weight: f32,
    /// How much the vector leg counts in the fusion.
    pub vector_weight: f32,
    /// The share of a question, from 0 to 1, that an answer must cover.
    pub least_coverage: f32,
    /// The largest file that is read, in bytes.
    pub largest_file: u64,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            passages: 10,
            keyword_weight: 0.5,
            vector_weight: 0.5,
            least_coverage: logothete_core::cite::LEAST_COVERAGE,
            largest_file: 200_000_000,
        }
    }
}

impl Config {
    /// The configuration file of a folder: the nearest `logothete.toml` in it or above it.
    pub fn find(folder: &Path) -> Option<PathBuf> {
        folder.ancestors().map(|folder| folder.join(FILE_NAME)).find(|file| file.is_file())
    }

    /// Reads a configuration file. Relative paths in it are taken from its own folder.
    ///
    /// # Errors
    /// When the file cannot be read or is not TOML, a key is unknown (the message names the nearest known one), or a
    /// value has the wrong type.
    pub fn read(file: &Path) -> Result<Self> {
        let place = file.display();
        let text = std::fs::read_to_string(file).map_err(|error| {
            Error::new(ErrorKind::NotFound, format!("it could not be read: {error}")).at(place).because(error)
        })?;
        let mut config = Self::parse(&text).map_err(|error| error.at(file.display()))?;
        let folder = file.parent().unwrap_or(Path::new("."));
        for path in &mut config.sources.paths {
            *path = folder.join(&path);
        }
        Ok(config)
    }

    /// Reads a configuration from its text.
    ///
    /// # Errors
    /// As [`read`](Self::read).
    pub fn parse(text: &str) -> Result<Self> {
        let wrong = |message: String| Error::new(ErrorKind::Configuration, message);
        let line = |error: &toml::de::Error| {
            error.span().map_or(0, |span| text[..span.start.min(text.len())].matches('\n').count() + 1)
        };
        let table: toml::Table = text.parse().map_err(|error: toml::de::Error| {
            wrong(format!("this is not TOML: {}", error.message())).at(format!("line {}", line(&error)))
        })?;
        let known = toml::Table::try_from(Self::default())
            .map_err(|error| wrong("the defaults cannot be written down".into()).because(error))?;
        unknown_key(&table, &known, "")?;
        toml::from_str(text).map_err(|error| wrong(error.message().to_owned()).at(format!("line {}", line(&error))))
    }

    /// The settings that are numbers.
    pub(crate) fn settings(&self) -> Result<Settings> {
        let wrong = |key: &str, message: &str| Err(Error::new(ErrorKind::Configuration, message.to_owned()).at(key));
        let weights = [self.search.keyword, self.search.vector];
        if weights.iter().any(|weight| !weight.is_finite() || *weight < 0.0) || weights.iter().sum::<f32>() <= 0.0 {
            return wrong("[search]", "the weights of the legs must be 0 or more, and one of them above 0");
        }
        if self.search.passages == 0 {
            return wrong("[search] passages", "0 passages would answer nothing; set 1 or more");
        }
        if !(0.0..=1.0).contains(&self.generator.least_coverage) {
            return wrong("[generator] least_coverage", "it is a share; set a number from 0 to 1");
        }
        Ok(Settings {
            passages: self.search.passages,
            keyword_weight: self.search.keyword,
            vector_weight: self.search.vector,
            least_coverage: self.generator.least_coverage,
            largest_file: self.limits.file_megabytes.saturating_mul(1_000_000),
        })
    }
}

/// Finds the first key that is not known, and says which known one is nearest.
fn unknown_key(given: &toml::Table, known: &toml::Table, place: &str) -> Result<()> {
    for (key, value) in given {
        let path = if place.is_empty() { format!("[{key}]") } else { format!("{place} {key}") };
        match (known.get(key), value) {
            (Some(toml::Value::Table(known)), toml::Value::Table(given)) => unknown_key(given, known, &path)?,
            (Some(_), _) => {}
            (None, _) => {
                let hint = match closest(key, known.keys().cloned()) {
                    Some(name) => format!("did you mean {name}?"),
                    None => format!("known here: {}", known.keys().cloned().collect::<Vec<_>>().join(", ")),
                };
                return Err(
                    Error::new(ErrorKind::Configuration, format!("nothing of this name can be set; {hint}")).at(path)
                );
            }
        }
    }
    Ok(())
}
