//! A service that answers the JSON chat-completions call, over HTTP on this machine.

use std::io::{BufReader, Write};
use std::net::TcpStream;
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use logothete::Result;
use logothete::prompt::{Author, Prompt};
use logothete::text::count_words;
use serde_json::{Value, json};

use crate::http::{Listening, Request, lock, read};
use crate::writer::{WritingFault, reply_to};

/// Something that goes wrong with a response.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum ModelFault {
    /// What it writes.
    Writing(WritingFault),
    /// Status 429, with the seconds after which the service wants to be asked again.
    Busy(f64),
    /// Status 500.
    Failing,
    /// Status 401, with the headers of the request in the response.
    BadKey,
    /// It says nothing for a time, after the first words.
    Stall(Duration),
    /// The connection is closed after half of the reply.
    CutOff,
    /// An event is not JSON.
    BrokenEvents,
    /// It sends one JSON document, though events were asked for.
    Whole,
    /// An event is an error.
    ErrorEvent,
}

/// A request to the service.
#[derive(Clone, Debug, PartialEq)]
pub struct ModelRequest {
    /// The messages.
    pub prompt: Prompt,
    /// The whole body.
    pub body: Value,
    /// The headers, their names in small letters.
    pub headers: Vec<(String, String)>,
}

/// A service that answers from the passages that it is sent, word by word. It runs until it is dropped.
#[derive(Debug)]
pub struct ModelService {
    listening: Listening,
    shared: Arc<Shared>,
}

#[derive(Debug, Default)]
struct Shared {
    asked: Mutex<Vec<ModelRequest>>,
    /// The faults by the number of the request, counted from 1; 0 means every one.
    faults: Mutex<Vec<(usize, ModelFault)>>,
    /// The time before the first word, and between two.
    pauses: Mutex<(Duration, Duration)>,
}

impl ModelService {
    /// Starts a service on a free port.
    ///
    /// # Errors
    /// If there is no free port.
    pub fn start() -> Result<Self> {
        Self::start_on(0)
    }

    /// Starts a service on a port of this machine.
    ///
    /// # Errors
    /// If the port is taken.
    pub fn start_on(port: u16) -> Result<Self> {
        let shared: Arc<Shared> = Arc::default();
        let serving = shared.clone();
        let listening = Listening::start(port, move |stream, reader| serving.serve(stream, reader))?;
        Ok(Self { listening, shared })
    }

    /// Lets a request go wrong, counted from 1; 0 means every one.
    #[must_use]
    pub fn failing_at(self, request: usize, fault: ModelFault) -> Self {
        lock(&self.shared.faults).push((request, fault));
        self
    }

    /// Lets every reply take some time before its first word, and between two words.
    #[must_use]
    pub fn slow(self, first: Duration, between: Duration) -> Self {
        *lock(&self.shared.pauses) = (first, between);
        self
    }

    /// Returns its address, such as `http://127.0.0.1:40000/chat`.
    pub fn address(&self) -> String {
        format!("http://{}/chat", self.listening.address)
    }

    /// Returns its host and port, for the list of hosts that are allowed.
    pub fn host(&self) -> String {
        self.listening.address.to_string()
    }

    /// Returns the requests so far.
    pub fn asked(&self) -> Vec<ModelRequest> {
        lock(&self.shared.asked).clone()
    }
}

impl Shared {
    /// Answers the requests of a connection.
    fn serve(&self, mut stream: TcpStream, mut reader: BufReader<TcpStream>) -> std::io::Result<()> {
        while let Some(Request { headers, body }) = read(&mut reader)? {
            let request = ModelRequest { prompt: prompt(&body), body, headers };
            let number = {
                let mut asked = lock(&self.asked);
                asked.push(request.clone());
                asked.len()
            };
            let since = Instant::now();
            let fault =
                lock(&self.faults).iter().find(|(at, _)| [0, number].contains(at)).map(|(_, fault)| fault.clone());
            let (first, between) = *lock(&self.pauses);
            let written = Written::new(&request, fault.as_ref());
            thread::sleep(first.saturating_sub(since.elapsed()));
            if !respond(&mut stream, &request, fault.as_ref(), &written, between)? {
                break;
            }
        }
        Ok(())
    }
}

