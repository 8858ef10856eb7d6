//! The pipelines that are compared: those of other files, and those with other values of some settings.

use std::path::PathBuf;

use logothete::{Config, Corpus, Error, ErrorKind, Result};

use crate::commands::build::sources;
use crate::commands::{progress, setting_values};
use crate::view::visible;

/// Returns the configurations to compare with, by their names.
pub fn configurations(config: &Config, against: &[PathBuf], vary: &[String]) -> Result<Vec<(String, Config)>> {
    let mut variants = Vec::new();
    for file in against {
        variants.push((file.display().to_string(), Config::read(file)?));
    }
    let mut varied = vec![(String::new(), config.clone())];
    for written in vary {
        let (key, values) = setting_values("--vary", written)?;
        let mut next = Vec::new();
        for (name, config) in &varied {
            for value in &values {
                let setting = config.with_setting(key, value).map_err(|error| error.at("--vary"))?;
                let name = [name.as_str(), &format!("{key}={value}")].join(" ");
                next.push((name.trim().to_owned(), setting));
            }
        }
        varied = next;
    }
    if !vary.is_empty() {
        variants.extend(varied);
    }
    Ok(variants)
}

/// Opens a corpus for each configuration, by name. A configuration that is invalid, such as one with chunks that are longer than its encoder
/// reads, is left out, and a line on stderr names it.
///
/// # Errors
/// If all configurations are invalid, or a build fails.
pub async fn open_all(corpus: &Corpus, variants: Vec<(String, Config)>) -> Result<Vec<(String, Corpus)>> {
    let (mut opened, mut left_out) = (Vec::new(), Vec::new());
    for (name, config) in variants {
        match open(corpus, &name, &config).await {
            Ok(variant) => opened.push((name, variant)),
            Err(error) if error.kind() == ErrorKind::Configuration => left_out.push(error),
            Err(error) => return Err(error),
        }
    }
    if opened.is_empty() && !left_out.is_empty() {
        return Err(left_out.remove(0));
    }
    for error in left_out {
        eprintln!("{}", visible(&format!("left out: {error}"), false));
    }
    Ok(opened)
}

/// Opens the corpus as another configuration would build it, and builds what differs.
async fn open(corpus: &Corpus, name: &str, config: &Config) -> Result<Corpus> {
    let bar = progress::bar();
    // The corpus knows its files and folders; addresses are in the configuration alone.
    let request = progress::shown(sources(config, &[], true), &bar, Some(name));
    let pipeline = crate::commands::pipeline(config).map_err(|error| error.at(name.to_owned()))?;
    let opened = corpus.variant(&pipeline, request).await;
    bar.finish_and_clear();
    let (variant, report) = opened.map_err(|error| error.at(name.to_owned()))?;
    if let Some(limit) = &report.capped {
        return Err(Error::new(ErrorKind::Limit, limit.clone()).at(name.to_owned()));
    }
    let (ours, theirs) = (corpus.info().await?.documents.len(), variant.info().await?.documents.len());
    if ours != theirs {
        let failed = report.failed.first().map(|failed| format!("; {}: {}", failed.document, failed.reason));
        eprintln!("{name}: it has {theirs} documents, and the corpus {ours}{}", failed.unwrap_or_default());
    }
    Ok(variant)
}
