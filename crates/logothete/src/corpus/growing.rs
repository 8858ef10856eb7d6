//! The tree of summaries.

use logothete_core::Result;

use super::Corpus;
use crate::config::TreeKind;
use crate::spending::Spending;
use crate::threads::StopToken;
use crate::tree::{Growing, TreeOverview, TreeReport, overview};

impl Corpus {
    /// Returns the tree of summaries: its levels, its nodes, and the sentences that each stands on, with their places. `None` means that there is none.
    ///
    /// # Errors
    /// If the corpus is damaged, or the handle does not see [all documents](Self::for_owner), of which summaries tell.
    pub async fn tree(&self) -> Result<Option<TreeOverview>> {
        self.check_owner("the tree")?;
        self.query(|opened, view, _| overview(opened, view)).await
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
            let growing = Growing { opened, driver, lease: &lease, spending: &spending, stop };
            let report = growing.settled(&config, anew)?;
            spending.check()?;
            Ok(report)
        })
        .await
    }
}
