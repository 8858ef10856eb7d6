//! `logothete ask`

use std::io::{IsTerminal, Write};

use logothete::answer::{Answer, AskEvent, PromptPreview};
use logothete::prompt::OWN_KNOWLEDGE;
use logothete::trace::{StepOutcome, Trace};
use logothete::verify::Verdict;
use logothete::{Reply, Result, SearchRequest, TokenUsage};
use serde_json::{Value, json};

use super::{configuration, corpus};
use crate::args::{AskArguments, CorpusArguments};
use crate::view::{Style, duration, indented, quotation, shortened, visible, width, wrap};
use crate::{DONE, Output, REFUSED};

pub async fn run(at: &CorpusArguments, arguments: &AskArguments, as_json: bool) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let filter = super::filter(arguments.filter.as_deref())?;
    let request = |question: String| match &filter {
        Some(filter) => SearchRequest::new(question).filter(filter.clone()).traced(),
        None => SearchRequest::new(question).traced(),
    };
    let requests: Vec<_> =
        super::asked(&arguments.question, arguments.questions.as_deref())?.into_iter().map(request).collect();
    let corpus = corpus(at, &config, &folder, true).await?;
    let style = Style::of_stdout();
    if arguments.show_prompt
        && let Some(request) = requests.first().cloned()
    {
        let preview = corpus.preview_prompt(request).await?;
        return Ok(Output { text: render_prompt(&preview, style), json: json!(preview), code: DONE });
    }
    let has_model = corpus.pipeline().model()?.is_some();
    let one = arguments.questions.is_none();
    let streams = one && has_model && !as_json && std::io::stdout().is_terminal();
    let replies = match requests.first().cloned() {
        Some(request) if streams => vec![corpus.ask_streaming(request, print_text).await?],
        _ => corpus.ask_all(requests).await?,
    };
    if !has_model && !as_json && std::io::stderr().is_terminal() {
        eprintln!("{NO_MODEL}");
    }
    let shown = |reply: &Reply| {
        let trace = if arguments.trace { render_trace(&reply.trace, style) } else { String::new() };
        let answer = match streams {
            true => format!("\n{}", render_sources(&reply.answer, style)),
            false => render(&reply.answer, style),
        };
        answer + &trace
    };
    let code = if replies.iter().all(|reply| reply.answer.is_refusal()) { REFUSED } else { DONE };
    if one {
        let text = replies.first().map(shown).unwrap_or_default();
        return Ok(Output { text, json: json!(replies.first()), code });
    }
    let one = |reply: &Reply| super::one_of_several(&reply.answer.question, &shown(reply), style);
    let text = replies.iter().map(one).collect::<Vec<_>>().join("\n");
    Ok(Output { text, json: json!({ "answers": replies }), code })
}

/// How to get answers in a model's words.
const NO_MODEL: &str =
    "hint: these are sentences of the documents; for a model's words set kind in [generator] of logothete.toml";

/// Prints the text of an answer as it is written.
pub fn print_text(event: AskEvent<'_>) {
    if let AskEvent::Text(text) = event {
        let mut out = std::io::stdout().lock();
        // A terminal that is gone is noticed when the rest is printed.
        let _ = out.write_all(visible(text, false).as_bytes()).and_then(|()| out.flush());
    }
}

/// Returns the answer with its sources, or the refusal with what came nearest.
pub fn render(answer: &Answer, style: Style) -> String {
    let mut out = String::new();
    for line in answer.answer.lines().flat_map(|line| wrap(line, width() - 4)) {
        out.push_str(&style.strong(&line));
        out.push('\n');
    }
    out + &render_sources(answer, style)
}

