//! Erasing a document for good.

use std::path::{Path, PathBuf};

use logothete_core::suggest::closest;
use logothete_core::{Error, ErrorKind, Result};
use serde::Serialize;

use super::merge;
use crate::conversation;
use crate::ingest::{Batch, BuildReport};
use crate::opened::Opened;
use crate::source::text_path;
use crate::spending::Spending;
use crate::storage::{VectorKey, Which, vector_key};
use crate::threads::Driver;

/// A document that was erased.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Forgotten {
    /// The name of the document.
    pub document: String,
    /// The number of chunks that it had.
    pub chunks: u64,
    /// The file, if it still exists: the next build of its source would read it again.
    pub still_there: Option<PathBuf>,
}

/// Removes a document and every trace of it: text, vectors, postings, cache entries, answers in conversations, and the free pages
/// that they leave.
pub(crate) fn forget(opened: &Opened, driver: &Driver, name: &str) -> Result<Forgotten> {
    let lease = opened.write_lease()?;
    let catalogue = opened.storage.read()?;
    let Some(known) = catalogue.known(Which::Named(&[name]))?.pop() else {
        let names = catalogue.document_infos()?.into_iter().map(|info| info.document);
        let hint = closest(name, names).map(|near| format!("; did you mean {near}?")).unwrap_or_default();
        return Err(Error::new(ErrorKind::NotFound, format!("the corpus has no document of this name{hint}")).at(name));
    };
    let texts = catalogue.encoded_texts(&[known.id])?;
    drop(catalogue);
    let chunks = texts.len() as u64;
    let fingerprint = opened.encoder.fingerprint();
    let keys: Vec<VectorKey> = texts.iter().map(|(_, _, text)| vector_key(fingerprint.as_str(), text)).collect();
    let spending = Spending::new(&opened.config().limits);
    let mut batch = Batch::new(opened, driver, &lease, &spending);
    let mut report = BuildReport::default();
    batch.remove(&known, &mut report);
    batch.commit(&mut report)?;
    spending.check()?;
    // Its summaries may have sentences of the document; the next build grows another.
    opened.storage.commit(&lease, |transaction| transaction.set_tree(None))?;
    merge::drop_dead(opened, driver, &lease)?;
    opened.storage.cache.forget(name, &keys)?;
    opened.storage.conversations.forget(name, &conversation::forgotten_answer())?;
    opened.storage.remove_variants()?;
    opened.storage.release();
    opened.storage.sweep(&lease)?;
    opened.storage.compact(&lease)?;
    let file = text_path(&known.location).join(text_path(&known.path));
    let still_there = (Path::new(&known.location).is_absolute() && file.exists()).then_some(file);
    Ok(Forgotten { document: name.to_owned(), chunks, still_there })
}
