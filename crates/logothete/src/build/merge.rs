//! Merging segments, so that there are few of them and few of their rows are dead.
//!
//! A commit writes a small segment. When there are eight of about the same size they become one, which is written anew only
//! when there are eight of its size: a row is copied as often as the logarithm of how many rows there are. Larger segments get
//! their graph or their lists when they are written so.

use logothete_core::Result;
use logothete_core::keyword::merge_keywords;
use logothete_core::vector::{VectorIndex, merge_vectors};

use super::StopToken;
use crate::corpus::{Inner, SegmentFiles, Snapshot, write_near};

/// So many segments of about the same size become one.
const TOGETHER: usize = 8;
/// Segments of fewer rows are all of about the same size.
const SMALL: u32 = 20_000;

/// Brings postings in line with the settings, merges what is to be merged, gives the segments that need one a graph or lists,
/// and sweeps files that nobody names. For the one who holds the writer's lock. What is left when it is stopped is done the
/// next time.
pub(crate) fn settle(inner: &Inner, stop: &StopToken) -> Result<()> {
    inner.reweigh(&|| stop.is_stopped())?;
    while !stop.is_stopped() {
        let snapshot = inner.snapshot()?;
        let sizes: Vec<Size> = snapshot.segments.iter().map(Size::of).collect();
        let Some(group) = next_group(&sizes) else { break };
        merge(inner, &snapshot, &group, stop)?;
    }
    link(inner, stop)?;
    inner.sweep()
}

/// Makes one segment of all.
pub(crate) fn all(inner: &Inner) -> Result<()> {
    let stop = StopToken::default();
    inner.reweigh(&|| false)?;
    let snapshot = inner.snapshot()?;
    let dead = snapshot.segments.iter().any(|segment| Size::of(segment).dead() > 0);
    if snapshot.segments.len() > 1 || dead {
        merge(inner, &snapshot, &(0..snapshot.segments.len()).collect::<Vec<_>>(), &stop)?;
    }
    link(inner, &stop)?;
    inner.sweep()
}

/// Writes every segment anew that has rows that belong to no chunk.
pub(crate) fn drop_dead(inner: &Inner) -> Result<()> {
    let stop = StopToken::default();
    loop {
        let snapshot = inner.snapshot()?;
        let Some(at) = snapshot.segments.iter().position(|segment| Size::of(segment).dead() > 0) else { break };
        merge(inner, &snapshot, &[at], &stop)?;
    }
    link(inner, &stop)?;
    inner.sweep()
}

/// How large a segment is.
#[derive(Clone, Copy, Debug)]
struct Size {
    rows: u32,
    live: u32,
}

impl Size {
    fn of(segment: &crate::corpus::Segment) -> Self {
        Self { rows: segment.entry.files.rows, live: segment.entry.live.len() }
    }

    fn dead(self) -> u32 {
        self.rows - self.live
    }

    /// Those of the same class are about the same size.
    fn class(self) -> u32 {
        if self.live < SMALL { 0 } else { (self.live / SMALL).ilog(TOGETHER as u32) + 1 }
    }
}

/// The places of the segments to be merged next.
fn next_group(sizes: &[Size]) -> Option<Vec<usize>> {
    let of_class =
        |class: u32| sizes.iter().enumerate().filter(move |(_, size)| size.class() == class).map(|(at, _)| at);
    let most = sizes.iter().map(|size| size.class()).max()?;
    (0..=most)
        .map(|class| of_class(class).collect::<Vec<_>>())
        .find(|group| group.len() > TOGETHER)
        // One of which a third is dead is worth writing anew.
        .or_else(|| sizes.iter().position(|size| size.dead() > size.rows / 3).map(|at| vec![at]))
}

/// Writes the live rows of some segments as one, and commits it.
fn merge(inner: &Inner, snapshot: &Snapshot, group: &[usize], stop: &StopToken) -> Result<()> {
    let segments: Vec<_> = group.iter().map(|&at| &snapshot.segments[at]).collect();
    let rows: u32 = segments.iter().map(|segment| segment.entry.live.len()).sum();
    let mut files = None;
    if rows > 0 {
        let store = &inner.store;
        let parts: Vec<_> = segments.iter().map(|segment| (&segment.vectors, &segment.entry.live)).collect();
        let vectors = store.write("vectors", |to| merge_vectors(&parts, to))?;
        let parts: Vec<_> = segments.iter().map(|segment| (&segment.keywords, &segment.entry.live)).collect();
        let keywords = store.write("keywords", |to| merge_keywords(&parts, to))?;
        let near = near(inner, &vectors, rows, stop)?;
        store.sync()?;
        files = Some(SegmentFiles { rows, vectors, keywords, near });
    }
    inner.catalogue().commit(|catalogue| {
        let to = files.as_ref().map(|files| catalogue.add_segment(files)).transpose()?;
        let mut first = 0;
        for segment in &segments {
            if let Some(to) = to {
                catalogue.move_rows(&segment.entry, to, first)?;
            }
            first += segment.entry.live.len();
            catalogue.remove_segment(segment.entry.id)?;
        }
        Ok(())
    })
}

/// Writes what searching a segment of vectors needs besides it.
pub(super) fn near(inner: &Inner, vectors: &str, rows: u32, stop: &StopToken) -> Result<Option<String>> {
    let settings = &inner.pipeline.settings;
    let kind = settings.index.of(rows, inner.pipeline.encoder.dimensions(), settings.memory);
    let vectors = VectorIndex::open(inner.store.open_file(vectors)?)?;
    write_near(&inner.store, kind, &vectors, &|| stop.is_stopped())
}

/// Gives each segment the graph or the lists that it should have.
fn link(inner: &Inner, stop: &StopToken) -> Result<()> {
    let settings = &inner.pipeline.settings;
    let entries = inner.catalogue().segments()?;
    for entry in entries {
        let kind = settings.index.of(entry.files.rows, inner.pipeline.encoder.dimensions(), settings.memory);
        let has = entry.files.near.as_deref().and_then(|name| name.rsplit('.').next());
        if has == kind.ending() {
            continue;
        }
        let near = near(inner, &entry.files.vectors, entry.files.rows, stop)?;
        if stop.is_stopped() {
            break;
        }
        if near == entry.files.near {
            continue;
        }
        inner.store.sync()?;
        let files = SegmentFiles { near, ..entry.files.clone() };
        inner.catalogue().commit(|catalogue| catalogue.set_files(entry.id, &files))?;
    }
    Ok(())
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
