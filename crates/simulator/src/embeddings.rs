//! A service that answers the JSON embeddings call, over HTTP on this machine.

use std::io::{BufReader, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use logothete::vector::{Encoder, Role};
use logothete::{Hashing, Result};
use serde_json::{Value, json};

use crate::http::{Listening, Request, lock, read};

/// Something that goes wrong with an answer.
#[derive(Clone, Debug, PartialEq)]
pub enum EmbeddingFault {
    /// Status 429, with the seconds after which the service wants to be asked again.
    Busy(f64),
    /// Status 500.
    Failing,
    /// Status 401, with the headers of the request in the answer.
    BadKey,
    /// The answer comes after a time.
    Stall(Duration),
    /// The answer breaks off.
    BrokenOff,
    /// The last vector is missing.
    ShortList,
    /// The vectors come from last to first, with their right indexes.
    WrongOrder,
    /// Two vectors have the same index.
    SameIndex,
    /// The vectors are one number too long.
    WrongDimension,
    /// A number of a vector is none.
    NotANumber,
    /// The answer is not JSON.
    NotJson,
}

/// The requests to the service.
#[derive(Clone, Debug, PartialEq)]
pub struct EmbeddingRequest {
    /// The texts.
    pub input: Vec<String>,
    /// The whole body.
    pub body: Value,
    /// The headers, their names in small letters.
    pub headers: Vec<(String, String)>,
}

/// A service with vectors of the hashing encoder. It runs until it is dropped.
#[derive(Debug)]
pub struct EmbeddingService {
    listening: Listening,
    shared: Arc<Shared>,
}

#[derive(Debug)]
struct Shared {
    encoder: Hashing,
    asked: Mutex<Vec<EmbeddingRequest>>,
    /// The faults by the number of the request, counted from 1.
    faults: Mutex<Vec<(usize, EmbeddingFault)>>,
    /// Requests under way, and the most there ever were.
    under_way: AtomicUsize,
    most_under_way: AtomicUsize,
    /// How long each answer takes.
    delay: Duration,
}

impl EmbeddingService {
    /// Creates a service with vectors of a length, on a free port.
    ///
    /// # Errors
    /// If there is no free port, or the length is none that the hashing encoder takes.
    pub fn start(dimensions: usize) -> Result<Self> {
        Self::start_slow(dimensions, Duration::ZERO)
    }

    /// Starts a service whose answers are slow.
    ///
    /// # Errors
    /// As [`start`](Self::start).
    pub fn start_slow(dimensions: usize, delay: Duration) -> Result<Self> {
        let shared = Arc::new(Shared {
            encoder: Hashing::new(dimensions)?,
            asked: Mutex::default(),
            faults: Mutex::default(),
            under_way: AtomicUsize::new(0),
            most_under_way: AtomicUsize::new(0),
            delay,
        });
        let serving = shared.clone();
        let listening = Listening::start(0, move |stream, reader| serving.serve(stream, reader))?;
        Ok(Self { listening, shared })
    }

    /// Lets a request go wrong, counted from 1.
    #[must_use]
    pub fn failing_at(self, request: usize, fault: EmbeddingFault) -> Self {
        lock(&self.shared.faults).push((request, fault));
        self
    }

    /// Returns its address, such as `http://127.0.0.1:40000/embeddings`.
    pub fn address(&self) -> String {
        format!("http://{}/embeddings", self.listening.address)
    }

    /// Returns its host and port, for the list of hosts that are allowed.
    pub fn host(&self) -> String {
        self.listening.address.to_string()
    }

    /// Returns the requests so far.
    pub fn asked(&self) -> Vec<EmbeddingRequest> {
        lock(&self.shared.asked).clone()
    }

    /// Returns the most requests that were under way at a time.
    pub fn most_at_once(&self) -> usize {
        self.shared.most_under_way.load(Ordering::SeqCst)
    }
}

impl Shared {
    /// Answers the requests of a connection.
    fn serve(&self, mut stream: TcpStream, mut reader: BufReader<TcpStream>) -> std::io::Result<()> {
        while let Some(Request { headers, body }) = read(&mut reader)? {
            let texts = body["input"].as_array().into_iter().flatten();
            let input = texts.filter_map(|text| text.as_str().map(str::to_owned)).collect();
            let request = EmbeddingRequest { input, body, headers };
            let under_way = self.under_way.fetch_add(1, Ordering::SeqCst) + 1;
            self.most_under_way.fetch_max(under_way, Ordering::SeqCst);
            let number = {
                let mut asked = lock(&self.asked);
                asked.push(request.clone());
                asked.len()
            };
            let fault = lock(&self.faults).iter().find(|(at, _)| *at == number).map(|(_, fault)| fault.clone());
            thread::sleep(self.delay);
            let (head, mut body) = self.answer(&request.input, fault.as_ref());
            if fault == Some(EmbeddingFault::BadKey) {
                // As some services do.
                body = json!({ "error": "bad key", "headers": request.headers }).to_string();
            }
            self.under_way.fetch_sub(1, Ordering::SeqCst);
            let length = body.len() + if fault == Some(EmbeddingFault::BrokenOff) { 1000 } else { 0 };
            write!(
                stream,
                "HTTP/1.1 {head}\r\ncontent-type: application/json\r\ncontent-length: {length}\r\n\r\n{body}"
            )?;
            if fault == Some(EmbeddingFault::BrokenOff) {
                break;
            }
        }
        Ok(())
    }

    /// Returns the status line with its headers, and the body.
    fn answer(&self, input: &[String], fault: Option<&EmbeddingFault>) -> (String, String) {
        let texts: Vec<&str> = input.iter().map(String::as_str).collect();
        let vectors = match self.encoder.encode(&texts, Role::Passage) {
            Ok(vectors) => vectors,
            Err(error) => return ("400 Bad Request".to_owned(), json!({ "error": error.to_string() }).to_string()),
        };
        let each = vectors.iter().enumerate();
        let mut data: Vec<Value> = each.map(|(index, vector)| json!({ "index": index, "embedding": vector })).collect();
        let failed = |head: &str| (head.to_owned(), json!({ "error": "as it was told" }).to_string());
        match fault {
            Some(EmbeddingFault::Busy(seconds)) => {
                return failed(&format!("429 Too Many Requests\r\nretry-after: {seconds}"));
            }
            Some(EmbeddingFault::Failing) => return failed("500 Internal Server Error"),
            Some(EmbeddingFault::BadKey) => return failed("401 Unauthorized"),
            Some(EmbeddingFault::NotJson) => return ("200 OK".to_owned(), "<html>".to_owned()),
            Some(EmbeddingFault::Stall(time)) => thread::sleep(*time),
            Some(EmbeddingFault::ShortList) => drop(data.pop()),
            Some(EmbeddingFault::WrongOrder) => data.reverse(),
            Some(EmbeddingFault::SameIndex) => data.iter_mut().for_each(|entry| entry["index"] = json!(0)),
            Some(EmbeddingFault::WrongDimension) => data.iter_mut().for_each(|entry| {
                if let Some(vector) = entry["embedding"].as_array_mut() {
                    vector.push(json!(0.5));
                }
            }),
            Some(EmbeddingFault::NotANumber) => {
                if let Some(number) = data.first_mut().and_then(|entry| entry["embedding"].get_mut(0)) {
                    *number = Value::Null;
                }
            }
            Some(EmbeddingFault::BrokenOff) | None => {}
        }
        ("200 OK".to_owned(), json!({ "object": "list", "data": data }).to_string())
    }
}
