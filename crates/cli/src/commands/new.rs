//! `logothete new`

use std::path::PathBuf;

use logothete::{Config, Result};
use serde_json::json;

use crate::args::CorpusArguments;
use crate::view::Style;
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
