//! What is to be done: sources as they are now, beside the catalogue.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

use logothete_core::Result;

use super::{BuildReport, Failure, PruneNeeded};
use crate::corpus::{Catalogue, Known, SourceEntry};
use crate::source::{self, Item, Listing};

/// A file to look at.
pub(super) struct Candidate {
    pub source: i64,
    pub item: Item,
    /// The source's name and the path in it.
    pub identity: String,
    /// The name the document has or will have.
    pub name: String,
    pub known: Option<Known>,
}

/// Everything to do.
#[derive(Default)]
pub(super) struct Plan {
    pub candidates: Vec<Candidate>,
    /// Documents whose files are gone.
    pub gone: Vec<Known>,
}

/// Lists the paths, finds or makes their sources, and compares. Failures go into the report.
pub(super) fn plan(
    catalogue: &mut Catalogue,
    paths: &[PathBuf],
    prune: bool,
    report: &mut BuildReport,
) -> Result<Plan> {
    let mut plan = Plan::default();
    let mut names: HashSet<String> = HashSet::new();
    let mut seen: HashSet<PathBuf> = HashSet::new();
    for listing in listings(catalogue, paths, report)? {
        let source = source_of(catalogue, &listing)?;
        let known = catalogue.known_in(source.id)?;
        let mut by_path: HashMap<String, Known> = known.into_iter().map(|known| (known.path.clone(), known)).collect();
        let had = by_path.len();
        let prefix = source_prefix(&source, &listing.root);
        for mut item in listing.items {
            item.path = format!("{prefix}{}", item.path);
            let known = by_path.remove(&item.path);
            if !seen.insert(item.file.clone()) {
                continue;
            }
            let name = match &known {
                Some(known) => known.name.clone(),
                None => free_name(catalogue, &names, &source.name, &item.path)?,
            };
            names.insert(name.clone());
            let identity = format!("{}/{}", source.name, item.path);
            plan.candidates.push(Candidate { source: source.id, identity, item, name, known });
        }
        // Only a source that was listed in full can say that something is gone from it.
        if listing.whole && prefix.is_empty() {
            let mut gone: Vec<Known> = by_path.into_values().collect();
            gone.sort_by(|a, b| a.path.cmp(&b.path));
            if gone.len() * 2 > had && !prune {
                report.prune_needed.push(PruneNeeded { source: listing.root, gone: gone.len(), of: had });
            } else {
                plan.gone.extend(gone);
            }
        }
    }
    Ok(plan)
}

/// The listings of the paths that were asked for; with none, of every folder that the corpus knows, and of the single
/// files it knows from others.
fn listings(catalogue: &Catalogue, paths: &[PathBuf], report: &mut BuildReport) -> Result<Vec<Listing>> {
    let mut listings = Vec::new();
    let mut all: Vec<PathBuf> = paths.to_vec();
    if all.is_empty() {
        for source in catalogue.sources()? {
            let root = PathBuf::from(&source.location);
            if source.whole {
                all.push(root);
            } else {
                all.extend(catalogue.known_in(source.id)?.into_iter().map(|known| root.join(known.path)));
            }
        }
    }
    for path in &all {
        match source::list(path) {
            Ok(listing) => {
                if listing.items.is_empty() && listing.failed.is_empty() {
                    let reason = "this folder holds no files; nothing of it was removed from the corpus".to_owned();
                    let reason = if listing.whole { reason } else { "there is nothing to read".into() };
                    report.failed.push(Failure { document: path.display().to_string(), reason });
                }
                report.failed.extend(
                    listing
                        .failed
                        .iter()
                        .map(|(document, reason)| Failure { document: document.clone(), reason: reason.clone() }),
                );
                listings.push(listing);
            }
            Err(error) => {
                report
                    .failed
                    .push(Failure { document: path.display().to_string(), reason: error.message().to_owned() });
            }
        }
    }
    Ok(listings)
}

/// The source that a listing belongs to: a known one with this root or one above it, or a new one.
fn source_of(catalogue: &mut Catalogue, listing: &Listing) -> Result<SourceEntry> {
    let location = listing.root.to_string_lossy().into_owned();
    let sources = catalogue.sources()?;
    if let Some(source) = sources.iter().find(|source| source.location == location) {
        if listing.whole && !source.whole {
            catalogue.commit(|catalogue| catalogue.make_source_whole(source.id))?;
        }
        return Ok(source.clone());
    }
    if let Some(source) = sources.iter().find(|source| source.whole && listing.root.starts_with(&source.location)) {
        return Ok(source.clone());
    }
    let name = free_source_name(&sources, &listing.root);
    let id = catalogue.commit(|catalogue| catalogue.add_source(&name, &location, listing.whole))?;
    Ok(SourceEntry { id, name, location, whole: listing.whole })
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
fn free_name(catalogue: &Catalogue, planned: &HashSet<String>, source: &str, path: &str) -> Result<String> {
    let long = format!("{source}/{path}");
    for name in [path, &long] {
        if !planned.contains(name) && !catalogue.has_name(name)? {
            return Ok(name.to_owned());
        }
    }
    let mut count = 2;
    loop {
        let name = format!("{long} ({count})");
        if !planned.contains(&name) && !catalogue.has_name(&name)? {
            return Ok(name);
        }
        count += 1;
    }
}
