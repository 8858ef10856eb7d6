//! The corpora that are served: the one that the service was started with, and those that are made through it.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant, SystemTime};

use logothete::{Corpus, Error, ErrorKind, Pipeline, Result};
use tokio::sync::Mutex;

use crate::uploads::Uploads;

/// The name of the corpus that the service was started with.
pub(crate) const MAIN: &str = "main";
/// The name of a visitor's own corpus.
pub(crate) const OWN: &str = "mine";
/// The folder of further corpora, in that of the first one.
const FOLDER: &str = "corpora";
/// The folder of visitors' own corpora.
const VISITORS: &str = "visitors";
/// So many corpora of visitors are open at once; then the one that is unused for the longest time is closed.
const MAX_OPEN: usize = 32;
/// So often it is looked for corpora that have expired.
const LOOKS: Duration = Duration::from_secs(60);
const MAX_NAME: usize = 40;

/// A corpus, and the files that were uploaded to it.
#[derive(Clone)]
pub(crate) struct Served {
    pub name: String,
    pub corpus: Corpus,
    /// The visitor whose own it is; `None` if it is for all.
    pub owner: Option<String>,
    /// `None` for a corpus in memory.
    pub uploads: Option<Uploads>,
}

impl Served {
    fn new(name: &str, corpus: Corpus) -> Self {
        let uploads = corpus.folder().map(Uploads::of);
        Self { name: name.to_owned(), owner: None, corpus, uploads }
    }
}

/// Returns a corpus as all who use the service see it: what `[serve] groups` may see, if groups decide.
fn shared(corpus: Corpus) -> Corpus {
    let groups = corpus.pipeline().config().serve.groups.clone();
    // The only error says that groups decide nothing.
    corpus.for_groups(groups).unwrap_or(corpus)
}

/// All corpora by name. A further one is opened when it is first needed.
pub(crate) struct Corpora {
    main: Served,
    pipeline: Pipeline,
    folder: Option<PathBuf>,
    open: Mutex<BTreeMap<String, Served>>,
    /// The corpora of visitors, and when each was used last.
    own: Mutex<BTreeMap<String, (Served, Instant)>>,
    own_time: Duration,
}

impl Corpora {
    pub(crate) fn new(main: Corpus, own_time: Duration) -> Self {
        let folder = main.folder().map(|folder| folder.join(FOLDER));
        let pipeline = main.pipeline().clone();
        Self {
            main: Served::new(MAIN, shared(main)),
            pipeline,
            folder,
            open: Mutex::default(),
            own: Mutex::default(),
            own_time,
        }
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
        let served = Served::new(name, shared(self.pipeline.open(folder).await?));
        open.insert(name.to_owned(), served.clone());
        Ok(served)
    }

    /// Returns a visitor's own corpus, which is made when they first need it.
    ///
    /// # Errors
    /// If the first corpus is in memory, or the disk fails.
    pub(crate) async fn own(&self, visitor: &str) -> Result<Served> {
        let mut own = self.own.lock().await;
        if let Some((served, used)) = own.get_mut(visitor) {
            *used = Instant::now();
            return Ok(served.clone());
        }
        let Some(folder) = self.visitors() else {
            let message = "a corpus in memory has no place for others; serve one that is in a folder";
            return Err(Error::new(ErrorKind::Refused, message));
        };
        if own.len() >= MAX_OPEN
            && let Some(oldest) = own.iter().min_by_key(|(_, (_, used))| *used).map(|(id, _)| id.clone())
        {
            own.remove(&oldest);
        }
        // The name of its jobs tells visitors apart.
        let mut served = Served::new(OWN, self.pipeline.open(folder.join(visitor)).await?.for_owner());
        served.owner = Some(visitor.to_owned());
        own.insert(visitor.to_owned(), (served.clone(), Instant::now()));
        Ok(served)
    }

    fn visitors(&self) -> Option<PathBuf> {
        self.main.corpus.folder().map(|folder| folder.join(VISITORS))
    }

    /// Removes visitors' corpora that nobody has used for long, again and again.
    pub(crate) async fn keep_own(&self) {
        let Some(folder) = self.visitors() else { return };
        loop {
            let used: Vec<String> = {
                let mut own = self.own.lock().await;
                own.retain(|_, (_, used)| used.elapsed() < self.own_time);
                own.keys().cloned().collect()
            };
            let (folder, most) = (folder.clone(), self.own_time);
            // It fails only if the program ends.
            let _ = tokio::task::spawn_blocking(move || remove_expired(&folder, &used, most)).await;
            tokio::time::sleep(LOOKS).await;
        }
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
        if name == MAIN || name == OWN || open.contains_key(name) || folder.exists() {
            return Err(Error::new(ErrorKind::Refused, "there is a corpus of this name already").at(name));
        }
        let served = Served::new(name, shared(self.pipeline.open(folder).await?));
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

/// Removes the folders of visitors that were not changed for long, except those in use.
fn remove_expired(folder: &Path, used: &[String], most: Duration) {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    for entry in entries.filter(|entry| !used.iter().any(|id| entry.file_name() == id.as_str())) {
        let changed = std::fs::metadata(entry.path().join("corpus.db")).and_then(|file| file.modified());
        let age = changed.ok().and_then(|changed| SystemTime::now().duration_since(changed).ok());
        if age.is_some_and(|age| age >= most) {
            // What cannot be removed now is tried again later.
            let _ = std::fs::remove_dir_all(entry.path());
        }
    }
}

/// Returns whether a text may be the name of a corpus, and so of a folder.
fn is_name(name: &str) -> bool {
    let fits = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-';
    (1..=MAX_NAME).contains(&name.len()) && name.bytes().all(fits)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_visitors_left_behind_is_removed_unless_it_is_in_use_or_young() {
        let folder = tempfile::tempdir().expect("a folder");
        let make = |name: &str| {
            std::fs::create_dir(folder.path().join(name)).expect("a folder");
            std::fs::write(folder.path().join(name).join("corpus.db"), "").expect("a file");
        };
        let left =
            || folder.path().read_dir().expect("a folder").flatten().map(|one| one.file_name()).collect::<Vec<_>>();
        make("one");
        make("two");
        remove_expired(folder.path(), &[], Duration::from_secs(3_600));
        assert_eq!(left().len(), 2);
        remove_expired(folder.path(), &["two".to_owned()], Duration::ZERO);
        assert_eq!(left(), ["two"]);
    }
}
