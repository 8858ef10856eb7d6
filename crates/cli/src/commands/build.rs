//! `logothete build`

use std::path::PathBuf;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};
use logothete::{BuildReport, BuildRequest, Error, ErrorKind, Failure, Result, WebSource};
use serde_json::json;

use super::{configuration, corpus, failures};
use crate::args::Place;
use crate::view::{Style, count, duration, indented};
use crate::{DONE, FAILED, Outcome, STOPPED};

pub async fn run(place: &Place, paths: Vec<PathBuf>, prune: bool) -> Result<Outcome> {
    let (config, folder) = configuration(place)?;
    // With nothing named, all of the configuration's sources are meant.
    let whole = paths.is_empty();
    let paths = if whole { config.sources.paths.clone() } else { paths };
    if let Some(report) = nothing_there(&paths) {
        let text = failures(&report.failed, Style::of_stdout()).trim_start().to_owned();
        return Ok(Outcome { text, json: json!(report), code: FAILED });
    }
    // Nothing named here: then a corpus that is there already knows what it was built from.
    let nothing = paths.is_empty() && config.sources.addresses.is_empty();
    let mut corpus = corpus(place, &config, &folder, nothing).await.map_err(|error| match error.kind() {
        ErrorKind::NotFound => Error::new(ErrorKind::Configuration, "say what to build from: logothete build PATH"),
        _ => error,
    })?;

    let bar = ProgressBar::no_length().with_style(bar_style());
    let sources = config.sources.clone();
    let mut asked = BuildRequest::new(paths).prune(prune).filter(sources.include, sources.exclude);
    for (name, value) in sources.metadata {
        asked = asked.metadata(name, value);
    }
    if whole && !sources.addresses.is_empty() {
        asked = asked.source(WebSource::new("addresses", sources.addresses, config.privacy.allow.clone()));
    }
    let request = asked.on_progress({
        let bar = bar.clone();
        move |progress| {
            bar.set_length(progress.total as u64);
            bar.set_position(progress.done as u64);
            bar.set_message(progress.document.clone());
        }
    });
    let stop = request.stop_token();
    tokio::spawn(async move {
        // The first time: stop after the document in work. The second time: at once; what was committed stays.
        if tokio::signal::ctrl_c().await.is_ok() {
            stop.stop();
        }
        if tokio::signal::ctrl_c().await.is_ok() {
            std::process::exit(i32::from(STOPPED));
        }
    });
    let report = corpus.build(request).await;
    bar.finish_and_clear();
    let report = report?;

    let code = match &report {
        report if report.stopped => STOPPED,
        report if report.nothing_read() || !report.prune_needed.is_empty() => FAILED,
        _ => DONE,
    };
    let style = Style::of_stdout();
    let text = format!(
        "{}\nThe corpus is in {}.\n",
        render(&report, style),
        style.place(&corpus.folder().display().to_string())
    );
    Ok(Outcome { text, json: json!(report), code })
}

/// A report of failures when there is nothing at any of the paths: then no corpus is made for them.
fn nothing_there(paths: &[PathBuf]) -> Option<BuildReport> {
    let failed: Vec<Failure> = paths
        .iter()
        .filter_map(|path| logothete::FolderSource::new(path).err().map(|error| (path, error)))
        .map(|(path, error)| Failure { document: path.display().to_string(), reason: error.message().to_owned() })
        .collect();
    (!paths.is_empty() && failed.len() == paths.len()).then(|| BuildReport { failed, ..BuildReport::default() })
}

/// The report: what changed, what it cost, what failed.
pub fn render(report: &BuildReport, style: Style) -> String {
    let number = |n: usize, what: &str| (n > 0).then(|| format!("{n} {what}"));
    let parts: Vec<String> = [
        number(report.added, "added"),
        number(report.changed, "changed"),
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
        format!("{} encoded, {} from before", report.encoded, report.cached)
    };
    let mut out = format!(
        "{} {documents}\n{}    {} ({encoded})\n{}      {}\n",
        style.faint("Documents"),
        style.faint("Chunks"),
        crate::view::thousands(report.chunks),
        style.faint("Took"),
        duration(report.took_ms)
    );
    if report.stopped {
        out.push_str(&format!(
            "\n{}\n",
            style.warning("Stopped. What was read is kept; the same command goes on from here.")
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
    if !report.warnings.is_empty() {
        out.push_str(&format!("\n{}\n", style.warning("Read in part")));
        for warning in &report.warnings {
            out.push_str(&format!("  {}\n{}", style.place(&warning.document), indented(&warning.reason, 4)));
        }
    }
    out.push_str(&failures(&report.failed, style));
    out
}

fn bar_style() -> ProgressStyle {
    let template = "{pos}/{len} documents, {per_sec}, {eta} left  {wide_msg}";
    ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar()).with_key(
        "per_sec",
        |state: &indicatif::ProgressState, out: &mut dyn std::fmt::Write| {
            let seconds = state.elapsed().max(Duration::from_millis(1)).as_secs_f64();
            let _ = write!(out, "{:.0}/s", state.pos() as f64 / seconds);
        },
    )
}
