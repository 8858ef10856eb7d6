//! `[sources]`: where documents come from.

use std::path::PathBuf;

use logothete_core::document::{Metadata, check_metadata};
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

/// `[sources]`
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct SourcesConfig {
    /// Files and folders, relative to the configuration file.
    pub paths: Vec<PathBuf>,
    /// Patterns of the files to read; all files if empty. The syntax is that of `.gitignore` files.
    pub include: Vec<String>,
    /// Patterns of files and folders to skip.
    pub exclude: Vec<String>,
    /// Addresses to fetch, from hosts that `[privacy]` allows.
    pub addresses: Vec<String>,
    /// Metadata for every document that does not set the field itself.
    pub metadata: Metadata,
}

impl SourcesConfig {
    pub(super) fn validate(&self) -> Result<()> {
        check_metadata(&self.metadata)
            .map_err(|error| Error::new(ErrorKind::Configuration, error.message()).at("[sources] metadata"))
    }
}
