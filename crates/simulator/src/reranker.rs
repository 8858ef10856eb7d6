//! A service that scores texts for a question, over HTTP on this machine.

use std::io::{BufReader, Write};
use std::net::TcpStream;
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use logothete::Result;
use serde_json::{Value, json};

use crate::http::{Listening, Request, lock, read};
use crate::writer::share_of_words;

/// Something that goes wrong with a response.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum RerankFault {
    /// Status 429.
    Busy,
    /// Status 500.
    Failing,
    /// Status 401, with the headers of the request in the response.
    BadKey,
    /// The response comes after a time.
    Stall(Duration),
    /// The last score is missing.
    ShortList,
    /// The first score is no number.
    NotANumber,
    /// The response has no scores.
    NoScores,
    /// The response is not JSON.
    NotJson,
}

/// A request to the service.
#[derive(Clone, Debug, PartialEq)]
pub struct RerankRequest {
    /// The question.
    pub query: String,
    /// The texts.
    pub texts: Vec<String>,
    /// The whole body.
    pub body: Value,
    /// The headers, their names in small letters.
    pub headers: Vec<(String, String)>,
}

/// A service that scores a text by the share of the question's words in it. It runs until it is dropped.
#[derive(Debug)]
pub struct RerankService {
    listening: Listening,
    shared: Arc<Shared>,
}

#[derive(Debug, Default)]
struct Shared {
    asked: Mutex<Vec<RerankRequest>>,
    /// What goes wrong with every response.
    fault: Option<RerankFault>,
}

impl RerankService {
    /// Starts a service on a free port, all of whose responses go wrong in some way, if any.
    ///
    /// # Errors
    /// If there is no free port.
    pub fn start(fault: Option<RerankFault>) -> Result<Self> {
        let shared = Arc::new(Shared { fault, ..Shared::default() });
        let serving = shared.clone();
        let listening = Listening::start(0, move |stream, reader| serving.serve(stream, reader))?;
        Ok(Self { listening, shared })
    }

    /// Returns its address, such as `http://127.0.0.1:40000/rerank`.
    pub fn address(&self) -> String {
        format!("http://{}/rerank", self.listening.address)
    }

    /// Returns its host and port, for the list of hosts that are allowed.
    pub fn host(&self) -> String {
        self.listening.address.to_string()
    }

    /// Returns the requests so far.
    pub fn asked(&self) -> Vec<RerankRequest> {
        lock(&self.shared.asked).clone()
    }
}

impl Shared {
    /// Answers the requests of a connection.
    fn serve(&self, mut stream: TcpStream, mut reader: BufReader<TcpStream>) -> std::io::Result<()> {
        while let Some(Request { headers, body }) = read(&mut reader)? {
            let query = body["query"].as_str().unwrap_or_default().to_owned();
            let texts = body["texts"].as_array().into_iter().flatten();
            let texts: Vec<String> = texts.filter_map(|text| text.as_str().map(str::to_owned)).collect();
            let request = RerankRequest { query, texts, body, headers };
            lock(&self.asked).push(request.clone());
            let (head, body) = self.answer(&request);
            let length = body.len();
            write!(
                stream,
                "HTTP/1.1 {head}\r\ncontent-type: application/json\r\ncontent-length: {length}\r\n\r\n{body}"
            )?;
        }
        Ok(())
    }

    /// Returns the status line, and the body.
    fn answer(&self, request: &RerankRequest) -> (&'static str, String) {
        let mut scores: Vec<Value> =
            request.texts.iter().map(|text| json!(share_of_words(&request.query, text))).collect();
        let failed = |head: &'static str| (head, json!({ "error": "as it was told" }).to_string());
        match &self.fault {
            Some(RerankFault::Busy) => return failed("429 Too Many Requests"),
            Some(RerankFault::Failing) => return failed("500 Internal Server Error"),
            Some(RerankFault::BadKey) => {
                // As some services do.
                let body = json!({ "error": "bad key", "headers": request.headers });
                return ("401 Unauthorized", body.to_string());
            }
            Some(RerankFault::NotJson) => return ("200 OK", "<html>".to_owned()),
            Some(RerankFault::NoScores) => return ("200 OK", "{}".to_owned()),
            Some(RerankFault::Stall(time)) => thread::sleep(*time),
            Some(RerankFault::ShortList) => drop(scores.pop()),
            Some(RerankFault::NotANumber) => scores[0] = Value::Null,
            None => {}
        }
        ("200 OK", json!({ "scores": scores }).to_string())
    }
}
