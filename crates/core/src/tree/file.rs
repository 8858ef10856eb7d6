//! A tree as a segment.
//!
//! The header's rows are the nodes, and its width the dimensions. The body has the length of a JSON object (`u32`, little-endian), the object, zeros up to a multiple
//! of four, and the means of the nodes, `dimensions` numbers each (`f32`).

use std::io::Write;

use serde::{Deserialize, Serialize};

use super::node::{Tree, TreeEnd, TreeHistory, TreeNode};
use crate::chunk::ChunkId;
use crate::error::{Error, ErrorKind, Result};
use crate::segment::{BodyWriter, HEADER, Kind, SegmentHeader, open, u32_at};
use crate::vector::Vectors;

/// A tree with what it is of.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct StoredTree {
    /// The tree.
    pub tree: Tree,
    /// The ids of its chunks, by the positions of the leaves.
    pub chunks: Vec<ChunkId>,
    /// What it depends on besides the chunks: the fingerprint of the encoder and of the settings.
    pub made_by: String,
}

#[derive(Serialize, Deserialize)]
struct Written {
    made_by: String,
    end: TreeEnd,
    history: TreeHistory,
    chunks: Vec<ChunkId>,
    nodes: Vec<TreeNode>,
}

impl StoredTree {
    /// Returns a tree of some chunks.
    pub fn new(tree: Tree, chunks: Vec<ChunkId>, made_by: impl Into<String>) -> Self {
        Self { tree, chunks, made_by: made_by.into() }
    }

    /// Writes it as the body of a segment, and returns its header.
    ///
    /// # Errors
    /// If writing fails.
    pub fn write(&self, mut to: impl Write) -> Result<SegmentHeader> {
        let Self { tree, chunks, made_by } = self;
        let written = Written {
            made_by: made_by.clone(),
            end: tree.end,
            history: tree.history,
            chunks: chunks.clone(),
            nodes: tree.nodes.clone(),
        };
        let json = serde_json::to_vec(&written)
            .map_err(|error| Error::new(ErrorKind::System, "a tree could not be written as JSON").because(error))?;
        let mut body = BodyWriter::new(&mut to);
        body.put(&(json.len() as u32).to_le_bytes())?;
        body.put(&json)?;
        body.put(&vec![0; json.len().next_multiple_of(4) - json.len()])?;
        for mean in tree.means.iter() {
            body.put(&mean.iter().flat_map(|number| number.to_le_bytes()).collect::<Vec<u8>>())?;
        }
        Ok(body.finish(Kind::Tree, tree.nodes.len() as u32, tree.dimensions() as u32, 0))
    }

    /// Reads a segment.
    ///
    /// # Errors
    /// If the bytes are not a whole tree: a byte has changed, or a node has parts that are not there.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        let header = open(bytes, Kind::Tree)?;
        header.verify(bytes)?;
        let damaged = || Error::new(ErrorKind::Corpus, "the tree of summaries is damaged; build again to grow another");
        let length = u32_at(bytes, HEADER).ok_or_else(damaged)? as usize;
        let json = bytes.get(HEADER + 4..).and_then(|rest| rest.get(..length)).ok_or_else(damaged)?;
        let Written { made_by, end, history, chunks, nodes } =
            serde_json::from_slice(json).map_err(|error| damaged().because(error))?;
        let numbers = bytes.get(HEADER + 4 + length.next_multiple_of(4)..).ok_or_else(damaged)?;
        let (dimensions, leaves) = (header.width as usize, chunks.len() as u32);
        if numbers.len() as u64 != nodes.len() as u64 * dimensions as u64 * 4 || !are_whole(&nodes, leaves) {
            return Err(damaged());
        }
        let mut means = Vectors::new(dimensions);
        let numbers: Vec<f32> = numbers.as_chunks().0.iter().map(|four| f32::from_le_bytes(*four)).collect();
        for mean in numbers.chunks_exact(dimensions.max(1)) {
            means.push(mean).map_err(|error| damaged().because(error))?;
        }
        Ok(Self { tree: Tree { nodes, leaves, end, history, means }, chunks, made_by })
    }
}

/// Returns whether every node has parts on the level below it, before it.
fn are_whole(nodes: &[TreeNode], leaves: u32) -> bool {
    nodes.iter().enumerate().all(|(at, node)| {
        let is_part = |part: &u32| match node.level {
            0 => false,
            1 => *part < leaves,
            level => (*part as usize) < at && nodes[*part as usize].level + 1 == level,
        };
        !node.parts.is_empty()
            && node.parts.iter().all(is_part)
            && node.sentences.iter().all(|sentence| sentence.leaf < leaves)
    })
}
