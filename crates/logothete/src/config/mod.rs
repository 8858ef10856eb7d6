//! `logothete.toml`: a table for each stage. Everything here is plain data; the stages are made from it in `pipeline`.

mod answer;
mod chunk;
mod digest;
mod encoder;
mod generator;
mod index;
mod keys;
mod limits;
mod parse;
mod privacy;
mod prompt;
mod reranker;
mod routing;
mod search;
mod serve;
mod sources;
mod tree;
mod types;
mod written;

pub use answer::AnswerConfig;
pub use chunk::{ChunkConfig, ChunkContext, ChunkUnit, Strategy};
pub use digest::{DigestConfig, DigestFormat, DigestMethod};
pub use encoder::{EncoderConfig, EncoderKind};
pub use generator::{GeneratorConfig, GeneratorKind, GeneratorRole};
pub use index::IndexConfig;
pub use limits::LimitsConfig;
pub use parse::{Ocr, ParseConfig};
pub use privacy::PrivacyConfig;
pub use prompt::PromptConfig;
pub use reranker::RerankerConfig;
pub use routing::{RouteConfig, RoutingConfig};
pub use search::{SearchConfig, TransformKind};
pub use serve::{ServeConfig, Uploads};
pub use sources::SourcesConfig;
pub use tree::{TreeConfig, TreeKind};

use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};

use logothete_core::suggest::closest;
use logothete_core::{Error, ErrorKind, Result, TokenUsage};
use serde::{Deserialize, Serialize};

/// All settings. What a file leaves out has its default.
///
/// ```
/// use logothete::Config;
///
/// let config = Config::parse("[search]\npassages = 5\n")?;
/// assert_eq!((config.search.passages, config.search.vector), (5, 1.0));
/// # Ok::<(), logothete::Error>(())
/// ```
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct Config {
    /// The sources of documents.
    pub sources: SourcesConfig,
    /// How documents are read.
    pub parse: ParseConfig,
    /// How documents are cut.
    pub chunk: ChunkConfig,
    /// How text becomes vectors.
    pub encoder: EncoderConfig,
    /// How vectors and words are indexed.
    pub index: IndexConfig,
    /// How passages are found.
    pub search: SearchConfig,
    /// What puts passages in a new order, if it is not part of the library.
    pub reranker: RerankerConfig,
    /// Several corpora under one name.
    pub routing: RoutingConfig,
    /// How answers are asked for.
    pub prompt: PromptConfig,
    /// How answers without a model are made.
    pub answer: AnswerConfig,
    /// What is told of whole documents, by the names of digests. What has the name `default` is told if none is named.
    pub digest: BTreeMap<String, DigestConfig>,
    /// The tree of summaries.
    pub tree: TreeConfig,
    /// What writes answers and contexts.
    pub generator: GeneratorConfig,
    /// The permissions to send data.
    pub privacy: PrivacyConfig,
    /// The service on this machine.
    pub serve: ServeConfig,
    /// Bounds on what is read, held in memory and spent.
    pub limits: LimitsConfig,
}

impl Config {
    /// The name of a configuration file.
    pub const FILE_NAME: &str = "logothete.toml";

    /// A configuration file to start from: every setting with its default and a short explanation.
    pub const STARTER: &str = include_str!("starter.toml");

    /// Writes [`STARTER`](Self::STARTER) to a new file, with `paths` in `[sources]`.
    ///
    /// # Errors
    /// If the file exists or cannot be written.
    pub fn write_starter(file: &Path, paths: &[PathBuf]) -> Result<()> {
        let array: toml::value::Array = paths.iter().map(|path| path.display().to_string().into()).collect();
        let line = format!("paths = {}", toml::Value::Array(array));
        let text = Self::STARTER.replacen("paths = []", &line, 1);
        let failed = |error: std::io::Error| {
            let message = match error.kind() {
                std::io::ErrorKind::AlreadyExists => {
                    "this file exists already; edit it, or choose another name".to_owned()
                }
                _ => format!("this file could not be written: {error}"),
            };
            Error::new(ErrorKind::System, message).at(file.display()).because(error)
        };
        let mut options = std::fs::OpenOptions::new();
        let mut created = options.write(true).create_new(true).open(file).map_err(failed)?;
        created.write_all(text.as_bytes()).and_then(|()| created.sync_all()).map_err(failed)
    }

