//! What the service bears: searches and questions of many clients at once, beside a build, with a thousand streams open, and for long.
//!
//! `load CHUNKS REQUESTS`: the program builds a corpus of CHUNKS chunks of about a hundred made-up words, serves it, and is its own clients, on the same processors.
//! Vectors of chunks are made by feature hashing, so that the build takes a minute; a question is read by the embedded encoder, as with a real corpus.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use logothete::config::ServeConfig;
use logothete::vector::{Encoder, Role, Vectors};
use logothete::{Fingerprint, Hashing, Pipeline, Result, SentenceEncoder};
use logothete_bench::passages::{questions, write_documents};
use logothete_server::Service;
use serde_json::json;

const CLIENTS: usize = 32;
const STREAMS: usize = 1_000;
/// How long each load lasts.
const LASTS: Duration = Duration::from_secs(20);

/// Hashes passages, and reads questions with the embedded encoder.
struct Mixed {
    passages: Hashing,
    questions: SentenceEncoder,
    /// Whether passages wait.
    holds: Arc<AtomicBool>,
}

impl Encoder for Mixed {
    fn name(&self) -> String {
        "mixed".to_owned()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["mixed"])
    }

    fn dimensions(&self) -> usize {
        self.questions.dimensions()
    }

    fn encode(&self, texts: &[&str], role: Role) -> Result<Vectors> {
        if role == Role::Query {
            return self.questions.encode(texts, role);
        }
        while self.holds.load(Ordering::Relaxed) {
            std::thread::sleep(Duration::from_millis(20));
        }
        self.passages.encode(texts, role)
    }
}

/// A connection that stays open.
struct Client {
    stream: TcpStream,
    address: SocketAddr,
}

impl Client {
    fn new(address: SocketAddr) -> std::io::Result<Self> {
        let stream = TcpStream::connect(address)?;
        stream.set_nodelay(true)?;
        Ok(Self { stream, address })
    }

    /// Sends a request; returns its status.
    fn send(&mut self, method: &str, path: &str, kind: &str, body: &[u8]) -> std::io::Result<u16> {
        let head = format!(
            "{method} {path} HTTP/1.1\r\nHost: {}\r\nContent-Type: {kind}\r\nContent-Length: {}\r\n\r\n",
            self.address,
            body.len()
        );
        self.stream.write_all(&[head.as_bytes(), body].concat())?;
        let (mut all, mut part) = (Vec::new(), [0; 16_384]);
        loop {
            let count = self.stream.read(&mut part)?;
            all.extend_from_slice(&part[..count]);
            let Some(end) = all.windows(4).position(|four| four == b"\r\n\r\n") else { continue };
            let head = String::from_utf8_lossy(&all[..end]).to_lowercase();
            let length: usize = head
                .lines()
                .find_map(|line| line.strip_prefix("content-length: ")?.trim().parse().ok())
                .unwrap_or_default();
            if count == 0 || all.len() >= end + 4 + length {
                return Ok(head.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or_default());
            }
        }
    }
}

/// What a load measured.
struct Measured {
    a_second: f64,
    median: f64,
    below: f64,
    failed: usize,
}

/// Lets clients send requests, each to `path` with the question under `field`, until the time is over or so many were sent.
fn load(address: SocketAddr, path: &str, field: &str, asked: &[String], until: Option<usize>) -> Measured {
    let (next, failed) = (AtomicUsize::new(0), AtomicUsize::new(0));
    let began = Instant::now();
    let mut times: Vec<f64> = std::thread::scope(|scope| {
        let client = |_| {
            scope.spawn(|| {
                let mut client = Client::new(address).expect("a connection");
                let mut times = Vec::new();
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    if until.map_or(began.elapsed() > LASTS, |most| number >= most) {
                        return times;
                    }
                    let body = json!({ field: asked[number % asked.len()] }).to_string();
                    let since = Instant::now();
                    let status = client.send("POST", path, "application/json", body.as_bytes()).expect("a response");
                    times.push(since.elapsed().as_secs_f64() * 1_000.0);
                    failed.fetch_add(usize::from(status != 200), Ordering::Relaxed);
                }
            })
        };
        let clients: Vec<_> = (0..CLIENTS).map(client).collect();
        clients.into_iter().flat_map(|client| client.join().expect("a client")).collect()
    });
    let took = began.elapsed().as_secs_f64();
    times.sort_by(f64::total_cmp);
    let at = |share: f64| times.get((times.len() as f64 * share) as usize).copied().unwrap_or_default();
    Measured { a_second: times.len() as f64 / took, median: at(0.5), below: at(0.95), failed: failed.into_inner() }
}

fn print(what: &str, measured: &Measured) {
    println!(
        "| {what} | {:.0} | {:.0} | {:.0} | {} |",
        measured.a_second, measured.median, measured.below, measured.failed
    );
}

/// Returns the memory of this process that no file backs, in megabytes.
fn memory() -> usize {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("RssAnon:"));
    line.and_then(|line| line.split_whitespace().next()?.parse::<usize>().ok()).unwrap_or_default() / 1_000
}

