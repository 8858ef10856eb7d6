//! What has to be done: the sources as they are now, compared with the catalogue.
//!
//! Sources are walked lazily: a window of files is compared and worked on at a time, and only short hashes of the others are
//! held. When a source has ended, the catalogue tells which documents are gone.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use logothete_core::Result;

use super::{BuildReport, BuildRequest, Failure, PruneNeeded};
use crate::config::LimitsConfig;
use crate::source::{FolderSource, Item, Items, Source, path_text, text_path, whole_of};
use crate::storage::{CatalogueReader, KnownDocument, Lease, SourceEntry, Storage, Which};
use crate::threads::Driver;

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
    pub known: Option<KnownDocument>,
}

/// A source that takes part in a build.
pub(super) struct Planned {
    pub source: Arc<dyn Source>,
    entry: SourceEntry,
    /// The prefix of its paths in the catalogue.
    prefix: String,
    /// The number of its documents in the catalogue.
    had: usize,
}

/// Finds or creates the sources that were requested. Without a lease none is created, for an estimate. Failures are added to the
/// report.
pub(super) fn sources(
    storage: &Storage,
    lease: Option<&Lease>,
    request: &BuildRequest,
    report: &mut BuildReport,
) -> Result<Vec<Planned>> {
    let mut planned = Vec::new();
    let paths = paths(&*storage.read()?, request)?;
    for path in paths {
        let made = FolderSource::new(&path).and_then(|source| source.filtered(&request.include, &request.exclude));
        match made {
            Ok(source) => {
                let whole = source.is_whole();
                let (entry, prefix) = folder_entry(storage, lease, source.root(), whole)?;
                let had = storage.read()?.count_documents(entry.id)?;
                planned.push(Planned { source: Arc::new(source), entry, prefix, had });
            }
            Err(error) => {
                let reason = error.message().to_owned();
                report.failed.push(Failure { document: path.display().to_string(), reason });
            }
        }
    }
    for source in &request.sources {
        let location = source.location();
        let name = || location.rsplit_once(':').map_or_else(|| location.clone(), |(_, name)| name.to_owned());
        let entry = entry(storage, lease, &location, source.is_whole(), name)?;
        let had = storage.read()?.count_documents(entry.id)?;
        planned.push(Planned { source: Arc::clone(source), entry, prefix: String::new(), had });
    }
    Ok(planned)
}

/// Returns the paths that were requested; if there are none, every folder that the corpus knows, and the single files that it
/// knows from others.
pub(crate) fn paths(catalogue: &dyn CatalogueReader, request: &BuildRequest) -> Result<Vec<PathBuf>> {
    let mut all: Vec<PathBuf> = request.paths.clone();
    if all.is_empty() && request.sources.is_empty() {
        for source in catalogue.sources()?.into_iter().filter(|source| Path::new(&source.location).is_absolute()) {
            let root = text_path(&source.location);
            if source.whole {
                all.push(root);
            } else {
                let known = catalogue.known(Which::In(source.id))?;
                // The parts of a file come one after the other.
                let mut files: Vec<Cow<'_, str>> = known.iter().map(|known| whole_of(&known.path)).collect();
                files.sort_unstable();
                files.dedup();
                all.extend(files.into_iter().map(|path| root.join(text_path(&path))));
            }
        }
    }
    Ok(all)
}

/// The amount of work in progress, which bounds the memory.
#[derive(Clone, Copy)]
pub(super) struct Window {
    items: usize,
    /// The size of the files on the disk. A single file may be larger.
    bytes: u64,
}

impl Window {
    /// Enough small files to occupy two cores, and no more of large ones than fits into the memory of a build: a file becomes text,
    /// blocks, chunks and vectors, which are many times its size.
    pub(super) fn of(limits: &LimitsConfig) -> Self {
        Self { items: 32, bytes: (limits.memory_bytes() / 100).max(1) }
    }
}

/// A walk through the items of a source, compared with what the catalogue knows of them.
pub(super) struct Walk<'p> {
    planned: &'p Planned,
    items: Items,
    /// Whether documents that were not listed are gone, apart from those in the parts that could not be listed.
    whole: bool,
    /// The paths of the parts that could not be listed.
    unlisted: Vec<String>,
    listed: usize,
    /// Hashes of the paths that were listed.
    paths: HashSet<u64>,
}

