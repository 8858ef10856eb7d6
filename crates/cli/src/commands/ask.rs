//! `logothete ask`

use std::io::{IsTerminal, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use logothete::answer::{Answer, AskEvent, UnsupportedPolicy};
use logothete::evidence::AnswerLength;
use logothete::{Reply, Result, SearchRequest};
use logothete_report::reply_page;
use serde_json::json;

use super::output::{check_free, write_file};
use super::{batch, changed, configuration, corpus, routed};
use crate::args::{AskArguments, CorpusArguments};
use crate::view::{Flow, Style, answer, prompt, sources, trace, verdict, visible, width};
use crate::{DONE, Output, REFUSED};

pub async fn run(at: &CorpusArguments, arguments: &AskArguments, as_json: bool) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let mut config = changed(config, &arguments.changes)?;
    if arguments.brief {
        config.answer.length = AnswerLength::Brief;
    }
    let filter = super::filter(arguments.filter.as_deref())?;
    let request = |question: String| {
        let mut request = SearchRequest::new(question).traced();
        if let Some(filter) = &filter {
            request = request.filter(filter.clone());
        }
        if let Some(day) = &arguments.as_of {
            request = request.as_of(day.clone());
        }
        request
    };
    let requests: Vec<_> =
        super::asked(&arguments.question, arguments.questions.as_deref())?.into_iter().map(request).collect();
    if routed::applies(at, &config) {
        let needs_one = [
            ("--show-prompt", arguments.show_prompt),
            ("--trace-page", arguments.trace_page.is_some()),
            ("--into", arguments.into.is_some()),
        ];
        return match needs_one.iter().find(|(_, is_given)| *is_given) {
            Some((option, _)) => Err(routed::refuse(option)),
            None => routed::ask(at, &config, requests, arguments.trace).await,
        };
    }
    let corpus = corpus(at, &config, &folder, true).await?;
    if let Some(into) = &arguments.into {
        return batch::run(&corpus, requests, into, arguments.at_once).await;
    }
    let style = Style::of_stdout();
    if arguments.show_prompt
        && let Some(request) = requests.first().cloned()
    {
        let preview = corpus.preview_prompt(request).await?;
        return Ok(Output { text: prompt(&preview, style), json: json!(preview), code: DONE });
    }
    if let Some(file) = &arguments.trace_page {
        check_free(file, arguments.force)?;
    }
    let has_model = corpus.pipeline().model()?.is_some();
    let one = arguments.questions.is_none();
    let flags = config.answer.unsupported == UnsupportedPolicy::Flag;
    let streams = one && has_model && !as_json && std::io::stdout().is_terminal();
    // Whether the text that was shown while it was written ends its last line.
    let line_ended = Arc::new(AtomicBool::new(false));
    let replies = match requests.first().cloned() {
        Some(request) if streams => {
            let mut flow = Flow::new(Some(width()));
            let line_ended = line_ended.clone();
            let tell = move |event: AskEvent<'_>| match event {
                AskEvent::Text(text) => {
                    print_now(&flow.next(text));
                    if !text.is_empty() {
                        line_ended.store(text.ends_with('\n'), Ordering::Relaxed);
                    }
                }
                AskEvent::Claim(claim) if claim.is_judged() && !claim.verdict.is_borne_out() => {
                    let remark = flow.aside(&style.warning(&verdict(claim)));
                    print_now(&visible(&remark, style.is_on()));
                }
                _ => {}
            };
            vec![corpus.ask_streaming(request, tell).await?]
        }
        _ => corpus.ask_all(requests).await?,
    };
    if !has_model && !as_json && std::io::stderr().is_terminal() {
        eprintln!("{NO_MODEL}");
    }
    if let (Some(file), Some(reply)) = (&arguments.trace_page, replies.first()) {
        let page = reply_page(&corpus, reply, filter.as_ref()).await?;
        write_file(file, page.as_bytes(), arguments.force)?;
    }
    let shown = |reply: &Reply| {
        let steps = if arguments.trace { trace(&reply.trace, style) } else { String::new() };
        let end = if line_ended.load(Ordering::Relaxed) { "" } else { "\n" };
        let text = match streams {
            // The verdicts were told when the claims ended.
            true if flags => format!("{end}{}", sources(&without_verdicts(&reply.answer), style)),
            true => format!("{end}{}", sources(&reply.answer, style)),
            false => answer(&reply.answer, style),
        };
        let notes: String = reply.notes.iter().map(|note| format!("\n{}\n", style.warning(note))).collect();
        let text = text + &notes;
        let page = arguments.trace_page.as_ref().map(|file| {
            format!("\n{} {}\n", style.faint("The page to study is"), style.place(&file.display().to_string()))
        });
        text + &steps + &page.unwrap_or_default()
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

/// Returns an answer without its claims, whose verdicts were shown.
fn without_verdicts(answer: &Answer) -> Answer {
    let mut answer = answer.clone();
    answer.claims.clear();
    answer
}

/// How to get answers in a model's words.
const NO_MODEL: &str =
    "hint: these are sentences of the documents; for a model's words set kind in [generator] of logothete.toml";

/// Prints a part of an answer at once.
pub fn print_now(text: &str) {
    let mut out = std::io::stdout().lock();
    // A terminal that is gone is noticed when the rest is printed.
    let _ = out.write_all(text.as_bytes()).and_then(|()| out.flush());
}
