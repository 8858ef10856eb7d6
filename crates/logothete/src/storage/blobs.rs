//! Immutable segment files: written once, synced, named by the hash of their content, and mapped into memory to be read.

use std::collections::{HashMap, HashSet};
use std::fs::{self, File};
use std::io::{self, BufWriter, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use logothete_core::segment::SegmentHeader;
use logothete_core::{Error, ErrorKind, Result};

use super::catalogue::FileKind;
use super::lock;
use super::map::MappedFile;

/// The extension of a file that is still being written.
const UNFINISHED: &str = "part";

/// Writes the body of a file and returns its header.
pub(crate) type WriteBody<'b> = &'b mut dyn FnMut(&mut dyn Write) -> Result<SegmentHeader>;

/// A store of immutable files.
pub(crate) trait BlobStore: Send + Sync {
    /// Writes a file and returns its name. It is durable after the next [`sync`](Self::sync).
    fn write(&self, kind: FileKind, body: WriteBody<'_>) -> Result<String>;
    /// Makes the names of all files durable.
    fn sync(&self) -> Result<()>;
    /// Opens a file for reading. It stays readable when it is swept.
    fn open(&self, name: &str) -> Result<Blob>;
    /// Removes the files that are not named. Only the holder of the writer's lease may sweep.
    fn sweep(&self, named: &HashSet<String>) -> Result<()>;
    /// Returns the size of some files together.
    fn bytes(&self, names: &[&str]) -> u64;
}

/// The bytes of a file.
#[derive(Debug)]
pub(crate) enum Blob {
    Mapped(MappedFile),
    Held(Arc<Vec<u8>>),
}

impl AsRef<[u8]> for Blob {
    fn as_ref(&self) -> &[u8] {
        match self {
            Self::Mapped(file) => file.as_ref(),
            Self::Held(bytes) => bytes,
        }
    }
}

/// Returns the name of a file with a content.
fn name_of(hash: &blake3::Hasher, kind: FileKind) -> String {
    format!("{}.{}", &hash.finalize().to_hex()[..32], kind.name())
}

fn missing(what: &str) -> Error {
    Error::new(ErrorKind::Corpus, format!("a file of the index {what}; build a new corpus"))
}

fn failed(what: &str, path: &Path, error: io::Error) -> Error {
    let advice = match error.kind() {
        io::ErrorKind::StorageFull => "; make room and build again: what was committed is kept",
        io::ErrorKind::ReadOnlyFilesystem | io::ErrorKind::PermissionDenied => "; make the folder writable",
        _ => "",
    };
    Error::new(ErrorKind::System, format!("{what}: {error}{advice}")).at(path.display()).because(error)
}

/// Files in a folder.
#[derive(Debug)]
pub(crate) struct FolderBlobs(PathBuf);

impl FolderBlobs {
    /// Opens the store in the folder of a corpus, and creates it if it is missing.
    pub(crate) fn open(corpus: &Path) -> Result<Self> {
        let folder = corpus.join("segments");
        create_folder(&folder)?;
        Ok(Self(folder))
    }
}

impl BlobStore for FolderBlobs {
    fn write(&self, kind: FileKind, body: WriteBody<'_>) -> Result<String> {
        let path = self.0.join(format!("{}-{}.{UNFINISHED}", std::process::id(), kind.name()));
        let failed = |error| failed("this file could not be written", &path, error);
        let file = File::create(&path).map_err(failed)?;
        let mut hashing = Hashing { to: BufWriter::with_capacity(1 << 18, file), hash: blake3::Hasher::new() };
        // The header is known when the body is written.
        hashing.to.write_all(&[0; SegmentHeader::LENGTH]).map_err(failed)?;
        let header = body(&mut hashing).map_err(|error| with_advice(error, &path))?;
        hashing.hash.update(header.bytes());
        let name = name_of(&hashing.hash, kind);
        let mut file = hashing.to.into_inner().map_err(|error| failed(error.into_error()))?;
        let finished = file
            .rewind()
            .and_then(|()| file.write_all(header.bytes()))
            .and_then(|()| file.sync_all())
            .and_then(|()| fs::rename(&path, self.0.join(&name)));
        finished.map_err(failed).map(|()| name)
    }

    fn sync(&self) -> Result<()> {
        File::open(&self.0)
            .and_then(|folder| folder.sync_all())
            .map_err(|error| failed("this folder could not be synced", &self.0, error))
    }

    fn open(&self, name: &str) -> Result<Blob> {
        let path = self.0.join(name);
        MappedFile::open(&path)
            .map(Blob::Mapped)
            .map_err(|error| missing(&format!("could not be opened: {error}")).at(path.display()).because(error))
    }

    fn sweep(&self, named: &HashSet<String>) -> Result<()> {
        let entries =
            fs::read_dir(&self.0).map_err(|error| failed("this folder could not be listed", &self.0, error))?;
        for entry in entries.flatten() {
            if !named.contains(&*entry.file_name().to_string_lossy()) {
                // A file that cannot be removed now is removed by a later sweep.
                let _ = fs::remove_file(entry.path());
            }
        }
        Ok(())
    }

    fn bytes(&self, names: &[&str]) -> u64 {
        names.iter().filter_map(|name| fs::metadata(self.0.join(name)).ok()).map(|data| data.len()).sum()
    }
}

/// Files in memory.
#[derive(Debug, Default)]
pub(crate) struct MemoryBlobs(Mutex<HashMap<String, Arc<Vec<u8>>>>);

impl BlobStore for MemoryBlobs {
    fn write(&self, kind: FileKind, body: WriteBody<'_>) -> Result<String> {
        let mut bytes = vec![0; SegmentHeader::LENGTH];
        let header = body(&mut bytes)?;
        bytes[..SegmentHeader::LENGTH].copy_from_slice(header.bytes());
        let mut hash = blake3::Hasher::new();
        hash.update(&bytes);
        let name = name_of(&hash, kind);
        lock(&self.0).insert(name.clone(), Arc::new(bytes));
        Ok(name)
    }

    fn sync(&self) -> Result<()> {
        Ok(())
    }

    fn open(&self, name: &str) -> Result<Blob> {
        lock(&self.0).get(name).cloned().map(Blob::Held).ok_or_else(|| missing("is gone").at(name))
    }

    fn sweep(&self, named: &HashSet<String>) -> Result<()> {
        lock(&self.0).retain(|name, _| named.contains(name));
        Ok(())
    }

    fn bytes(&self, names: &[&str]) -> u64 {
        let files = lock(&self.0);
        names.iter().filter_map(|name| files.get(*name)).map(|bytes| bytes.len() as u64).sum()
    }
}

/// Creates a folder if it is missing, durably.
pub(super) fn create_folder(folder: &Path) -> Result<()> {
    if folder.is_dir() {
        return Ok(());
    }
    let above = folder.parent().filter(|above| !above.as_os_str().is_empty()).unwrap_or(Path::new("."));
    fs::create_dir_all(folder)
        .and_then(|()| File::open(above)?.sync_all())
        .map_err(|error| failed("this folder could not be created", folder, error))
}

/// Adds the path and the advice to an error that came while a body was written, if the disk is the cause.
fn with_advice(error: Error, path: &Path) -> Error {
    use std::error::Error as _;
    let kind = error.source().and_then(|cause| cause.downcast_ref::<io::Error>()).map(io::Error::kind);
    match kind {
        Some(kind) => failed("this file could not be written", path, kind.into()),
        None => error,
    }
}

/// Hashes what it writes.
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
