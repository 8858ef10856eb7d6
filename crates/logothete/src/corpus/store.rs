//! The segment files: written once, synced, named by their content, mapped into memory to be read.

use std::collections::{HashMap, HashSet};
use std::fs::{self, File};
use std::io::{self, BufWriter, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use logothete_core::segment::SegmentHeader;
use logothete_core::{Error, ErrorKind, Result};

use super::map::MappedFile;

/// What the name of a file that is still being written ends with.
const UNFINISHED: &str = "part";

/// Where a corpus has its segments.
#[derive(Debug)]
pub(crate) enum Store {
    /// In a folder.
    Folder(PathBuf),
    /// In memory.
    Memory(Mutex<HashMap<String, Arc<Vec<u8>>>>),
}

/// The bytes of a segment.
#[derive(Debug)]
pub(crate) enum Bytes {
    Mapped(MappedFile),
    Held(Arc<Vec<u8>>),
}

impl AsRef<[u8]> for Bytes {
    fn as_ref(&self) -> &[u8] {
        match self {
            Self::Mapped(file) => file.as_ref(),
            Self::Held(bytes) => bytes,
        }
    }
}

fn failed(what: &str, path: &Path, error: io::Error) -> Error {
    let advice = match error.kind() {
        io::ErrorKind::StorageFull => "; make room and build again: what was committed is kept",
        io::ErrorKind::ReadOnlyFilesystem | io::ErrorKind::PermissionDenied => {
            "; make the folder writable, or build in another with --corpus FOLDER"
        }
        _ => "",
    };
    Error::new(ErrorKind::System, format!("{what}: {error}{advice}")).at(path.display()).because(error)
}

impl Store {
    /// The store in a corpus's folder, made if it is not there.
    pub(crate) fn open(corpus: &Path) -> Result<Self> {
        let folder = corpus.join("segments");
        make_folder(&folder)?;
        Ok(Self::Folder(folder))
    }

    /// A store in memory.
    pub(crate) fn in_memory() -> Self {
        Self::Memory(Mutex::default())
    }

    /// Writes a segment and syncs it; returns its name. After [`sync`](Self::sync) it outlives a loss of power.
    pub(crate) fn write(
        &self,
        ending: &str,
        body: impl FnOnce(&mut dyn Write) -> Result<SegmentHeader>,
    ) -> Result<String> {
        let name = |hash: &blake3::Hasher| format!("{}.{ending}", &hash.finalize().to_hex()[..32]);
        match self {
            Self::Folder(folder) => {
                let path = folder.join(format!("{}-{}.{UNFINISHED}", std::process::id(), ending));
                let failed = |error| failed("this file could not be written", &path, error);
                let mut hashing =
                    Hashing { to: BufWriter::with_capacity(1 << 18, create(&path)?), hash: blake3::Hasher::new() };
                // The header is known when the body is written.
                hashing.to.write_all(&[0; SegmentHeader::LENGTH]).map_err(failed)?;
                let header = body(&mut hashing).map_err(|error| full(error, &path))?;
                hashing.hash.update(header.bytes());
                let name = name(&hashing.hash);
                let mut file = hashing.to.into_inner().map_err(|error| failed(error.into_error()))?;
                let finished = file
                    .rewind()
                    .and_then(|()| file.write_all(header.bytes()))
                    .and_then(|()| file.sync_all())
                    .and_then(|()| fs::rename(&path, folder.join(&name)));
                finished.map_err(failed).map(|()| name)
            }
            Self::Memory(files) => {
                let mut bytes = vec![0; SegmentHeader::LENGTH];
                let header = body(&mut bytes)?;
                bytes[..SegmentHeader::LENGTH].copy_from_slice(header.bytes());
                let mut hash = blake3::Hasher::new();
                hash.update(&bytes);
                let name = name(&hash);
                held(files).insert(name.clone(), Arc::new(bytes));
                Ok(name)
            }
        }
    }

    /// Syncs the folder, so that the names of new files are on the disk.
    pub(crate) fn sync(&self) -> Result<()> {
        let Self::Folder(folder) = self else { return Ok(()) };
        File::open(folder)
            .and_then(|folder| folder.sync_all())
            .map_err(|error| failed("this folder could not be synced", folder, error))
    }

    /// Opens a file for reading.
    pub(crate) fn open_file(&self, name: &str) -> Result<Bytes> {
        let gone = |what: String| {
            Error::new(ErrorKind::Corpus, format!("a file of the index {what}; remove the corpus and build again"))
        };
        match self {
            Self::Folder(folder) => {
                let path = folder.join(name);
                MappedFile::open(&path)
                    .map(Bytes::Mapped)
                    .map_err(|error| gone(format!("could not be opened: {error}")).at(path.display()).because(error))
            }
            Self::Memory(files) => {
                let found = held(files).get(name).cloned();
                found.map(Bytes::Held).ok_or_else(|| gone("is gone".to_owned()).at(name))
            }
        }
    }

    /// Removes the files that no segment names. Only for the one who holds the writer's lock.
    ///
    /// A reader that has mapped a removed file keeps its contents.
    pub(crate) fn sweep(&self, named: &HashSet<String>) -> Result<()> {
        let folder = match self {
            Self::Folder(folder) => folder,
            Self::Memory(files) => {
                held(files).retain(|name, _| named.contains(name));
                return Ok(());
            }
        };
        let entries = fs::read_dir(folder).map_err(|error| failed("this folder could not be listed", folder, error))?;
        for entry in entries.flatten() {
            if !named.contains(&*entry.file_name().to_string_lossy()) {
                // What cannot be removed now is removed by a later sweep.
                let _ = fs::remove_file(entry.path());
            }
        }
        Ok(())
    }

    /// How many bytes some files have together.
    pub(crate) fn bytes<'n>(&self, names: impl Iterator<Item = &'n str>) -> u64 {
        match self {
            Self::Folder(folder) => {
                names.filter_map(|name| fs::metadata(folder.join(name)).ok()).map(|data| data.len()).sum()
            }
            Self::Memory(files) => {
                let files = held(files);
                names.filter_map(|name| files.get(name)).map(|bytes| bytes.len() as u64).sum()
            }
        }
    }
}

/// Makes a folder if it is not there, so that it outlives a loss of power.
pub(super) fn make_folder(folder: &Path) -> Result<()> {
    if folder.is_dir() {
        return Ok(());
    }
    let above = folder.parent().filter(|above| !above.as_os_str().is_empty()).unwrap_or(Path::new("."));
    fs::create_dir_all(folder)
        .and_then(|()| File::open(above)?.sync_all())
        .map_err(|error| failed("this folder could not be made", folder, error))
}

fn held<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn create(path: &Path) -> Result<File> {
    File::create(path).map_err(|error| failed("this file could not be written", path, error))
}

/// Says of an error that came while a body was written where and what to do, if the disk is the cause.
fn full(error: Error, path: &Path) -> Error {
    use std::error::Error as _;
    let kind = error.source().and_then(|cause| cause.downcast_ref::<io::Error>()).map(io::Error::kind);
    match kind {
        Some(kind) => failed("this file could not be written", path, kind.into()),
        None => error,
    }
}

/// Writes, and hashes what is written.
struct Hashing {
    to: BufWriter<File>,
    hash: blake3::Hasher,
}

impl Write for Hashing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.to.write(bytes)?;
        self.hash.update(&bytes[..written]);
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.to.flush()
    }
}
