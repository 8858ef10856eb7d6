//! Files that were uploaded: they lie in a folder of the corpus, from which it is built like from any other.

use std::path::{Path, PathBuf};

use logothete::{Error, ErrorKind, Result};
use tokio::fs;
use tokio::io::AsyncWriteExt;

use crate::random::unguessable;

/// The folder of the files, in that of the corpus.
const FOLDER: &str = "uploads";
/// A file that is still coming has a name that begins so, and is not read by a build.
const COMING: &str = ".coming-";
const MAX_PATH: usize = 200;
const MAX_DEPTH: usize = 8;

/// The files of a corpus.
#[derive(Clone)]
pub(crate) struct Uploads {
    folder: PathBuf,
}

/// What became of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kept {
    New,
    Changed,
    /// The same content was there under the same name.
    Same,
}

/// A file that is coming. It is gone when this is dropped before the end.
pub(crate) struct Coming {
    to: PathBuf,
    place: Option<PathBuf>,
    file: fs::File,
    hash: blake3::Hasher,
    bytes: u64,
    max: u64,
}

impl Uploads {
    pub(crate) fn of(corpus: &Path) -> Self {
        Self { folder: corpus.join(FOLDER) }
    }

    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    /// Returns the file that a document was read from; `None` if it was read from elsewhere. `is_taken` says whether the corpus has a document of a name.
    ///
    /// A document has the name of its file, and that of the folder before it if another source had the name already.
    pub(crate) async fn file_of(&self, document: &str, is_taken: impl AsyncFnOnce(&str) -> bool) -> Option<String> {
        if let Some(file) = file_name(document)
            && self.has(file).await
        {
            return Some(file.to_owned());
        }
        let is_own = self.has(document).await && !is_taken(&format!("{FOLDER}/{document}")).await;
        is_own.then(|| document.to_owned())
    }

    /// Returns the number of files.
    pub(crate) async fn count(&self) -> usize {
        let folder = self.folder.clone();
        tokio::task::spawn_blocking(move || count(&folder, MAX_DEPTH)).await.unwrap_or_default()
    }

    /// Begins a file.
    ///
    /// # Errors
    /// If its name leads elsewhere, or the disk fails.
    pub(crate) async fn begin(&self, name: &str, max: u64) -> Result<Coming> {
        let to = self.folder.join(checked(name)?);
        fs::create_dir_all(&self.folder).await.map_err(|error| failed(&error))?;
        let place = self.folder.join(format!("{COMING}{}", unguessable()));
        let file = fs::File::create_new(&place).await.map_err(|error| failed(&error))?;
        Ok(Coming { to, place: Some(place), file, hash: blake3::Hasher::new(), bytes: 0, max })
    }

    /// Returns whether a file of this name was uploaded.
    pub(crate) async fn has(&self, name: &str) -> bool {
        match checked(name) {
            Ok(path) => fs::metadata(self.folder.join(path)).await.is_ok_and(|metadata| metadata.is_file()),
            Err(_) => false,
        }
    }

    /// Removes a file. Returns `false` if there is none.
    ///
    /// # Errors
    /// If the disk fails.
    pub(crate) async fn remove(&self, name: &str) -> Result<bool> {
        let Ok(path) = checked(name) else { return Ok(false) };
        match fs::remove_file(self.folder.join(path)).await {
            Ok(()) => Ok(true),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(failed(&error)),
        }
    }

    /// Removes what was still coming when a service ended.
    pub(crate) async fn sweep(&self) {
        let Ok(mut entries) = fs::read_dir(&self.folder).await else { return };
        while let Ok(Some(entry)) = entries.next_entry().await {
            if entry.file_name().to_string_lossy().starts_with(COMING) {
                // One that cannot be removed is not read either.
                let _ = fs::remove_file(entry.path()).await;
            }
        }
    }
}

impl Coming {
    /// Adds bytes.
    ///
    /// # Errors
    /// If the file becomes too large, or the disk is full.
    pub(crate) async fn add(&mut self, bytes: &[u8]) -> Result<()> {
        self.bytes += bytes.len() as u64;
        if self.bytes > self.max {
            let message = format!(
                "the file has more than {} MB; raise upload_megabytes in [serve], or split it",
                self.max / 1_000_000
            );
            return Err(Error::new(ErrorKind::Limit, message));
        }
        self.hash.update(bytes);
        self.file.write_all(bytes).await.map_err(|error| failed(&error))
    }

    /// Returns the number of bytes so far.
    pub(crate) fn bytes(&self) -> u64 {
        self.bytes
    }

    /// Puts the file in its place.
    ///
    /// # Errors
    /// If the disk fails.
    pub(crate) async fn finish(mut self) -> Result<Kept> {
        self.file.flush().await.map_err(|error| failed(&error))?;
        let before = hash_of(self.to.clone()).await;
        if before == Some(self.hash.finalize()) {
            return Ok(Kept::Same);
        }
        self.file.sync_all().await.map_err(|error| failed(&error))?;
        if let Some(parent) = self.to.parent() {
            fs::create_dir_all(parent).await.map_err(|error| failed(&error))?;
        }
        if let Some(place) = &self.place {
            fs::rename(place, &self.to).await.map_err(|error| failed(&error))?;
        }
        self.place = None;
        Ok(if before.is_some() { Kept::Changed } else { Kept::New })
    }
}

