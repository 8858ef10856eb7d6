//! `logothete ask`

use logothete::cite::{Answer, Verdict};
use logothete::{Result, SearchRequest};
use serde_json::{Value, json};

use super::{configuration, corpus};
use crate::args::{AskArguments, Place};
use crate::view::{Style, duration, indented, quotation, shortened, width, wrap};
use crate::{DONE, Outcome, REFUSED};

pub async fn run(place: &Place, arguments: &AskArguments) -> Result<Outcome> {
    let (config, folder) = configuration(place)?;
    let filter = super::filter(arguments.filter.as_deref())?;
    let request = |question: String| match &filter {
        Some(filter) => SearchRequest::new(question).filter(filter.clone()),
        None => SearchRequest::new(question),
    };
    let requests: Vec<_> =
        super::asked(&arguments.question, arguments.questions.as_deref())?.into_iter().map(request).collect();
    let answers = corpus(place, &config, &folder, true).await?.ask_all(requests).await?;
    let style = Style::of_stdout();
    let shown = |answer: &Answer| {
        let trace = if arguments.trace { render_trace(&answer.trace, style) } else { String::new() };
        render(answer, style) + &trace
    };
    let code = if answers.iter().all(Answer::is_refusal) { REFUSED } else { DONE };
    if arguments.questions.is_none() {
        let text = answers.first().map(shown).unwrap_or_default();
        return Ok(Outcome { text, json: json!(answers.first()), code });
    }
    let one = |answer: &Answer| super::one_of_several(&answer.question, &shown(answer), style);
    let text = answers.iter().map(one).collect::<Vec<_>>().join("\n");
    Ok(Outcome { text, json: json!({ "answers": answers }), code })
}

/// The answer with its sources, or the refusal with what came nearest.
pub fn render(answer: &Answer, style: Style) -> String {
    let mut out = String::new();
    for line in answer.answer.lines().flat_map(|line| wrap(line, width() - 4)) {
        out.push_str(&style.strong(&line));
        out.push('\n');
    }
    for source in &answer.sources {
        out.push('\n');
        let marker = format!("[{}]", source.marker);
        let mut place = source.place();
        if let Some(date) = &source.date {
            place.push_str(&format!(" ({date})"));
        }
        out.push_str(&format!("{marker} {}\n", style.place(&place)));
        out.push_str(&quotation(&source.quotation, &source.matches, marker.len() + 1, width(), style));
        for other in &source.also {
            out.push_str(&format!("    {} {}\n", style.faint("also in"), style.place(&other.place())));
        }
    }
    for claim in answer.claims.iter().filter(|claim| claim.verdict != Verdict::Supported) {
        let verdict = if claim.verdict == Verdict::Partly { "only partly borne out" } else { "not borne out" };
        out.push_str(&format!("\n{} {}\n", style.warning(&format!("This is {verdict} by its source:")), claim.text));
    }
    for passage in &answer.nearest {
        out.push_str(&format!("\n  {}\n", style.place(&passage.place())));
        out.push_str(&indented(&shortened(passage.body(), 2 * width()), 4));
    }
    out
}

fn render_trace(stages: &[Value], style: Style) -> String {
    let mut out = format!("\n{}\n", style.strong("Trace"));
    for stage in stages {
        let name = stage["stage"].as_str().unwrap_or_default();
        let took = duration(stage["took_ms"].as_f64().unwrap_or_default());
        out.push_str(&format!("  {name:<8} {:>8}\n", style.faint(&took)));
        for (key, value) in
            stage.as_object().into_iter().flatten().filter(|(key, _)| *key != "stage" && *key != "took_ms")
        {
            match value {
                Value::Array(items) if items.iter().any(Value::is_object) => {
                    out.push_str(&format!("    {key}\n"));
                    for item in items {
                        out.push_str(&format!("      {}\n", shortened(&fields(item), width().saturating_sub(6))));
                    }
                }
                value => out.push_str(&indented(&format!("{key}: {}", fields(value)), 4)),
            }
        }
    }
    out
}

/// A value on one line, without the marks of JSON.
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
