//! Documents in memory.

use logothete_core::{Error, ErrorKind, Result};

use super::{Content, Item, Items, Source, too_large};
use crate::BoxFuture;

/// Bytes or strings with names.
#[derive(Clone, Debug, Default)]
pub struct MemorySource {
    name: String,
    documents: Vec<(String, Vec<u8>)>,
}

impl MemorySource {
    /// Creates an empty source. The corpus knows it by its name.
    pub fn new(name: impl Into<String>) -> Self {
        Self { name: name.into(), documents: Vec::new() }
    }

    /// Adds a document. The extension of its name helps to detect its format.
    #[must_use]
    pub fn with(mut self, name: impl Into<String>, content: impl Into<Vec<u8>>) -> Self {
        self.documents.push((name.into(), content.into()));
        self
    }
}

impl Source for MemorySource {
    fn location(&self) -> String {
        format!("memory:{}", self.name)
    }

    fn items(&self) -> BoxFuture<'_, Result<Items>> {
        let items: Vec<Result<Item>> = self
            .documents
            .iter()
            .map(|(name, bytes)| {
                Ok(Item { path: name.clone(), place: name.clone(), size: Some(bytes.len() as u64), ..Item::default() })
            })
            .collect();
        Box::pin(async move { Ok(Box::new(items.into_iter()) as Items) })
    }

    fn read<'a>(&'a self, item: &'a Item, max: u64) -> BoxFuture<'a, Result<Content>> {
        Box::pin(async move {
            let found = self.documents.iter().find(|(name, _)| *name == item.place);
            let (_, bytes) =
                found.ok_or_else(|| Error::new(ErrorKind::NotFound, "there is no document of this name"))?;
            if bytes.len() as u64 > max {
                return Err(too_large(bytes.len() as u64, max));
            }
            Ok(Content { bytes: bytes.clone(), media_type: None })
        })
    }
}
