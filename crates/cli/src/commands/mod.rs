//! One module a verb.

pub mod ask;
pub mod build;
pub mod chunk;
pub mod demo;
pub mod evaluate;
pub mod parse;
pub mod search;
pub mod show;

use std::path::{Path, PathBuf};

use logothete::{Config, Corpus, Error, ErrorKind, Pipeline, Result};

use crate::args::Place;

/// The folder of the corpus when nobody names one.
const CORPUS: &str = "logothete.corpus";

/// The configuration in force, and the folder it is from.
fn configuration(place: &Place) -> Result<(Config, PathBuf)> {
    let here = std::env::current_dir()
        .map_err(|error| Error::new(ErrorKind::System, "there is no current folder").because(error))?;
    match place.config.clone().or_else(|| Config::find(&here)) {
        Some(file) => Ok((Config::read(&file)?, file.parent().map(Path::to_path_buf).unwrap_or_default())),
        None => Ok((Config::default(), PathBuf::new())),
    }
}

/// Opens the corpus that is meant. One that must be there already is not made.
async fn corpus(place: &Place, config: &Config, folder: &Path, must_exist: bool) -> Result<Corpus> {
    let path = place.corpus.clone().unwrap_or_else(|| folder.join(CORPUS));
    if must_exist && !path.join("corpus.db").is_file() {
        let message = "there is no corpus here; make one with: logothete build PATH, or name one with --corpus FOLDER";
        return Err(Error::new(ErrorKind::NotFound, message).at(path.display()));
    }
    Pipeline::from_config(config)?.open(path).await
}

/// Parsed documents, and what could not be read.
type Parsed = (Vec<logothete::document::Document>, Vec<logothete::Failure>);

/// Reads and parses the files under some paths, on a thread of the kind that builds: room for its stack, and no noise
/// from a parser that panics.
fn parsed(paths: &[PathBuf]) -> Result<Parsed> {
    let stopped = || Error::new(ErrorKind::System, "the thread that parses could not do its work");
    std::thread::scope(|scope| {
        let thread = std::thread::Builder::new().name(logothete::WORKER_THREAD.to_owned()).stack_size(16 << 20);
        let running = thread.spawn_scoped(scope, || parse_all(paths)).map_err(|error| stopped().because(error))?;
        running.join().map_err(|_| stopped())
    })
}

fn parse_all(paths: &[PathBuf]) -> Parsed {
    let mut documents = Vec::new();
    let mut failed = Vec::new();
    let mut fail = |document: String, reason: String| failed.push(logothete::Failure { document, reason });
    for path in paths {
        match logothete::list(path) {
            Ok(listing) => {
                if listing.items.is_empty() {
                    fail(path.display().to_string(), "this folder holds no files".to_owned());
                }
                for item in listing.items {
                    let read = std::fs::read(&item.file)
                        .map_err(|error| Error::new(ErrorKind::System, format!("it could not be read: {error}")))
                        .and_then(|bytes| logothete::parse(&item.path, &bytes));
                    match read {
                        Ok(document) => documents.push(document),
                        Err(error) => fail(item.path, error.to_string()),
                    }
                }
            }
            Err(error) => fail(path.display().to_string(), error.message().to_owned()),
        }
    }
    (documents, failed)
}

/// The list of what could not be read.
fn failures(failed: &[logothete::Failure], style: crate::view::Style) -> String {
    if failed.is_empty() {
        return String::new();
    }
    let mut out = format!("\n{}\n", style.warning("Could not be read"));
    for failure in failed {
        out.push_str(&format!("  {}\n{}", style.place(&failure.document), crate::view::indented(&failure.reason, 4)));
    }
    out
}
