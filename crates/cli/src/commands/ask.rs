//! `logothete ask`

use logothete::answer::Answer;
use logothete::trace::Trace;
use logothete::verify::Verdict;
use logothete::{Reply, Result, SearchRequest};
use serde_json::{Value, json};

use super::{configuration, corpus};
use crate::args::{AskArguments, CorpusArguments};
use crate::view::{Style, duration, indented, quotation, shortened, width, wrap};
use crate::{DONE, Output, REFUSED};

pub async fn run(at: &CorpusArguments, arguments: &AskArguments) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let filter = super::filter(arguments.filter.as_deref())?;
    let request = |question: String| match &filter {
        Some(filter) => SearchRequest::new(question).filter(filter.clone()).traced(),
        None => SearchRequest::new(question).traced(),
    };
    let requests: Vec<_> =
        super::asked(&arguments.question, arguments.questions.as_deref())?.into_iter().map(request).collect();
    let replies = corpus(at, &config, &folder, true).await?.ask_all(requests).await?;
    let style = Style::of_stdout();
    let shown = |reply: &Reply| {
        let trace = if arguments.trace { render_trace(&reply.trace, style) } else { String::new() };
        render(&reply.answer, style) + &trace
    };
    let code = if replies.iter().all(|reply| reply.answer.is_refusal()) { REFUSED } else { DONE };
    if arguments.questions.is_none() {
        let text = replies.first().map(shown).unwrap_or_default();
        return Ok(Output { text, json: json!(replies.first()), code });
    }
    let one = |reply: &Reply| super::one_of_several(&reply.answer.question, &shown(reply), style);
    let text = replies.iter().map(one).collect::<Vec<_>>().join("\n");
    Ok(Output { text, json: json!({ "answers": replies }), code })
}

/// Returns the answer with its sources, or the refusal with what came nearest.
pub fn render(answer: &Answer, style: Style) -> String {
    let mut out = String::new();
    for line in answer.answer.lines().flat_map(|line| wrap(line, width() - 4)) {
        out.push_str(&style.strong(&line));
        out.push('\n');
    }
    for source in &answer.sources {
        out.push('\n');
        let marker = format!("[{}]", source.marker);
        let mut place = source.location.to_string();
        if let Some(date) = &source.location.date {
            place.push_str(&format!(" ({date})"));
        }
        out.push_str(&format!("{marker} {}\n", style.place(&place)));
        out.push_str(&quotation(&source.quotation, &source.matches, marker.len() + 1, width(), style));
        for other in &source.also {
            out.push_str(&format!("    {} {}\n", style.faint("also in"), style.place(&other.location.to_string())));
        }
    }
    for claim in answer.claims.iter().filter(|claim| claim.verdict != Verdict::Supported) {
        let verdict = if claim.verdict == Verdict::Partly { "only partly borne out" } else { "not borne out" };
        out.push_str(&format!("\n{} {}\n", style.warning(&format!("This is {verdict} by its source:")), claim.text));
    }
    for passage in &answer.nearest {
        out.push_str(&format!("\n  {}\n", style.place(&passage.location.to_string())));
        out.push_str(&indented(&shortened(passage.body(), 2 * width()), 4));
    }
    out
}

/// Returns the steps of a trace, those that are parts of another indented below it.
fn render_trace(trace: &Trace, style: Style) -> String {
    let mut out = format!("\n{}\n", style.strong("Trace"));
    for record in &trace.records {
        let indent = 2 + 2 * trace.depth(record);
        let details = serde_json::to_value(&record.details).unwrap_or_default();
        let name = details["stage"].as_str().unwrap_or_default();
        let took = style.faint(&duration(record.took_ms));
        out.push_str(&format!("{:indent$}{name:<name_width$} {took:>8}\n", "", name_width = 14 - indent));
        for (key, value) in details.as_object().into_iter().flatten().filter(|(key, _)| *key != "stage") {
            match value {
                Value::Array(items) if items.iter().any(Value::is_object) => {
                    out.push_str(&format!("{:indent$}  {key}\n", ""));
                    for item in items {
                        let room = width().saturating_sub(indent + 4);
                        out.push_str(&format!("{:indent$}    {}\n", "", shortened(&fields(item), room)));
                    }
                }
                value => out.push_str(&indented(&format!("{key}: {}", fields(value)), indent + 2)),
            }
        }
    }
    out
}

/// Returns a value on one line, without the marks of JSON.
fn fields(value: &Value) -> String {
    match value {
        Value::Object(map) => map.values().map(fields).collect::<Vec<_>>().join("  "),
        Value::Array(items) => items.iter().map(fields).collect::<Vec<_>>().join(", "),
        Value::String(text) => text.clone(),
        Value::Number(number) if number.is_f64() => {
            format!("{:.2}", number.as_f64().unwrap_or_default())
        }
        Value::Null => "none".to_owned(),
        value => value.to_string(),
    }
}
