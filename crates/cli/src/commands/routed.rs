//! Searching and asking where a question belongs, if the configuration has routes.

use logothete::routing::{Choice, Router};
use logothete::{Config, Error, ErrorKind, Result, SearchRequest};
use serde_json::json;

use super::search::render;
use crate::args::CorpusArguments;
use crate::view::{Style, answer, count, trace};
use crate::{DONE, Output, REFUSED};

/// Returns `true` if questions go where `[routing]` sends them: it has routes, and no corpus was named.
pub fn applies(at: &CorpusArguments, config: &Config) -> bool {
    at.corpus.is_none() && !config.routing.routes.is_empty()
}

/// Returns an error for an option that needs one corpus.
pub fn refuse(option: &str) -> Error {
    let message = "this needs one corpus, and the configuration has routes; name the corpus with --corpus FOLDER";
    Error::new(ErrorKind::InvalidRequest, message).at(option)
}

/// Opens the routes for whoever asks.
async fn router(at: &CorpusArguments, config: &Config) -> Result<Router> {
    let router = Router::from_config(config).await?;
    match &at.groups {
        Some(groups) => router.for_groups(groups.clone()),
        None => Ok(router.for_owner()),
    }
}

/// Searches for each request where it belongs.
pub async fn search(at: &CorpusArguments, config: &Config, requests: Vec<SearchRequest>) -> Result<Output> {
    let (router, style) = (router(at, config).await?, Style::of_stdout());
    let (mut text, mut all) = (String::new(), Vec::new());
    for request in requests {
        let found = router.search(request).await?;
        text.push_str(&choices(&found.choices, style));
        for routed in &found.passages {
            text.push_str(&render(&routed.passage, "", None, style));
        }
        for note in found.searches.iter().flat_map(|found| &found.notes) {
            text.push_str(&format!("{}\n", style.warning(note)));
        }
        let passages = count(found.passages.len() as u64, "passage", "passages");
        let corpora = count(found.searches.len() as u64, "corpus", "corpora");
        text.push_str(&format!("{}\n", style.faint(&format!("{passages} of {corpora}"))));
        all.push(found);
    }
    let json = if all.len() == 1 { json!(all[0]) } else { json!({ "searches": all }) };
    Ok(Output { text, json, code: DONE })
}

/// Asks each question where it belongs.
pub async fn ask(at: &CorpusArguments, config: &Config, requests: Vec<SearchRequest>, traces: bool) -> Result<Output> {
    let (router, style) = (router(at, config).await?, Style::of_stdout());
    let (mut text, mut all, mut code) = (String::new(), Vec::new(), REFUSED);
    for request in requests {
        let routed = router.ask(request).await?;
        text.push_str(&choices(&routed.choices, style));
        if let Some(reply) = &routed.reply {
            text.push_str(&answer(&reply.answer, style));
            text.extend(reply.notes.iter().map(|note| format!("\n{}\n", style.warning(note))));
            if traces {
                text.push_str(&trace(&reply.trace, style));
            }
            if !reply.answer.is_refusal() {
                code = DONE;
            }
        }
        all.push(json!({ "choices": routed.choices, "reply": routed.reply }));
    }
    let json = if all.len() == 1 { all.remove(0) } else { json!({ "answers": all }) };
    Ok(Output { text, json, code })
}

/// Says where a question went, and why.
fn choices(choices: &[Choice], style: Style) -> String {
    if choices.is_empty() {
        return format!("{}\n", style.warning("No route fits this question, and there is none to fall back on."));
    }
    let line = |choice: &Choice| format!("{} {}: {}\n", style.faint("→"), style.strong(&choice.route), choice.reason);
    choices.iter().map(line).collect::<String>() + "\n"
}
