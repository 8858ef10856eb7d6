//! What the nodes of a tree say: sentences of the chunks, and summaries that a generator writes.

use logothete_core::chunk::ChunkId;
use logothete_core::document::BlockKind;
use logothete_core::prompt::group_prompt;
use logothete_core::rerank::normalised;
use logothete_core::search::Passage;
use logothete_core::tree::{
    SummaryPart, Told, Tree, TreeNode, TreeSentence, WordCounts, central_sentences, mean_of_parts, node_words,
    told_by_parts,
};
use logothete_core::{Error, ErrorKind, Result, TokenUsage};
use rayon::prelude::*;

use crate::config::{GeneratorRole, TreeConfig, TreeKind};
use crate::generate::{GenerationRequest, Job, Runner};
use crate::opened::Opened;
use crate::pipeline::Equipped;
use crate::spending::Spending;
use crate::storage::{RowId, View};
use crate::threads::{Driver, StopToken};

/// How rare words are is counted in so many chunks at most, taken evenly.
const MAX_COUNTED: usize = 5_000;
/// The number of chunks that are read at a time.
const AT_ONCE: usize = 512;
/// Room in the context of a generator for the instruction.
const INSTRUCTION_TOKENS: u64 = 400;

/// Tells what nodes say.
pub(super) struct Teller<'a> {
    opened: &'a Opened,
    driver: &'a Driver,
    view: &'a View,
    leaves: &'a [(ChunkId, RowId)],
    counts: WordCounts,
    max_words: usize,
    generator: Option<Equipped>,
    spending: &'a Spending,
    stop: &'a StopToken,
}

/// What is said of a node, and what it cost.
pub(super) struct ToldNode {
    pub told: Told,
    pub tokens: TokenUsage,
}

impl<'a> Teller<'a> {
    pub(super) fn new(
        opened: &'a Opened,
        driver: &'a Driver,
        view: &'a View,
        leaves: &'a [(ChunkId, RowId)],
        config: &TreeConfig,
        spending: &'a Spending,
        stop: &'a StopToken,
    ) -> Result<Self> {
        let generator = match config.kind {
            TreeKind::Generator => {
                let found = opened.pipeline.generator(GeneratorRole::Tree)?;
                Some(found.ok_or_else(|| {
                    let message = "no model is set; choose one in [generator], or set kind = \"sentences\"";
                    Error::new(ErrorKind::Configuration, message).at("[tree] kind")
                })?)
            }
            _ => None,
        };
        let mut counts = WordCounts::default();
        let step = leaves.len().div_ceil(MAX_COUNTED).max(1);
        let counted: Vec<ChunkId> = leaves.iter().step_by(step).map(|(chunk, _)| chunk.clone()).collect();
        for some in counted.chunks(AT_ONCE) {
            view.catalogue().passages(some)?.iter().for_each(|passage| counts.add(&passage.text));
        }
        let max_words = config.max_words;
        Ok(Self { opened, driver, view, leaves, counts, max_words, generator, spending, stop })
    }

    /// Tells some nodes of a level.
    pub(super) fn tell(&self, tree: &Tree, nodes: &[TreeNode]) -> Result<Vec<ToldNode>> {
        if self.stop.is_stopped() || self.spending.is_over() {
            return Err(Error::new(ErrorKind::Cancelled, "the tree of summaries was stopped while it grew"));
        }
        let passages: Vec<Vec<Passage>> = nodes.iter().map(|node| self.passages(node)).collect::<Result<_>>()?;
        let told = |(node, passages): (&TreeNode, &Vec<Passage>)| match node.level {
            1 => self.told_of_chunks(node, passages),
            _ => told_by_parts(tree, node, &mean_of_parts(tree, node), &self.counts, self.max_words),
        };
        let told: Vec<Told> = self.driver.compute(|| nodes.par_iter().zip(&passages).map(told).collect());
        let Some(equipped) = &self.generator else {
            return Ok(told.into_iter().map(|told| ToldNode { told, tokens: TokenUsage::default() }).collect());
        };
        let texts = |at: usize| -> Vec<String> {
            match nodes[at].level {
                1 => passages[at].iter().map(|passage| passage.text.clone()).collect(),
                _ => nodes[at].parts.iter().filter_map(|part| Some(tree.node(*part)?.summary())).collect(),
            }
        };
        let written = self.written(equipped, nodes.len(), texts)?;
        let with =
            |(told, (text, tokens)): (Told, (String, TokenUsage))| ToldNode { told: told.written(Some(text)), tokens };
        Ok(told.into_iter().zip(written).map(with).collect())
    }

    /// Returns the chunks of a node of level 1.
    fn passages(&self, node: &TreeNode) -> Result<Vec<Passage>> {
        if node.level != 1 {
            return Ok(Vec::new());
        }
        let chunks = node.parts.iter().filter_map(|part| self.leaves.get(*part as usize));
        let chunks: Vec<ChunkId> = chunks.map(|(chunk, _)| chunk.clone()).collect();
        self.view.catalogue().passages(&chunks)
    }

