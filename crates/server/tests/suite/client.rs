//! A service that runs, and a client of it that says what it is told to.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::path::Path;
use std::sync::OnceLock;
use std::time::Duration;

use logothete::config::ServeConfig;
use logothete::{BuildRequest, Config, Corpus, Hashing, MemorySource, Pipeline};
use logothete_server::Service;
use serde_json::Value;
use tokio::net::TcpListener;
use tokio::runtime::Runtime;
use tokio::sync::oneshot;

pub const TOKEN: &str = "the-fog-horn-of-lamp-rock";

/// The runtime of all services of the tests.
pub fn runtime() -> &'static Runtime {
    static RUNTIME: OnceLock<Runtime> = OnceLock::new();
    RUNTIME.get_or_init(|| {
        tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime")
    })
}

/// A service of a corpus in a folder. Dropping it ends it.
pub struct Running {
    pub address: SocketAddr,
    pub folder: tempfile::TempDir,
    end: Option<oneshot::Sender<()>>,
    served: Option<tokio::task::JoinHandle<()>>,
}

/// What a service answered.
#[derive(Debug)]
pub struct Answered {
    pub status: u16,
    pub headers: Vec<(String, String)>,
    pub body: Vec<u8>,
}

impl Answered {
    pub fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }

    pub fn json(&self) -> Value {
        serde_json::from_slice(&self.body).unwrap_or_else(|error| panic!("{error}: {}", self.text()))
    }

    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }

    /// The cookie that it set, to be sent back.
    pub fn cookie(&self) -> String {
        self.header("set-cookie").and_then(|cookie| cookie.split(';').next()).unwrap_or_default().to_owned()
    }
}

/// Two notices.
pub fn notices() -> MemorySource {
    MemorySource::new("notices")
        .with("bells.md", "# Bells\n\n## Fog signals\n\nThe great bell is rung every twenty seconds in fog.\n\n## Silence\n\nAt night the small bell is silent.\n")
        .with("locks/hours.md", "# Lock hours\n\nThe sea lock is shut from eleven at night until five in the morning.\n")
}

pub fn demo() -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents")
}

impl Running {
    /// Serves two notices.
    pub fn start(change: impl FnOnce(&mut ServeConfig)) -> Self {
        Self::with(&Config::default(), change, None, |corpus| async move {
            corpus.build(BuildRequest::default().source(notices())).await.expect("a build");
            corpus
        })
    }

    /// Serves them to those who know the token.
    pub fn guarded() -> Self {
        Self::with(
            &Config::default(),
            |_| {},
            Some(TOKEN),
            |corpus| async move {
                corpus.build(BuildRequest::default().source(notices())).await.expect("a build");
                corpus
            },
        )
    }

    pub fn with<F: Future<Output = Corpus>>(
        config: &Config,
        change: impl FnOnce(&mut ServeConfig),
        token: Option<&str>,
        fill: impl FnOnce(Corpus) -> F,
    ) -> Self {
        let folder = tempfile::tempdir().expect("a folder");
        let mut serve = config.serve.clone();
        change(&mut serve);
        let (end, ended) = oneshot::channel();
        let (address, served) = runtime().block_on(async {
            let pipeline = Pipeline::from_config(config).expect("a pipeline");
            let pipeline = pipeline.with_encoder(Hashing::new(128).expect("settings"));
            let corpus = fill(pipeline.open(folder.path().join("c")).await.expect("a corpus")).await;
            let service = match token {
                Some(token) => Service::with_token(corpus, serve, token),
                None => Service::new(corpus, serve),
            };
            let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
            let address = listener.local_addr().expect("an address");
            let served = tokio::spawn(async move {
                let until = async move {
                    let _ = ended.await;
                };
                service.serve(listener, until).await.expect("a service");
            });
            (address, served)
        });
        Self { address, folder, end: Some(end), served: Some(served) }
    }

    /// Talks to a service that somebody else has started.
    pub fn at(address: SocketAddr) -> Self {
        Self { address, folder: tempfile::tempdir().expect("a folder"), end: None, served: None }
    }

    /// Tells it to end, and waits until it has.
    pub fn end(&mut self) {
        drop(self.end.take());
        if let Some(served) = self.served.take() {
            runtime()
                .block_on(async { tokio::time::timeout(Duration::from_secs(20), served).await })
                .expect("it ends")
                .expect("in good order");
        }
    }