impl Drop for Coming {
    fn drop(&mut self) {
        if let Some(place) = &self.place {
            let _ = std::fs::remove_file(place);
        }
    }
}

/// Returns the name of the file of a document that is named with the folder of uploads; `None` if it is not.
pub(crate) fn file_name(document: &str) -> Option<&str> {
    document.strip_prefix(FOLDER)?.strip_prefix('/')
}

/// Returns the hash of a file; `None` if there is none.
async fn hash_of(file: PathBuf) -> Option<blake3::Hash> {
    let hash = tokio::task::spawn_blocking(move || {
        let mut hash = blake3::Hasher::new();
        hash.update_reader(std::fs::File::open(file).ok()?).ok()?;
        Some(hash.finalize())
    });
    hash.await.ok().flatten()
}

fn failed(error: &std::io::Error) -> Error {
    let advice = match error.kind() {
        std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded => "; free some space and send it again",
        _ => "",
    };
    Error::new(ErrorKind::System, format!("the file could not be kept: {error}{advice}"))
}

/// Returns a name as a path inside a folder.
///
/// # Errors
/// If it would lead out of it, is hidden, or is no name.
fn checked(name: &str) -> Result<PathBuf> {
    let invalid = |message: &str| Err(Error::new(ErrorKind::InvalidRequest, message).at(name.escape_debug()));
    let parts: Vec<&str> = name.split(['/', '\\']).collect();
    if name.len() > MAX_PATH || parts.len() > MAX_DEPTH {
        return invalid("the name of the file is too long");
    }
    if parts.iter().any(|part| part.is_empty() || part.starts_with('.')) {
        return invalid("the name of the file is empty, hidden, or leads elsewhere");
    }
    if name.chars().any(|c| c.is_control() || c == ':') {
        return invalid("the name of the file has a character that no name has");
    }
    Ok(parts.iter().collect())
}

fn count(folder: &Path, depth: usize) -> usize {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let one = |entry: std::fs::DirEntry| match entry.file_type() {
        Ok(kind) if kind.is_dir() && depth > 0 => count(&entry.path(), depth - 1),
        Ok(kind) => usize::from(kind.is_file()),
        Err(_) => 0,
    };
    entries.map(one).sum()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("notice.md", Some("notice.md"))]
    #[case("notices/2025/8.md", Some("notices/2025/8.md"))]
    #[case("notices\\8.md", Some("notices/8.md"))]
    #[case("Gezeiten für März.pdf", Some("Gezeiten für März.pdf"))]
    #[case("../corpus.db", None)]
    #[case("a/../../corpus.db", None)]
    #[case("/etc/passwd", None)]
    #[case("C:\\boot.ini", None)]
    #[case(".hidden", None)]
    #[case("a//b", None)]
    #[case("", None)]
    #[case("a\0b", None)]
    fn names(#[case] name: &str, #[case] path: Option<&str>) {
        assert_eq!(checked(name).ok(), path.map(PathBuf::from));
    }

    proptest! {
        #[test]
        fn no_name_leads_out(name in "[./\\\\a:]{0,12}|.{0,20}") {
            if let Ok(path) = checked(&name) {
                prop_assert!(path.is_relative());
                prop_assert!(path.components().all(|part| matches!(part, std::path::Component::Normal(_))));
            }
        }
    }

    #[tokio::test]
    async fn what_is_cut_off_or_too_large_leaves_nothing() {
        let folder = tempfile::tempdir().expect("a folder");
        let uploads = Uploads::of(folder.path());
        let mut cut = uploads.begin("a.md", 10).await.expect("a file");
        cut.add(b"12345").await.expect("room");
        drop(cut);
        let mut large = uploads.begin("b.md", 10).await.expect("a file");
        assert_eq!(large.add(b"12345678901").await.expect_err("too large").kind(), ErrorKind::Limit);
        drop(large);
        assert_eq!(uploads.count().await, 0);
        for (bytes, kept) in [(b"one", Kept::New), (b"one", Kept::Same), (b"two", Kept::Changed)] {
            let mut file = uploads.begin("c/d.md", 10).await.expect("a file");
            file.add(bytes).await.expect("room");
            assert_eq!(file.finish().await.expect("a file"), kept);
        }
        assert_eq!(uploads.count().await, 1);
        assert_eq!(std::fs::read(uploads.folder().join("c/d.md")).expect("a file"), b"two");
        assert!(uploads.has("c/d.md").await && uploads.remove("c/d.md").await.expect("removed"));
        assert!(!uploads.remove("c/d.md").await.expect("nothing"));
    }
}
