//! The progress of long work on stderr, and how it is ended.

use std::fmt::Write;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressState, ProgressStyle};
use logothete::{BuildRequest, Stage, StopToken};

use crate::STOPPED;

use crate::view::{count, duration, thousands, visible};

/// Returns a bar without a length yet. It is not drawn where stderr is no terminal.
pub fn bar() -> ProgressBar {
    let bar = ProgressBar::no_length().with_style(style("documents"));
    bar.enable_steady_tick(Duration::from_millis(200));
    bar
}

/// Makes the first Ctrl-C stop the work, which keeps its results so far, and the second end the program.
pub fn stop_on_interrupt(stop: StopToken) {
    tokio::spawn(async move {
        if tokio::signal::ctrl_c().await.is_ok() {
            stop.stop();
        }
        if tokio::signal::ctrl_c().await.is_ok() {
            std::process::exit(i32::from(STOPPED));
        }
    });
}

/// Shows the progress of a build on a bar, after the name of what is built.
pub fn shown(request: BuildRequest, bar: &ProgressBar, name: Option<&str>) -> BuildRequest {
    let (bar, name) = (bar.clone(), name.map(|name| format!("{name}: ")).unwrap_or_default());
    request.on_progress(move |progress| {
        bar.set_length(progress.total as u64);
        bar.set_position(progress.done as u64);
        let message = match (progress.stage, progress.encoding) {
            (Stage::Documents, Some((done, of))) => {
                format!("encoding, {} of {} done", thousands(done as u64), count(of as u64, "chunk", "chunks"))
            }
            (Stage::Documents, None) => visible(&progress.document, false).into_owned(),
            _ => "merging the indexes".to_owned(),
        };
        bar.set_message(format!("{name}{message}"));
    })
}

/// Returns the style of a bar that counts things of a name.
pub fn style(things: &str) -> ProgressStyle {
    let template = format!("{{pos}}/{{len}} {things}{{rate}}{{left}}  {{wide_msg}}");
    let seconds = |state: &ProgressState| state.elapsed().max(Duration::from_millis(1)).as_secs_f64();
    let rate = move |state: &ProgressState, out: &mut dyn Write| {
        let rate = state.pos() as f64 / seconds(state);
        // Errors of writing to a terminal are ignored.
        let _ = match state.pos() {
            0 => Ok(()),
            _ if rate < 10.0 => write!(out, ", {rate:.1} a second"),
            _ => write!(out, ", {rate:.0} a second"),
        };
    };
    let left = move |state: &ProgressState, out: &mut dyn Write| {
        let to_do = state.len().unwrap_or(0).saturating_sub(state.pos());
        if state.pos() > 0 && to_do > 0 {
            let left = seconds(state) * to_do as f64 / state.pos() as f64;
            let _ = write!(out, ", {} left", duration(left * 1000.0));
        }
    };
    let style = ProgressStyle::with_template(&template).unwrap_or_else(|_| ProgressStyle::default_bar());
    style.with_key("rate", rate).with_key("left", left)
}
