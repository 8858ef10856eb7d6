//! `logothete ask`

use std::io::{IsTerminal, Write};

use logothete::answer::AskEvent;
use logothete::{Reply, Result, SearchRequest};
use serde_json::json;

use super::{configuration, corpus};
use crate::args::{AskArguments, CorpusArguments};
use crate::view::{Style, answer, prompt, sources, trace, visible};
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
        return Ok(Output { text: prompt(&preview, style), json: json!(preview), code: DONE });
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
        let steps = if arguments.trace { trace(&reply.trace, style) } else { String::new() };
        let text = match streams {
            true => format!("\n{}", sources(&reply.answer, style)),
            false => answer(&reply.answer, style),
        };
        text + &steps
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
