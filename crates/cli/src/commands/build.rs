//! `logothete build`

use std::path::PathBuf;

use logothete::{
    BuildReport, BuildRequest, Config, DocumentEstimate, Error, ErrorKind, Estimate, Failure, Result, WebSource,
};
use serde_json::json;

use super::{configuration, corpus, failures, progress};
use crate::args::CorpusArguments;
use crate::view::{Align, Style, bytes, count, duration, indented, table, thousands};
use crate::{DONE, FAILED, IN_PART, Output, STOPPED};

pub async fn run(at: &CorpusArguments, paths: Vec<PathBuf>, prune: bool) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let asked = match Asked::new(&config, paths) {
        Ok(asked) => asked,
        Err(nothing) => return Ok(*nothing),
    };
    let corpus = corpus(at, &config, &folder, asked.nothing).await.map_err(say_what)?;

    let bar = progress::bar();
    let request = progress::shown(asked.request(&config).prune(prune), &bar, None);
    progress::stop_on_interrupt(request.stop_token());
    let report = corpus.build(request).await;
    bar.finish_and_clear();
    let report = report?;

    let code = match &report {
        report if report.capped.is_some() => FAILED,
        report if report.stopped => STOPPED,
        report if report.nothing_read() || !report.prune_needed.is_empty() => FAILED,
        report if !report.failed.is_empty() => IN_PART,
        _ => DONE,
    };
    let style = Style::of_stdout();
    let text = format!(
        "{}\nThe corpus is in {}.\n",
        render(&report, style),
        style.place(&corpus.folder().unwrap_or(std::path::Path::new("memory")).display().to_string())
    );
    Ok(Output { text, json: json!(report), code })
}

/// Says what a build would do and cost. A corpus that is not there yet is not made.
pub async fn estimate(at: &CorpusArguments, paths: Vec<PathBuf>) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let asked = match Asked::new(&config, paths) {
        Ok(asked) => asked,
        Err(nothing) => return Ok(*nothing),
    };
    let elsewhere;
    let corpus = match corpus(at, &config, &folder, true).await {
        Err(error) if error.kind() == ErrorKind::NotFound && !asked.nothing => {
            elsewhere = tempfile::tempdir()
                .map_err(|error| Error::new(ErrorKind::System, "there is no temporary folder").because(error))?;
            super::pipeline(&config)?.open(elsewhere.path()).await?
        }
        opened => opened.map_err(say_what)?,
    };
    let estimate = corpus.estimate(asked.request(&config)).await?;
    let text = render_estimate(&estimate, Style::of_stdout());
    let code = if estimate.documents.is_empty() && estimate.unchanged == 0 { FAILED } else { DONE };
    Ok(Output { text, json: json!(estimate), code })
}

fn say_what(error: Error) -> Error {
    match error.kind() {
        ErrorKind::NotFound => Error::new(ErrorKind::Configuration, "say what to build from: logothete build PATH"),
        _ => error,
    }
}

/// What to build from.
struct Asked {
    paths: Vec<PathBuf>,
    /// With nothing named, all of the configuration's sources are meant.
    whole: bool,
    /// Nothing named here either: then a corpus that is there already knows what it was built from.
    nothing: bool,
}

impl Asked {
    /// Returns the named paths, or those of the configuration. Ends with an error if there is nothing at any of them.
    fn new(config: &Config, paths: Vec<PathBuf>) -> std::result::Result<Self, Box<Output>> {
        let whole = paths.is_empty();
        let paths = if whole { config.sources.paths.clone() } else { paths };
        if let Some(report) = nothing_there(&paths) {
            let text = failures(&report.failed, Style::of_stdout()).trim_start().to_owned();
            return Err(Box::new(Output { text, json: json!(report), code: FAILED }));
        }
        let nothing = paths.is_empty() && config.sources.addresses.is_empty();
        Ok(Self { paths, whole, nothing })
    }

    fn request(&self, config: &Config) -> BuildRequest {
        sources(config, &self.paths, self.whole)
    }
}

