//! Looks up what else may be said in place of the words of a question.

use logothete_core::Result;
use logothete_core::keyword::Query;
use logothete_core::query::{Abbreviated, Wording, abbreviated, definition, synonyms};

use crate::config::SearchConfig;
use crate::storage::{RowId, Scope, View};

/// So many chunks with an abbreviation are read for its definition.
const MAX_READ: usize = 20;
/// So many wordings are searched for.
const MAX_WORDINGS: usize = 4;

/// Returns the synonyms of the configuration, then the abbreviations that the documents define.
///
/// Reads up to twenty chunks for each part of the question that may be abbreviated and occurs in the index so. Chunks outside `filtered` are not
/// read; `None` means that all may be.
pub(super) fn wordings(
    question: &str,
    config: &SearchConfig,
    view: &View,
    filtered: Option<&Scope>,
) -> Result<Vec<Wording>> {
    let mut found = synonyms(question, &config.synonyms);
    if config.abbreviations {
        for part in abbreviated(question) {
            if found.len() >= MAX_WORDINGS {
                break;
            }
            let short = match &part {
                Abbreviated::Short(short) | Abbreviated::Long(_, short) => short,
            };
            found.extend(defined(&part, short, view, filtered)?);
        }
    }
    found.truncate(MAX_WORDINGS);
    Ok(found)
}

/// Returns the wording that a document defines for a part of a question.
fn defined(part: &Abbreviated, short: &str, view: &View, filtered: Option<&Scope>) -> Result<Option<Wording>> {
    let snapshot = &view.snapshot;
    let query = snapshot.prepare(&Query::plain(short));
    if query.terms().next().is_none() {
        return Ok(None);
    }
    let rows: Vec<RowId> = snapshot.search_keywords(&query, filtered, MAX_READ).into_iter().map(|hit| hit.0).collect();
    if rows.is_empty() {
        return Ok(None);
    }
    let passages = view.catalogue().passages_at(&rows)?;
    Ok(passages.iter().find_map(|passage| {
        let long = definition(&passage.text, short)?;
        match part {
            Abbreviated::Short(_) => Some(Wording::defined(short, long, &passage.location.document)),
            Abbreviated::Long(asked, _) => {
                long.eq_ignore_ascii_case(asked).then(|| Wording::defined(asked, short, &passage.location.document))
            }
        }
    }))
}
