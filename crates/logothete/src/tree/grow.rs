//! Growing the tree of a corpus, and following what has changed.

use std::collections::{HashMap, HashSet};

use logothete_core::chunk::ChunkId;
use logothete_core::rerank::normalised;
use logothete_core::tree::{Growth, StoredTree, Told, Tree, TreeNode};
use logothete_core::vector::Vectors;
use logothete_core::{Error, Result, TokenUsage};

use super::tell::Teller;
use super::{TreeReport, leaves, made_by};
use crate::config::{TreeConfig, TreeKind};
use crate::opened::Opened;
use crate::spending::Spending;
use crate::storage::{FileKind, Lease, RowId, RowsOf, View};
use crate::threads::{Driver, StopToken};

/// The number of nodes that are told between two looks at whether the work was stopped.
const TOLD_AT_ONCE: usize = 256;

/// The work on a tree.
pub(crate) struct Growing<'a> {
    pub opened: &'a Opened,
    pub driver: &'a Driver,
    /// The right to write; `None` for a tree that is not kept.
    pub lease: Option<&'a Lease>,
    pub spending: &'a Spending,
    pub stop: &'a StopToken,
}

/// Brings the tree up to date with the chunks: it grows if there is none, if it was made in another way, or if much has changed since; otherwise new chunks join
/// their nearest summaries, and only the summaries that changed are told anew. Returns `None` if the configuration wants no tree.
pub(crate) fn settle(growing: &Growing<'_>) -> Result<Option<TreeReport>> {
    let config = &growing.opened.config().tree;
    match config.kind {
        TreeKind::Off => Ok(None),
        _ => growing.settled(config, false).map(Some),
    }
}

