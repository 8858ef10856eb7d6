//! `logothete.toml`: a table for each stage.

mod chunk;
mod encoder;
mod secret;

pub use chunk::{ChunkConfig, ChunkContext, ChunkUnit, Strategy};
#[cfg(feature = "embedded")]
pub(crate) use encoder::embedded;
pub use encoder::{EncoderConfig, EncoderKind};
pub(crate) use secret::secret;

use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use logothete_core::cite::Tokens;
use logothete_core::document::{Budget, Metadata, PageRecogniser, Pages};
use logothete_core::keyword::FieldWeights;
use logothete_core::search::Filter;
use logothete_core::vector::Distance;
use logothete_core::{Error, ErrorKind, Result};
use logothete_parse::{JsonFields, ParseSettings};
use serde::{Deserialize, Serialize};

use crate::corpus::IndexKind;
use crate::recognise::{self, Tesseract};
use crate::source::closest;

/// Everything that can be set. What a file leaves out has its default.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Config {
    /// Where documents come from.
    pub sources: SourcesConfig,
    /// How documents are read.
    pub parse: ParseConfig,
    /// How documents are cut.
    pub chunk: ChunkConfig,
    /// How text becomes vectors.
    pub encoder: EncoderConfig,
    /// How vectors are kept and compared.
    pub index: IndexConfig,
    /// How passages are found.
    pub search: SearchConfig,
    /// How answers are made.
    pub generator: GeneratorConfig,
    /// What may leave the machine.
    pub privacy: PrivacyConfig,
    /// What is too much.
    pub limits: LimitsConfig,
}

/// `[sources]`
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct SourcesConfig {
    /// Files and folders, relative to the configuration file.
    pub paths: Vec<PathBuf>,
    /// Patterns of the files to read; all when there are none. As in `.gitignore` files.
    pub include: Vec<String>,
    /// Patterns of files and folders to pass over.
    pub exclude: Vec<String>,
    /// Addresses to fetch, from hosts that `[privacy]` allows.
    pub addresses: Vec<String>,
    /// Metadata for every document that does not say otherwise.
    pub metadata: Metadata,
}

/// Whether pages that are pictures are recognised.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Ocr {
    /// Where the program for it is installed.
    #[default]
    Auto,
    /// Never.
    Off,
}

/// `[parse]`
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct ParseConfig {
    /// The pages to read, such as `"1-10"`; empty reads all.
    pub pages: String,
    /// The environment variable that holds the password of protected PDF files.
    pub password_env: String,
    /// Whether pages that are pictures are recognised, with the program `tesseract`.
    pub ocr: Ocr,
    /// The languages of such pages by that program's names, such as `"eng+deu"`; empty takes its own default.
    pub ocr_languages: String,
    /// Whether comments in the margins of Word documents are read.
    pub comments: bool,
    /// Where the text of a JSON record is, as a JSON pointer; empty looks for it.
    pub json_text: String,
    /// Where the title of a JSON record is.
    pub json_title: String,
    /// Metadata of JSON records, name to pointer.
    pub json_metadata: BTreeMap<String, String>,
}

impl ParseConfig {
    /// The parsers' settings.
    pub(crate) fn settings(&self) -> Result<ParseSettings> {
        let pointer = |text: &str, key: &str| match text {
            "" => Ok(None),
            text if text.starts_with('/') => Ok(Some(text.to_owned())),
            _ => Err(Error::new(ErrorKind::Configuration, "a JSON pointer begins with /, as in \"/body/text\"")
                .at(format!("[parse] {key}"))),
        };
        let metadata = self.json_metadata.iter().map(|(name, at)| (name.clone(), at.clone())).collect::<Vec<_>>();
        let json = JsonFields {
            text: pointer(&self.json_text, "json_text")?,
            title: pointer(&self.json_title, "json_title")?,
            metadata: (!metadata.is_empty()).then_some(metadata),
        };
        let recogniser = (self.ocr == Ocr::Auto).then(|| Tesseract::find(&self.ocr_languages)).flatten();
        let advice = if self.ocr == Ocr::Off { recognise::ADVICE_OFF } else { recognise::ADVICE };
        Ok(ParseSettings {
            json,
            comments: self.comments,
            recogniser: recogniser.map(|found| Arc::new(found) as Arc<dyn PageRecogniser>),
            picture_advice: Some(advice),
            password: self.password()?,
        })
    }

