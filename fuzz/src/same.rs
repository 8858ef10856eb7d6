//! Two ways to the same result: what one finds, the other must find too.

use std::collections::BTreeMap;

use logothete::{BuildRequest, Corpus, Hashing, MemorySource, Pipeline};
use logothete_core::keyword::{
    FieldWeights, Fields, KeywordIndex, KeywordWriter, LiveCounts, LiveKeywords, PreparedQuery, Query,
};
use logothete_core::segment::{RowSet, whole_segment};
use logothete_core::vector::{Distance, VectorIndex, Vectors, merge_vectors, write_vectors};

use crate::{Target, text};

pub const TARGETS: &[(&str, Target)] = &[("scan", scan), ("keywords", keywords), ("incremental", incremental)];

/// The index of vectors beside a plain loop over what it holds, for any number of dimensions and each distance; and a merge beside the whole.
fn scan(bytes: &[u8]) {
    let Some(([dimensions, distance], rest)) = bytes.split_first_chunk() else { return };
    let dimensions = usize::from(*dimensions % 70) + 1;
    let distance = [Distance::Cosine, Distance::Dot, Distance::Euclidean][usize::from(*distance) % 3];
    let numbers: Vec<f32> = rest.iter().map(|byte| f32::from(byte.cast_signed())).collect();
    let mut rows = numbers.chunks_exact(dimensions);
    // Nothing is like a vector without a direction.
    let Some(query) = rows.next().filter(|query| query.iter().any(|number| *number != 0.0)) else { return };
    let mut vectors = Vectors::new(dimensions);
    rows.for_each(|row| drop(vectors.push(row)));
    let index = |vectors: &Vectors| {
        VectorIndex::open(whole_segment(|to| write_vectors(vectors, distance, to)).expect("a segment"))
            .expect("an index")
    };
    let whole = index(&vectors);
    let all = RowSet::all(whole.rows());
    let found = whole.search(query, &all, vectors.len());
    assert_eq!(found.len(), vectors.len());
    let scaled = |one: &[f32]| {
        let length = one.iter().map(|x| x * x).sum::<f32>().sqrt();
        one.iter().map(|x| if length > 0.0 { x / length } else { 0.0 }).collect::<Vec<f32>>()
    };
    let mut before = f32::INFINITY;
    for hit in &found {
        let row = whole.row(hit.row).expect("a row");
        let dot = |one: &[f32], other: &[f32]| one.iter().zip(other).map(|(x, y)| x * y).sum::<f32>();
        let plain = match distance {
            Distance::Cosine => dot(&scaled(query), &row),
            Distance::Dot => dot(query, &row),
            Distance::Euclidean => {
                1.0 / (1.0 + query.iter().zip(&row).map(|(x, y)| (x - y) * (x - y)).sum::<f32>().sqrt())
            }
        };
        let size = dot(query, query).sqrt() * dot(&row, &row).sqrt();
        assert!((hit.score - plain).abs() <= 1e-4 * size.max(1.0), "{} and {plain} by {distance:?}", hit.score);
        assert!(hit.score <= before, "in order");
        before = hit.score;
    }
    let half = vectors.len() / 2;
    let (mut one, mut other) = (Vectors::new(dimensions), Vectors::new(dimensions));
    vectors.iter().enumerate().for_each(|(at, row)| drop(if at < half { one.push(row) } else { other.push(row) }));
    let (one, other) = (index(&one), index(&other));
    let (first, second) = (RowSet::all(one.rows()), RowSet::all(other.rows()));
    let merged = whole_segment(|to| merge_vectors(&[(&one, &first), (&other, &second)], to)).expect("a merge");
    let merged = VectorIndex::open(merged).expect("an index");
    let scores =
        |hits: &[logothete_core::segment::Hit]| hits.iter().map(|hit| hit.score.to_bits()).collect::<Vec<u32>>();
    assert_eq!(scores(&merged.search(query, &all, vectors.len())), scores(&found));
}

/// The index of words beside all its rows scored: the best few are the first of all.
fn keywords(bytes: &[u8]) {
    let text = text(bytes);
    let mut lines = text.lines();
    let Some(query) = lines.next() else { return };
    let mut writer = KeywordWriter::new(FieldWeights::default());
    lines.for_each(|line| writer.push(&Fields::body(line), None));
    let index = KeywordIndex::open(whole_segment(|to| writer.write(to)).expect("a segment")).expect("an index");
    let live = RowSet::all(index.rows());
    let counts = LiveCounts::new(&index, &live);
    let part = LiveKeywords { index: &index, live: &live, counts: &counts };
    let prepared = PreparedQuery::new(&Query::parse(query), &[part]);
    let among = prepared.allowed(part);
    let all = prepared.search(part, among.as_ref(), index.rows() as usize + 1);
    for count in [1, 2, 3, 10] {
        let few = prepared.search(part, among.as_ref(), count);
        assert_eq!(few.len(), all.len().min(count));
        for (one, other) in few.iter().zip(&all) {
            assert!((one.score - other.score).abs() <= 1e-4 * other.score.abs().max(1.0), "{few:?} beside {all:?}");
        }
    }
}

fn pipeline() -> Pipeline {
    Pipeline::default().with_encoder(Hashing::new(16).expect("settings"))
}

async fn held(corpus: &Corpus) -> BTreeMap<String, Vec<String>> {
    let mut all = BTreeMap::new();
    for info in corpus.info().await.expect("facts").documents {
        let detail = corpus.document(&info.document).await.expect("a document");
        all.insert(info.document, detail.chunks.iter().map(|chunk| chunk.chunk.to_string()).collect());
    }
    all
}

/// A corpus that was changed step by step beside one that was made at once. Each line of the input is a document; the second half of the lines comes later.
fn incremental(bytes: &[u8]) {
    let text = text(bytes);
    let lines: Vec<&str> = text.lines().filter(|line| !line.trim().is_empty()).take(12).collect();
    let source = |lines: &[&str], shift: usize| {
        lines.iter().enumerate().fold(MemorySource::new("notices"), |source, (at, line)| {
            source.with(format!("{}.md", at + shift), format!("# Notice\n\n{line}"))
        })
    };
    let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
    runtime.block_on(async {
        let pipeline = pipeline();
        let (grown, fresh) = (pipeline.in_memory().await.expect("one"), pipeline.in_memory().await.expect("another"));
        let half = lines.len() / 2;
        for part in [source(&lines[..half], 0), source(&lines[half..], half / 2), source(&lines, 0)] {
            let report = grown.build(BuildRequest::default().source(part).prune(true)).await.expect("a build");
            // What cannot be read any more is kept as it was read before.
            if !report.failed.is_empty() {
                return;
            }
        }
        fresh.build(BuildRequest::default().source(source(&lines, 0))).await.expect("a build");
        assert_eq!(held(&grown).await, held(&fresh).await);
        let query = lines.first().copied().unwrap_or("bell");
        let (one, other) = match (grown.search(query).await, fresh.search(query).await) {
            (Ok(one), Ok(other)) => (one, other),
            (one, other) => return assert_eq!(one.is_err(), other.is_err(), "a text without words is no query"),
        };
        let scores = |found: &logothete::SearchResult| -> Vec<(String, i64)> {
            let mut all: Vec<_> = found
                .passages
                .iter()
                .map(|passage| (passage.chunk.to_string(), (f64::from(passage.score) * 1e3).round() as i64))
                .collect();
            all.sort();
            all
        };
        assert_eq!(scores(&one), scores(&other), "for {query:?}");
    });
}
