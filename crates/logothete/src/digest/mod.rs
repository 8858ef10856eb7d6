//! Digests of whole documents: by a model, part by part; or, without one, made of the documents' own sentences.

mod level;
mod report;
mod sentences;
mod written;

pub use logothete_core::digest::*;
pub use report::DigestReport;

use logothete_core::Result;
use logothete_core::document::Location;
use logothete_core::search::Passage;
use logothete_core::verify::Judge;

pub(crate) use level::of_level;
pub(crate) use sentences::from_sentences;
pub(crate) use written::{Writer, WrittenDigest};

use crate::opened::Opened;
use crate::storage::View;

/// A document, with all of its passages in order.
pub(crate) struct WholeDocument {
    pub name: String,
    pub title: Option<String>,
    pub passages: Vec<Passage>,
}

impl WholeDocument {
    /// Reads a document of the corpus.
    pub(crate) fn read(view: &View, name: &str) -> Result<Self> {
        let catalogue = view.catalogue();
        let title = catalogue.document_detail(name)?.info.title;
        let id = catalogue.known_id(name)?;
        let ids = catalogue.chunks_of(&id.into_iter().collect::<Vec<_>>())?;
        let passages = catalogue.passages_with_duplicates(&ids)?;
        drop(catalogue);
        Ok(Self { name: name.to_owned(), title, passages: view.without_unseen(passages)? })
    }

    /// Puts several documents together, as one without a name.
    pub(crate) fn together(documents: &[Self]) -> Self {
        let passages = documents.iter().flat_map(|document| document.passages.clone()).collect();
        let titles: Vec<&str> =
            documents.iter().map(|document| document.title.as_deref().unwrap_or(&document.name)).collect();
        Self { name: String::new(), title: Some(titles.join("; ")), passages }
    }
}

/// Fills in where each source stands on its page, and its own headings.
pub(crate) fn pinpoint(view: &View, digest: &mut Digest) -> Result<()> {
    let own = digest.sources.iter_mut().flat_map(|source| {
        let others = source.also.iter_mut().chain(&mut source.more).map(|other| &mut other.location);
        std::iter::once(&mut source.location).chain(others)
    });
    let mut locations: Vec<&mut Location> = own.collect();
    view.catalogue().pinpoint(&mut locations)
}

/// Fills in the same for what differs.
pub(crate) fn pinpoint_differences(view: &View, differences: &mut [DigestDifference]) -> Result<()> {
    let own = differences.iter_mut().flat_map(|one| [&mut one.one.location, &mut one.other.location]);
    view.catalogue().pinpoint(&mut own.collect::<Vec<_>>())
}

/// Returns where documents differ.
pub(crate) fn differing(
    opened: &Opened,
    digests: &[Digest],
    documents: &[WholeDocument],
) -> Result<Vec<DigestDifference>> {
    let passages: Vec<&[Passage]> = documents.iter().map(|document| document.passages.as_slice()).collect();
    let mut found = differences(digests, &passages, &Judge::new(&*opened.encoder))?;
    // Neither is the source of the other.
    for difference in &mut found {
        difference.reason = difference.reason.replace("the source", "the second").replace("the claim", "the first");
    }
    Ok(found)
}