    /// The password of protected files, from the environment or a file `.env`.
    ///
    /// # Errors
    /// When neither has such a variable.
    pub fn password(&self) -> Result<Option<String>> {
        if self.password_env.is_empty() {
            return Ok(None);
        }
        secret(&self.password_env).map(Some).map_err(|error| error.at("[parse] password_env"))
    }
}

/// `[privacy]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct PrivacyConfig {
    /// The hosts that may be connected to; with none, nothing is.
    pub allow: Vec<String>,
}

/// `[index]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct IndexConfig {
    /// What makes two vectors near. A corpus keeps the one that it was made with.
    pub distance: Distance,
    /// How vectors are searched.
    pub kind: IndexKind,
    /// How often a word of each field counts in the keyword index. A segment keeps those that it was written with.
    pub fields: FieldWeights,
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
    /// What every search is confined to; see the guide to searching.
    pub filter: String,
}

impl Default for SearchConfig {
    fn default() -> Self {
        let settings = Settings::default();
        Self {
            passages: settings.passages,
            keyword: settings.keyword_weight,
            vector: settings.vector_weight,
            filter: String::new(),
        }
    }
}

/// `[generator]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct GeneratorConfig {
    /// The share of a question, from 0 to 1, that an answer must cover; below it the question is refused.
    pub least_coverage: f32,
    /// The price of a million tokens sent to a generator, in any currency.
    pub price_sent: f64,
    /// The price of a million tokens received.
    pub price_received: f64,
}

impl Default for GeneratorConfig {
    fn default() -> Self {
        let settings = Settings::default();
        Self {
            least_coverage: settings.least_coverage,
            price_sent: settings.price_sent,
            price_received: settings.price_received,
        }
    }
}

/// `[limits]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct LimitsConfig {
    /// The largest file that is read, in megabytes.
    pub file_megabytes: u64,
    /// The most pages that are read of a file.
    pub pages: u32,
    /// The longest time that reading a file may take, in seconds.
    pub seconds: u64,
    /// The most that an archive may unpack to, in megabytes.
    pub unpacked_megabytes: u64,
    /// The memory that a build may hold, in megabytes, besides the files that it maps.
    pub memory_megabytes: u64,
    /// The most tokens that a build may encode, send and receive; 0 for no limit.
    pub tokens: u64,
    /// The most that a build may cost, at the prices of `[encoder]` and `[generator]`; 0 for no limit.
    pub money: f64,
}

impl Default for LimitsConfig {
    fn default() -> Self {
        let settings = Settings::default();
        Self {
            file_megabytes: settings.largest_file / 1_000_000,
            pages: settings.most_pages,
            seconds: settings.longest.as_secs(),
            unpacked_megabytes: settings.most_unpacked / 1_000_000,
            memory_megabytes: settings.memory / 1_000_000,
            tokens: 0,
            money: 0.0,
        }
    }
}

/// The settings of a pipeline that are numbers.
#[derive(Clone, Debug, PartialEq)]
pub struct Settings {
    /// What makes two vectors near.
    pub distance: Distance,
    /// How vectors are searched.
    pub index: IndexKind,
    /// How often a word of each field counts in the keyword index.
    pub fields: FieldWeights,
    /// What every search is confined to.
    pub filter: Option<Filter>,
    /// The memory that a build may hold, in bytes, besides what it maps.
    pub memory: u64,
    /// How many passages a search returns, and an answer is made from.
    pub passages: usize,
    /// How much the keyword leg counts in the fusion.
    pub keyword_weight: f32,
    /// How much the vector leg counts in the fusion.
    pub vector_weight: f32,
    /// The share of a question, from 0 to 1, that an answer must cover.
    pub least_coverage: f32,
    /// The price of a million tokens sent to the generator, in any currency.
    pub price_sent: f64,
    /// The price of a million tokens received.
    pub price_received: f64,
    /// The price of encoding a million tokens.
    pub price_encoded: f64,
    /// The most tokens that a build may encode, send and receive.
    pub most_tokens: Option<u64>,
    /// The most that a build may cost, at those prices.
    pub most_money: Option<f64>,
    /// The largest file that is read, in bytes.
    pub largest_file: u64,
    /// The pages that are read; all when there are none.
    pub pages: Option<Pages>,
    /// The most pages that are read of a file.
    pub most_pages: u32,
    /// The longest time that reading a file may take.
    pub longest: Duration,
    /// The most that an archive may unpack to, in bytes.
    pub most_unpacked: u64,
}

