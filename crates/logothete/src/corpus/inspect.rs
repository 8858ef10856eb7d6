//! Looking into a corpus: documents, chunks, and the text behind a location.

use std::fs;
use std::path::PathBuf;

use logothete_core::chunk::ChunkId;
use logothete_core::document::{Document, Metadata, Span};
use logothete_core::search::Passage;
use logothete_core::{Error, ErrorKind, Result};

use super::Corpus;
use super::info::CorpusInfo;
use crate::opened::Opened;
use crate::source::text_path;
use crate::storage::{CatalogueReader, ChunkDetail, DocumentDetail, Section, Which};

impl Corpus {
    /// Returns the content of the corpus.
    ///
    /// # Errors
    /// If the corpus is damaged.
    pub async fn info(&self) -> Result<CorpusInfo> {
        self.query(|opened, view, _| opened.info(view)).await
    }

    /// Returns a document with its metadata and its chunks.
    ///
    /// # Errors
    /// If there is none of this name; the message names the nearest one.
    pub async fn document(&self, name: &str) -> Result<DocumentDetail> {
        let name = name.to_owned();
        self.query(move |_, view, _| {
            view.check_seen(&name)?;
            view.catalogue().document_detail(&name)
        })
        .await
    }

    /// Returns a document as it was parsed: its text, its blocks, and where its lines stand on its pages.
    ///
    /// # Errors
    /// As [`document`](Self::document).
    pub async fn parsed(&self, name: &str) -> Result<Document> {
        let name = name.to_owned();
        self.query(move |_, view, _| {
            view.check_seen(&name)?;
            let catalogue = view.catalogue();
            let known = catalogue.known(Which::Named(&[&name]))?.pop();
            let document = match &known {
                Some(known) => catalogue.documents(&[known.id])?.remove(&known.id),
                None => None,
            };
            // The detail's error names the nearest document.
            document.map_or_else(
                || {
                    catalogue.document_detail(&name)?;
                    Err(Error::new(ErrorKind::Corpus, "the catalogue does not hold the text of this document")
                        .at(&name))
                },
                Ok,
            )
        })
        .await
    }

    /// Returns the bytes of the file that a document was read from, for a picture of its pages; `None` means that it was not a file, or that the file
    /// is gone or has changed since.
    ///
    /// # Errors
    /// As [`document`](Self::document).
    pub async fn original(&self, name: &str) -> Result<Option<Vec<u8>>> {
        let name = name.to_owned();
        self.query(move |opened, view, _| {
            view.check_seen(&name)?;
            let catalogue = view.catalogue();
            let Some(known) = catalogue.known(Which::Named(&[&name]))?.pop() else {
                return Err(unknown(&**catalogue, &name));
            };
            let file = text_path(&known.location).join(text_path(&known.path));
            let is_same = |bytes: &Vec<u8>| blake3::hash(bytes).to_hex().to_string() == known.hash;
            let most = opened.config().limits.max_file_bytes();
            let is_short =
                |file: &PathBuf| fs::metadata(file).is_ok_and(|state| state.is_file() && state.len() <= most);
            Ok(Some(file).filter(is_short).and_then(|file| fs::read(file).ok()).filter(is_same))
        })
        .await
    }

    /// Returns a chunk with its text, context, metadata and a summary of its vector, by its id or the beginning of it.
    ///
    /// # Errors
    /// If there is none, or several ids begin with it.
    pub async fn chunk(&self, id: &str) -> Result<ChunkDetail> {
        let id = id.to_owned();
        self.query(move |_, view, _| {
            let detail = Opened::chunk_detail(view, &id)?;
            view.check_seen(&detail.location.document)?;
            Ok(detail)
        })
        .await
    }

    /// Returns the metadata of a document.
    ///
    /// # Errors
    /// If there is none of this name; the message names the nearest one.
    pub async fn metadata(&self, document: &str) -> Result<Metadata> {
        let name = document.to_owned();
        self.query(move |_, view, _| {
            view.check_seen(&name)?;
            let catalogue = view.catalogue();
            let record = catalogue.records(&[&name])?.remove(&name);
            record.map(|record| record.metadata).ok_or_else(|| unknown(&**catalogue, &name))
        })
        .await
    }

    /// Returns all chunks of a document in order, with their texts, as passages without rank and scores.
    ///
    /// # Errors
    /// If there is no document of this name; the message names the nearest one.
    pub async fn chunks(&self, document: &str) -> Result<Vec<Passage>> {
        let name = document.to_owned();
        self.query(move |_, view, _| {
            view.check_seen(&name)?;
            let catalogue = view.catalogue();
            let ids: Vec<ChunkId> = match catalogue.known_id(&name)? {
                Some(id) => catalogue.chunks_of(&[id])?,
                None => return Err(unknown(&**catalogue, &name)),
            };
            let passages = catalogue.passages_with_duplicates(&ids)?;
            drop(catalogue);
            view.without_unseen(passages)
        })
        .await
    }

    /// Returns the text of a document at a span, as in the location of a citation.
    ///
    /// # Errors
    /// If there is no document of this name, or the span does not lie on character boundaries inside its text.
    pub async fn text(&self, document: &str, span: Span) -> Result<String> {
        let name = document.to_owned();
        self.query(move |_, view, _| {
            view.check_seen(&name)?;
            let catalogue = view.catalogue();
            if catalogue.known_id(&name)?.is_none() {
                return Err(unknown(&**catalogue, &name));
            }
            catalogue.text(&name, span)?.ok_or_else(|| {
                let message = format!("the text of the document has no span {span} between characters");
                Error::new(ErrorKind::InvalidRequest, message).at(&name)
            })
        })
        .await
    }

    /// Returns the section that a chunk was cut from: from the heading above it to the next heading after it.
    ///
    /// # Errors
    /// If there is no chunk with this id.
    pub async fn section(&self, chunk: &ChunkId) -> Result<Section> {
        let id = chunk.clone();
        self.query(move |_, view, _| {
            let section = view.catalogue().section(&id)?;
            let missing = || Error::new(ErrorKind::NotFound, "the corpus has no chunk with this id").at(id.as_str());
            let section = section.ok_or_else(missing)?;
            view.check_seen(&section.location.document).map_err(|_| missing())?;
            Ok(section)
        })
        .await
    }
}

/// Returns the error for a document that the corpus does not have.
fn unknown(catalogue: &dyn CatalogueReader, name: &str) -> Error {
    match catalogue.document_detail(name) {
        Err(error) => error,
        Ok(_) => Error::new(ErrorKind::NotFound, "the corpus has no document of this name").at(name),
    }
}
