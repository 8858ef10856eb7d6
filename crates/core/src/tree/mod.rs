//! Trees of summaries: chunks that are alike are grouped, each group is summed up, the groups are grouped, until one node stands for all or nothing stands apart
//! (Sarthi and others, 2024).
//!
//! The vectors are looked at in their principal directions and grouped by Gaussian mixtures, whose number of clouds an information criterion chooses. A chunk may
//! belong to several groups. Every summary knows the sentences that it stands on, with their places, so that an answer from a summary cites the chunks. Without a
//! model, the summary is these sentences.

mod central;
mod file;
mod follow;
mod groups;
mod grow;
mod mixture;
mod node;
mod reduce;
mod words;

pub use central::{SummaryPart, TreeSentence, central_sentences};
pub use file::StoredTree;
pub use groups::{GroupSettings, Groups, groups};
pub use grow::{Growth, Tell, Told, TreeSettings, grow, mean_of_parts, told_by_parts};
pub use node::{Tree, TreeEnd, TreeHistory, TreeNode};
pub use words::{NodeWord, WordCounts, node_words};