fn prompt(body: &Value) -> Prompt {
    body["messages"].as_array().into_iter().flatten().fold(Prompt::default(), |prompt, message| {
        let author = match message["role"].as_str() {
            Some("system") => Author::System,
            Some("assistant") => Author::Assistant,
            _ => Author::User,
        };
        prompt.with(author, message["content"].as_str().unwrap_or_default())
    })
}

fn tokens(text: &str) -> u64 {
    (count_words(text) as u64 * 4).div_ceil(3)
}

/// A reply, before it is sent.
struct Written {
    reply: String,
    finish: &'static str,
    usage: Value,
}

impl Written {
    fn new(request: &ModelRequest, fault: Option<&ModelFault>) -> Self {
        let writing = match fault {
            Some(ModelFault::Writing(fault)) => Some(*fault),
            _ => None,
        };
        let mut reply = reply_to(&request.prompt, writing);
        let max = request.body["max_tokens"].as_u64().unwrap_or(u64::MAX);
        let mut finish = "stop";
        if tokens(&reply) > max && writing != Some(WritingFault::Huge) {
            let kept = usize::try_from(max * 3 / 4).unwrap_or(usize::MAX);
            reply = reply.split_whitespace().take(kept).collect::<Vec<_>>().join(" ");
            finish = "length";
        }
        let usage = json!({
            "prompt_tokens": request.prompt.messages.iter().map(|message| tokens(&message.content)).sum::<u64>(),
            "completion_tokens": tokens(&reply),
        });
        Self { reply, finish, usage }
    }
}

/// Writes a response. Returns `false` if the connection is to be closed.
fn respond(
    stream: &mut TcpStream,
    request: &ModelRequest,
    fault: Option<&ModelFault>,
    written: &Written,
    between: Duration,
) -> std::io::Result<bool> {
    let mut json_response = |status: &str, more: &str, body: Value| {
        let body = body.to_string();
        let head = format!(
            "HTTP/1.1 {status}\r\ncontent-type: application/json\r\n{more}content-length: {}\r\n\r\n",
            body.len()
        );
        stream.write_all((head + &body).as_bytes()).map(|()| true)
    };
    match fault {
        Some(ModelFault::Busy(seconds)) => {
            let more = format!("retry-after: {seconds}\r\n");
            return json_response("429 Too Many Requests", &more, json!({ "error": "busy" }));
        }
        Some(ModelFault::Failing) => {
            return json_response("500 Internal Server Error", "", json!({ "error": "as it was told" }));
        }
        Some(ModelFault::BadKey) => {
            // As some services do.
            return json_response("401 Unauthorized", "", json!({ "error": "bad key", "headers": request.headers }));
        }
        _ => {}
    }
    let Written { reply, finish, usage } = written;
    if request.body["stream"] != json!(true) || fault == Some(&ModelFault::Whole) {
        let message = json!({ "role": "assistant", "content": reply });
        let choices = json!([{ "index": 0, "message": message, "finish_reason": finish }]);
        return json_response("200 OK", "", json!({ "choices": choices, "usage": usage }));
    }
    stream.write_all(b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\nconnection: close\r\n\r\n: hello\n\n")?;
    let parts: Vec<&str> = match fault {
        Some(ModelFault::Writing(WritingFault::Huge)) => vec![reply],
        _ => reply.split_inclusive(' ').collect(),
    };
    let mut event = |value: &str| stream.write_all(format!("data: {value}\n\n").as_bytes());
    for (at, part) in parts.iter().enumerate() {
        match fault {
            Some(ModelFault::CutOff) if at == parts.len() / 2 => return Ok(false),
            Some(ModelFault::BrokenEvents) if at == 2 => event("{\"choices\": [{\"delta\"")?,
            Some(ModelFault::ErrorEvent) if at == 2 => event("{\"error\": {\"message\": \"out of memory\"}}")?,
            Some(ModelFault::Stall(time)) if at == 2 => thread::sleep(*time),
            _ => {}
        }
        event(&json!({ "choices": [{ "index": 0, "delta": { "content": part } }] }).to_string())?;
        if !between.is_zero() {
            thread::sleep(between);
        }
    }
    event(&json!({ "choices": [{ "index": 0, "delta": {}, "finish_reason": finish }] }).to_string())?;
    event(&json!({ "choices": [], "usage": usage }).to_string())?;
    event("[DONE]")?;
    Ok(false)
}
