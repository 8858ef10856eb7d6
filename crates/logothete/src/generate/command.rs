//! A generator that is a program: it reads the prompt from its standard input, and prints the reply.

use std::io::{Read, Write};
use std::process::{Child, ChildStderr, ChildStdin, ChildStdout, Command, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::Duration;

use logothete_core::prompt::Author;
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use super::channel::{PartSender, ReplyTimes, written};
use super::{
    FinishReason, Generation, GenerationEvent, GenerationParameters, GenerationRequest, GenerationStream, Generator,
    MAX_REPLY, usual_tokens,
};
use crate::config::GeneratorConfig;
use crate::threads::process;

/// A program that writes replies.
///
/// It gets the messages on its standard input, as text: for each a line `### system`, `### user` or `### assistant`, then the content,
/// in which lines that look like these begin with a blank;
/// or as JSON: `{"messages": [{"role", "content"}, …], "temperature", "max_tokens", "stop", "seed"}`. What it prints is the reply, as
/// it comes. It is killed with the processes that it has started when its time is up or the reply is no longer wanted.
#[derive(Clone, Debug)]
pub struct CommandGenerator {
    command: Vec<String>,
    as_json: bool,
    times: ReplyTimes,
}

impl CommandGenerator {
    /// Creates a generator from the settings of `[generator]`.
    ///
    /// # Errors
    /// If no program is named.
    pub fn new(config: &GeneratorConfig) -> Result<Self> {
        if config.command.is_empty() {
            return Err(Error::new(ErrorKind::Configuration, "no program is named").at("[generator] command"));
        }
        Ok(Self { command: config.command.clone(), as_json: config.input_json, times: ReplyTimes::new(config) })
    }

    fn input(&self, request: &GenerationRequest) -> String {
        let messages = request.prompt.messages.iter();
        if !self.as_json {
            return messages
                .map(|message| format!("### {}\n{}\n\n", message.author.name(), plain(&message.content)))
                .collect();
        }
        let messages: Vec<serde_json::Value> = messages.map(crate::generate::message_json).collect();
        let GenerationParameters { temperature, max_tokens, stop, seed } = &request.parameters;
        serde_json::json!({
            "messages": messages, "temperature": temperature, "max_tokens": max_tokens, "stop": stop, "seed": seed,
        })
        .to_string()
    }

    fn start(&self) -> Result<Child> {
        let (program, arguments) =
            self.command.split_first().ok_or_else(|| Error::new(ErrorKind::Configuration, "no program is named"))?;
        let mut command = Command::new(program);
        command.args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        process::lead_a_group(&mut command);
        command.spawn().map_err(|error| {
            let message = format!("this program could not be started: {error}; check command in [generator]");
            Error::new(ErrorKind::Configuration, message).at(program).because(error)
        })
    }
}

/// Returns the content of a message in which no line begins like a line between messages.
fn plain(content: &str) -> String {
    let poses = |line: &str| {
        let title = line.strip_prefix("### ").unwrap_or_default().trim().to_lowercase();
        [Author::System, Author::User, Author::Assistant].iter().any(|author| title.starts_with(author.name()))
    };
    content
        .split('\n')
        .map(|line| if poses(line) { format!(" {line}") } else { line.to_owned() })
        .collect::<Vec<_>>()
        .join("\n")
}

impl Generator for CommandGenerator {
    fn name(&self) -> String {
        self.command.join(" ")
    }

    fn fingerprint(&self) -> Fingerprint {
        let form = if self.as_json { "json" } else { "text" };
        Fingerprint::of(["command".to_owned(), form.to_owned()].into_iter().chain(self.command.iter().cloned()))
    }

    fn stream<'a>(&'a self, request: &'a GenerationRequest) -> GenerationStream<'a> {
        let input = self.input(request);
        let mut child = match self.start() {
            Ok(child) => child,
            Err(error) => return Generation::failed(error),
        };
        let pipes = (child.stdin.take(), child.stdout.take(), child.stderr.take());
        let (child, program) = (Arc::new(Mutex::new(child)), self.command.first().cloned().unwrap_or_default());
        let killed = child.clone();
        let write = move |parts: &PartSender| {
            if let (Some(stdin), Some(stdout), Some(stderr)) = pipes
                && let Err(error) = converse(&child, (stdin, stdout, stderr), input, parts)
            {
                parts.send(Err(error.at(program)));
            }
        };
        let end = move || {
            process::end(&mut killed.lock().unwrap_or_else(PoisonError::into_inner));
        };
        written(self.times, write, end)
    }
}

/// Writes the prompt, and passes on what the program prints.
fn converse(
    child: &Mutex<Child>,
    (mut stdin, mut stdout, mut stderr): (ChildStdin, ChildStdout, ChildStderr),
    input: String,
    parts: &PartSender,
) -> Result<()> {
    let broken = |error: std::io::Error| {
        Error::new(ErrorKind::Unavailable, format!("the program broke off: {error}")).because(error)
    };
    let sent = usual_tokens(&input);
    // A program may print before it has read all. One that reads only a part of its input is no failure.
    thread::spawn(move || drop(stdin.write_all(input.as_bytes())));
    let complaint = thread::spawn(move || {
        let mut said = Vec::new();
        // What cannot be read of a complaint changes nothing; the rest is read so that the program is not held up.
        let _ = stderr.by_ref().take(2_000).read_to_end(&mut said);
        let _ = std::io::copy(&mut stderr, &mut std::io::sink());
        said
    });
    let (mut pending, mut buffer, mut length, mut words) = (Vec::new(), [0; 4096], 0, String::new());
    loop {
        let count = stdout.read(&mut buffer).map_err(broken)?;
        pending.extend_from_slice(&buffer[..count]);
        // The rest of a character may come with the next bytes.
        let complete = match std::str::from_utf8(&pending) {
            Err(error) if error.error_len().is_none() && count > 0 => error.valid_up_to(),
            _ => pending.len(),
        };
        let part = String::from_utf8_lossy(&pending[..complete]).into_owned();
        pending.drain(..complete);
        length += part.len();
        if length > MAX_REPLY {
            return Err(Error::new(ErrorKind::Limit, "the reply is longer than any answer"));
        }
        words.push_str(&part);
        if !part.is_empty() && !parts.send(Ok(GenerationEvent::Text(part))) {
            return Ok(());
        }
        if count == 0 {
            break;
        }
    }
    let status = loop {
        let status = child.lock().unwrap_or_else(PoisonError::into_inner).try_wait().map_err(broken)?;
        match status {
            Some(status) => break status,
            // The program has closed its output and is about to end; if not, it is killed when its time is up.
            None => thread::sleep(Duration::from_millis(5)),
        }
    };
    if !status.success() {
        let said = complaint.join().unwrap_or_default();
        let said: String = String::from_utf8_lossy(&said).trim().chars().take(300).collect();
        let said = if said.is_empty() { said } else { format!(": {said}") };
        return Err(Error::new(ErrorKind::Unavailable, format!("the program failed, {status}{said}")));
    }
    let usage = logothete_core::TokenUsage { sent, received: usual_tokens(&words) };
    parts.send(Ok(GenerationEvent::End { usage, finish: FinishReason::Done }));
    Ok(())
}
