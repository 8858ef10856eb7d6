//! The corpora that are served: the one that the service was started with, and those that are made through it.

use std::collections::BTreeMap;
use std::path::PathBuf;

use logothete::{Corpus, Error, ErrorKind, Pipeline, Result};
use tokio::sync::Mutex;

use crate::uploads::Uploads;

/// The name of the corpus that the service was started with.
pub(crate) const MAIN: &str = "main";
/// The folder of further corpora, in that of the first one.
const FOLDER: &str = "corpora";
const MAX_NAME: usize = 40;

/// A corpus, and the files that were uploaded to it.
#[derive(Clone)]
pub(crate) struct Served {
    pub name: String,
    pub corpus: Corpus,
    /// `None` for a corpus in memory.
    pub uploads: Option<Uploads>,
}

impl Served {
    fn new(name: &str, corpus: Corpus) -> Self {
        let uploads = corpus.folder().map(Uploads::of);
        Self { name: name.to_owned(), corpus, uploads }
    }
}

/// All corpora by name. A further one is opened when it is first needed.
pub(crate) struct Corpora {
    main: Served,
    pipeline: Pipeline,
    folder: Option<PathBuf>,
    open: Mutex<BTreeMap<String, Served>>,
}

impl Corpora {
    pub(crate) fn new(main: Corpus) -> Self {
        let folder = main.folder().map(|folder| folder.join(FOLDER));
        let pipeline = main.pipeline().clone();
        Self { main: Served::new(MAIN, main), pipeline, folder, open: Mutex::default() }
    }

    /// Returns the first corpus.
    pub(crate) fn main(&self) -> Corpus {
        self.main.corpus.clone()
    }

    /// Returns the corpus of a name; `None` means the first.
    ///
    /// # Errors
    /// If there is none.
    pub(crate) async fn get(&self, name: Option<&str>) -> Result<Served> {
        let name = name.unwrap_or(MAIN);
        if name == MAIN {
            return Ok(self.main.clone());
        }
        let mut open = self.open.lock().await;
        if let Some(served) = open.get(name) {
            return Ok(served.clone());
        }
        let unknown = || Error::new(ErrorKind::NotFound, "there is no corpus of this name").at(name);
        let folder = self.folder.as_ref().filter(|_| is_name(name)).ok_or_else(unknown)?.join(name);
        if !folder.join("corpus.db").is_file() {
            return Err(unknown());
        }
        let served = Served::new(name, self.pipeline.open(folder).await?);
        open.insert(name.to_owned(), served.clone());
        Ok(served)
    }

    /// Returns the names, the first corpus first.
    pub(crate) async fn names(&self) -> Vec<String> {
        let folder = self.folder.clone();
        let listed = tokio::task::spawn_blocking(move || {
            let entries = folder.and_then(|folder| std::fs::read_dir(folder).ok()).into_iter().flatten().flatten();
            let made = entries.filter(|entry| entry.path().join("corpus.db").is_file());
            made.filter_map(|entry| entry.file_name().into_string().ok()).filter(|name| is_name(name)).collect()
        });
        let mut names: Vec<String> = listed.await.unwrap_or_default();
        names.sort();
        names.insert(0, MAIN.to_owned());
        names
    }

    /// Makes an empty corpus.
    ///
    /// # Errors
    /// If the name is taken or is none, or the disk fails.
    pub(crate) async fn make(&self, name: &str) -> Result<Served> {
        if !is_name(name) {
            let message = format!("a name has 1 to {MAX_NAME} small letters, digits and hyphens");
            return Err(Error::new(ErrorKind::InvalidRequest, message).at("name"));
        }
        let Some(folder) = &self.folder else {
            let message = "a corpus in memory has no place for others; serve one that is in a folder";
            return Err(Error::new(ErrorKind::Refused, message));
        };
        let mut open = self.open.lock().await;
        let folder = folder.join(name);
        if name == MAIN || open.contains_key(name) || folder.exists() {
            return Err(Error::new(ErrorKind::Refused, "there is a corpus of this name already").at(name));
        }
        let served = Served::new(name, self.pipeline.open(folder).await?);
        open.insert(name.to_owned(), served.clone());
        Ok(served)
    }

    /// Removes a corpus that was made here, with all its files.
    ///
    /// # Errors
    /// If there is none, it is the first, or the disk fails.
    pub(crate) async fn remove(&self, name: &str) -> Result<()> {
        if name == MAIN {
            return Err(
                Error::new(ErrorKind::Refused, "the service was started with this corpus and keeps it").at(name)
            );
        }
        let served = self.get(Some(name)).await?;
        self.open.lock().await.remove(name);
        let Some(folder) = served.corpus.folder().map(PathBuf::from) else { return Ok(()) };
        drop(served);
        let removed = tokio::task::spawn_blocking(move || std::fs::remove_dir_all(folder)).await;
        let failed = |error: std::io::Error| {
            Error::new(ErrorKind::System, format!("the corpus could not be removed: {error}")).because(error)
        };
        removed.unwrap_or(Ok(())).map_err(failed)
    }
}

/// Returns whether a text may be the name of a corpus, and so of a folder.
fn is_name(name: &str) -> bool {
    let fits = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-';
    (1..=MAX_NAME).contains(&name.len()) && name.bytes().all(fits)
}
