//! The question sets of `bench/sets`.

use std::path::{Path, PathBuf};

/// Returns the folders of the sets in a folder, in order.
///
/// # Panics
/// If the folder cannot be read.
pub fn sets(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).expect("a folder of sets").flatten().map(|entry| entry.path());
    let mut sets: Vec<PathBuf> = entries.filter(|set| set.join("questions.jsonl").exists()).collect();
    sets.sort();
    sets
}