    /// Tells a node by its chunks. One is the nearer to the middle, the more its sentences count.
    fn told_of_chunks(&self, node: &TreeNode, passages: &[Passage]) -> Told {
        let vector = |leaf: &u32| {
            let (_, row) = self.leaves.get(*leaf as usize)?;
            Some(normalised(self.view.snapshot.vector(*row)?))
        };
        let vectors: Vec<Option<Vec<f32>>> = node.parts.iter().map(vector).collect();
        let mut middle = vec![0.0_f32; self.opened.encoder.dimensions()];
        for vector in vectors.iter().flatten() {
            middle.iter_mut().zip(vector).for_each(|(sum, number)| *sum += number);
        }
        let middle = normalised(middle);
        let near = |vector: &Option<Vec<f32>>| {
            vector.as_ref().map_or(0.0, |vector| vector.iter().zip(&middle).map(|(a, b)| a * b).sum::<f32>())
        };
        let weights: std::collections::HashMap<&ChunkId, (u32, f32)> = node
            .parts
            .iter()
            .zip(&vectors)
            .filter_map(|(leaf, vector)| Some((&self.leaves.get(*leaf as usize)?.0, (*leaf, near(vector)))))
            .collect();
        let part = |passage: &Passage| {
            let (leaf, weight) = *weights.get(&passage.chunk)?;
            Some(SummaryPart { weight: weight.clamp(0.0, 1.0), sentences: sentences(passage, leaf) })
        };
        let parts: Vec<SummaryPart> = passages.iter().filter_map(part).collect();
        let words = node_words(passages.iter().map(|passage| passage.text.as_str()), &self.counts);
        Told::new(words, central_sentences(&parts, &self.counts, self.max_words))
    }

    /// Has summaries written, several at a time.
    fn written(
        &self,
        equipped: &Equipped,
        count: usize,
        texts: impl Fn(usize) -> Vec<String>,
    ) -> Result<Vec<(String, TokenUsage)>> {
        let Equipped { generator, config, mask } = equipped;
        let reply_tokens = reply_tokens(self.max_words, config.max_tokens);
        let room = config.context_tokens.saturating_sub(reply_tokens + INSTRUCTION_TOKENS);
        let job = |at: usize| {
            let mut left = room;
            let fits = |text: &String| {
                let tokens = generator.count_tokens(text);
                let fits = tokens <= left;
                left = left.saturating_sub(tokens);
                fits
            };
            let texts: Vec<String> = texts(at).into_iter().filter(fits).collect();
            let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
            let prompt = group_prompt(&texts, self.max_words, self.opened.pipeline.templates())?;
            let mut request = GenerationRequest::new(prompt);
            request.parameters = config.parameters();
            let request = request.max_tokens(reply_tokens);
            let sent = generator.count_tokens(&request.prompt.text());
            // The reply belongs to no document: it is kept as long as the cache has room.
            Ok(Job { request, owner: String::new(), expected: TokenUsage { sent, received: reply_tokens } })
        };
        let (cache, limits) = (&*self.opened.storage.cache, &self.opened.config().limits);
        let (mask, spending, stop) = (mask.as_ref(), self.spending, self.stop);
        let runner = Runner { generator, cache, config, limits, mask, spending, stop };
        let mut written = Vec::with_capacity(count);
        for outcome in runner.run(self.driver, count, job)? {
            let Some(reply) = outcome? else {
                self.spending.check()?;
                return Err(Error::new(ErrorKind::Cancelled, "the tree of summaries was stopped while it grew"));
            };
            written.push((reply.text.split_whitespace().collect::<Vec<_>>().join(" "), reply.usage));
        }
        Ok(written)
    }
}

/// Returns the most tokens of a summary that a generator writes.
pub(super) fn reply_tokens(max_words: usize, max_tokens: u64) -> u64 {
    (max_words as u64 * 2).min(max_tokens)
}

/// Returns what of a chunk can stand in a summary: its sentences and list items, and rows of tables if it has nothing else.
fn sentences(passage: &Passage, leaf: u32) -> Vec<TreeSentence> {
    let of = |wanted: &dyn Fn(BlockKind) -> bool| -> Vec<TreeSentence> {
        let all = passage.sentences.iter().filter(|sentence| wanted(sentence.kind));
        all.map(|sentence| {
            let text = sentence.row.clone().unwrap_or_else(|| passage.slice(sentence.span).to_owned());
            let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
            TreeSentence { text, leaf, span: sentence.span }
        })
        .filter(|sentence| !sentence.text.is_empty())
        .collect()
    };
    let running = of(&|kind| matches!(kind, BlockKind::Paragraph | BlockKind::ListItem | BlockKind::Quotation));
    if running.is_empty() { of(&|kind| kind == BlockKind::Table) } else { running }
}