    /// Sends a request with some headers.
    pub fn send(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Answered {
        let mut stream = self.open(method, path, headers, body);
        let mut all = Vec::new();
        stream.read_to_end(&mut all).expect("a response");
        answered(&all)
    }

    pub fn get(&self, path: &str) -> Answered {
        self.send("GET", path, &[], b"")
    }

    pub fn delete(&self, path: &str) -> Answered {
        self.send("DELETE", path, &[], b"")
    }

    pub fn post(&self, path: &str, body: &Value) -> Answered {
        self.send("POST", path, &[("Content-Type", "application/json")], body.to_string().as_bytes())
    }

    /// Sends a form of files.
    pub fn upload(&self, path: &str, files: &[(&str, &[u8])]) -> Answered {
        self.send("POST", path, &[("Content-Type", "multipart/form-data; boundary=quay")], &form(files))
    }

    /// Opens a connection and sends a request.
    pub fn open(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> TcpStream {
        let mut stream = TcpStream::connect(self.address).expect("a connection");
        stream.set_read_timeout(Some(Duration::from_secs(60))).expect("a time-out");
        let mut head = format!("{method} {path} HTTP/1.1\r\nConnection: close\r\n");
        let own = [("Host", self.address.to_string()), ("Content-Length", body.len().to_string())];
        for (name, value) in own {
            if !headers.iter().any(|(given, _)| given.eq_ignore_ascii_case(name)) {
                head.push_str(&format!("{name}: {value}\r\n"));
            }
        }
        for (name, value) in headers {
            head.push_str(&format!("{name}: {value}\r\n"));
        }
        head.push_str("\r\n");
        // A service that refuses may close before all is sent.
        let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body));
        stream
    }

    /// Follows a job until it has ended.
    pub fn wait_for(&self, job: &Value) -> Value {
        let number = job["job"].as_u64().expect("a job");
        let stream = self.open("GET", &format!("/v1/jobs/{number}/events"), &[], b"");
        let events: Vec<(String, Value)> = Events::of(stream).collect();
        let (name, last) = events.last().expect("an event");
        assert_eq!(name, "end", "{events:?}");
        last.clone()
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        drop(self.end.take());
    }
}

/// Returns a form of files, with `quay` between them.
pub fn form(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut body = Vec::new();
    for (name, bytes) in files {
        let head = format!(
            "--quay\r\nContent-Disposition: form-data; name=\"file\"; filename=\"{name}\"\r\nContent-Type: text/plain\r\n\r\n"
        );
        body.extend_from_slice(head.as_bytes());
        body.extend_from_slice(bytes);
        body.extend_from_slice(b"\r\n");
    }
    body.extend_from_slice(b"--quay--\r\n");
    body
}

pub fn answered(all: &[u8]) -> Answered {
    let end = all.windows(4).position(|four| four == b"\r\n\r\n").expect("a head");
    let head = String::from_utf8_lossy(&all[..end]).into_owned();
    let mut lines = head.split("\r\n");
    let status = lines.next().and_then(|line| line.split(' ').nth(1)).and_then(|status| status.parse().ok());
    let headers: Vec<(String, String)> = lines
        .filter_map(|line| line.split_once(':'))
        .map(|(name, value)| (name.to_owned(), value.trim().to_owned()))
        .collect();
    let body = all[end + 4..].to_vec();
    let is_chunked = headers.iter().any(|(name, value)| name == "transfer-encoding" && value == "chunked");
    let body = if is_chunked { unchunked(&body) } else { body };
    Answered { status: status.expect("a status"), headers, body }
}

fn unchunked(mut body: &[u8]) -> Vec<u8> {
    let mut all = Vec::new();
    while let Some(end) = body.windows(2).position(|two| two == b"\r\n") {
        let length = usize::from_str_radix(&String::from_utf8_lossy(&body[..end]), 16).unwrap_or(0);
        if length == 0 {
            break;
        }
        all.extend_from_slice(&body[end + 2..end + 2 + length]);
        body = &body[end + 2 + length + 2..];
    }
    all
}

/// The server-sent events of a response, as they come.
pub struct Events(BufReader<TcpStream>);

impl Events {
    pub fn of(stream: TcpStream) -> Self {
        Self(BufReader::new(stream))
    }
}

impl Iterator for Events {
    type Item = (String, Value);

    fn next(&mut self) -> Option<Self::Item> {
        let mut name = String::new();
        loop {
            let mut line = String::new();
            if self.0.read_line(&mut line).ok()? == 0 {
                return None;
            }
            if let Some(event) = line.strip_prefix("event: ") {
                event.trim().clone_into(&mut name);
            } else if let Some(data) = line.strip_prefix("data: ") {
                return Some((name, serde_json::from_str(data.trim()).expect("JSON")));
            }
        }
    }
}
