//! Who asks, and which documents they may see.

use std::sync::Arc;

use logothete_core::search::Filter;
use logothete_core::{Error, ErrorKind, Result};

use super::Corpus;
use crate::opened::Opened;
use crate::storage::View;

/// The value of the field `[search] allow` that lets everybody see a document.
const EVERYONE: &str = "everyone";

/// Who uses a handle.
#[derive(Clone, Debug, Default)]
pub(super) enum Asker {
    /// Somebody of whom nothing is known.
    #[default]
    Anybody,
    /// A member of these groups.
    Member(Arc<[String]>),
    /// Somebody who may see all.
    Owner,
}

/// The moment that a handle reads, and what it may see of it.
#[derive(Clone, Default)]
pub(super) struct Sight {
    /// `None` means the newest commit.
    pinned: Option<Arc<View>>,
    access: Option<Filter>,
}

impl Sight {
    pub(super) fn view(&self, opened: &Opened) -> Result<Arc<View>> {
        let view = self.pinned.clone().map_or_else(|| opened.view().map(Arc::new), Ok)?;
        Ok(match &self.access {
            None => view,
            access => Arc::new(view.for_access(access.clone())),
        })
    }
}

impl Corpus {
    /// Returns a handle for somebody who is in some groups. It finds, quotes and shows only documents that list one of them, or `everyone`, in the field of
    /// `[search] allow`. A document without the field is seen by nobody but an [owner](Self::for_owner).
    ///
    /// What is left out is left out of the indexes before they are searched, so that as many passages are found as without it. A handle that was made
    /// without groups sees what everyone may see. Calls that write, export, or check the files of a corpus work on all of it.
    ///
    /// # Errors
    /// If `[search] allow` names no field: then all documents could be seen.
    pub fn for_groups<G: Into<String>>(&self, groups: impl IntoIterator<Item = G>) -> Result<Self> {
        if self.opened.config().search.allow.is_empty() {
            let message = "groups decide nothing as long as this names no field of the documents, such as groups";
            return Err(Error::new(ErrorKind::Configuration, message).at("[search] allow"));
        }
        let groups = groups.into_iter().map(Into::into).collect();
        Ok(Self { asker: Asker::Member(groups), ..self.clone() })
    }

    /// Returns a handle for somebody who may see all documents, whatever `[search] allow` says.
    #[must_use]
    pub fn for_owner(&self) -> Self {
        Self { asker: Asker::Owner, ..self.clone() }
    }

    /// Returns what the handle may see; `None` means everything.
    fn access(&self) -> Option<Filter> {
        let field = &self.opened.config().search.allow;
        let groups: &[String] = match &self.asker {
            Asker::Owner => return None,
            Asker::Anybody => &[],
            Asker::Member(groups) => groups,
        };
        let names = groups.iter().map(String::as_str).chain([EVERYONE]);
        (!field.is_empty()).then(|| Filter::field(field).lists(names))
    }

    /// Returns the moment that the handle reads, and what it may see of it.
    pub(super) fn sight(&self) -> Sight {
        Sight { pinned: self.pinned.clone(), access: self.access() }
    }

    /// Returns an error if the handle does not see all documents.
    pub(super) fn check_owner(&self, what: &str) -> Result<()> {
        match self.access() {
            None => Ok(()),
            Some(_) => {
                let message = format!("{what} tells of all documents, and the asker may see some; use for_owner");
                Err(Error::new(ErrorKind::Refused, message).at("[search] allow"))
            }
        }
    }
}