impl Settings {
    /// What a generator's tokens cost.
    pub(crate) fn price(&self, tokens: Tokens) -> f64 {
        (tokens.sent as f64 * self.price_sent + tokens.received as f64 * self.price_received) / 1e6
    }

    /// What encoding so many tokens costs.
    pub(crate) fn price_of_encoding(&self, tokens: u64) -> f64 {
        tokens as f64 * self.price_encoded / 1e6
    }

    /// Whether anything costs.
    pub(crate) fn has_prices(&self) -> bool {
        self.price_sent + self.price_received + self.price_encoded > 0.0
    }

    /// What may be spent on a file.
    pub(crate) fn budget(&self) -> Budget {
        let mut budget = Budget::default();
        budget.pages = self.pages;
        budget.most_pages = self.most_pages;
        budget.most_unpacked = self.most_unpacked;
        budget
    }
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            distance: Distance::default(),
            index: IndexKind::default(),
            fields: FieldWeights::default(),
            filter: None,
            memory: 1_000_000_000,
            passages: 10,
            keyword_weight: 0.5,
            // Meaning counts twice what words do: the best of six ratios on the demo’s dev questions.
            vector_weight: 1.0,
            least_coverage: logothete_core::cite::LEAST_COVERAGE,
            price_sent: 0.0,
            price_received: 0.0,
            price_encoded: 0.0,
            most_tokens: None,
            most_money: None,
            largest_file: 200_000_000,
            pages: None,
            most_pages: Budget::default().most_pages,
            longest: Duration::from_secs(120),
            most_unpacked: Budget::default().most_unpacked,
        }
    }
}

impl Config {
    /// The name of a configuration file.
    pub const FILE_NAME: &str = "logothete.toml";

    /// A configuration file to start from: every setting with its default and a word on it.
    pub const STARTER: &str = include_str!("starter.toml");

    /// Writes [`STARTER`](Self::STARTER) with some paths in `[sources]`. What is there already is left alone.
    ///
    /// # Errors
    /// When there is such a file, or it cannot be written.
    pub fn write_starter(file: &Path, paths: &[PathBuf]) -> Result<()> {
        let array: toml::value::Array = paths.iter().map(|path| path.display().to_string().into()).collect();
        let line = format!("paths = {}", toml::Value::Array(array));
        let text = Self::STARTER.replacen("paths = []", &line, 1);
        let failed = |error: std::io::Error| {
            let message = match error.kind() {
                std::io::ErrorKind::AlreadyExists => {
                    "it is there already; edit it, or name another with --config FILE".to_owned()
                }
                _ => format!("it could not be written: {error}"),
            };
            Error::new(ErrorKind::System, message).at(file.display()).because(error)
        };
        let mut options = std::fs::OpenOptions::new();
        let mut created = options.write(true).create_new(true).open(file).map_err(failed)?;
        created.write_all(text.as_bytes()).and_then(|()| created.sync_all()).map_err(failed)
    }

    /// The configuration file of a folder: the nearest `logothete.toml` in it or above it.
    pub fn find(folder: &Path) -> Option<PathBuf> {
        folder.ancestors().map(|folder| folder.join(Self::FILE_NAME)).find(|file| file.is_file())
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
        if !config.encoder.folder.as_os_str().is_empty() {
            config.encoder.folder = folder.join(&config.encoder.folder);
        }
        Ok(config)
    }