/// Returns a build of some paths with the patterns and the metadata of a configuration, and of its addresses if all of it is meant.
pub fn sources(config: &Config, paths: &[PathBuf], whole: bool) -> BuildRequest {
    let sources = config.sources.clone();
    let mut request = BuildRequest::new(paths).patterns(sources.include, sources.exclude);
    for (name, value) in sources.metadata {
        request = request.metadata(name, value);
    }
    if whole && !sources.addresses.is_empty() {
        request = request.source(WebSource::new("addresses", sources.addresses, config.privacy.clone()));
    }
    request
}

/// Returns a report of failures if there is nothing at any of the paths; then no corpus is made for them.
fn nothing_there(paths: &[PathBuf]) -> Option<BuildReport> {
    let failed: Vec<Failure> = paths
        .iter()
        .filter_map(|path| logothete::FolderSource::new(path).err().map(|error| (path, error)))
        .map(|(path, error)| Failure::new(path.display().to_string(), error.message()))
        .collect();
    let mut report = BuildReport::default();
    report.failed = failed;
    (!paths.is_empty() && report.failed.len() == paths.len()).then_some(report)
}

/// Returns the report: what changed, what it cost, what failed.
pub fn render(report: &BuildReport, style: Style) -> String {
    let number = |n: usize, what: &str| (n > 0).then(|| format!("{} {what}", thousands(n as u64)));
    let parts: Vec<String> = [
        number(report.added, "added"),
        number(report.changed, "changed"),
        number(report.moved, "moved"),
        number(report.removed, "removed"),
        number(report.unchanged, "unchanged"),
        number(report.failed.len(), "failed"),
    ]
    .into_iter()
    .flatten()
    .collect();
    let documents = if parts.is_empty() { "nothing to do".to_owned() } else { parts.join(", ") };
    let encoded = if report.encoded + report.cached == 0 {
        "none encoded".to_owned()
    } else {
        let [encoded, cached] = [report.encoded, report.cached].map(|n| thousands(n as u64));
        format!("{encoded} encoded, {cached} cached")
    };
    let encoded = match report.repeated {
        0 => encoded,
        repeated => format!("{encoded}; {}", count(repeated as u64, "duplicate", "duplicates")),
    };
    let mut out = format!(
        "{} {documents}\n{}    {} ({encoded})\n{}      {}\n",
        style.faint("Documents"),
        style.faint("Chunks"),
        thousands(report.chunks),
        style.faint("Took"),
        duration(report.took_ms)
    );
    if report.contexts + report.contexts_cached > 0 {
        out.push_str(&format!(
            "{}  {} written for {} tokens sent and {} received, {} cached\n",
            style.faint("Contexts"),
            thousands(report.contexts as u64),
            thousands(report.tokens.sent),
            thousands(report.tokens.received),
            thousands(report.contexts_cached as u64)
        ));
    }
    if let Some(cost) = report.cost {
        out.push_str(&format!(
            "{}      {cost:.4} at the prices of the configuration; {} tokens encoded\n",
            style.faint("Cost"),
            thousands(report.encoded_tokens)
        ));
    }
    if let Some(capped) = &report.capped {
        out.push_str(&format!("\n{}\n{}", style.warning("Stopped at a limit"), indented(capped, 2)));
    } else if report.stopped {
        out.push_str(&format!(
            "\n{}\n",
            style.warning("Stopped. What was read is kept; run the same command to continue.")
        ));
    }
    for needed in &report.prune_needed {
        let message = format!(
            "{} of {} of {} are gone. That is more than half, so nothing was removed; add --prune to forget them.",
            needed.gone,
            count(needed.of as u64, "document", "documents"),
            needed.source.display()
        );
        out.push_str(&format!("\n{}\n{}", style.warning("Not removed"), indented(&message, 2)));
    }
    if !report.renamed.is_empty() {
        let names: String = report.renamed.iter().map(|name| indented(name, 2)).collect();
        let heading = "Named with their source, since a document of another source has their name";
        out.push_str(&format!("\n{}\n{names}", style.warning(heading)));
    }
    if !report.warnings.is_empty() {
        out.push_str(&format!("\n{}\n", style.warning("Read in part")));
        for warning in &report.warnings {
            out.push_str(&format!("  {}\n{}", style.place(&warning.document), indented(&warning.reason, 4)));
        }
    }
    out.push_str(&failures(&report.failed, style));
    if !report.advice.is_empty() {
        let lines: String = report.advice.iter().map(|advice| indented(advice, 2)).collect();
        out.push_str(&format!("\n{}\n{lines}", style.warning("To consider")));
    }
    out
}

