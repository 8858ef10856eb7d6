//! A digest of the summaries of a level of a document's tree.

use logothete_core::answer::{CitedSource, Claim};
use logothete_core::digest::{Digest, DigestStatement, FieldDigest, FieldKind, FilledField};
use logothete_core::verify::Verdict;
use logothete_core::{Error, ErrorKind, Result};

use crate::tree::{TreeNodeInfo, TreeOverview};

/// Returns a digest with a field for each summary of a level, in the order of the document.
///
/// # Errors
/// If the tree has no such level.
pub(crate) fn of_level(name: &str, title: Option<String>, tree: &TreeOverview, level: u32) -> Result<Digest> {
    let levels = tree.levels.len();
    if level == 0 || level as usize > levels {
        let message = match levels {
            0 => "it has too few chunks for summaries of several; ask for a digest without a level".to_owned(),
            1 => "its summaries have one level".to_owned(),
            _ => format!("its summaries have the levels 1 to {levels}"),
        };
        return Err(Error::new(ErrorKind::InvalidRequest, message).at(name));
    }
    let first = |node: &TreeNodeInfo| node.sources.iter().map(|source| source.location.span.start).min();
    let mut nodes: Vec<&TreeNodeInfo> = tree.level(level).collect();
    nodes.sort_by_key(|node| first(node));
    let mut digest = Digest::new(name, title);
    for node in nodes {
        let mut filled =
            FilledField::new(FieldDigest::new(node.label.join(" · "), FieldKind::Points, Vec::new()), Vec::new());
        let mut sources: Vec<_> = node.sources.iter().collect();
        sources.sort_by_key(|source| source.location.span.start);
        for (marker, source) in (1..).zip(sources) {
            let text = source.text.split_whitespace().collect::<Vec<_>>().join(" ");
            let claim = Claim::new(text, Verdict::Supported, 1.0, vec![marker]);
            filled.field.statements.push(DigestStatement::new(None, claim));
            filled.sources.push(CitedSource::new(marker, source.location.clone(), &source.text));
        }
        digest.add(filled);
    }
    Ok(digest)
}
