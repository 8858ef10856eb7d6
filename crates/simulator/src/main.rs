//! The stand-in for a model, as a program.
//!
//! `logothete-simulator` listens for the JSON chat-completions call on a port of this machine. With `--stdin` it reads a prompt from its
//! standard input and prints the reply. `--help` lists the options and the faults.

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

const PORT: u16 = 8765;
/// The time between two words, in milliseconds.
const PAUSE: u64 = 20;

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
    let (mut port, mut pause, mut fault, mut from_stdin) = (PORT, PAUSE, None, false);
    let mut rest = arguments.iter();
    while let Some(argument) = rest.next() {
        let mut value = || rest.next().ok_or_else(|| format!("{argument} needs a value"));
        match argument.as_str() {
            "--help" | "-h" => {
                println!("{}", help());
                return Ok(());
            }
            "--stdin" => from_stdin = true,
            "--port" => port = value()?.parse().map_err(|_| "--port is a number up to 65535".to_owned())?,
            "--pause" => pause = value()?.parse().map_err(|_| "--pause is a number of milliseconds".to_owned())?,
            "--fault" => fault = Some(fault_named(value()?)?),
            other => return Err(format!("unknown option {other}; --help lists the options")),
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
    found.ok_or_else(|| format!("unknown fault; the faults are {}", fault_names()))
}

fn fault_names() -> String {
    FAULTS.map(|(name, _)| name).join(", ")
}

fn help() -> String {
    format!(
        "A stand-in for a model: it answers from the passages that it is sent, and cites them.\n\n\
         Usage: logothete-simulator [--port NUMBER] [--pause MILLISECONDS] [--fault NAME]\n       \
         logothete-simulator --stdin [--fault NAME]\n\n\
         --port   where it listens for the JSON chat-completions call [default: {PORT}]\n\
         --pause  the time between two words [default: {PAUSE}]\n\
         --stdin  reads one prompt from the standard input instead, and prints the reply\n\
         --fault  lets every reply go wrong: {}",
        fault_names()
    )
}

/// Returns the messages of a prompt that a command gets as text.
fn prompt(text: &str) -> Prompt {
    let mut messages: Vec<(Author, String)> = Vec::new();
    for line in text.lines() {
        let author = match line {
            "### system" => Some(Author::System),
            "### assistant" => Some(Author::Assistant),
            "### user" => Some(Author::User),
            _ => None,
        };
        match (author, messages.last_mut()) {
            (Some(author), _) => messages.push((author, String::new())),
            (None, Some((_, content))) => *content += &format!("{line}\n"),
            (None, None) => messages.push((Author::User, format!("{line}\n"))),
        }
    }
    messages.iter().fold(Prompt::default(), |prompt, (author, content)| prompt.with(*author, content.trim()))
}
