//! `logothete ask --questions FILE --into FILE`

use std::path::Path;

use logothete::{AskBatch, BatchReport, Corpus, Result, SearchRequest};
use serde_json::json;

use super::progress;
use crate::view::{Style, count, visible};
use crate::{DONE, IN_PART, Output, STOPPED};

/// The most questions that failed that are named.
const MAX_NAMED: usize = 5;

/// Asks the questions and writes their answers to a file, or continues it.
pub async fn run(corpus: &Corpus, requests: Vec<SearchRequest>, into: &Path, at_once: usize) -> Result<Output> {
    let bar = progress::bar();
    bar.set_style(progress::style("questions"));
    let shown = bar.clone();
    let batch = AskBatch::new(into).max_concurrent(at_once).on_answer(move |told| {
        shown.set_length(told.of as u64);
        shown.set_position(told.number as u64);
        shown.set_message(visible(told.question, false).into_owned());
    });
    progress::stop_on_interrupt(batch.stop_token());
    let report = corpus.ask_batch(requests, &batch).await;
    bar.finish_and_clear();
    let report = report?;
    let code = match report {
        BatchReport { stopped: true, .. } => STOPPED,
        BatchReport { ref failed, .. } if !failed.is_empty() => IN_PART,
        _ => DONE,
    };
    Ok(Output { text: text(&report, into), json: json!({ "answers": into, "batch": report }), code })
}

fn text(report: &BatchReport, into: &Path) -> String {
    let style = Style::of_stdout();
    let answers = count((report.kept + report.answered) as u64, "answer", "answers");
    let mut text = format!("{answers} in {}", style.place(&into.display().to_string()));
    if report.kept > 0 {
        text.push_str(&format!(", {} of them from before", report.kept));
    }
    if report.refused > 0 {
        text.push_str(&format!("; {} of the new ones refused", report.refused));
    }
    text.push('\n');
    for (number, why) in report.failed.iter().take(MAX_NAMED) {
        text.push_str(&format!("{}\n", style.warning(&format!("question {number} failed: {why}"))));
    }
    if report.failed.len() > MAX_NAMED {
        text.push_str(&style.warning(&format!("and {} more failed\n", report.failed.len() - MAX_NAMED)));
    }
    if report.stopped {
        text.push_str("Stopped. The same command goes on where it ended.\n");
    }
    text
}
