//! The segment files: written once, synced, named by their content, mapped into memory to be read.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};

use logothete_core::{Error, ErrorKind, Result};

use super::map::MappedFile;

/// The folder of a corpus's segment files.
#[derive(Clone, Debug)]
pub(crate) struct Store {
    folder: PathBuf,
}

fn failed(what: &str, path: &Path, error: std::io::Error) -> Error {
    Error::new(ErrorKind::System, format!("{what}: {error}")).at(path.display()).because(error)
}

impl Store {
    /// The store in a corpus's folder, made if it is not there.
    pub(crate) fn open(corpus: &Path) -> Result<Self> {
        let folder = corpus.join("segments");
        fs::create_dir_all(&folder).map_err(|error| failed("this folder could not be made", &folder, error))?;
        Ok(Self { folder })
    }

    /// Writes a file and syncs it; returns its name. After [`sync`](Self::sync) it outlives a loss of power.
    pub(crate) fn write(&self, bytes: &[u8], ending: &str) -> Result<String> {
        let name = format!("{}.{ending}", &blake3::hash(bytes).to_hex()[..32]);
        let path = self.folder.join(&name);
        // A file left over from a build that was killed may have this name and half its bytes: write it anew.
        let mut file = File::create(&path).map_err(|error| failed("this file could not be written", &path, error))?;
        file.write_all(bytes)
            .and_then(|()| file.sync_all())
            .map_err(|error| failed("this file could not be written", &path, error))?;
        Ok(name)
    }

    /// Syncs the folder, so that the names of new files are on the disk.
    pub(crate) fn sync(&self) -> Result<()> {
        File::open(&self.folder)
            .and_then(|folder| folder.sync_all())
            .map_err(|error| failed("this folder could not be synced", &self.folder, error))
    }

    /// Maps a file.
    pub(crate) fn map(&self, name: &str) -> Result<MappedFile> {
        let path = self.folder.join(name);
        MappedFile::open(&path).map_err(|error| {
            let message =
                format!("a file of the index could not be opened: {error}; remove the corpus and build again");
            Error::new(ErrorKind::Corpus, message).at(path.display()).because(error)
        })
    }

    /// Removes the files that no segment names. Only for the one who holds the writer's lock.
    ///
    /// A reader that has mapped a removed file keeps its contents.
    pub(crate) fn sweep(&self, named: &HashSet<String>) -> Result<()> {
        let entries = fs::read_dir(&self.folder)
            .map_err(|error| failed("this folder could not be listed", &self.folder, error))?;
        for entry in entries.flatten() {
            if !named.contains(&*entry.file_name().to_string_lossy()) {
                // What cannot be removed now is removed by a later sweep.
                let _ = fs::remove_file(entry.path());
            }
        }
        Ok(())
    }

    /// How many bytes the files have together.
    pub(crate) fn bytes(&self) -> u64 {
        let entries = fs::read_dir(&self.folder).into_iter().flatten().flatten();
        entries.filter_map(|entry| entry.metadata().ok()).map(|data| data.len()).sum()
    }
}
