//! The subcommands, a module each.

pub mod ask;
mod batch;
pub mod build;
pub mod chat;
pub mod check;
pub mod chunk;
pub mod demo;
pub mod describe;
pub mod digest;
pub mod evaluate;
pub mod new;
mod output;
pub mod parse;
mod progress;
mod routed;
pub mod search;
#[cfg(feature = "serve")]
pub mod serve;
pub mod show;
pub mod tree;
pub mod tune;
pub mod upkeep;

use std::path::{Path, PathBuf};

use logothete::document::Document;
use logothete::search::Filter;
use logothete::{Config, Corpus, Error, ErrorKind, Failure, FolderSource, Pipeline, Result};

use crate::args::{CorpusArguments, PlanChanges};

/// The folder of the corpus when nobody names one.
const CORPUS: &str = "logothete.corpus";

/// Returns the configuration in force, and the folder it is from.
fn configuration(at: &CorpusArguments) -> Result<(Config, PathBuf)> {
    let here = std::env::current_dir()
        .map_err(|error| Error::new(ErrorKind::System, "there is no current folder").because(error))?;
    match at.config.clone().or_else(|| Config::find(&here)) {
        Some(file) => Ok((Config::read(&file)?, file.parent().map(Path::to_path_buf).unwrap_or_default())),
        None => Ok((Config::default(), PathBuf::new())),
    }
}

/// Returns a configuration with changes to its table `[search]`.
fn changed(mut config: Config, changes: &PlanChanges) -> Result<Config> {
    for change in &changes.set {
        let Some((key, value)) = change.split_once('=') else {
            let message = format!("“{change}” sets nothing; write a key and a value, such as rerank.kind=none");
            return Err(Error::new(ErrorKind::InvalidRequest, message).at("--set"));
        };
        let key = key.trim();
        let key = if key.starts_with("search.") { key.to_owned() } else { format!("search.{key}") };
        config = config.with_setting(&key, value.trim())?;
    }
    Ok(config)
}

/// Returns the file of the configuration in force, or the one that would be.
fn configuration_file(at: &CorpusArguments) -> PathBuf {
    let here = std::env::current_dir().unwrap_or_default();
    at.config.clone().or_else(|| Config::find(&here)).unwrap_or_else(|| here.join(Config::FILE_NAME))
}

/// Returns a setting and its values, as they are written on the command line.
fn setting_values<'a>(option: &str, written: &'a str) -> Result<(&'a str, Vec<&'a str>)> {
    let (key, values) = written.split_once('=').ok_or_else(|| {
        let message = format!("“{written}” names no values; write a setting and values such as search.keyword=0.3,0.7");
        Error::new(ErrorKind::InvalidRequest, message).at(option)
    })?;
    Ok((key.trim(), values.split(',').map(str::trim).collect()))
}

/// Returns the pipeline of a configuration. It reads documents in processes of this program.
fn pipeline(config: &Config) -> Result<Pipeline> {
    let made = Pipeline::from_config(config)?;
    // Where the program cannot tell its own file, it reads in its own process.
    Ok(match std::env::current_exe() {
        Ok(program) => made.with_reader(program, [crate::READER]),
        Err(_) => made,
    })
}

/// Opens the corpus that is meant. One that must be there already is not made.
async fn corpus(at: &CorpusArguments, config: &Config, folder: &Path, must_exist: bool) -> Result<Corpus> {
    let corpus = pipeline(config)?.open(corpus_folder(at, folder, must_exist)?).await?;
    match &at.groups {
        Some(groups) => corpus.for_groups(groups.clone()),
        // Who can run the command can read the files.
        None => Ok(corpus.for_owner()),
    }
}

/// Returns the folder of the corpus.
fn corpus_folder(at: &CorpusArguments, folder: &Path, must_exist: bool) -> Result<PathBuf> {
    let path = at.corpus.clone().unwrap_or_else(|| folder.join(CORPUS));
    if must_exist && !path.join("corpus.db").is_file() {
        let message = "there is no corpus here; make one with: logothete build PATH, or name one with --corpus FOLDER";
        return Err(Error::new(ErrorKind::NotFound, message).at(path.display()));
    }
    Ok(path)
}

