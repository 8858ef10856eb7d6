//! `logothete digest`

use logothete::config::DigestFormat;
use logothete::{DigestReport, Result};
use serde_json::json;

use super::{configuration, corpus};
use crate::args::{CorpusArguments, DigestArguments, Format};
use crate::view::{Style, digests};
use crate::{DONE, Output, json_text};

pub async fn run(at: &CorpusArguments, arguments: &DigestArguments) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let format = match arguments.format {
        Some(Format::Markdown) => DigestFormat::Markdown,
        Some(Format::Text) => DigestFormat::Text,
        Some(Format::Json) => DigestFormat::Json,
        None => config.digest(&arguments.fields)?.format,
    };
    let corpus = corpus(at, &config, &folder, true).await?;
    let report: DigestReport = match arguments.level {
        Some(level) => corpus.digest_at_level(&arguments.documents, level).await?,
        None => corpus.digest(&arguments.documents, &arguments.fields).await?,
    };
    let json = json!(report);
    let text = match format {
        DigestFormat::Markdown => report.markdown(),
        DigestFormat::Json => json_text(json.clone()),
        _ => digests(&report, Style::of_stdout()),
    };
    Ok(Output { text, json, code: DONE })
}
