//! Digests as people read them.

use std::fmt;

use logothete_core::digest::{Digest, DigestDifference, DigestStatement, FieldDigest};
use logothete_core::verify::Verdict;
use serde::Serialize;

/// Digests of documents.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct DigestReport {
    /// One of each document, in the order in which they were asked for.
    pub digests: Vec<Digest>,
    /// One over all; `None` for a single document.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub together: Option<Digest>,
    /// Statements of different documents that cannot both hold.
    pub differences: Vec<DigestDifference>,
}

impl DigestReport {
    pub(crate) fn new(digests: Vec<Digest>, together: Option<Digest>, differences: Vec<DigestDifference>) -> Self {
        Self { digests, together, differences }
    }

    /// Returns the digests as Markdown: a heading for each document and each field, markers that point to the list of sources below them.
    pub fn markdown(&self) -> String {
        let mut out = String::new();
        for digest in &self.digests {
            let title = digest.title.as_deref().unwrap_or(&digest.document);
            out.push_str(&format!("# {}\n\n`{}`\n\n", one_line(title), digest.document));
            written(digest, &mut out);
        }
        if let Some(together) = &self.together {
            out.push_str("# All documents together\n\n");
            written(together, &mut out);
        }
        if !self.differences.is_empty() {
            out.push_str("# Differences\n\n");
            for difference in &self.differences {
                let place = |source: &logothete_core::answer::OtherSource| {
                    format!("“{}” ({})", one_line(&source.quotation), source.location)
                };
                out.push_str(&format!(
                    "- {}\n  - {}\n  - {}\n",
                    difference.reason,
                    place(&difference.one),
                    place(&difference.other)
                ));
            }
        }
        out.truncate(out.trim_end().len());
        out.push('\n');
        out
    }
}

impl fmt::Display for DigestReport {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.markdown().trim_end())
    }
}

fn written(digest: &Digest, out: &mut String) {
    for field in &digest.fields {
        out.push_str(&format!("## {}\n\n{}\n", field.name, of_field(field)));
    }
    if !digest.sources.is_empty() {
        out.push_str("## sources\n\n");
    }
    for source in &digest.sources {
        let place = &source.location;
        out.push_str(&format!("- [{}] {place}: “{}”\n", source.marker, one_line(&source.quotation)));
    }
    digest.notes.iter().for_each(|note| out.push_str(&format!("\n{note}\n")));
    out.push('\n');
}

fn of_field(field: &FieldDigest) -> String {
    if field.statements.is_empty() {
        return "The document does not say.\n".to_owned();
    }
    let said = field.statements.iter().map(statement);
    if field.kind.is_list() {
        said.map(|line| format!("- {line}\n")).collect()
    } else {
        said.collect::<Vec<_>>().join(" ") + "\n"
    }
}

/// Returns a statement with its label, markers, and verdict if its sources do not bear it out.
fn statement(statement: &DigestStatement) -> String {
    let claim = &statement.claim;
    let label = statement.shown_label().map(|label| format!("**{label}**: ")).unwrap_or_default();
    let markers: String = claim.citations.iter().map(|marker| format!("[{marker}]")).collect();
    let verdict = match (&claim.verdict, &claim.reason) {
        (Verdict::Supported | Verdict::Computed, _) => String::new(),
        (verdict, Some(reason)) => format!(" ({verdict}: {reason})"),
        (verdict, None) => format!(" ({verdict})"),
    };
    let text = format!("{label}{} {markers}{verdict}", one_line(&claim.text));
    text.trim_end().trim_end_matches(':').to_owned()
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