/// The state across all sources of a build: hashes of the given names and of the seen places.
#[derive(Default)]
pub(super) struct Seen {
    names: HashSet<u64>,
    places: HashSet<u64>,
}

impl<'p> Walk<'p> {
    /// Begins a walk. A source that cannot be listed is reported.
    pub(super) fn begin(planned: &'p Planned, driver: &Driver, report: &mut BuildReport) -> Option<Self> {
        match driver.wait(planned.source.items()) {
            Ok(items) => {
                let whole = planned.source.is_whole();
                Some(Self { planned, items, whole, unlisted: Vec::new(), listed: 0, paths: HashSet::new() })
            }
            Err(error) => {
                report.failed.push(Failure { document: planned.entry.name.clone(), reason: error.to_string() });
                None
            }
        }
    }

    /// Returns the next items, as many as a window has room for; empty at the end.
    pub(super) fn next(
        &mut self,
        room: Window,
        catalogue: &dyn CatalogueReader,
        seen: &mut Seen,
        report: &mut BuildReport,
    ) -> Result<Vec<Candidate>> {
        let (mut found, mut bytes) = (Vec::new(), 0);
        while found.len() < room.items && bytes < room.bytes {
            let item = match self.items.next() {
                None => break,
                Some(Ok(item)) => item,
                Some(Err(error)) => {
                    match error.place() {
                        Some(part) => self.unlisted.push(format!("{}{part}", self.planned.prefix)),
                        None => self.whole = false,
                    }
                    let document = error.place().unwrap_or(&self.planned.entry.name).to_owned();
                    let reason = format!("{}; the corpus keeps what it had of it", error.message());
                    report.failed.push(Failure { document, reason });
                    continue;
                }
            };
            self.listed += 1;
            let path = format!("{}{}", self.planned.prefix, item.path);
            if !self.paths.insert(short_hash(&path)) {
                let reason = "the source has a document of this name already; this one was not read".to_owned();
                report.failed.push(Failure { document: path, reason });
                continue;
            }
            // A source that reads by paths alone gives its items no place.
            let place = if item.place.is_empty() { &item.path } else { &item.place };
            if seen.places.insert(short_hash(&(self.planned.source.location(), place))) {
                bytes += item.size.unwrap_or(0);
                found.push((item, path));
            }
        }
        let (source, entry) = (&self.planned.source, &self.planned.entry);
        let paths: Vec<&str> = found.iter().map(|(_, path)| path.as_str()).collect();
        let known = catalogue.known(Which::At(entry.id, &paths))?;
        let mut known: HashMap<String, KnownDocument> = known.into_iter().map(|one| (one.path.clone(), one)).collect();
        let new: Vec<&str> = paths.iter().copied().filter(|path| !known.contains_key(*path)).collect();
        let long: Vec<String> = new.iter().map(|path| format!("{}/{path}", entry.name)).collect();
        let taken =
            catalogue.taken_names(&new.into_iter().chain(long.iter().map(String::as_str)).collect::<Vec<_>>())?;
        let mut window = Vec::with_capacity(found.len());
        for (item, path) in found {
            let known = known.remove(&path);
            let name = match &known {
                Some(known) => known.name.clone(),
                None => free_name(catalogue, &taken, &seen.names, &entry.name, &path)?,
            };
            if known.is_none() && name != path {
                report.renamed.push(name.clone());
            }
            seen.names.insert(short_hash(&name));
            let identity = format!("{}/{path}", entry.name);
            window.push(Candidate { from: Arc::clone(source), source: entry.id, item, path, identity, name, known });
        }
        Ok(window)
    }

    /// Returns the documents that are gone from the source. Documents in a part that could not be listed are kept. If more than half
    /// are gone, the source is more likely missing than empty, so nothing is removed unless `prune` says so.
    pub(super) fn end(
        self,
        catalogue: &dyn CatalogueReader,
        prune: bool,
        moved: impl Fn(i64) -> bool,
        report: &mut BuildReport,
    ) -> Result<Vec<KnownDocument>> {
        let location = self.planned.source.location();
        if self.listed == 0 && self.planned.had == 0 && self.unlisted.is_empty() && self.whole {
            let reason = "this folder holds no files that could be read".to_owned();
            report.failed.push(Failure { document: location, reason });
            return Ok(Vec::new());
        }
        let mut gone = catalogue.known(Which::In(self.planned.entry.id))?;
        gone.retain(|known| !self.paths.contains(&short_hash(&known.path)) && !self.is_unlisted(&known.path));
        // A file that was listed and has become smaller has fewer parts.
        let (parts, mut gone): (Vec<_>, Vec<_>) = gone.into_iter().partition(|known| {
            let whole = whole_of(&known.path);
            *whole != known.path && self.paths.contains(&short_hash(&*whole))
        });
        if !self.whole || !self.planned.prefix.is_empty() {
            return Ok(parts);
        }
        let lost = gone.iter().filter(|known| !moved(known.id)).count();
        if lost * 2 > self.planned.had && !prune {
            report.prune_needed.push(PruneNeeded { source: location.into(), gone: lost, of: self.planned.had });
            return Ok(parts);
        }
        gone.extend(parts);
        Ok(gone)
    }
}

