//! What is to be done: sources as they are now, beside the catalogue.
//!
//! Sources are walked, not listed: a window of files is compared and worked on at a time, and of the rest of a folder
//! nothing is held but short hashes. Which documents are gone is asked of the catalogue when a source has ended.

use std::collections::HashSet;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use logothete_core::Result;

use super::{BuildReport, BuildRequest, Failure, PruneNeeded};
use crate::config::Settings;
use crate::corpus::{Catalogue, Known, SourceEntry};
use crate::pool::Waiter;
use crate::source::{FolderSource, Item, Items, Source};

/// An item to look at.
pub(super) struct Candidate {
    pub from: Arc<dyn Source>,
    pub source: i64,
    pub item: Item,
    /// Its path in the catalogue's source.
    pub path: String,
    /// The source's name and the path in it.
    pub identity: String,
    /// The name the document has or will have.
    pub name: String,
    pub known: Option<Known>,
}

/// A source that takes part in a build.
pub(super) struct Planned {
    pub source: Arc<dyn Source>,
    entry: SourceEntry,
    /// What stands before its paths in the catalogue.
    prefix: String,
    /// How many documents the catalogue had of it.
    had: usize,
}

/// Finds or makes the sources that were asked for; a dry run makes none. Failures go into the report.
pub(super) fn sources(
    catalogue: &mut Catalogue,
    request: &BuildRequest,
    dry: bool,
    report: &mut BuildReport,
) -> Result<Vec<Planned>> {
    let mut planned = Vec::new();
    for path in paths(catalogue, request)? {
        let made = FolderSource::new(&path).and_then(|source| source.filtered(&request.include, &request.exclude));
        match made {
            Ok(source) => {
                let whole = source.is_whole();
                let (entry, prefix) = folder_entry(catalogue, source.root(), whole, dry)?;
                let had = catalogue.count_in(entry.id)?;
                planned.push(Planned { source: Arc::new(source), entry, prefix, had });
            }
            Err(error) => {
                report
                    .failed
                    .push(Failure { document: path.display().to_string(), reason: error.message().to_owned() });
            }
        }
    }
    for source in &request.sources {
        let entry = entry(catalogue, &source.location(), source.is_whole(), dry, || {
            source.location().rsplit_once(':').map_or_else(|| source.location(), |(_, name)| name.to_owned())
        })?;
        let had = catalogue.count_in(entry.id)?;
        planned.push(Planned { source: Arc::clone(source), entry, prefix: String::new(), had });
    }
    catalogue.begin_listing()?;
    Ok(planned)
}

/// The paths that were asked for; with nothing asked for, every folder that the corpus knows, and the single files it knows
/// from others.
fn paths(catalogue: &Catalogue, request: &BuildRequest) -> Result<Vec<PathBuf>> {
    let mut all: Vec<PathBuf> = request.paths.clone();
    if all.is_empty() && request.sources.is_empty() {
        for source in catalogue.sources()?.into_iter().filter(|source| Path::new(&source.location).is_absolute()) {
            let root = PathBuf::from(&source.location);
            if source.whole {
                all.push(root);
            } else {
                all.extend(catalogue.known_in(source.id)?.into_iter().map(|known| root.join(known.path)));
            }
        }
    }
    Ok(all)
}

/// How much is in work at a time; it bounds the memory.
#[derive(Clone, Copy)]
pub(super) struct Window {
    items: usize,
    /// Of files as they are on the disk. One may be larger than this.
    bytes: u64,
}

impl Window {
    /// So many small files that two cores have enough to do, and so much of large ones that it fits into the memory that a build
    /// may hold: a file becomes text, blocks, chunks and vectors, which are many times its size.
    pub(super) fn of(settings: &Settings) -> Self {
        Self { items: 32, bytes: settings.memory / 100 }
    }
}

/// A walk through the items of a source, beside what the catalogue knows of them.
pub(super) struct Walk<'p> {
    planned: &'p Planned,
    items: Items<'p>,
    /// Whether all of the source was listed so far.
    whole: bool,
    listed: usize,
}

/// What is remembered over all sources of a build: hashes of the names given, and of the places seen.
#[derive(Default)]
pub(super) struct Seen {
    names: HashSet<u64>,
    places: HashSet<u64>,
}

impl<'p> Walk<'p> {
    /// Begins a walk; a source that cannot be listed is reported.
    pub(super) fn begin(planned: &'p Planned, waiter: &Waiter, report: &mut BuildReport) -> Option<Self> {
        match waiter.wait(planned.source.items()) {
            Ok(items) => Some(Self { planned, items, whole: planned.source.is_whole(), listed: 0 }),
            Err(error) => {
                report.failed.push(Failure { document: planned.entry.name.clone(), reason: error.to_string() });
                None
            }
        }
    }

    /// The next items to look at, as many as a window has room for; empty at the end.
    pub(super) fn next(
        &mut self,
        room: Window,
        catalogue: &Catalogue,
        seen: &mut Seen,
        report: &mut BuildReport,
    ) -> Result<Vec<Candidate>> {
        // One transaction for all that is looked up and noted.
        catalogue.begin()?;
        let window = self.fill(room, catalogue, seen, report);
        catalogue.end();
        window
    }

