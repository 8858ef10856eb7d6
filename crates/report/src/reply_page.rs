//! The page of a reply, with what it takes from the corpus.

use std::collections::BTreeSet;

use logothete::search::Filter;
use logothete::{Corpus, Reply, Result, SearchRequest};

use crate::{SourcePage, trace_page};

/// Returns the page about a reply: how it was found, and the pages of documents that it cites, which are read from the corpus. A document that was removed
/// since has no page any more. Without a model a reply has no passages, and they are searched for once more, with the `filter` of the question.
///
/// # Errors
/// If that search fails.
pub async fn reply_page(corpus: &Corpus, reply: &Reply, filter: Option<&Filter>) -> Result<String> {
    let mut passages = reply.passages.clone();
    if passages.is_empty() {
        let request = SearchRequest::new(&reply.answer.question).plain();
        let request = match filter {
            Some(filter) => request.filter(filter.clone()),
            None => request,
        };
        passages = corpus.search(request).await?.passages;
    }
    let mut pages: Vec<SourcePage> = Vec::new();
    let mut drawn = BTreeSet::new();
    for source in &reply.answer.sources {
        let locations = std::iter::once(&source.location).chain(source.more.iter().map(|other| &other.location));
        let wanted: BTreeSet<u32> =
            locations.flat_map(|location| location.areas.iter().map(|area| area.page)).collect();
        let name = &source.location.document;
        let wanted: Vec<u32> = wanted.into_iter().filter(|page| drawn.insert((name.clone(), *page))).collect();
        if !wanted.is_empty()
            && let Ok(document) = corpus.parsed(name).await
        {
            pages.extend(wanted.into_iter().filter_map(|page| SourcePage::new(&document, page)));
        }
    }
    Ok(trace_page(reply, &passages, &pages))
}
