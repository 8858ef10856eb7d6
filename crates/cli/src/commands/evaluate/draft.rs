//! Drafts of questions from the documents of a corpus.

use std::collections::BTreeMap;

use logothete::eval::{SetQuestion, write_questions};
use logothete::{Corpus, Error, ErrorKind, Result};
use serde_json::json;

use super::write;
use crate::args::EvaluateArguments;
use crate::view::{Align, Style, count, table};
use crate::{DONE, FAILED, Output};

/// How many drafts are shown.
const SHOWN: usize = 10;

/// Writes drafts to the file that is named, or prints them as a question set.
pub async fn run(corpus: &Corpus, number: usize, arguments: &EvaluateArguments) -> Result<Output> {
    let file = match &arguments.sets[..] {
        [] => None,
        [file] => Some(file),
        [_, second, ..] => {
            let message = "drafts are written to one file; name one, or none to print them";
            return Err(Error::new(ErrorKind::InvalidRequest, message).at(second.display()));
        }
    };
    if let Some(file) = file.filter(|file| file.exists()) {
        let message = "this file exists already; name another one for the drafts";
        return Err(Error::new(ErrorKind::InvalidRequest, message).at(file.display()));
    }
    let drafts = corpus.draft(number, arguments.near_misses).await?;
    let json = json!({ "questions": drafts });
    if drafts.is_empty() {
        let text = "The documents have no headings, tables, definitions, figures or dates to ask about.\n".to_owned();
        return Ok(Output { text, json, code: FAILED });
    }
    let Some(file) = file else {
        return Ok(Output { text: write_questions(&drafts), json, code: DONE });
    };
    write(file, write_questions(&drafts).as_bytes())?;
    let style = Style::of_stdout();
    let text = format!(
        "{}\n{} are in {}. Drafts take their words from their sources; judge them first, with\n\n  logothete evaluate --queries {}\n",
        shown(&drafts, style),
        count(drafts.len() as u64, "draft", "drafts"),
        style.place(&file.display().to_string()),
        file.display()
    );
    Ok(Output { text, json, code: DONE })
}

/// Returns how many drafts of each kind there are, and the first ones.
fn shown(drafts: &[SetQuestion], style: Style) -> String {
    let kind =
        |draft: &SetQuestion| draft.other.get("kind").and_then(|kind| kind.as_str()).unwrap_or_default().to_owned();
    let mut kinds: BTreeMap<String, usize> = BTreeMap::new();
    for draft in drafts {
        *kinds.entry(kind(draft)).or_default() += 1;
    }
    let line = kinds.iter().map(|(kind, count)| format!("{kind} {count}")).collect::<Vec<_>>().join(", ");
    let mut rows = vec![["Id", "Kind", "Document", "Question"].map(String::from).to_vec()];
    // One of each kind comes first, so that all are seen.
    let mut order: Vec<&SetQuestion> = Vec::new();
    for round in 0..SHOWN {
        for name in kinds.keys() {
            order.extend(drafts.iter().filter(|draft| kind(draft) == *name).nth(round));
        }
    }
    for draft in order.into_iter().take(SHOWN) {
        let document = draft.relevant.first().map_or("–", |place| place.document.as_str());
        rows.push(vec![draft.id.clone(), kind(draft), document.to_owned(), draft.question.clone()]);
    }
    let left = Align::Left;
    format!("{line}\n\n{}", table(&rows, &[left, left, left, left], 0, style))
}
