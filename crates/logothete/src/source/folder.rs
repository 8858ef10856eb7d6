//! Files, and folders with everything in them.

use std::fs;
use std::io::Read;
use std::path::{Path, PathBuf};

use ignore::WalkBuilder;
use ignore::overrides::{Override, OverrideBuilder};
use logothete_core::suggest::closest;
use logothete_core::{Error, ErrorKind, Result};

use super::parts::{parts, whole_of};
use super::path_text::{path_text, text_path};
use super::{Content, Item, Items, Source, too_large};
use crate::BoxFuture;
use crate::threads::blocking;

/// A folder with all that is in it, or a single file.
///
/// Hidden files and folders, folders that are corpora, and files named `logothete.toml` are passed over; links are followed. Bytes of
/// a name that are not UTF-8 appear as `\xE9` in paths. Tables and JSON Lines of more than 8 MB are listed in parts, which keep their header: `log.csv`,
/// `log, part 2.csv`, and so on.
#[derive(Clone, Debug)]
pub struct FolderSource {
    root: PathBuf,
    file: Option<PathBuf>,
    globs: Override,
}

impl FolderSource {
    /// Creates the source of a path.
    ///
    /// # Errors
    /// If there is nothing at the path; the message suggests the nearest name that exists.
    pub fn new(path: impl AsRef<Path>) -> Result<Self> {
        let path = path.as_ref();
        let place = path.display();
        let absolute = path.canonicalize().map_err(|error| match error.kind() {
            std::io::ErrorKind::NotFound => Error::new(ErrorKind::NotFound, missing(path)).at(place),
            _ => Error::new(ErrorKind::System, format!("it could not be opened: {error}")).at(place).because(error),
        })?;
        let (root, file) = if absolute.is_file() {
            (absolute.parent().map(Path::to_path_buf).unwrap_or_default(), Some(absolute))
        } else {
            (absolute, None)
        };
        Ok(Self { root, file, globs: Override::empty() })
    }

    /// Only files that fit one of the `include` patterns, or all when there are none; and no file or folder that fits one
    /// of the `exclude` patterns. Patterns are as in `.gitignore` files: `*.pdf`, `drafts/`, `**/old-*`.
    ///
    /// # Errors
    /// If a pattern cannot be understood.
    pub fn filtered(mut self, include: &[String], exclude: &[String]) -> Result<Self> {
        let mut globs = OverrideBuilder::new(&self.root);
        let all = include.iter().cloned().chain(exclude.iter().map(|pattern| format!("!{pattern}")));
        for pattern in all {
            globs.add(&pattern).map_err(|error| {
                let message = format!("the pattern {:?} cannot be understood", pattern.trim_start_matches('!'));
                Error::new(ErrorKind::Configuration, message).because(error)
            })?;
        }
        self.globs = globs.build().map_err(|error| {
            Error::new(ErrorKind::Configuration, "the patterns cannot be used together").because(error)
        })?;
        Ok(self)
    }

    /// Returns the folder, or the folder of the single file.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Lists the files in order of their names, folder by folder.
    pub fn walk(&self) -> Items {
        if let Some(file) = &self.file {
            let name = path_text(Path::new(file.file_name().unwrap_or_default()));
            return Box::new(parts(item(name, file), file).into_iter().map(Ok));
        }
        let walk = WalkBuilder::new(&self.root)
            .standard_filters(false)
            .hidden(true)
            .follow_links(true)
            .overrides(self.globs.clone())
            .sort_by_file_name(Ord::cmp)
            .filter_entry(|entry| match entry.file_type().is_some_and(|kind| kind.is_file()) {
                true => entry.file_name() != CONFIGURATION,
                false => !is_corpus(entry.path()),
            })
            .build();
        let (root, end) = (self.root.clone(), self.root.clone());
        let files = walk.flat_map(move |entry| match entry {
            Ok(entry) if entry.file_type().is_some_and(|kind| kind.is_file()) => {
                let found = parts(item(relative(&root, entry.path()), entry.path()), entry.path());
                found.into_iter().map(Ok).collect::<Vec<_>>()
            }
            Ok(_) => Vec::new(),
            Err(error) => {
                let (part, reason) = unlisted(&error);
                let part = part.map(|part| relative(&root, part)).filter(|part| !part.is_empty());
                let error = Error::new(ErrorKind::System, reason);
                vec![Err(part.into_iter().fold(error, Error::at))]
            }
        });
        // A folder that is removed meanwhile looks like one whose files are gone.
        let gone = std::iter::once_with(move || (!end.is_dir()).then(disappeared)).flatten();
        Box::new(files.chain(gone))
    }
}

/// The name of configuration files. They may hold keys.
const CONFIGURATION: &str = "logothete.toml";