    /// Returns the configuration file for a folder: the nearest `logothete.toml` in it or above it.
    pub fn find(folder: &Path) -> Option<PathBuf> {
        folder.ancestors().map(|folder| folder.join(Self::FILE_NAME)).find(|file| file.is_file())
    }

    /// Reads a configuration file. Relative paths in it are relative to its folder.
    ///
    /// # Errors
    /// If the file cannot be read or is not TOML, a key is unknown (the message names the nearest known one), or a value is
    /// invalid.
    pub fn read(file: &Path) -> Result<Self> {
        let place = file.display();
        let text = std::fs::read_to_string(file).map_err(|error| {
            Error::new(ErrorKind::NotFound, format!("this file could not be read: {error}")).at(place).because(error)
        })?;
        let mut config = Self::parse(&text).map_err(|error| error.at(file.display()))?;
        let folder = file.parent().unwrap_or(Path::new("."));
        for path in &mut config.sources.paths {
            *path = folder.join(&path);
        }
        let corpora = config.routing.routes.values_mut().map(|route| &mut route.corpus);
        let folders = [&mut config.encoder.folder, &mut config.reranker.folder, &mut config.prompt.templates];
        for path in folders.into_iter().chain(corpora) {
            if !path.as_os_str().is_empty() {
                *path = folder.join(&path);
            }
        }
        Ok(config)
    }

    /// Reads a configuration from its text.
    ///
    /// # Errors
    /// As [`read`](Self::read).
    pub fn parse(text: &str) -> Result<Self> {
        let invalid = |message: String| Error::new(ErrorKind::Configuration, message);
        let line = |error: &toml::de::Error| {
            let start = error.span().map_or(0, |span| span.start.min(text.len()));
            format!("line {}", text[..start].matches('\n').count() + 1)
        };
        let table: toml::Table = text.parse().map_err(|error: toml::de::Error| {
            invalid(format!("this is not valid TOML: {}", error.message())).at(line(&error))
        })?;
        keys::check(&table, &keys::tables::<Self>())?;
        toml::from_str(text).map_err(|error| invalid(types::plain(error.message())).at(line(&error)))
    }

    /// Returns these settings with another value of one of them, such as `search.keyword` and `0.7`. A value that is no TOML is a text.
    ///
    /// # Errors
    /// If the key is unknown (the message names the nearest known one), or the value is invalid.
    pub fn with_setting(&self, key: &str, value: &str) -> Result<Self> {
        let invalid = |message: String| Error::new(ErrorKind::Configuration, message).at(key);
        let mut table = toml::Table::try_from(self).map_err(|error| invalid(format!("the settings: {error}")))?;
        let written = format!("value = {value}").parse::<toml::Table>().ok();
        let value = written
            .and_then(|mut table| table.remove("value"))
            .unwrap_or_else(|| toml::Value::String(value.to_owned()));
        let mut at = &mut table;
        let (folders, last) = key.rsplit_once('.').unwrap_or(("", key));
        for name in folders.split('.').filter(|name| !name.is_empty()) {
            let next = at.entry(name).or_insert_with(|| toml::Value::Table(toml::Table::new()));
            at = next.as_table_mut().ok_or_else(|| invalid(format!("{name} is no table of settings")))?;
        }
        at.insert(last.to_owned(), value);
        let text = toml::to_string(&table).map_err(|error| invalid(format!("the settings: {error}")))?;
        // A line of this text would say nothing to anybody.
        let config = Self::parse(&text).map_err(|error| invalid(error.message().to_owned()))?;
        config.validate()?;
        Ok(config)
    }

    /// Returns the value of a setting as it is written, such as that of `search.keyword`; `None` if there is none of this name.
    pub fn setting(&self, key: &str) -> Option<String> {
        match self.value(key)? {
            toml::Value::Float(number) => Some((number as f32).to_string()),
            toml::Value::String(text) => Some(text),
            other => Some(other.to_string()),
        }
    }