/// Parses a filter of the command line.
fn filter(written: Option<&str>) -> Result<Option<Filter>> {
    written.map(Filter::parse).transpose().map_err(|error| {
        let place = error.place().unwrap_or_default().replacen("filter", "--filter", 1);
        Error::new(error.kind(), error.message().to_owned()).at(place)
    })
}

/// Returns the queries: the words of the command line, or each line of a file.
fn asked(words: &[String], file: Option<&Path>) -> Result<Vec<String>> {
    let Some(file) = file else { return Ok(vec![words.join(" ")]) };
    let unread = |error: std::io::Error| {
        Error::new(ErrorKind::NotFound, format!("it could not be read: {error}")).at(file.display()).because(error)
    };
    let text = std::fs::read_to_string(file).map_err(unread)?;
    let lines: Vec<String> = text
        .trim_start_matches('\u{feff}')
        .lines()
        .map(str::trim)
        .filter(|line| !line.is_empty())
        .map(str::to_owned)
        .collect();
    if lines.is_empty() {
        return Err(Error::new(ErrorKind::InvalidRequest, "this file is empty; write one to a line").at(file.display()));
    }
    Ok(lines)
}

/// Returns the result for one of several queries.
fn one_of_several(asked: &str, shown: &str, style: crate::view::Style) -> String {
    format!("{} {}\n\n{shown}", style.faint("?"), style.strong(asked))
}

/// Parsed documents, and what could not be read.
pub struct Parsed {
    pub documents: Vec<Read>,
    pub failed: Vec<Failure>,
    /// What read them.
    pub pipeline: Pipeline,
}

/// A parsed document and the file it is from.
pub struct Read {
    pub document: Document,
    pub file: PathBuf,
}

/// Reads and parses the files under some paths, in order.
fn parsed(config: &Config, paths: &[PathBuf]) -> Result<Parsed> {
    let pipeline = pipeline(config)?;
    let mut parsed = Parsed { documents: Vec::new(), failed: Vec::new(), pipeline };
    for path in paths {
        if let Err(error) = parse_all(config, path, &mut parsed) {
            parsed.failed.push(Failure::new(path.display().to_string(), error.message()));
        }
    }
    Ok(parsed)
}

fn parse_all(config: &Config, path: &Path, parsed: &mut Parsed) -> Result<()> {
    let source = FolderSource::new(path)?.filtered(&config.sources.include, &config.sources.exclude)?;
    let mut any = false;
    for item in source.walk() {
        any = true;
        let read = item.and_then(|item| {
            let max = config.limits.max_file_bytes();
            let content = source.content(&item, max).map_err(|error| error.at(&item.path))?;
            match parsed.pipeline.parse(&item.path, content.bytes) {
                Ok(document) => Ok(Read { document, file: PathBuf::from(item.place) }),
                Err(error) => Err(error.at(&item.path)),
            }
        });
        match read {
            Ok(read) => parsed.documents.push(read),
            Err(error) => {
                parsed.failed.push(Failure::new(error.place().unwrap_or_default(), error.message()));
            }
        }
    }
    if any { Ok(()) } else { Err(Error::new(ErrorKind::NotFound, "this folder holds no files")) }
}

/// Returns the exit code of a command that read some files, and failed to read others.
fn code_of(read: usize, failed: &[Failure]) -> u8 {
    match (read, failed) {
        (0, _) => crate::FAILED,
        (_, []) => crate::DONE,
        _ => crate::IN_PART,
    }
}

/// Returns the list of what could not be read.
fn failures(failed: &[Failure], style: crate::view::Style) -> String {
    if failed.is_empty() {
        return String::new();
    }
    let mut out = format!("\n{}\n", style.warning("Could not be read"));
    for failure in failed {
        out.push_str(&format!("  {}\n{}", style.place(&failure.document), crate::view::indented(&failure.reason, 4)));
    }
    out
}
