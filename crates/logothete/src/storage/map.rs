//! Files mapped into memory: the only `unsafe` code of this crate.
#![allow(unsafe_code)]

use std::fs::File;
use std::path::Path;

use memmap2::Mmap;

/// A file that is mapped for reading.
#[derive(Debug)]
pub(crate) struct MappedFile(Mmap);

impl MappedFile {
    /// Maps a file.
    pub(crate) fn open(path: &Path) -> std::io::Result<Self> {
        let file = File::open(path)?;
        // SAFETY: a mapping must not change under its readers. Segment files are written once, before the catalogue names
        // them, and never changed or shortened afterwards; removing one leaves its mappings alone. Their length is
        // checked against their header when they are opened.
        let map = unsafe { Mmap::map(&file)? };
        Ok(Self(map))
    }
}

impl AsRef<[u8]> for MappedFile {
    fn as_ref(&self) -> &[u8] {
        &self.0
    }
}
