//! The `logothete` command: reads arguments, calls the library, and shows the result.

mod args;
mod commands;
mod hints;
mod sending;
mod view;

use std::io::Write;
use std::process::ExitCode;

use clap::Parser;
use logothete::{Error, ErrorKind};
use serde_json::{Value, json};

use args::{Arguments, Upkeep, Verb};

/// The verb of a process that reads documents for another one of this program. Nobody types it.
const READER: &str = "read-for-another";
/// The version of the JSON on stdout.
const JSON_VERSION: u32 = 1;

/// The output of a verb, and its exit code.
struct Output {
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
/// Some files could not be read, and the others were; or a text that was checked is contradicted.
const IN_PART: u8 = 4;
/// Stopped by the user, by the custom of shells.
const STOPPED: u8 = 130;

fn main() -> ExitCode {
    quiet_workers();
    if std::env::args_os().nth(1).is_some_and(|verb| verb == READER) {
        return match logothete::serve_reader() {
            Ok(()) => ExitCode::SUCCESS,
            Err(_) => ExitCode::from(FAILED),
        };
    }
    // It fails only if there is one already.
    let _ = tracing::subscriber::set_global_default(sending::Sending::default());
    let arguments = match Arguments::try_parse() {
        Ok(arguments) => arguments,
        Err(error) => return usage(&error),
    };
    let as_json = arguments.json;
    let output = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .map_err(|error| Error::new(ErrorKind::System, "the runtime could not be started").because(error))
        .and_then(|runtime| runtime.block_on(run(arguments)));
    match output {
        Ok(output) => {
            let written = if as_json {
                print_json(output.json)
            } else {
                print(&view::visible(&output.text, view::Style::of_stdout().is_on()))
            };
            ExitCode::from(if written { output.code } else { FAILED })
        }
        Err(error) => {
            let said = match hints::hint(&error) {
                Some(hint) => format!("error: {error}\nhint: {hint}"),
                None => format!("error: {error}"),
            };
            eprintln!("{}", view::visible(&said, false));
            if as_json {
                print_json(json!({ "error": { "kind": format!("{:?}", error.kind()), "message": error.to_string() } }));
            }
            let is_usage = matches!(error.kind(), ErrorKind::Configuration | ErrorKind::InvalidRequest);
            ExitCode::from(if is_usage { USAGE } else { FAILED })
        }
    }
}

/// Prints help, or what is wrong with the command line; as JSON too, if that was asked for.
fn usage(error: &clap::Error) -> ExitCode {
    let wants_json = std::env::args_os().any(|argument| argument == "--json");
    if error.use_stderr() && wants_json {
        let message = error.kind().to_string();
        let first = error.to_string().lines().next().unwrap_or(&message).trim_start_matches("error: ").to_owned();
        print_json(json!({ "error": { "kind": "Usage", "message": first } }));
    }
    // A closed pipe is no failure here.
    let _ = error.print();
    ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(USAGE))
}

async fn run(arguments: Arguments) -> logothete::Result<Output> {
    let (at, as_json) = (&arguments.at, arguments.json);
    match arguments.verb {
        #[cfg(feature = "serve")]
        Verb::Demo { serve: true, port } => commands::demo::serve(port, as_json).await,
        Verb::Demo { .. } => commands::demo::run().await,
        #[cfg(feature = "serve")]
        Verb::Serve(arguments) => commands::serve::run(at, &arguments, as_json).await,
        #[cfg(feature = "serve")]
        Verb::Tools => commands::serve::tools(at).await,
        Verb::New { templates: true, .. } => commands::new::templates(at),
        Verb::New { paths, .. } => commands::new::run(at, &paths),
        Verb::Parse(arguments) => commands::parse::run(at, &arguments),
        Verb::Chunk(arguments) => commands::chunk::run(at, &arguments),
        Verb::Build { upkeep: Upkeep { forget: Some(document), .. }, .. } => {
            commands::upkeep::forget(at, &document).await
        }
        Verb::Build { upkeep: Upkeep { compact: true, .. }, .. } => commands::upkeep::compact(at).await,
        Verb::Build { upkeep: Upkeep { reencode: true, .. }, .. } => commands::upkeep::reencode(at).await,
        Verb::Build { upkeep: Upkeep { import: Some(file), .. }, .. } => commands::upkeep::import(at, &file).await,
        Verb::Build { paths, estimate: true, .. } => commands::build::estimate(at, paths).await,
        Verb::Build { paths, prune, .. } => commands::build::run(at, paths, prune).await,
        Verb::Show { export: Some(file), .. } => commands::upkeep::export(at, &file).await,
        Verb::Show { document, chunk, verify, .. } => {
            commands::show::run(at, document.as_deref(), chunk.as_deref(), verify).await
        }
        Verb::Search(arguments) => commands::search::run(at, &arguments).await,
        Verb::Ask(arguments) => commands::ask::run(at, &arguments, as_json).await,
        Verb::Chat(arguments) => commands::chat::run(at, &arguments, as_json).await,
        Verb::Check(arguments) => commands::check::run(at, &arguments).await,
        Verb::Digest(arguments) => commands::digest::run(at, &arguments).await,
        Verb::Tree(arguments) => commands::tree::run(at, &arguments, as_json).await,
        Verb::Describe(arguments) => commands::describe::run(at, &arguments),
        Verb::Evaluate(arguments) => commands::evaluate::run(at, &arguments).await,
        Verb::Tune(arguments) => commands::tune::run(at, &arguments).await,
    }
}

fn print_json(value: Value) -> bool {
    print(&json_text(value))
}

/// Returns the JSON document of a verb, with its version.
fn json_text(mut value: Value) -> String {
    let mut document = json!({ "version": JSON_VERSION });
    if let (Some(document), Some(value)) = (document.as_object_mut(), value.as_object_mut()) {
        document.append(value);
    }
    // JSON leaves these as they are, and a terminal may obey them.
    let obeyed = |c: char| !view::is_harmless(c);
    let mut text = format!("{document:#}\n");
    if text.contains(obeyed) {
        text = text.chars().map(|c| if obeyed(c) { format!("\\u{:04x}", c as u32) } else { c.to_string() }).collect();
    }
    text
}

/// Writes to stdout. A closed pipe, such as one to `head`, is no failure.
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
