//! The stand-in for a model, as a program.
//!
//! `logothete-simulator` listens for the JSON chat-completions call on port 8765 of this machine; `--port` names another one, and
//! `--pause` sets the milliseconds between two words. `logothete-simulator --stdin` reads a prompt from its standard input and prints
//! the reply. `--fault` lets every reply go wrong: see the list that an unknown name prints.

use std::io::Read;
use std::process::ExitCode;
use std::time::Duration;

use logothete::prompt::{Author, Prompt};
use logothete_simulator::{ModelFault, ModelService, WritingFault, reply_to};

/// The faults by their names.
const FAULTS: [(&str, ModelFault); 18] = [
    ("invent", ModelFault::Writing(WritingFault::Invent)),
    ("change-number", ModelFault::Writing(WritingFault::ChangeNumber)),
    ("drop-not", ModelFault::Writing(WritingFault::DropNot)),
    ("wrong-markers", ModelFault::Writing(WritingFault::WrongMarkers)),
    ("no-markers", ModelFault::Writing(WritingFault::NoMarkers)),
    ("odd-markers", ModelFault::Writing(WritingFault::OddMarkers)),
    ("obey-planted", ModelFault::Writing(WritingFault::ObeyPlanted)),
    ("empty", ModelFault::Writing(WritingFault::Empty)),
    ("only-markers", ModelFault::Writing(WritingFault::OnlyMarkers)),
    ("markers-in-code", ModelFault::Writing(WritingFault::MarkersInCode)),
    ("huge", ModelFault::Writing(WritingFault::Huge)),
    ("tell-instruction", ModelFault::Writing(WritingFault::TellInstruction)),
    ("busy", ModelFault::Busy(1.0)),
    ("failing", ModelFault::Failing),
    ("bad-key", ModelFault::BadKey),
    ("stall", ModelFault::Stall(Duration::from_secs(600))),
    ("cut-off", ModelFault::CutOff),
    ("broken-events", ModelFault::BrokenEvents),
];

fn main() -> ExitCode {
    match run(&std::env::args().skip(1).collect::<Vec<_>>()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            eprintln!("error: {message}");
            ExitCode::from(2)
        }
    }
}

fn run(arguments: &[String]) -> Result<(), String> {
    let (mut port, mut pause, mut fault, mut from_stdin) = (8765, 20, None, false);
    let mut rest = arguments.iter();
    while let Some(argument) = rest.next() {
        let mut value = || rest.next().ok_or_else(|| format!("{argument} needs a value"));
        match argument.as_str() {
            "--stdin" => from_stdin = true,
            "--port" => port = value()?.parse().map_err(|_| "--port is a number up to 65535".to_owned())?,
            "--pause" => pause = value()?.parse().map_err(|_| "--pause is a number of milliseconds".to_owned())?,
            "--fault" => fault = Some(fault_named(value()?)?),
            other => return Err(format!("unknown option {other}; the options are --stdin, --port, --pause, --fault")),
        }
    }
    if from_stdin {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text).map_err(|error| error.to_string())?;
        let writing = match fault {
            Some(ModelFault::Writing(writing)) => Some(writing),
            _ => None,
        };
        println!("{}", reply_to(&prompt(&text), writing));
        return Ok(());
    }
    let mut service = ModelService::start_on(port).map_err(|error| error.to_string())?;
    service = service.slow(Duration::from_millis(10 * pause), Duration::from_millis(pause));
    if let Some(fault) = fault {
        service = service.failing_at(0, fault);
    }
    println!("A stand-in for a model listens at {}. Ctrl-C ends it. In logothete.toml:\n", service.address());
    println!("[privacy]\nlocal_only = true\n\n[generator]\nkind = \"remote\"\naddress = \"{}\"", service.address());
    println!("model = \"stand-in\"");
    loop {
        std::thread::park();
    }
}

fn fault_named(name: &str) -> Result<ModelFault, String> {
    let found = FAULTS.iter().find(|(known, _)| *known == name).map(|(_, fault)| fault.clone());
    found.ok_or_else(|| format!("unknown fault; the faults are {}", FAULTS.map(|(name, _)| name).join(", ")))
}

/// Returns the messages of a prompt that a command gets as text.
fn prompt(text: &str) -> Prompt {
    let mut prompt = Prompt::default();
    for part in text.split("### ").filter(|part| !part.trim().is_empty()) {
        let (author, content) = part.split_once('\n').unwrap_or(("user", part));
        let author = match author.trim() {
            "system" => Author::System,
            "assistant" => Author::Assistant,
            _ => Author::User,
        };
        prompt = prompt.with(author, content.trim());
    }
    prompt
}
