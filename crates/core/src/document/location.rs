//! Locations: where a passage, a claim or a source line is in its document.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::{PageArea, Pages, Span, clock};

/// The location of a piece of text: its document, pages, headings and span.
///
/// It prints on one line: `byelaws.pdf, page 2, Article 4. The North Channel`.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Location {
    /// The name of the document.
    pub document: String,
    /// The title of the document.
    pub title: Option<String>,
    /// The date of the document, from its metadata.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub date: Option<String>,
    /// The pages that the text touches; `None` means the document has no pages.
    pub pages: Option<Pages>,
    /// The rectangles of the text on its pages; empty when they were not looked up or the format has none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub areas: Vec<PageArea>,
    /// The time at which the text is spoken in a recording, in seconds from the start.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seconds: Option<f64>,
    /// The headings above the text, outermost first.
    pub section: Vec<String>,
    /// The position in the document's text.
    pub span: Span,
}

impl Location {
    /// Creates the location of a span, without pages and headings.
    pub fn new(document: impl Into<String>, span: Span) -> Self {
        Self { document: document.into(), span, ..Self::default() }
    }
}

impl fmt::Display for Location {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.document)?;
        if let Some(pages) = self.pages {
            write!(f, ", {pages}")?;
        }
        if let Some(seconds) = self.seconds {
            write!(f, ", at {}", clock(seconds))?;
        }
        match self.section.last() {
            Some(heading) => write!(f, ", {heading}"),
            None => Ok(()),
        }
    }
}
