//! `logothete new`

use std::path::PathBuf;

use logothete::{Config, Result, write_templates};
use serde_json::json;

use crate::args::CorpusArguments;
use crate::view::{Style, count};
use crate::{DONE, Output};

pub fn run(at: &CorpusArguments, paths: &[PathBuf]) -> Result<Output> {
    let file = at.config.clone().unwrap_or_else(|| PathBuf::from(Config::FILE_NAME));
    Config::write_starter(&file, paths)?;
    let style = Style::of_stdout();
    let next = if paths.is_empty() { "set paths in [sources], then: logothete build" } else { "logothete build" };
    let text = format!(
        "{} {}: every setting with its default\n{} {next}\n",
        style.faint("Wrote"),
        style.place(&file.display().to_string()),
        style.faint("Next "),
    );
    Ok(Output { text, json: json!({ "configuration": file, "sources": paths }), code: DONE })
}

/// Writes the templates of prompts beside the configuration file.
pub fn templates(at: &CorpusArguments) -> Result<Output> {
    let beside = at.config.as_ref().and_then(|file| file.parent()).map(PathBuf::from).unwrap_or_default();
    let folder = beside.join("prompts");
    let written = write_templates(&folder)?;
    let style = Style::of_stdout();
    let text = format!(
        "{} {} in {}\n{} set templates = \"prompts\" in [prompt] of {}; what you do not change, remove\n",
        style.faint("Wrote"),
        count(written.len() as u64, "prompt", "prompts"),
        style.place(&folder.display().to_string()),
        style.faint("Next "),
        Config::FILE_NAME,
    );
    Ok(Output { text, json: json!({ "templates": written }), code: DONE })
}
