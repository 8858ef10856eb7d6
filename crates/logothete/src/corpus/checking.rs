//! Holding a text against a corpus.

use std::sync::Arc;

use logothete_core::Result;
use logothete_parse::parse;

use super::Corpus;
use crate::checking::{self, CheckReport, CheckedText, ClaimPair, PairCheck};
use crate::pipeline::Pipeline;
use crate::search::{SearchRequest, Searcher, Transforms};
use crate::spending::Spending;

impl Corpus {
    /// Holds a text against the corpus, claim by claim: its sentences, list items and rows of tables. The ending of its name tells how it is read; without one
    /// it is Markdown, of which plain text is a part.
    ///
    /// What a claim cites by the name of a document, and perhaps a page, is what it is held against first; then what a search finds. See
    /// `docs/guide/checking.md` for what the verdicts mean. Costs a search and the comparison with some passages for each claim.
    ///
    /// # Errors
    /// If the text cannot be read, the corpus is damaged, or the encoder fails.
    pub async fn check(&self, name: &str, text: impl Into<String>) -> Result<CheckReport> {
        let source = text.into();
        let read_as = if name.contains('.') { name.to_owned() } else { format!("{name}.md") };
        let mut document = parse(&read_as, source.as_bytes())?;
        name.clone_into(&mut document.name);
        let text = CheckedText { source, document };
        let mut ahead = Default::default();
        // A remote encoder is asked before the search, as for any other.
        if self.opened.encoder.is_remote() {
            let requests: Vec<SearchRequest> = checking::queries(&text).into_iter().map(SearchRequest::new).collect();
            let spending = Arc::new(Spending::for_question(&self.opened.config().limits));
            ahead = self.ahead(&requests, Transforms::default(), &spending, |_| Ok(())).await?;
        }
        self.query(move |opened, view, stop| checking::check(&Searcher { opened, view, ahead: &ahead, stop }, &text))
            .await
    }
}

impl Pipeline {
    /// Holds claims against the sources that come with them. Needs no corpus.
    ///
    /// # Errors
    /// If the encoder cannot be made, or fails.
    pub fn check_pairs(&self, pairs: &[ClaimPair]) -> Result<Vec<PairCheck>> {
        checking::check_pairs(&*self.encoder()?, pairs)
    }
}
