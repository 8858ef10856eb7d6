//! Merging segments, so that there are few of them and few of their rows are dead.
//!
//! A commit writes a small segment. When there are more than eight of about the same size they become one, so a row is copied as often
//! as the logarithm of the number of rows. Large segments get their approximate index when they are merged.

use logothete_core::Result;
use logothete_core::keyword::merge_keywords;
use logothete_core::vector::merge_vectors;

use super::{ann, postings, tokens};
use crate::opened::Opened;
use crate::storage::{FileKind, Lease, Segment, SegmentFiles, Snapshot};
use crate::threads::{Driver, StopToken};

/// The number of segments of about the same size that become one.
const FAN_IN: usize = 8;
/// Segments of fewer rows are all of about the same size.
const SMALL: u32 = 20_000;

/// Brings postings in line with the configuration, merges what has to be merged, builds missing approximate indexes, and sweeps
/// files that are not named. What is left when it is stopped is done the next time.
pub(crate) fn settle(opened: &Opened, driver: &Driver, lease: &Lease, stop: &StopToken) -> Result<()> {
    postings::reweigh(opened, lease, &|| stop.is_stopped())?;
    while !stop.is_stopped() {
        let snapshot = opened.snapshot()?;
        let sizes: Vec<Size> = snapshot.segments.iter().map(Size::of).collect();
        let Some(group) = next_group(&sizes) else { break };
        merge(opened, driver, lease, &snapshot, &group, stop)?;
    }
    finish(opened, driver, lease, stop)
}

/// Makes one segment of all.
pub(super) fn all(opened: &Opened, driver: &Driver, lease: &Lease) -> Result<()> {
    let stop = StopToken::default();
    postings::reweigh(opened, lease, &|| false)?;
    let snapshot = opened.snapshot()?;
    let dead = snapshot.segments.iter().any(|segment| Size::of(segment).dead() > 0);
    if snapshot.segments.len() > 1 || dead {
        let every: Vec<usize> = (0..snapshot.segments.len()).collect();
        merge(opened, driver, lease, &snapshot, &every, &stop)?;
    }
    finish(opened, driver, lease, &stop)
}

/// Rewrites every segment that has rows that belong to no chunk.
pub(super) fn drop_dead(opened: &Opened, driver: &Driver, lease: &Lease) -> Result<()> {
    let stop = StopToken::default();
    loop {
        let snapshot = opened.snapshot()?;
        let Some(at) = snapshot.segments.iter().position(|segment| Size::of(segment).dead() > 0) else { break };
        merge(opened, driver, lease, &snapshot, &[at], &stop)?;
    }
    finish(opened, driver, lease, &stop)
}

/// The size of a segment.
#[derive(Clone, Copy, Debug)]
struct Size {
    rows: u32,
    live: u32,
}

impl Size {
    fn of(segment: &Segment) -> Self {
        Self { rows: segment.entry.files.rows, live: segment.entry.live.len() }
    }

    fn dead(self) -> u32 {
        self.rows - self.live
    }

    /// Segments of the same class are of about the same size.
    fn class(self) -> u32 {
        if self.live < SMALL { 0 } else { (self.live / SMALL).ilog(FAN_IN as u32) + 1 }
    }
}

/// Returns the positions of the segments to be merged next.
fn next_group(sizes: &[Size]) -> Option<Vec<usize>> {
    let of_class =
        |class: u32| sizes.iter().enumerate().filter(move |(_, size)| size.class() == class).map(|(at, _)| at);
    let last = sizes.iter().map(|size| size.class()).max()?;
    (0..=last)
        .map(|class| of_class(class).collect::<Vec<_>>())
        .find(|group| group.len() > FAN_IN)
        // A segment of which a third is dead is worth rewriting.
        .or_else(|| sizes.iter().position(|size| size.dead() > size.rows / 3).map(|at| vec![at]))
}

