//! A tree as a segment.
//!
//! The header's rows are the nodes, and its width the dimensions. The body has the length of a JSON object (`u32`, little-endian), the object, zeros up to a multiple
//! of four, and the means of the nodes, `dimensions` numbers each (`f32`).

use std::borrow::Cow;
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
struct Written<'t> {
    made_by: Cow<'t, str>,
    end: TreeEnd,
    history: TreeHistory,
    chunks: Cow<'t, [ChunkId]>,
    nodes: Cow<'t, [TreeNode]>,
    /// The means of the nodes, where they do not stand behind the object.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    means: Vec<Vec<f32>>,
}

impl Written<'_> {
    /// Returns the tree, with the means of its nodes.
    fn checked(self, dimensions: usize, means: impl IntoIterator<Item = Vec<f32>>) -> Result<StoredTree> {
        let damaged = || Error::new(ErrorKind::Corpus, "the tree of summaries is damaged; build again to grow another");
        let Self { made_by, end, history, chunks, nodes, .. } = self;
        let (chunks, nodes, made_by) = (chunks.into_owned(), nodes.into_owned(), made_by.into_owned());
        let leaves = chunks.len() as u32;
        let mut all = Vectors::new(dimensions);
        for mean in means {
            all.push(&mean).map_err(|error| damaged().because(error))?;
        }
        if all.len() != nodes.len() || !are_whole(&nodes, leaves) {
            return Err(damaged());
        }
        Ok(StoredTree { tree: Tree { nodes, leaves, end, history, means: all }, chunks, made_by })
    }
}

impl StoredTree {
    /// Returns a tree of some chunks.
    pub fn new(tree: Tree, chunks: Vec<ChunkId>, made_by: impl Into<String>) -> Self {
        Self { tree, chunks, made_by: made_by.into() }
    }

    fn written(&self, means: Vec<Vec<f32>>) -> Written<'_> {
        let Self { tree, chunks, made_by } = self;
        let (chunks, nodes, made_by) = (Cow::from(chunks), Cow::from(&tree.nodes), Cow::from(made_by));
        Written { made_by, end: tree.end, history: tree.history, chunks, nodes, means }
    }

    /// Returns it as JSON, for an export.
    ///
    /// # Errors
    /// If it cannot be written as JSON.
    pub fn to_json(&self) -> Result<serde_json::Value> {
        let means = self.tree.means.iter().map(<[f32]>::to_vec).collect();
        serde_json::to_value(self.written(means)).map_err(unwritable)
    }

    /// Reads what [`to_json`](Self::to_json) wrote, for vectors of some dimensions.
    ///
    /// # Errors
    /// If it is no tree, or its vectors have other dimensions.
    pub fn from_json(json: serde_json::Value, dimensions: usize) -> Result<Self> {
        let mut written: Written<'_> = serde_json::from_value(json)
            .map_err(|error| Error::new(ErrorKind::Unreadable, format!("this is no tree: {error}")))?;
        let means = std::mem::take(&mut written.means);
        written.checked(dimensions, means)
    }

    /// Writes it as the body of a segment, and returns its header.
    ///
    /// # Errors
    /// If writing fails.
    pub fn write(&self, mut to: impl Write) -> Result<SegmentHeader> {
        let tree = &self.tree;
        let json = serde_json::to_vec(&self.written(Vec::new())).map_err(unwritable)?;
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
        let written: Written<'_> = serde_json::from_slice(json).map_err(|error| damaged().because(error))?;
        let numbers = bytes.get(HEADER + 4 + length.next_multiple_of(4)..).ok_or_else(damaged)?;
        let dimensions = header.width as usize;
        if numbers.len() as u64 != written.nodes.len() as u64 * dimensions as u64 * 4 {
            return Err(damaged());
        }
        let numbers: Vec<f32> = numbers.as_chunks().0.iter().map(|four| f32::from_le_bytes(*four)).collect();
        written.checked(dimensions, numbers.chunks_exact(dimensions.max(1)).map(<[f32]>::to_vec))
    }
}

fn unwritable(error: serde_json::Error) -> Error {
    Error::new(ErrorKind::System, "a tree could not be written as JSON").because(error)
}

/// Returns whether every node has parts on the level below it, before it.
fn are_whole(nodes: &[TreeNode], leaves: u32) -> bool {
    nodes.iter().enumerate().all(|(at, node)| {
        let is_part = |part: &u32| match node.level {
            0 => false,
            1 => *part < leaves,
            level => (*part as usize) < at && nodes[*part as usize].level.checked_add(1) == Some(level),
        };
        !node.parts.is_empty()
            && node.parts.iter().all(is_part)
            && node.sentences.iter().all(|sentence| sentence.leaf < leaves)
    })
}