/// Returns what follows an answer: its sources, what they do not bear out, what came nearest, and how it came about.
pub fn render_sources(answer: &Answer, style: Style) -> String {
    let mut out = String::new();
    for source in &answer.sources {
        out.push('\n');
        let marker = format!("[{}]", source.marker);
        let mut place = source.location.to_string();
        if let Some(date) = &source.location.date {
            place.push_str(&format!(" ({date})"));
        }
        out.push_str(&format!("{marker} {}\n", style.place(&place)));
        out.push_str(&quotation(&source.quotation, &source.matches, marker.len() + 1, width(), style));
        for other in &source.more {
            out.push_str(&quotation(&other.quotation, &[], marker.len() + 1, width(), style));
        }
        for other in &source.also {
            out.push_str(&format!("    {} {}\n", style.faint("also in"), style.place(&other.location.to_string())));
        }
    }
    for claim in answer.claims.iter().filter(|claim| claim.verdict != Verdict::Supported) {
        let said = match (claim.verdict, claim.citations.is_empty()) {
            (_, true) if claim.text.starts_with(OWN_KNOWLEDGE) => continue,
            (_, true) => "No source is cited for this:",
            (Verdict::Partly, _) => "This is only partly borne out by its source:",
            _ => "This is not borne out by its source:",
        };
        out.push_str(&format!("\n{} {}\n", style.warning(said), claim.text));
    }
    for passage in &answer.nearest {
        out.push_str(&format!("\n  {}\n", style.place(&passage.location.to_string())));
        out.push_str(&indented(&shortened(passage.body(), 2 * width()), 4));
    }
    if let Some(note) = &answer.note {
        out.push_str(&format!("\n{}", style.warning(&indented(note, 0))));
    }
    if let Some(generator) = &answer.generator {
        let TokenUsage { sent, received } = answer.tokens;
        let line = format!("Written by {generator}; {sent} tokens read, {received} written");
        out.push_str(&format!("\n{}\n", style.faint(&line)));
    }
    out
}

/// Returns a prompt exactly as it would be sent.
fn render_prompt(preview: &PromptPreview, style: Style) -> String {
    let to = match (&preview.generator, &preview.host) {
        (Some(generator), Some(host)) if !generator.contains(host) => {
            format!("{generator} would get this prompt, at {host}")
        }
        (Some(generator), _) => format!("{generator} would get this prompt"),
        (None, _) => "No model is configured; one would get this prompt".to_owned(),
    };
    let cost = preview.max_cost.map(|cost| format!(", for {cost:.4} at most")).unwrap_or_default();
    let mut out = indented(&format!("{to}. Nothing was sent."), 0);
    out.push_str(&format!(
        "{} tokens, and {} kept for the reply, of {}{cost}\n",
        preview.tokens, preview.reply_tokens, preview.context_tokens
    ));
    for (documents, what) in [(&preview.shortened, "Shortened"), (&preview.left_out, "Left out")] {
        if !documents.is_empty() {
            out.push_str(&indented(&format!("{what}: {}", documents.join(", ")), 0));
        }
    }
    for shown in &preview.messages {
        let head = format!("── {}, {} tokens ", shown.message.author.name(), shown.tokens);
        let rule = "─".repeat(width().saturating_sub(head.chars().count()));
        out.push_str(&format!("\n{}\n{}\n", style.faint(&(head + &rule)), shown.message.content));
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
        out.push_str(&format!("{:indent$}{name:<name_width$} {took:>8}\n", "", name_width = 14 - indent.min(13)));
        if let StepOutcome::Failed(message) = &record.outcome {
            out.push_str(&style.warning(&indented(&format!("failed: {message}"), indent + 2)));
        }
        if !record.usage.is_zero() {
            let TokenUsage { sent, received } = record.usage;
            out.push_str(&indented(&format!("tokens: {sent} read, {received} written"), indent + 2));
        }
        for (key, value) in details.as_object().into_iter().flatten().filter(|(key, _)| *key != "stage") {
            match value {
                Value::Array(messages) if key == "messages" => {
                    for message in messages {
                        let role = message["author"].as_str().unwrap_or_default();
                        out.push_str(&format!("{:indent$}  {role}\n", ""));
                        out.push_str(&verbatim(message["content"].as_str().unwrap_or_default(), indent + 4));
                    }
                }
                Value::String(reply) if key == "reply" => {
                    out.push_str(&format!("{:indent$}  {key}\n{}", "", verbatim(reply, indent + 4)));
                }
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

/// Returns a text with each line indented, and otherwise as it is.
fn verbatim(text: &str, indent: usize) -> String {
    text.lines().map(|line| format!("{:indent$}{line}\n", "")).collect()
}

/// Returns a value on one line, without the marks of JSON.
fn fields(value: &Value) -> String {
    match value {
        Value::Object(map) => {
            // A leg has a rank and a score.
            let field = |(name, value): (&String, &Value)| match (value["rank"].as_u64(), value["score"].as_f64()) {
                (Some(rank), Some(score)) => format!("{name} {rank} ({score:.2})"),
                _ => fields(value),
            };
            map.iter().map(field).collect::<Vec<_>>().join("  ")
        }
        Value::Array(items) => items.iter().map(fields).collect::<Vec<_>>().join(", "),
        Value::String(text) => text.clone(),
        Value::Number(number) if number.is_f64() => {
            format!("{:.2}", number.as_f64().unwrap_or_default())
        }
        Value::Null => "none".to_owned(),
        value => value.to_string(),
    }
}