/// A column of an estimate: its name, and what it says of a document.
type Column = (&'static str, fn(&DocumentEstimate) -> String);

fn render_estimate(estimate: &Estimate, style: Style) -> String {
    let total = &estimate.total;
    let mut columns: Vec<Column> = vec![
        ("Chunks", |document| thousands(document.chunks as u64)),
        ("Cached", |document| thousands(document.chunks_cached as u64)),
        ("Tokens", |document| thousands(document.encoded_tokens)),
    ];
    if total.seconds.is_some() {
        columns.push(("Time", |document| document.seconds.map_or_else(String::new, |time| duration(time * 1000.0))));
    }
    if total.contexts + total.contexts_cached > 0 {
        columns.push(("Contexts", |document| thousands(document.contexts as u64)));
        columns.push(("Kept", |document| thousands(document.contexts_cached as u64)));
        columns.push(("Sent", |document| thousands(document.tokens.sent)));
        columns.push(("Received", |document| thousands(document.tokens.received)));
    }
    if total.cost.is_some() {
        columns.push(("Cost", |document| document.cost.map_or_else(String::new, |cost| format!("{cost:.4}"))));
    }
    let mut rows =
        vec![["Document"].into_iter().chain(columns.iter().map(|(name, _)| *name)).map(str::to_owned).collect()];
    let mut all = total.clone();
    "All".clone_into(&mut all.document);
    for document in estimate.documents.iter().chain((estimate.documents.len() > 1).then_some(&all)) {
        let cells = columns.iter().map(|(_, cell)| cell(document));
        rows.push([document.document.clone()].into_iter().chain(cells).collect::<Vec<_>>());
    }
    let mut out = String::new();
    if !estimate.documents.is_empty() {
        let aligned = [vec![Align::Left], vec![Align::Right; columns.len()]].concat();
        out.push_str(&table(&rows, &aligned, 0, style));
        out.push('\n');
    }
    let read = count(estimate.documents.len() as u64, "document", "documents");
    out.push_str(&format!("{read} would be read and cut, {} are as they were.\n", estimate.unchanged));
    if let Some(speed) = estimate.tokens_per_second {
        let speed = thousands(speed as u64);
        out.push_str(&format!("Time is that of the encoder, at {speed} tokens a second as just measured.\n"));
    }
    if estimate.token_index_bytes > 0 {
        let size = bytes(estimate.token_index_bytes);
        out.push_str(&format!("The index of tokens would take {size}; the texts are encoded once more for it.\n"));
    }
    if let Some(tree) = &estimate.tree {
        let summaries = count(tree.summaries, "summary", "summaries");
        let (sent, received) = (thousands(tree.tokens.sent), thousands(tree.tokens.received));
        out.push_str(&format!(
            "The tree would have about {summaries}: {sent} tokens sent, and at most {received} received.\n"
        ));
    }
    match total.cost {
        Some(cost) => out.push_str(&format!("It would cost {cost:.4} at the prices of the configuration.\n")),
        None if total.contexts > 0 || estimate.tree.is_some() => {
            out.push_str("Set price_sent and price_received in [generator] to see what the model costs.\n");
        }
        None if estimate.tokens_per_second.is_none() && total.encoded_tokens > 0 => {
            out.push_str("Set price in [encoder] to see what that costs.\n");
        }
        None => out.push_str("It is done on this machine: it costs nothing.\n"),
    }
    out.push_str(&failures(&estimate.failed, style));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_report_says_how_many_of_each() {
        let mut report = BuildReport::default();
        (report.added, report.unchanged, report.chunks) = (1_200, 10_000, 67_200);
        (report.encoded, report.cached, report.repeated, report.took_ms) = (7_000, 12_345, 1, 2_000.0);
        let text = render(&report, Style::plain());
        let expected = "Documents 1,200 added, 10,000 unchanged\n\
                        Chunks    67,200 (7,000 encoded, 12,345 cached; 1 duplicate)\n\
                        Took      2.0 s\n";
        assert!(text.starts_with(expected), "{text}");
        let nothing = render(&BuildReport::default(), Style::plain());
        assert!(nothing.starts_with("Documents nothing to do\nChunks    0 (none encoded)\n"), "{nothing}");
    }
}