/// Writes the live rows of some segments as one, and commits it.
fn merge(
    opened: &Opened,
    driver: &Driver,
    lease: &Lease,
    snapshot: &Snapshot,
    group: &[usize],
    stop: &StopToken,
) -> Result<()> {
    let segments: Vec<&Segment> = group.iter().map(|&at| &snapshot.segments[at]).collect();
    let rows: u32 = segments.iter().map(|segment| segment.entry.live.len()).sum();
    let storage = &opened.storage;
    let write = || -> Result<SegmentFiles> {
        let parts: Vec<_> = segments.iter().map(|segment| (&segment.vectors, &segment.entry.live)).collect();
        let vectors = storage.write(FileKind::Vectors, |to| merge_vectors(&parts, to))?;
        let parts: Vec<_> = segments.iter().map(|segment| (&segment.keywords, &segment.entry.live)).collect();
        let keywords = storage.write(FileKind::Keywords, |to| merge_keywords(&parts, to))?;
        let ann = ann::write(opened, &vectors, rows, stop)?;
        let tokens = tokens::merge(opened, &segments)?;
        let mut files = SegmentFiles { rows, ..SegmentFiles::default() };
        files.names.extend([(FileKind::Vectors, vectors), (FileKind::Keywords, keywords)]);
        files.names.extend(tokens.map(|name| (FileKind::Tokens, name)));
        Ok(files.with_ann(ann))
    };
    let files = if rows > 0 { Some(driver.compute(write)?) } else { None };
    storage.sync()?;
    storage.commit(lease, |transaction| {
        let to = files.as_ref().map(|files| transaction.add_segment(files)).transpose()?;
        let mut first = 0;
        for segment in &segments {
            if let Some(to) = to {
                transaction.move_rows(&segment.entry, to, first)?;
            }
            first += segment.entry.live.len();
        }
        transaction.remove_segments(&segments.iter().map(|segment| segment.entry.id).collect::<Vec<_>>())
    })
}

/// Builds the approximate index and the token index of each segment that lacks them, and sweeps.
fn finish(opened: &Opened, driver: &Driver, lease: &Lease, stop: &StopToken) -> Result<()> {
    let storage = &opened.storage;
    let entries = storage.read()?.segments()?;
    for entry in entries {
        let wanted = ann::wanted(opened, entry.files.rows);
        if entry.files.ann().map(|(kind, _)| kind) == wanted {
            continue;
        }
        let vectors = entry.files.name(FileKind::Vectors);
        let ann = driver.compute(|| ann::write(opened, vectors, entry.files.rows, stop))?;
        if stop.is_stopped() {
            break;
        }
        let files = entry.files.with_ann(ann);
        if files != entry.files {
            storage.sync()?;
            storage.commit(lease, |transaction| transaction.set_files(&[(entry.id, files)]))?;
        }
    }
    for entry in storage.read()?.segments()? {
        if tokens::is_settled(opened, &entry) {
            continue;
        }
        let written = tokens::write(opened, driver, &entry, stop)?;
        if stop.is_stopped() {
            break;
        }
        let files = match written {
            Some(name) => entry.files.with(FileKind::Tokens, name),
            None => entry.files.without(FileKind::Tokens),
        };
        storage.sync()?;
        storage.commit(lease, |transaction| transaction.set_files(&[(entry.id, files)]))?;
    }
    storage.sweep(lease)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sizes(all: &[(u32, u32)]) -> Vec<Size> {
        all.iter().map(|&(rows, live)| Size { rows, live }).collect()
    }

    #[test]
    fn segments_of_a_size_are_merged() {
        let small = vec![(100, 100); 8];
        assert_eq!(next_group(&sizes(&small)), None);
        let nine = [vec![(90_000, 90_000)], vec![(100, 99); 9]].concat();
        assert_eq!(next_group(&sizes(&nine)), Some((1..10).collect()), "the large one is left alone");
        let dead = [(900, 900), (600, 390), (30, 30)];
        assert_eq!(next_group(&sizes(&dead)), Some(vec![1]));
        assert_eq!(next_group(&[]), None);
    }

    #[test]
    fn a_row_is_copied_a_few_times_only() {
        let (mut all, mut copied): (Vec<Size>, u64) = (Vec::new(), 0);
        for _ in 0..1_000 {
            all.push(Size { rows: 1_000, live: 1_000 });
            while let Some(group) = next_group(&all) {
                let live: u32 = group.iter().map(|&at| all[at].live).sum();
                copied += u64::from(live);
                all = all.iter().enumerate().filter(|(at, _)| !group.contains(at)).map(|(_, size)| *size).collect();
                all.push(Size { rows: live, live });
            }
        }
        assert!(all.len() <= 24, "{} segments", all.len());
        assert!(copied < 4_000_000 * 2, "each of a million rows was copied {} times", copied as f64 / 1e6);
    }
}
