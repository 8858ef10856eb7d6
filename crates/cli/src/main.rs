//! The `logothete` command: reads arguments, calls the library, shows what comes back.

mod args;
mod commands;
mod view;

use std::io::Write;
use std::process::ExitCode;

use clap::Parser;
use logothete::{Error, ErrorKind};
use serde_json::{Value, json};

use args::{Arguments, Upkeep, Verb};

/// The version of the JSON on stdout.
const JSON_VERSION: u32 = 1;

/// What a verb leaves behind.
struct Outcome {
    text: String,
    json: Value,
    code: u8,
}

/// Everything went well.
const DONE: u8 = 0;
/// Something failed; the message says what.
const FAILED: u8 = 1;
/// The command was used wrongly.
const USAGE: u8 = 2;
/// The corpus holds no answer.
const REFUSED: u8 = 3;
/// Stopped by the user, by the custom of shells.
const STOPPED: u8 = 130;

fn main() -> ExitCode {
    quiet_workers();
    let arguments = Arguments::parse();
    let as_json = arguments.json;
    let outcome = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .map_err(|error| Error::new(ErrorKind::System, "the runtime could not be started").because(error))
        .and_then(|runtime| runtime.block_on(run(arguments)));
    match outcome {
        Ok(outcome) => {
            let written = if as_json {
                print_json(outcome.json)
            } else {
                print(&view::visible(&outcome.text, view::Style::of_stdout().is_on()))
            };
            ExitCode::from(if written { outcome.code } else { FAILED })
        }
        Err(error) => {
            eprintln!("{}", view::visible(&format!("error: {error}"), false));
            if as_json {
                print_json(json!({ "error": { "kind": format!("{:?}", error.kind()), "message": error.to_string() } }));
            }
            ExitCode::from(if error.kind() == ErrorKind::Configuration { USAGE } else { FAILED })
        }
    }
}

async fn run(arguments: Arguments) -> logothete::Result<Outcome> {
    let place = &arguments.place;
    match arguments.verb {
        Verb::Demo => commands::demo::run().await,
        Verb::New { paths } => commands::new::run(place, &paths),
        Verb::Parse(arguments) => commands::parse::run(place, &arguments),
        Verb::Chunk(arguments) => commands::chunk::run(place, &arguments),
        Verb::Build { upkeep: Upkeep { forget: Some(document), .. }, .. } => {
            commands::upkeep::forget(place, &document).await
        }
        Verb::Build { upkeep: Upkeep { compact: true, .. }, .. } => commands::upkeep::compact(place).await,
        Verb::Build { upkeep: Upkeep { reencode: true, .. }, .. } => commands::upkeep::reencode(place).await,
        Verb::Build { upkeep: Upkeep { import: Some(file), .. }, .. } => commands::upkeep::import(place, &file).await,
        Verb::Build { paths, estimate: true, .. } => commands::build::estimate(place, paths).await,
        Verb::Build { paths, prune, .. } => commands::build::run(place, paths, prune).await,
        Verb::Show { export: Some(file), .. } => commands::upkeep::export(place, &file).await,
        Verb::Show { document, chunk, verify, .. } => {
            commands::show::run(place, document.as_deref(), chunk.as_deref(), verify).await
        }
        Verb::Search(arguments) => commands::search::run(place, &arguments).await,
        Verb::Ask(arguments) => commands::ask::run(place, &arguments).await,
        Verb::Evaluate { set, split } => commands::evaluate::run(place, &set, split.as_deref()).await,
    }
}

fn print_json(value: Value) -> bool {
    print(&json_text(value))
}

/// The JSON document of a verb, with its version.
fn json_text(mut value: Value) -> String {
    let mut document = json!({ "version": JSON_VERSION });
    if let (Some(document), Some(value)) = (document.as_object_mut(), value.as_object_mut()) {
        document.append(value);
    }
    // JSON leaves these as they are, and a terminal may obey them.
    let obeyed = |c: char| ('\u{7f}'..='\u{9f}').contains(&c);
    let mut text = format!("{document:#}\n");
    if text.contains(obeyed) {
        text = text.chars().map(|c| if obeyed(c) { format!("\\u{:04x}", c as u32) } else { c.to_string() }).collect();
    }
    text
}

/// Writes to stdout. A reader that has gone away, such as `head`, is no failure.
fn print(text: &str) -> bool {
    let mut out = std::io::stdout().lock();
    match out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
        Ok(()) => true,
        Err(error) => error.kind() == std::io::ErrorKind::BrokenPipe,
    }
}

/// A parser that panics on a broken file fails that file, and the report says so; the panic's own message is noise.
fn quiet_workers() {
    let loud = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        if std::thread::current().name() != Some(logothete::WORKER_THREAD) {
            loud(info);
        }
    }));
}
