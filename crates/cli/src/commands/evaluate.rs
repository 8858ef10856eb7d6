//! `logothete evaluate`

use std::path::Path;

use logothete::eval::{QuestionScore, Run, read_questions};
use logothete::{Error, ErrorKind, Result};
use serde_json::json;

use super::{configuration, corpus};
use crate::args::CorpusArguments;
use crate::view::{Align, Style, count, indented, table};
use crate::{DONE, Output};

pub async fn run(at: &CorpusArguments, set: &Path, split: Option<&str>) -> Result<Output> {
    let text = std::fs::read_to_string(set).map_err(|error| {
        Error::new(ErrorKind::NotFound, format!("the question set could not be read: {error}"))
            .at(set.display())
            .because(error)
    })?;
    let mut questions = read_questions(&text).map_err(|error| error.at(set.display()))?;
    if let Some(split) = split {
        questions.retain(|question| question.split.as_deref() == Some(split));
        if questions.is_empty() {
            let message = format!("no question has the split {split:?}");
            return Err(Error::new(ErrorKind::Configuration, message).at(set.display()));
        }
    }
    let (config, folder) = configuration(at)?;
    let name = split.map_or_else(|| "all questions".to_owned(), |split| format!("split {split}"));
    let run = corpus(at, &config, &folder, true).await?.evaluate(&name, questions).await?;
    let text = render(&run, Style::of_stdout());
    Ok(Output { text, json: json!({ "runs": [run], "comparisons": [] }), code: DONE })
}

/// The explanation of each measure, in the order of the stages of a question.
const MEASURES: &[(&str, &str)] = &[
    ("recall@1", "relevant places among the first passage"),
    ("recall@5", "among the first 5"),
    ("recall@10", "among the first 10"),
    ("hit@3", "questions with a right passage among the first 3"),
    ("mrr", "one over the rank of the first right passage"),
    ("ndcg@10", "gain of the ranking, 1 is the best there is"),
    ("cited", "answerable questions whose answer cites a right place"),
    ("said", "answers that say what was expected"),
    ("refused", "unanswerable questions that were refused"),
    ("refusals_right", "refusals that were right"),
];

fn render(run: &Run, style: Style) -> String {
    let unanswerable = run.per_question.iter().filter(|score| score.refuse).count();
    let mut out = format!(
        "{}  {}, {unanswerable} of them without an answer in the corpus\n\n",
        style.strong(&run.name),
        count(run.questions as u64, "question", "questions")
    );
    let mut rows = vec![["Measure", "Value", "What it is"].map(String::from).to_vec()];
    for (name, meaning) in MEASURES {
        if let Some(value) = run.metrics.get(*name) {
            rows.push(vec![(*name).to_owned(), format!("{value:.3}"), (*meaning).to_owned()]);
        }
    }
    out.push_str(&table(&rows, &[Align::Left, Align::Right, Align::Left], 0, style));
    out.push('\n');
    if !run.absent.is_empty() {
        let names: String = run.absent.iter().map(|name| indented(name, 2)).collect();
        out.push_str(&format!(
            "{}\n{names}\n",
            style.warning("The questions name documents that the corpus does not have")
        ));
    }
    let mut rows = vec![["Id", "Passage", "Outcome", "Question"].map(String::from).to_vec()];
    for score in &run.per_question {
        let rank = score.first_rank.map_or_else(|| "–".to_owned(), |rank| format!("#{rank}"));
        rows.push(vec![score.id.clone(), rank, outcome(score).to_owned(), score.question.clone()]);
    }
    out.push_str(&table(&rows, &[Align::Left, Align::Right, Align::Left, Align::Left], 0, style));
    out
}

fn outcome(score: &QuestionScore) -> &'static str {
    match (score.refuse, score.refused, score.cited) {
        (true, true, _) => "refused, right",
        (true, false, _) => "answered, wrong",
        (false, true, _) => "refused, wrong",
        (false, false, Some(true)) if score.said == Some(false) => "cited, not said",
        (false, false, Some(true)) => "cited, right",
        (false, false, _) => "cited, wrong",
    }
}