    /// Returns the value of a setting as a configuration file has it, such as `"none"` with its quotes; `None` if there is none of this name.
    pub fn written(&self, key: &str) -> Option<String> {
        self.value(key).map(|value| value.to_string())
    }

    fn value(&self, key: &str) -> Option<toml::Value> {
        let table = toml::Value::try_from(self).ok()?;
        key.split('.').try_fold(&table, |value, part| value.get(part)).cloned().map(shortest)
    }

    /// Checks every value that the types do not check.
    ///
    /// # Errors
    /// If a value is invalid; the place names its table and key.
    pub fn validate(&self) -> Result<()> {
        self.sources.validate()?;
        self.index.validate()?;
        self.search.validate()?;
        self.routing.validate(&self.search)?;
        self.answer.validate()?;
        self.digest.iter().try_for_each(|(name, digest)| digest.validate(name))?;
        self.tree.validate()?;
        self.generator.validate()?;
        self.encoder.validate()?;
        self.serve.validate()?;
        self.limits.validate(self.has_prices())
    }

    /// Returns the digest of a name. The default one needs not be configured.
    ///
    /// # Errors
    /// If there is none of this name; the message names the nearest one.
    pub fn digest(&self, name: &str) -> Result<DigestConfig> {
        if let Some(digest) = self.digest.get(name) {
            return Ok(digest.clone());
        }
        if name == DigestConfig::DEFAULT {
            return Ok(DigestConfig::default());
        }
        let names = self.digest.keys().cloned().chain([DigestConfig::DEFAULT.to_owned()]);
        let hint = match closest(name, names.clone()) {
            Some(near) => format!("did you mean {near}?"),
            None => format!("the digests are {}", names.collect::<Vec<_>>().join(", ")),
        };
        let message = format!("no digest has this name; {hint}");
        Err(Error::new(ErrorKind::Configuration, message).at(format!("[digest.{name}]")))
    }

    /// Returns `true` if anything has a price.
    pub(crate) fn has_prices(&self) -> bool {
        self.generator.price_sent + self.generator.price_received + self.encoder.price > 0.0
    }

    /// Returns the cost of tokens of the generator and the encoder; `None` if no price is set.
    pub(crate) fn cost(&self, generated: TokenUsage, encoded: u64) -> Option<f64> {
        self.has_prices().then(|| self.generator.price(generated) + self.encoder.price_of(encoded))
    }
}