/// Uploads files, which starts a build.
fn upload(address: SocketAddr, round: usize, count: usize, text: &str) -> std::io::Result<()> {
    let mut body = String::new();
    for number in 0..count {
        body.push_str(&format!(
            "--quay\r\nContent-Disposition: form-data; name=\"file\"; filename=\"r{round}-{number}.md\"\r\n\r\n# Notice {number}\n\n{number} {text}\r\n"
        ));
    }
    body.push_str("--quay--\r\n");
    let status =
        Client::new(address)?.send("POST", "/v1/documents", "multipart/form-data; boundary=quay", body.as_bytes())?;
    assert_eq!(status, 202, "an upload");
    Ok(())
}

/// Opens so many streams of a job that is at work, and returns them.
fn streams(address: SocketAddr, count: usize) -> std::io::Result<Vec<TcpStream>> {
    let one = |_| {
        let mut stream = TcpStream::connect(address)?;
        write!(stream, "GET /v1/jobs/1/events HTTP/1.1\r\nHost: {address}\r\n\r\n")?;
        let mut part = [0; 1_000];
        let count = stream.read(&mut part)?;
        assert!(part[..count].starts_with(b"HTTP/1.1 200"), "a stream");
        Ok(stream)
    };
    (0..count).map(one).collect()
}

fn main() -> Result<()> {
    let number = |at: usize, usual: usize| std::env::args().nth(at).and_then(|one| one.parse().ok()).unwrap_or(usual);
    let (chunks, requests) = (number(1, 100_000), number(2, 100_000));
    let folder = tempfile::tempdir().expect("a folder");
    let documents = folder.path().join("documents");
    write_documents(&documents, chunks);
    let asked = questions(2_000, chunks);

    let embedded = SentenceEncoder::embedded()?;
    let holds = Arc::new(AtomicBool::new(false));
    let passages = Hashing::new(embedded.dimensions())?;
    let encoder = Mixed { passages, questions: embedded, holds: holds.clone() };
    let runtime =
        tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime");
    let (address, service) = runtime.block_on(async {
        let since = Instant::now();
        let corpus = Pipeline::default().with_encoder(encoder).open(folder.path().join("corpus")).await?;
        let report = corpus.build(documents).await?;
        println!("{} chunks, built in {:.0} s\n", report.chunks, since.elapsed().as_secs_f64());
        let service = Service::new(corpus, ServeConfig::default());
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let address = listener.local_addr().expect("an address");
        tokio::spawn(service.clone().serve(listener, std::future::pending()));
        Ok::<_, logothete::Error>((address, service))
    })?;

    println!("| {CLIENTS} clients | a second | median, ms | 95 % below, ms | failed |\n|---|---:|---:|---:|---:|");
    let alone = load(address, "/v1/search", "query", &asked, None);
    print("search", &alone);
    print("ask, without a model", &load(address, "/v1/ask", "question", &asked, None));

    // Builds one after the other, as long as the searches last.
    let goes_on = AtomicBool::new(true);
    let beside = std::thread::scope(|scope| {
        scope.spawn(|| {
            for round in 0.. {
                if !goes_on.load(Ordering::Relaxed) {
                    break;
                }
                upload(address, round, 200, &asked[round % asked.len()]).expect("an upload");
                std::thread::sleep(Duration::from_millis(200));
            }
        });
        let beside = load(address, "/v1/search", "query", &asked, None);
        goes_on.store(false, Ordering::Relaxed);
        beside
    });
    print("search, beside builds", &beside);
    println!("\nBeside builds, 95 % of the searches take {:.1} times as long.", beside.below / alone.below);
    runtime.block_on(service.close());

    // A service of its own, whose build waits, so that nothing ends its streams.
    holds.store(true, Ordering::Relaxed);
    let small = tempfile::tempdir().expect("a folder");
    let held = Mixed { passages: Hashing::new(384)?, questions: SentenceEncoder::embedded()?, holds: holds.clone() };
    let waiting = runtime.block_on(async {
        let corpus = Pipeline::default().with_encoder(held).open(small.path().join("corpus")).await?;
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let address = listener.local_addr().expect("an address");
        tokio::spawn(Service::new(corpus, ServeConfig::default()).serve(listener, std::future::pending()));
        Ok::<_, logothete::Error>(address)
    })?;
    upload(waiting, 0, 1, "The bell is rung.").expect("an upload");
    let before = memory();
    let open = streams(waiting, STREAMS).expect("streams");
    println!("{} streams that are open take {} MB, with their clients.", open.len(), memory().saturating_sub(before));
    drop(open);
    holds.store(false, Ordering::Relaxed);

    let mut at = vec![memory()];
    for _ in 0..5 {
        let measured = load(address, "/v1/search", "query", &asked, Some(requests / 5));
        assert_eq!(measured.failed, 0, "a search");
        at.push(memory());
    }
    println!("Memory before {requests} searches, and after each fifth of them, in MB: {at:?}");
    Ok(())
}