impl Growing<'_> {
    /// Brings the tree up to date. `anew` lets it grow in any case.
    pub(crate) fn settled(&self, config: &TreeConfig, anew: bool) -> Result<TreeReport> {
        let opened = self.opened;
        let view = opened.view()?;
        let now = leaves(&**view.catalogue())?;
        let made_by = made_by(opened, config);
        // A damaged tree grows again.
        let stored = view.snapshot.tree().ok().flatten();
        let usable = stored.filter(|stored| !anew && stored.made_by == made_by && !stored.tree.nodes.is_empty());
        let teller = Teller::new(opened, self.driver, &view, &now, config, self.spending, self.stop)?;
        if let Some(stored) = usable {
            let mut follower = StoredTree::clone(&stored);
            if let Some(report) = self.follow(&mut follower, &view, &now, &teller)? {
                if report.joined + report.gone > 0 {
                    self.commit(&follower)?;
                }
                return Ok(report);
            }
        }
        self.grow(&view, &now, config, &teller, made_by)
    }

    /// Lets new chunks join and others go. Returns `None` if the tree is worn then.
    fn follow(
        &self,
        stored: &mut StoredTree,
        view: &View,
        now: &[(ChunkId, RowId)],
        teller: &Teller<'_>,
    ) -> Result<Option<TreeReport>> {
        let places: HashMap<&ChunkId, u32> = (0_u32..).zip(now).map(|(at, (chunk, _))| (chunk, at)).collect();
        let kept: Vec<Option<u32>> = stored.chunks.iter().map(|chunk| places.get(chunk).copied()).collect();
        let known: HashSet<&ChunkId> = stored.chunks.iter().collect();
        let new: Vec<(u32, Vec<f32>)> = (0_u32..)
            .zip(now)
            .filter(|(_, (chunk, _))| !known.contains(chunk))
            .filter_map(|(at, (_, row))| Some((at, normalised(view.snapshot.vector(*row)?))))
            .collect();
        let (joined, gone) = (new.len(), kept.iter().filter(|kept| kept.is_none()).count());
        let new: Vec<(u32, &[f32])> = new.iter().map(|(at, vector)| (*at, vector.as_slice())).collect();
        let changed = if joined + gone == 0 { Vec::new() } else { stored.tree.follow(&kept, &new, now.len() as u32) };
        if stored.tree.history.is_worn() || stored.tree.nodes.is_empty() {
            return Ok(None);
        }
        let tokens = self.retell(&mut stored.tree, &changed, teller)?;
        stored.chunks = now.iter().map(|(chunk, _)| chunk.clone()).collect();
        let mut report = report(&stored.tree);
        (report.told, report.joined, report.gone, report.tokens) = (changed.len(), joined, gone, tokens);
        Ok(Some(report))
    }

    /// Tells nodes anew, level by level: a summary stands on those below it.
    fn retell(&self, tree: &mut Tree, changed: &[u32], teller: &Teller<'_>) -> Result<TokenUsage> {
        let mut tokens = TokenUsage::default();
        for level in 1..=tree.levels() {
            let of_level: Vec<u32> =
                changed.iter().copied().filter(|at| tree.nodes[*at as usize].level == level).collect();
            let nodes: Vec<TreeNode> = of_level.iter().map(|at| tree.nodes[*at as usize].clone()).collect();
            let (told, more) = self.told(tree, &nodes, teller)?;
            tokens += more;
            of_level.iter().zip(told).for_each(|(at, told)| tree.retell(*at, told));
        }
        if !changed.is_empty() {
            tree.rename();
        }
        Ok(tokens)
    }

    /// Tells some nodes of a level.
    fn told(&self, tree: &Tree, nodes: &[TreeNode], teller: &Teller<'_>) -> Result<(Vec<Told>, TokenUsage)> {
        let (mut all, mut tokens) = (Vec::with_capacity(nodes.len()), TokenUsage::default());
        for some in nodes.chunks(TOLD_AT_ONCE) {
            for told in teller.tell(tree, some)? {
                tokens += told.tokens;
                all.push(told.told);
            }
        }
        Ok((all, tokens))
    }

    fn grow(
        &self,
        view: &View,
        now: &[(ChunkId, RowId)],
        config: &TreeConfig,
        teller: &Teller<'_>,
        made_by: String,
    ) -> Result<TreeReport> {
        let Grown { tree, tokens, broken } = self.grown(view, now, config, teller)?;
        let mut report = report(&tree);
        (report.told, report.grown, report.tokens) = (tree.nodes.len(), true, tokens);
        report.broken = broken.as_ref().map(ToString::to_string);
        // What a model has not finished grows again with the next build; its replies are in the cache.
        let made_by = if broken.is_some() { format!("{made_by}, unfinished") } else { made_by };
        self.commit(&StoredTree::new(tree, now.iter().map(|(chunk, _)| chunk.clone()).collect(), made_by))?;
        Ok(report)
    }

    /// Grows a tree over some chunks.
    fn grown(&self, view: &View, now: &[(ChunkId, RowId)], config: &TreeConfig, teller: &Teller<'_>) -> Result<Grown> {
        let mut vectors = Vectors::new(self.opened.encoder.dimensions());
        let nothing = vec![0.0; vectors.dimensions()];
        for (_, row) in now {
            vectors.push(&view.snapshot.vector(*row).map_or_else(|| nothing.clone(), normalised))?;
        }
        let mut tokens = TokenUsage::default();
        let mut growth = Growth::new(vectors, config.settings());
        let mut broken = None;
        while let Some(nodes) = self.driver.compute(|| growth.next_level()) {
            match self.told(growth.tree(), &nodes, teller) {
                Ok((told, more)) => {
                    tokens += more;
                    growth.add(nodes, told);
                }
                Err(error) if self.stop.is_stopped() || self.spending.is_over() => return Err(error),
                Err(error) => {
                    broken = Some(error);
                    break;
                }
            }
        }
        Ok(Grown { tree: growth.finish(), tokens, broken })
    }

    /// Grows a tree over the chunks of some documents, which is not kept.
    pub(crate) fn of_documents(&self, view: &View, documents: &[String], config: &TreeConfig) -> Result<StoredTree> {
        let wanted: Vec<RowsOf> = documents.iter().map(|name| RowsOf::Document(name.clone())).collect();
        let catalogue = view.catalogue();
        let rows: Vec<RowId> = catalogue.rows_of(&wanted)?.into_iter().map(|(_, row)| row).collect();
        let chunks = catalogue.chunks_at(&rows)?;
        drop(catalogue);
        let now: Vec<(ChunkId, RowId)> = chunks.into_iter().map(|(chunk, _)| chunk).zip(rows).collect();
        let teller = Teller::new(self.opened, self.driver, view, &now, config, self.spending, self.stop)?;
        let Grown { tree, broken, .. } = self.grown(view, &now, config, &teller)?;
        match broken {
            Some(error) => Err(error),
            None => {
                let chunks = now.into_iter().map(|(chunk, _)| chunk).collect();
                Ok(StoredTree::new(tree, chunks, made_by(self.opened, config)))
            }
        }
    }

    fn commit(&self, stored: &StoredTree) -> Result<()> {
        let Some(lease) = self.lease else { return Ok(()) };
        let storage = &self.opened.storage;
        let name = storage.write(FileKind::Tree, |to| stored.write(to))?;
        storage.sync()?;
        storage.commit(lease, |transaction| transaction.set_tree(Some(&name)))?;
        storage.sweep(lease)
    }
}

/// A tree that has grown, and what it cost.
struct Grown {
    tree: Tree,
    tokens: TokenUsage,
    /// Why it is not whole.
    broken: Option<Error>,
}

fn report(tree: &Tree) -> TreeReport {
    let (levels, nodes, chunks, end) = (tree.levels(), tree.nodes.len(), tree.leaves, tree.end);
    TreeReport { levels, nodes, chunks, end, ..TreeReport::default() }
}