    /// Every table with every key, and something for its value.
    fn known() -> Result<toml::Table> {
        let filled = Self { chunk: ChunkConfig::filled(), encoder: EncoderConfig::filled(), ..Self::default() };
        toml::Table::try_from(filled)
            .map_err(|error| Error::new(ErrorKind::Configuration, "the defaults cannot be written down").because(error))
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
        let known = Self::known()?;
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
        let prices = [self.generator.price_sent, self.generator.price_received];
        if prices.iter().any(|price| !price.is_finite() || *price < 0.0) {
            return wrong("[generator] price_sent, price_received", "a price is 0 or more, for a million tokens");
        }
        let amounts = [("[encoder] price", self.encoder.price), ("[limits] money", self.limits.money)];
        if let Some((key, _)) = amounts.iter().find(|(_, amount)| !amount.is_finite() || *amount < 0.0) {
            return wrong(key, "an amount of money is 0 or more");
        }
        if self.limits.money > 0.0 && prices.iter().sum::<f64>() + self.encoder.price <= 0.0 {
            return wrong("[limits] money", "it limits nothing as long as no price is set in [encoder] or [generator]");
        }
        let filter = match self.search.filter.trim() {
            "" => None,
            written => Some(Filter::parse(written).map_err(|error| {
                let message = format!("{error}");
                Error::new(ErrorKind::Configuration, message).at("[search]")
            })?),
        };
        Ok(Settings {
            distance: self.index.distance,
            index: self.index.kind,
            fields: self.index.fields,
            memory: self.limits.memory_megabytes.saturating_mul(1_000_000),
            filter,
            passages: self.search.passages,
            keyword_weight: self.search.keyword,
            vector_weight: self.search.vector,
            least_coverage: self.generator.least_coverage,
            price_sent: self.generator.price_sent,
            price_received: self.generator.price_received,
            price_encoded: self.encoder.price,
            most_tokens: (self.limits.tokens > 0).then_some(self.limits.tokens),
            most_money: (self.limits.money > 0.0).then_some(self.limits.money),
            largest_file: self.limits.file_megabytes.saturating_mul(1_000_000),
            pages: pages(&self.parse.pages).map_err(|error| error.at("[parse] pages"))?,
            most_pages: self.limits.pages,
            longest: Duration::from_secs(self.limits.seconds.max(1)),
            most_unpacked: self.limits.unpacked_megabytes.saturating_mul(1_000_000),
        })
    }
}

/// A range of pages as it is written: `3`, `1-10`; nothing for an empty text.
///
/// # Errors
/// When it is something else.
pub fn pages(written: &str) -> Result<Option<Pages>> {
    let wrong = || {
        let message = format!("{written:?} is no range of pages; write 3, or 1-10");
        Error::new(ErrorKind::Configuration, message)
    };
    if written.trim().is_empty() {
        return Ok(None);
    }
    let (first, last) = written.split_once(['-', '–']).unwrap_or((written, written));
    let number = |part: &str| part.trim().parse::<u32>().ok().filter(|page| *page > 0).ok_or_else(wrong);
    let (first, last) = (number(first)?, number(last)?);
    if last < first { Err(wrong()) } else { Ok(Some(Pages { first, last })) }
}

/// Finds the first key that is not known, and says which known one is nearest.
fn unknown_key(given: &toml::Table, known: &toml::Table, place: &str) -> Result<()> {
    for (key, value) in given {
        let path = if place.is_empty() { format!("[{key}]") } else { format!("{place} {key}") };
        match (known.get(key), value) {
            (Some(toml::Value::Table(known)), toml::Value::Table(given)) => unknown_key(given, known, &path)?,
            (Some(_), _) => {}
            // Names of the user's own.
            (None, _)
                if matches!(
                    place,
                    "[sources] metadata" | "[parse] json_metadata" | "[encoder] headers" | "[encoder] parameters"
                ) => {}
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_starter_has_every_setting() {
        let mut table = "";
        let mut written = Vec::new();
        for line in Config::STARTER.lines() {
            let line = line.strip_prefix("# ").unwrap_or(line);
            table = line.strip_prefix('[').and_then(|line| line.strip_suffix(']')).unwrap_or(table);
            written.extend(line.split_once(" = ").map(|(key, _)| format!("[{table}] {key}")));
        }
        let known = Config::known().expect("the settings");
        let settings = known.iter().flat_map(|(table, keys)| {
            let keys = keys.as_table().into_iter().flatten();
            keys.map(move |(key, _)| format!("[{table}] {key}"))
        });
        for setting in settings {
            assert!(written.contains(&setting), "{setting} is not in the starter");
        }
    }
}
