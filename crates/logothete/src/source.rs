//! Where documents come from: files, and folders with all that is in them.

use std::path::{Path, PathBuf};

use ignore::WalkBuilder;
use logothete_core::{Error, ErrorKind, Result};

/// A file that a source lists.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Item {
    /// Its path from the source's root, with `/` between the parts.
    pub path: String,
    /// Where to read it.
    pub file: PathBuf,
}

/// What a source holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listing {
    /// The root: a folder, or the folder of a single file.
    pub root: PathBuf,
    /// Whether this is the whole of the root. A single file is not.
    pub whole: bool,
    /// The files in order of their paths.
    pub items: Vec<Item>,
    /// What could not be listed, and why. With any of these the listing is not taken as whole.
    pub failed: Vec<(String, String)>,
}

/// Lists a file or a folder. Hidden files and folders, and folders that are corpora, are passed over; links are followed.
///
/// # Errors
/// When there is nothing at the path; the message suggests the nearest name that exists.
pub fn list(path: &Path) -> Result<Listing> {
    let place = path.display();
    let absolute = path.canonicalize().map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => Error::new(ErrorKind::NotFound, missing(path)).at(place),
        _ => Error::new(ErrorKind::System, format!("it could not be opened: {error}")).at(place).because(error),
    })?;
    if absolute.is_file() {
        let name = absolute.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let root = absolute.parent().map(Path::to_path_buf).unwrap_or_default();
        return Ok(Listing {
            root,
            whole: false,
            items: vec![Item { path: name, file: absolute }],
            failed: Vec::new(),
        });
    }
    let mut listing = Listing { root: absolute.clone(), whole: true, items: Vec::new(), failed: Vec::new() };
    let walk = WalkBuilder::new(&absolute)
        .standard_filters(false)
        .hidden(true)
        .follow_links(true)
        .filter_entry(|entry| !entry.path().join("corpus.db").is_file())
        .build();
    for entry in walk {
        match entry {
            Ok(entry) if entry.file_type().is_some_and(|kind| kind.is_file()) => {
                let relative = entry.path().strip_prefix(&absolute).unwrap_or(entry.path());
                let parts: Vec<_> = relative.components().map(|part| part.as_os_str().to_string_lossy()).collect();
                listing.items.push(Item { path: parts.join("/"), file: entry.into_path() });
            }
            Ok(_) => {}
            Err(error) => {
                listing.whole = false;
                listing.failed.push((path.display().to_string(), unlisted(&error)));
            }
        }
    }
    listing.items.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(listing)
}

/// Why a part of a folder could not be listed.
fn unlisted(error: &ignore::Error) -> String {
    match error {
        ignore::Error::WithDepth { err, .. } => unlisted(err),
        ignore::Error::WithPath { path, err } => match err.io_error() {
            Some(cause) => format!("{} could not be listed: {}", path.display(), cause.kind()),
            None => unlisted(err),
        },
        ignore::Error::Loop { ancestor, child } => {
            format!("{} is a link back to {}, and was not followed", child.display(), ancestor.display())
        }
        other => format!("a part of it could not be listed: {other}"),
    }
}

/// Says that a path is missing, and which existing name is nearest to the first part of it that is missing.
fn missing(path: &Path) -> String {
    let mut known = PathBuf::new();
    for part in path.components() {
        let next = known.join(part);
        if !next.exists() {
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
    let names = std::fs::read_dir(folder).ok()?.flatten().map(|entry| entry.file_name().to_string_lossy().into_owned());
    closest(name, names.filter(|name| !name.starts_with('.')))
}

/// The candidate most like a name, if it is near enough to be a slip of the hand.
pub(crate) fn closest(name: &str, candidates: impl Iterator<Item = String>) -> Option<String> {
    let folded = name.to_lowercase();
    candidates
        .map(|candidate| (strsim::damerau_levenshtein(&folded, &candidate.to_lowercase()), candidate))
        .filter(|(distance, candidate)| *distance <= (candidate.chars().count().max(name.chars().count()) / 3).max(1))
        .min()
        .map(|(_, candidate)| candidate)
}