fn disappeared() -> Result<Item> {
    Err(Error::new(ErrorKind::System, "this folder disappeared while it was listed"))
}

/// Returns `true` if a folder is a corpus.
fn is_corpus(folder: &Path) -> bool {
    folder.join("corpus.db").is_file() && folder.join("segments").is_dir()
}

/// Returns the path of a file inside a folder, with `/` between its parts.
fn relative(root: &Path, file: &Path) -> String {
    let inside = file.strip_prefix(root).unwrap_or(file);
    inside.components().map(|part| path_text(Path::new(part.as_os_str()))).collect::<Vec<_>>().join("/")
}

fn item(path: String, file: &Path) -> Item {
    let state = fs::metadata(file).ok();
    Item {
        path,
        place: path_text(file),
        size: state.as_ref().map(fs::Metadata::len),
        inode: state.as_ref().and_then(inode),
        modified: state.and_then(|state| state.modified().ok()),
        ..Item::default()
    }
}

#[cfg(unix)]
fn inode(state: &fs::Metadata) -> Option<u64> {
    Some(std::os::unix::fs::MetadataExt::ino(state))
}

#[cfg(not(unix))]
fn inode(_: &fs::Metadata) -> Option<u64> {
    None
}

impl Source for FolderSource {
    fn location(&self) -> String {
        path_text(&self.root)
    }

    fn is_whole(&self) -> bool {
        self.file.is_none() && self.globs.is_empty()
    }

    fn items(&self) -> BoxFuture<'_, Result<Items>> {
        Box::pin(async move { Ok(self.walk()) })
    }

    fn read<'a>(&'a self, item: &'a Item, max: u64) -> BoxFuture<'a, Result<Content>> {
        let (source, item) = (self.clone(), item.clone());
        Box::pin(blocking(move || source.content(&item, max)))
    }
}

impl FolderSource {
    /// Reads a file that was listed.
    ///
    /// # Errors
    /// If it cannot be read, or has more than `max` bytes.
    pub fn content(&self, item: &Item, max: u64) -> Result<Content> {
        let unreadable = |error: std::io::Error| {
            Error::new(ErrorKind::System, format!("it could not be read: {error}")).because(error)
        };
        if let Some(part) = &item.part {
            let (file, size) = (text_path(&whole_of(&item.place)), part.size());
            return if size > max { Err(too_large(size, max)) } else { part.read(&file).map_err(unreadable) };
        }
        let file = self.file.clone().unwrap_or_else(|| text_path(&item.place));
        let size = fs::metadata(&file).map_err(unreadable)?.len();
        if size > max {
            return Err(too_large(size, max));
        }
        let mut bytes = Vec::with_capacity(size as usize);
        // A file may grow while it is read.
        fs::File::open(&file)
            .and_then(|file| file.take(max.saturating_add(1)).read_to_end(&mut bytes))
            .map_err(unreadable)?;
        if bytes.len() as u64 > max {
            return Err(too_large(bytes.len() as u64, max));
        }
        Ok(Content { bytes, media_type: None })
    }
}

/// Returns the part of a folder that could not be listed, if it is known, and the reason.
fn unlisted(error: &ignore::Error) -> (Option<&Path>, String) {
    match error {
        ignore::Error::WithDepth { err, .. } => unlisted(err),
        ignore::Error::WithPath { path, err } => match err.io_error() {
            Some(cause) if path.is_symlink() && cause.kind() == std::io::ErrorKind::NotFound => {
                (Some(path), "this link leads to nothing".to_owned())
            }
            Some(cause) => (Some(path), format!("it could not be listed: {}", cause.kind())),
            None => (Some(path), unlisted(err).1),
        },
        ignore::Error::Loop { ancestor, child } => {
            (Some(child), format!("this link leads back to {}, and was not followed", ancestor.display()))
        }
        other => (None, format!("a part of it could not be listed: {other}")),
    }
}

/// Says that a path is missing, and which existing name is nearest to the first part of it that is missing.
fn missing(path: &Path) -> String {
    let mut known = PathBuf::new();
    for part in path.components() {
        let next = known.join(part);
        if !next.exists() {
            if next.is_symlink() {
                return "this link leads to nothing".to_owned();
            }
            let folder = if known.as_os_str().is_empty() { Path::new(".") } else { &known };
            return match nearest(folder, &part.as_os_str().to_string_lossy()) {
                Some(name) => format!("there is no such file or folder; did you mean {}?", known.join(name).display()),
                None => "there is no such file or folder".to_owned(),
            };
        }
        known = next;
    }
    "there is no such file or folder".to_owned()
}

fn nearest(folder: &Path, name: &str) -> Option<String> {
    let names = fs::read_dir(folder).ok()?.flatten().map(|entry| entry.file_name().to_string_lossy().into_owned());
    closest(name, names.filter(|name| !name.starts_with('.')))
}
