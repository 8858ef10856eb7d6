//! The tree of summaries.

use logothete_core::Result;

use super::Corpus;
use super::digesting::named_documents;
use crate::config::TreeKind;
use crate::digest::{DigestReport, of_level};
use crate::spending::Spending;
use crate::threads::StopToken;
use crate::tree::{Growing, TreeOverview, TreeReport, looked_at, overview};

impl Corpus {
    /// Returns the tree of summaries: its levels, its nodes, and the sentences that each stands on, with their places. `None` means that there is none.
    ///
    /// # Errors
    /// If the corpus is damaged, or the handle does not see [all documents](Self::for_owner), of which summaries tell.
    pub async fn tree(&self) -> Result<Option<TreeOverview>> {
        self.check_owner("the tree")?;
        self.query(|opened, view, _| overview(opened, view)).await
    }

    /// Returns a tree over the chunks of some documents alone, as `[tree]` says, or of sentences. It grows in this call and is not kept; what a model wrote is in
    /// the cache. A document may be named by the end of its name.
    ///
    /// Costs milliseconds for a document of a hundred pages, and with a model the tokens of its chunks and summaries once.
    ///
    /// # Errors
    /// If there is no such document, or the model fails or a limit is reached.
    pub async fn tree_of<N: Into<String>>(&self, documents: impl IntoIterator<Item = N>) -> Result<TreeOverview> {
        let wanted: Vec<String> = documents.into_iter().map(Into::into).collect();
        let sight = self.sight();
        self.drive(&StopToken::default(), move |opened, driver, stop| {
            let view = sight.view(opened)?;
            let documents = named_documents(&view, &wanted)?;
            let config = &opened.config().tree;
            let spending = Spending::new(&opened.config().limits);
            let growing = Growing { opened, driver, lease: None, spending: &spending, stop };
            let stored = growing.of_documents(&view, &documents, config)?;
            spending.check()?;
            looked_at(opened, &view, &stored)
        })
        .await
    }

    /// Returns digests of a grain of one's own: for each document the summaries of a level of its [tree](Self::tree_of), from 1 for the finest, each statement
    /// word for word and with its place.
    ///
    /// # Errors
    /// As [`tree_of`](Self::tree_of), and if a document has fewer levels.
    pub async fn digest_at_level<N: Into<String>>(
        &self,
        documents: impl IntoIterator<Item = N>,
        level: u32,
    ) -> Result<DigestReport> {
        let wanted: Vec<String> = documents.into_iter().map(Into::into).collect();
        let named = self.query(move |_, view, _| named_documents(view, &wanted)).await?;
        let mut digests = Vec::with_capacity(named.len());
        for name in named {
            let title = self.document(&name).await?.info.title;
            let tree = self.tree_of([&name]).await?;
            digests.push(of_level(&name, title, &tree, level)?);
        }
        Ok(DigestReport::new(digests, None, Vec::new()))
    }

    /// Grows the tree of summaries, or lets one that is there follow what has changed; `anew` grows it in any case. A build does so by itself if `kind` is set in
    /// `[tree]`; here a tree of sentences is grown if it is not.
    ///
    /// Costs about a minute for 100,000 chunks, and with a model the tokens of all chunks and summaries once.
    ///
    /// # Errors
    /// If another writer is at work, the model that is to write has no settings, or the work was stopped.
    pub async fn grow_tree(&self, anew: bool, stop: &StopToken) -> Result<TreeReport> {
        self.write(stop, move |opened, driver, stop| {
            let lease = opened.write_lease()?;
            let mut config = opened.config().tree.clone();
            if config.kind == TreeKind::Off {
                config.kind = TreeKind::Sentences;
            }
            let spending = Spending::new(&opened.config().limits);
            let growing = Growing { opened, driver, lease: Some(&lease), spending: &spending, stop };
            let report = growing.settled(&config, anew)?;
            spending.check()?;
            Ok(report)
        })
        .await
    }
}