    fn fill(
        &mut self,
        room: Window,
        catalogue: &Catalogue,
        seen: &mut Seen,
        report: &mut BuildReport,
    ) -> Result<Vec<Candidate>> {
        let (mut window, mut bytes) = (Vec::new(), 0);
        while window.len() < room.items && bytes < room.bytes {
            let item = match self.items.next() {
                None => break,
                Some(Ok(item)) => item,
                Some(Err(error)) => {
                    self.whole = false;
                    let document = error.place().unwrap_or(&self.planned.entry.name).to_owned();
                    report.failed.push(Failure { document, reason: error.message().to_owned() });
                    continue;
                }
            };
            self.listed += 1;
            let path = format!("{}{}", self.planned.prefix, item.path);
            catalogue.note_listed(self.planned.entry.id, &path)?;
            if !seen.places.insert(short_hash(&(self.planned.source.location(), &item.place))) {
                continue;
            }
            let known = catalogue.known_at(self.planned.entry.id, &path)?;
            let name = match &known {
                Some(known) => known.name.clone(),
                None => free_name(catalogue, &seen.names, &self.planned.entry.name, &path)?,
            };
            seen.names.insert(short_hash(&name));
            bytes += item.size.unwrap_or(0);
            let identity = format!("{}/{path}", self.planned.entry.name);
            let from = Arc::clone(&self.planned.source);
            window.push(Candidate { from, source: self.planned.entry.id, item, path, identity, name, known });
        }
        Ok(window)
    }

    /// The documents that are gone from the source. Only one that was listed in full can say so, and one that holds
    /// nothing at all is more likely missing than empty.
    pub(super) fn end(
        self,
        catalogue: &Catalogue,
        prune: bool,
        moved: impl Fn(i64) -> bool,
        report: &mut BuildReport,
    ) -> Result<Vec<Known>> {
        let location = self.planned.source.location();
        if self.listed == 0 && self.whole {
            let reason = "this folder holds no files; nothing of it was removed from the corpus".to_owned();
            report.failed.push(Failure { document: location, reason });
            return Ok(Vec::new());
        }
        if !self.whole || !self.planned.prefix.is_empty() {
            return Ok(Vec::new());
        }
        let gone = catalogue.known_unlisted(self.planned.entry.id)?;
        let lost = gone.iter().filter(|known| !moved(known.id)).count();
        if lost * 2 > self.planned.had && !prune {
            report.prune_needed.push(PruneNeeded { source: location.into(), gone: lost, of: self.planned.had });
            return Ok(Vec::new());
        }
        Ok(gone)
    }
}

fn short_hash(value: &(impl Hash + ?Sized)) -> u64 {
    let mut hasher = DefaultHasher::new();
    value.hash(&mut hasher);
    hasher.finish()
}

/// The catalogue's entry for a folder: a known one with this root or one above it, or a new one; and what stands before
/// the folder's paths there.
fn folder_entry(catalogue: &mut Catalogue, root: &Path, whole: bool, dry: bool) -> Result<(SourceEntry, String)> {
    let location = root.to_string_lossy().into_owned();
    let sources = catalogue.sources()?;
    let known = sources.iter().any(|source| source.location == location);
    if !known && let Some(above) = sources.iter().find(|source| source.whole && root.starts_with(&source.location)) {
        return Ok((above.clone(), source_prefix(above, root)));
    }
    let entry = entry(catalogue, &location, whole, dry, || free_source_name(&sources, root))?;
    Ok((entry, String::new()))
}

/// The catalogue's entry for a location, made when it is not there and this is no dry run.
pub(super) fn entry(
    catalogue: &mut Catalogue,
    location: &str,
    whole: bool,
    dry: bool,
    name: impl FnOnce() -> String,
) -> Result<SourceEntry> {
    if let Some(source) = catalogue.sources()?.into_iter().find(|source| source.location == location) {
        if whole && !source.whole && !dry {
            catalogue.commit(|catalogue| catalogue.make_source_whole(source.id))?;
        }
        return Ok(source);
    }
    let name = name();
    // No document has the source 0.
    let id = if dry { 0 } else { catalogue.commit(|catalogue| catalogue.add_source(&name, location, whole))? };
    Ok(SourceEntry { id, name, location: location.to_owned(), whole })
}

/// What stands before the paths of a listing whose root is a folder inside its source.
fn source_prefix(source: &SourceEntry, root: &Path) -> String {
    let inside = root.strip_prefix(&source.location).unwrap_or(Path::new(""));
    inside.components().map(|part| format!("{}/", part.as_os_str().to_string_lossy())).collect()
}

/// The shortest end of a folder's path that no other source has as its name.
fn free_source_name(sources: &[SourceEntry], root: &Path) -> String {
    let parts: Vec<String> =
        root.iter().map(|part| part.to_string_lossy().into_owned()).filter(|part| part != "/").collect();
    let taken = |name: &str| sources.iter().any(|source| source.name == name);
    (1..=parts.len())
        .map(|count| parts[parts.len() - count..].join("/"))
        .find(|name| !taken(name))
        .unwrap_or_else(|| root.to_string_lossy().into_owned())
}

/// A document's name: its path, with its source's name before it when the path alone is taken.
fn free_name(catalogue: &Catalogue, planned: &HashSet<u64>, source: &str, path: &str) -> Result<String> {
    let long = format!("{source}/{path}");
    for name in [path, &long] {
        if !planned.contains(&short_hash(name)) && !catalogue.has_name(name)? {
            return Ok(name.to_owned());
        }
    }
    let mut count = 2;
    loop {
        let name = format!("{long} ({count})");
        if !planned.contains(&short_hash(&name)) && !catalogue.has_name(&name)? {
            return Ok(name);
        }
        count += 1;
    }
}
