//! A service that answers the JSON embeddings call, over HTTP on this machine.

use std::io::{BufRead, BufReader, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::Duration;

use logothete::vector::{Encoder, Role};
use logothete::{Error, ErrorKind, Hashing, Result};
use serde_json::{Value, json};

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
    address: SocketAddr,
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
    ending: AtomicBool,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
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
        let failed = |error: std::io::Error| Error::new(ErrorKind::System, "there is no free port").because(error);
        let listener = TcpListener::bind("127.0.0.1:0").map_err(failed)?;
        let address = listener.local_addr().map_err(failed)?;
        let shared = Arc::new(Shared {
            encoder: Hashing::new(dimensions)?,
            asked: Mutex::default(),
            faults: Mutex::default(),
            under_way: AtomicUsize::new(0),
            most_under_way: AtomicUsize::new(0),
            delay,
            ending: AtomicBool::new(false),
        });
        let serving = shared.clone();
        thread::spawn(move || {
            for stream in listener.incoming() {
                if serving.ending.load(Ordering::SeqCst) {
                    break;
                }
                let Ok(stream) = stream else { continue };
                let serving = serving.clone();
                // A caller that goes away while it is answered is no concern of the others.
                thread::spawn(move || drop(serving.serve(stream)));
            }
        });
        Ok(Self { address, shared })
    }

    /// Lets a request go wrong, counted from 1.
    #[must_use]
    pub fn failing_at(self, request: usize, fault: EmbeddingFault) -> Self {
        lock(&self.shared.faults).push((request, fault));
        self
    }

    /// Returns its address, such as `http://127.0.0.1:40000/embeddings`.
    pub fn address(&self) -> String {
        format!("http://{}/embeddings", self.address)
    }

    /// Returns its host and port, for the list of hosts that are allowed.
    pub fn host(&self) -> String {
        self.address.to_string()
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

impl Drop for EmbeddingService {
    fn drop(&mut self) {
        self.shared.ending.store(true, Ordering::SeqCst);
        // So that the listener looks up once more.
        drop(TcpStream::connect(self.address));
    }
}

impl Shared {
    /// Answers the requests of a connection.
    fn serve(&self, stream: TcpStream) -> std::io::Result<()> {
        let mut reader = BufReader::new(stream.try_clone()?);
        let mut stream = stream;
        while let Some(request) = read(&mut reader)? {
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

/// Reads a request; `None` if the connection was closed.
fn read(reader: &mut impl BufRead) -> std::io::Result<Option<EmbeddingRequest>> {
    let mut line = String::new();
    if reader.read_line(&mut line)? == 0 {
        return Ok(None);
    }
    let mut headers = Vec::new();
    loop {
        line.clear();
        reader.read_line(&mut line)?;
        let Some((name, value)) = line.trim_end().split_once(':') else { break };
        headers.push((name.to_lowercase(), value.trim().to_owned()));
    }
    let length = headers.iter().find(|(name, _)| name == "content-length").and_then(|(_, value)| value.parse().ok());
    let mut bytes = vec![0; length.unwrap_or(0)];
    reader.read_exact(&mut bytes)?;
    let body: Value = serde_json::from_slice(&bytes).unwrap_or_default();
    let texts = body["input"].as_array().into_iter().flatten();
    let input = texts.filter_map(|text| text.as_str().map(str::to_owned)).collect();
    Ok(Some(EmbeddingRequest { input, body, headers }))
}
