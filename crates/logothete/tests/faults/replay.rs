//! A record of file changes, and what of it a disk may hold when the power fails at some moment.
//!
//! What was synced is there. Of what was written to a file and not synced since, any part may be there, in any order, and
//! the last write may be torn; of the names in a folder, those up to some change since the folder was synced.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::Random;

/// A write is torn at a multiple of this.
const SECTOR: usize = 512;

/// A change.
#[derive(Debug)]
pub struct Change {
    kind: u8,
    offset: usize,
    path: PathBuf,
    data: Vec<u8>,
}

/// Reads a record.
pub fn read(log: &[u8]) -> Vec<Change> {
    let (mut changes, mut at) = (Vec::new(), 0);
    let text = |bytes: &[u8]| PathBuf::from(String::from_utf8(bytes.to_vec()).expect("a path"));
    while at < log.len() {
        let number = |from: usize, count: usize| {
            log[at + from..at + from + count]
                .iter()
                .rev()
                .fold(0_usize, |number, &byte| number << 8 | usize::from(byte))
        };
        let (path, data) = (number(9, 4), number(13, 4));
        let begin = at + 17;
        changes.push(Change {
            kind: log[at],
            offset: number(1, 8),
            path: text(&log[begin..begin + path]),
            data: log[begin + path..begin + path + data].to_vec(),
        });
        at = begin + path + data;
    }
    changes
}

impl Change {
    /// What a worker told, if that is what it is.
    pub fn told(&self, file: &Path) -> Option<&str> {
        (self.kind == b'w' && self.path == file).then(|| std::str::from_utf8(&self.data).expect("text"))
    }
}

/// A file's content: what is on the disk, and what may be.
#[derive(Default)]
struct Content {
    synced: Vec<u8>,
    /// Places and bytes; a place alone cuts the file there.
    open: Vec<(usize, Option<Vec<u8>>)>,
}

impl Content {
    fn apply(bytes: &mut Vec<u8>, at: usize, data: Option<&[u8]>) {
        match data {
            None => bytes.resize(at, 0),
            Some(data) => {
                if bytes.len() < at + data.len() {
                    bytes.resize(at + data.len(), 0);
                }
                bytes[at..at + data.len()].copy_from_slice(data);
            }
        }
    }

    fn sync(&mut self) {
        for (at, data) in std::mem::take(&mut self.open) {
            Self::apply(&mut self.synced, at, data.as_deref());
        }
    }

    /// What may be on the disk.
    fn survives(&self, random: &mut Random) -> Vec<u8> {
        let mut bytes = self.synced.clone();
        // Now and then all of it is there, or nothing.
        let share = [0, 1, 2, 3, 4][random.below(5)];
        for (at, data) in &self.open {
            if random.below(4) >= share {
                continue;
            }
            let torn = data.as_deref().map(|data| {
                let whole = random.below(3) > 0 || data.len() <= SECTOR;
                if whole { data } else { &data[..random.below(data.len() / SECTOR) * SECTOR] }
            });
            Self::apply(&mut bytes, *at, torn);
        }
        bytes
    }
}

/// A name that appears, or goes.
#[derive(Clone)]
enum Naming {
    File(PathBuf, usize),
    Folder(PathBuf),
    Gone(PathBuf),
}

/// The files of a folder, as the disk has them.
#[derive(Default)]
struct Disk {
    contents: Vec<Content>,
    /// What programs see: the content of each name.
    seen: BTreeMap<PathBuf, usize>,
    /// What is on the disk for certain, nothing for folders.
    named: BTreeMap<PathBuf, Option<usize>>,
    /// What may be there too, by folder, in order.
    open: BTreeMap<PathBuf, Vec<Naming>>,
}

impl Disk {
    fn name(&mut self, naming: Naming) {
        let (Naming::File(path, _) | Naming::Folder(path) | Naming::Gone(path)) = &naming;
        let folder = path.parent().expect("a folder").to_path_buf();
        self.open.entry(folder).or_default().push(naming);
    }

    fn take(named: &mut BTreeMap<PathBuf, Option<usize>>, naming: Naming) {
        match naming {
            Naming::File(path, content) => named.insert(path, Some(content)),
            Naming::Folder(path) => named.insert(path, None),
            Naming::Gone(path) => named.remove(&path),
        };
    }

    fn change(&mut self, change: &Change) {
        let path = change.path.clone();
        match change.kind {
            b'c' => {
                self.contents.push(Content::default());
                let content = self.contents.len() - 1;
                self.seen.insert(path.clone(), content);
                self.name(Naming::File(path, content));
            }
            b'd' => self.name(Naming::Folder(path)),
            b'u' => {
                self.seen.remove(&path);
                self.name(Naming::Gone(path));
            }
            b'r' => {
                let to = PathBuf::from(String::from_utf8(change.data.clone()).expect("a path"));
                let content = self.seen.remove(&path).expect("what is renamed is there");
                self.seen.insert(to.clone(), content);
                // Both at once: they are in one folder.
                self.name(Naming::File(to, content));
                self.name(Naming::Gone(path));
            }
            b's' => match self.seen.get(&path) {
                Some(&content) => self.contents[content].sync(),
                None => {
                    for naming in self.open.remove(&path).unwrap_or_default() {
                        Self::take(&mut self.named, naming);
                    }
                }
            },
            // A file that was removed may still be written to by those who have it open.
            b'w' | b't' => {
                if let Some(&content) = self.seen.get(&path) {
                    let data = (change.kind == b'w').then(|| change.data.clone());
                    self.contents[content].open.push((change.offset, data));
                }
            }
            other => panic!("a change of no known kind: {other}"),
        }
    }

    /// Writes what may be on the disk to another folder.
    fn survive(&self, from: &Path, to: &Path, random: &mut Random) {
        let mut named = self.named.clone();
        for open in self.open.values() {
            let kept = random.below(open.len() + 1);
            open[..kept].iter().cloned().for_each(|naming| Self::take(&mut named, naming));
        }
        for (path, content) in &named {
            let place = to.join(path.strip_prefix(from).expect("inside"));
            // What is in a folder that is lost is lost with it.
            let there = |path: &Path| path.starts_with(from) && path != from;
            let lost = path.ancestors().skip(1).filter(|path| there(path)).any(|folder| !named.contains_key(folder));
            match content {
                _ if lost => {}
                None => std::fs::create_dir_all(place).expect("a folder"),
                Some(content) => {
                    std::fs::create_dir_all(place.parent().expect("a folder")).expect("a folder");
                    std::fs::write(place, self.contents[*content].survives(random)).expect("a file");
                }
            }
        }
    }
}

/// Writes to a folder what another may hold when the power fails after so many changes to it.
pub fn power_fails(changes: &[Change], from: &Path, to: &Path, random: &mut Random) {
    let mut disk = Disk::default();
    changes.iter().for_each(|change| disk.change(change));
    disk.survive(from, to, random);
}