impl Walk<'_> {
    /// Returns `true` if a path lies in a part that could not be listed.
    fn is_unlisted(&self, path: &str) -> bool {
        let lies_in = |part: &String| {
            path.strip_prefix(part.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        self.unlisted.iter().any(lies_in)
    }
}

fn short_hash(value: &(impl Hash + ?Sized)) -> u64 {
    let mut hasher = DefaultHasher::new();
    value.hash(&mut hasher);
    hasher.finish()
}

/// Returns the catalogue's entry for a folder: a known one with this root or one above it, or a new one; and the prefix of the
/// folder's paths there.
fn folder_entry(storage: &Storage, lease: Option<&Lease>, root: &Path, whole: bool) -> Result<(SourceEntry, String)> {
    let location = path_text(root);
    let sources = storage.read()?.sources()?;
    let known = sources.iter().any(|source| source.location == location);
    if !known
        && let Some(above) = sources.iter().find(|source| source.whole && root.starts_with(text_path(&source.location)))
    {
        return Ok((above.clone(), source_prefix(above, root)));
    }
    let entry = entry(storage, lease, &location, whole, || free_source_name(&sources, root))?;
    Ok((entry, String::new()))
}

/// Returns the catalogue's entry for a location. It is created if it is missing and there is a lease.
pub(super) fn entry(
    storage: &Storage,
    lease: Option<&Lease>,
    location: &str,
    whole: bool,
    name: impl FnOnce() -> String,
) -> Result<SourceEntry> {
    let known = storage.read()?.sources()?.into_iter().find(|source| source.location == location);
    if let Some(mut source) = known {
        if let Some(lease) = lease.filter(|_| whole && !source.whole) {
            storage.commit(lease, |transaction| transaction.make_source_whole(source.id))?;
            source.whole = true;
        }
        return Ok(source);
    }
    let name = name();
    let id = match lease {
        Some(lease) => storage.commit(lease, |transaction| transaction.add_source(&name, location, whole))?,
        // No document has the source 0.
        None => 0,
    };
    Ok(SourceEntry { id, name, location: location.to_owned(), whole })
}

/// Returns the prefix of the paths of a listing whose root is a folder inside its source.
fn source_prefix(source: &SourceEntry, root: &Path) -> String {
    let inside = root.strip_prefix(text_path(&source.location)).unwrap_or(Path::new(""));
    inside.components().map(|part| format!("{}/", path_text(Path::new(part.as_os_str())))).collect()
}

/// Returns the shortest end of a folder's path that no other source has as its name.
fn free_source_name(sources: &[SourceEntry], root: &Path) -> String {
    let parts: Vec<String> = root.iter().map(|part| path_text(Path::new(part))).filter(|part| part != "/").collect();
    let taken = |name: &str| sources.iter().any(|source| source.name == name);
    (1..=parts.len())
        .map(|count| parts[parts.len() - count..].join("/"))
        .find(|name| !taken(name))
        .unwrap_or_else(|| path_text(root))
}

/// Returns a document's name: its path, with the name of its source before it if the path alone is taken.
fn free_name(
    catalogue: &dyn CatalogueReader,
    taken: &HashSet<String>,
    given: &HashSet<u64>,
    source: &str,
    path: &str,
) -> Result<String> {
    let long = format!("{source}/{path}");
    for name in [path, &long] {
        if !given.contains(&short_hash(name)) && !taken.contains(name) {
            return Ok(name.to_owned());
        }
    }
    let mut count = 2;
    loop {
        let name = format!("{long} ({count})");
        if !given.contains(&short_hash(&name)) && catalogue.taken_names(&[&name])?.is_empty() {
            return Ok(name);
        }
        count += 1;
    }
}
