//! Traces for people: a tree of steps.

use logothete::TokenUsage;
use logothete::trace::{StepOutcome, Trace};
use serde_json::Value;

use super::{Style, duration, indented, shortened, width};

/// Returns the steps of a trace, those that are parts of another indented below it.
pub fn trace(trace: &Trace, style: Style) -> String {
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
        // What is short stands together, before what has lines of its own.
        let is_empty = |value: &Value| value.as_array().is_some_and(Vec::is_empty);
        let details = details.as_object().into_iter().flatten();
        let details = details.filter(|(key, value)| *key != "stage" && !is_empty(value));
        let (short, long): (Vec<_>, Vec<_>) = details.partition(|(key, value)| is_short(key, value));
        let short = short.iter().map(|(key, value)| match value {
            Value::Object(facts) if *key == "facts" => named(facts),
            value => format!("{key}: {}", fields(value)),
        });
        let short = short.collect::<Vec<_>>().join("; ");
        if !short.is_empty() {
            out.push_str(&indented(&short, indent + 2));
        }
        for (key, value) in long {
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
                Value::Array(items) if key == "candidates" && items.iter().any(|item| item["text"].is_string()) => {
                    out.push_str(&format!("{:indent$}  {key}\n", ""));
                    items.iter().for_each(|item| out.push_str(&candidate(item, indent + 4)));
                }
                Value::Array(items) if items.iter().any(Value::is_object) => {
                    out.push_str(&format!("{:indent$}  {key}\n", ""));
                    for item in items {
                        let room = width().saturating_sub(indent + 4);
                        out.push_str(&format!("{:indent$}    {}\n", "", shortened(&fields(item), room)));
                    }
                }
                _ => {}
            }
        }
    }
    out
}

/// Returns a sentence that may answer: its score and text, and below them what added most to the score and why it was not taken.
fn candidate(item: &Value, indent: usize) -> String {
    const MAX_SHARES: usize = 4;
    let text =
        format!("{:.2}  {}", item["score"].as_f64().unwrap_or_default(), item["text"].as_str().unwrap_or_default());
    let share = |share: &Value| {
        let name = share[0].as_str().unwrap_or_default().replace('_', " ");
        format!("{name} {:+.2}", share[1].as_f64().unwrap_or_default())
    };
    let shares: Vec<String> = item["shares"].as_array().into_iter().flatten().take(MAX_SHARES).map(share).collect();
    let fate = item["lost"].as_str().map_or_else(|| "taken".to_owned(), |why| format!("not taken: {why}"));
    let room = width().saturating_sub(indent);
    let below = format!("{fate} · {}", shares.join(", "));
    format!(
        "{:indent$}{}\n{:indent$}      {}\n",
        "",
        shortened(&text, room),
        "",
        shortened(&below, room.saturating_sub(6))
    )
}

/// Returns `true` for a value that needs no lines of its own.
fn is_short(key: &str, value: &Value) -> bool {
    match value {
        Value::Array(items) => key != "messages" && !items.iter().any(Value::is_object),
        Value::String(_) => key != "reply",
        _ => true,
    }
}

/// Returns numbers with their names.
fn named(facts: &serde_json::Map<String, Value>) -> String {
    let fact = |(name, value): (&String, &Value)| format!("{} {}", name.replace('_', " "), fields(value));
    facts.iter().map(fact).collect::<Vec<_>>().join(", ")
}

/// Returns a text with each line indented, and otherwise as it is.
fn verbatim(text: &str, indent: usize) -> String {
    text.lines().map(|line| format!("{:indent$}{line}\n", "")).collect()
}

/// Returns a value on one line, without the marks of JSON.
fn fields(value: &Value) -> String {
    match value {
        Value::Object(map) => {
            // A leg has a rank and a score. A number alone would not say that it is a rank.
            let field = |(name, value): (&String, &Value)| match (value["rank"].as_u64(), value["score"].as_f64()) {
                (Some(rank), Some(score)) => format!("{name} {rank} ({score:.2})"),
                _ if name == "from" => format!("from #{}", fields(value)),
                _ => fields(value),
            };
            // Shares are for `search --why`.
            map.iter().filter(|(name, _)| *name != "shares").map(field).collect::<Vec<_>>().join("  ")
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