/// Returns a value with the fewest digits for each number. Settings are 32-bit numbers; written as 64-bit ones, 0.65 would have many digits.
fn shortest(value: toml::Value) -> toml::Value {
    match value {
        toml::Value::Float(number) => toml::Value::Float((number as f32).to_string().parse().unwrap_or(number)),
        toml::Value::Table(table) => {
            toml::Value::Table(table.into_iter().map(|(key, value)| (key, shortest(value))).collect())
        }
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[test]
    fn the_starter_lists_every_setting() {
        let mut table = "";
        let mut listed = Vec::new();
        for line in Config::STARTER.lines() {
            let line = line.strip_prefix("# ").unwrap_or(line);
            table = line.strip_prefix('[').and_then(|line| line.strip_suffix(']')).unwrap_or(table);
            listed.extend(line.split_once(" = ").map(|(key, _)| format!("[{table}] {key}")));
        }
        let tables = keys::tables::<Config>();
        assert_eq!(tables.len(), 16);
        for setting in tables.iter().flat_map(|(table, keys)| keys.iter().map(move |key| format!("[{table}] {key}"))) {
            assert!(listed.contains(&setting), "{setting} is not in the starter");
        }
    }

    #[test]
    fn the_starter_sets_the_defaults() {
        assert_eq!(Config::parse(Config::STARTER).expect("a configuration"), Config::default());
    }

    #[rstest]
    #[case("[chunk]\nlimit = -3", "this needs a whole number of 0 or more, not a whole number below 0")]
    #[case("[chunk]\nlimit = \"many\"", "this needs a whole number of 0 or more, not text")]
    #[case("[chunk]\nlimit = 2.5", "this needs a whole number of 0 or more, not a number with a fraction")]
    #[case("[search]\nkeyword = \"much\"", "this needs a number, not text")]
    #[case("[encoder]\nheaders = \"Bearer SECRET\"", "this needs a table, such as { name = \"value\" }, not text")]
    #[case("[sources]\npaths = \"docs\"", "this needs a list, such as [\"a\", \"b\"], not text")]
    #[case("[sources]\nmetadata = { a = [1] }", "this needs text, a number, a date, or true or false, not a list")]
    #[case("[parse]\ncomments = 1", "this needs true or false, not a whole number")]
    fn values_of_another_type(#[case] text: &str, #[case] expected: &str) {
        let error = Config::parse(text).expect_err("another type");
        assert_eq!((error.message(), error.place()), (expected, Some("line 2")));
    }

    #[rstest]
    #[case("search.keyword", "0.7", |config: &Config| (config.search.keyword - 0.7).abs() < 1e-6)]
    #[case("search.passages", "3", |config: &Config| config.search.passages == 3)]
    #[case("prompt.language", "French", |config: &Config| config.prompt.language == "French")]
    #[case("index.fields.title", "2", |config: &Config| config.index.fields.title == 2)]
    fn one_setting_is_replaced(#[case] key: &str, #[case] value: &str, #[case] holds: fn(&Config) -> bool) {
        let base = Config::parse("[search]\ndepth = 70\n").expect("settings");
        let config = base.with_setting(key, value).expect("a setting");
        assert!(holds(&config) && config.search.depth == 70 && config != base, "{config:?}");
    }

    #[rstest]
    #[case("search.keyword", Some("0.5"))]
    #[case("search.passages", Some("10"))]
    #[case("answer.min_confidence", Some("0.3"))]
    #[case("chunk.strategy", Some("structure"))]
    #[case("index.fields.title", Some("1"))]
    #[case("chunk.limit", None)]
    #[case("search.keywrd", None)]
    #[case("", None)]
    fn a_setting_is_read_as_it_is_written(#[case] key: &str, #[case] value: Option<&str>) {
        assert_eq!(Config::default().setting(key).as_deref(), value);
    }

    #[rstest]
    #[case("search.keywrd", "1", "did you mean `keyword`?")]
    #[case("serch.keyword", "1", "did you mean `search`?")]
    #[case("search.keyword.more", "1", "keyword is no table of settings")]
    #[case("search.passages", "0", "set 1 or more")]
    #[case("search.passages", "many", "this needs a whole number")]
    fn a_setting_that_cannot_be_is_named(#[case] key: &str, #[case] value: &str, #[case] said: &str) {
        let error = Config::default().with_setting(key, value).expect_err("a mistake").to_string();
        assert!(error.contains(said), "{error}");
    }

    #[test]
    fn a_role_has_settings_of_its_own() {
        let text =
            "[generator]\nkind = \"command\"\ncommand = [\"large\"]\n[generator.roles.context]\ncommand = [\"small\"]";
        let config = Config::parse(text).expect("a configuration");
        config.validate().expect("valid settings");
        let command = |role| config.generator.for_role(role).expect("settings").command;
        assert_eq!(
            (command(GeneratorRole::Answer), command(GeneratorRole::Context)),
            (vec!["large".to_owned()], vec!["small".to_owned()])
        );
        let wrong =
            text.replace("ncommand = [\"small\"]", "ncomand = 1").replace("command = [\"small\"]", "comand = 1");
        let error = Config::parse(&wrong).and_then(|config| config.validate()).expect_err("an unknown key");
        assert_eq!(
            error.to_string(),
            "[generator.roles.context]: unknown key `comand` in [generator]; did you mean `command`?"
        );
    }

    #[rstest]
    #[case("[chunk]\nlimt = 3", "unknown key `limt` in [chunk]; did you mean `limit`?")]
    #[case("[chnk]\nlimit = 3", "unknown key `chnk`; did you mean `chunk`?")]
    #[case(
        "[privacy]\nzebra = 1",
        "unknown key `zebra` in [privacy]; known keys: allow, local_only, mask, mask_patterns"
    )]
    fn unknown_keys(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(Config::parse(text).expect_err("an unknown key").message(), expected);
    }
}
