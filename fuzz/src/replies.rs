//! What models and services return: replies with markers, and the JSON of vectors, replies and scores.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener};
use std::sync::{LazyLock, Mutex};
use std::time::Duration;

use logothete::config::{EncoderConfig, EncoderKind, GeneratorConfig, PrivacyConfig, RerankerConfig};
use logothete::search::Reranker;
use logothete::vector::{Encoder, Role};
use logothete::{Generator, RemoteEncoder, RemoteGenerator, RemoteReranker};
use logothete_core::prompt::{
    condensed_question, fenced, hypothetical_passage, ordered, routes_named, split_questions, tidy_summary,
    written_question,
};
use logothete_core::verify::{Judge, check, cited_claims};
use logothete_encoder::Hashing;

use crate::{Target, text};

pub const TARGETS: &[(&str, Target)] =
    &[("reply", reply), ("claim", claim), ("vectors", vectors), ("generation", generation), ("scores", scores)];

/// A reply is cut into claims, and whatever it says cannot end the fence around it.
fn reply(bytes: &[u8]) {
    let reply = text(bytes);
    for claim in cited_claims(&reply) {
        assert!(!claim.text.is_empty());
    }
    let _ =
        (condensed_question(&reply), hypothetical_passage(&reply), split_questions(&reply), tidy_summary(&reply, 9));
    let _ =
        (ordered(&reply, 7), routes_named(&reply, &["notices", "tables"]), written_question(&reply, "The bell rings."));
    let fence = fenced("passage 1", &reply);
    let last = fence.rsplit('\n').next().unwrap_or_default();
    assert_eq!(fence.matches(last).count(), 1, "{last:?} stands once");
}

/// The first line is a claim, the others are its sources.
fn claim(bytes: &[u8]) {
    let text = text(bytes);
    let (claim, source) = text.split_once('\n').unwrap_or((&text, "A vessel over 40 metres takes a pilot."));
    let sources: Vec<&str> = source.lines().collect();
    let hashing = Hashing::new(16).expect("settings");
    let judged = Judge::new(&hashing).hold_against(claim, &sources).expect("a judgement");
    assert!((0.0..=1.0).contains(&judged.finding.probability), "{judged:?}");
    let _ = check(claim, source);
}

fn vectors(bytes: &[u8]) {
    let mut config = EncoderConfig::default();
    (config.kind, config.address) = (EncoderKind::Remote, answering(bytes));
    "m".clone_into(&mut config.model);
    (config.seconds, config.max_retries) = (1, 0);
    if let Ok(encoder) = RemoteEncoder::connect(&config, allowed()) {
        let vectors = encoder.encode(&["bell"], Role::Query);
        assert!(vectors.is_err() || vectors.is_ok_and(|vectors| vectors.iter().flatten().all(|one| one.is_finite())));
    }
}

fn generation(bytes: &[u8]) {
    let mut config = GeneratorConfig::default();
    config.address = answering(bytes);
    "m".clone_into(&mut config.model);
    (config.seconds, config.max_retries) = (1, 0);
    let Ok(generator) = RemoteGenerator::new(&config, allowed()) else { return };
    let request = logothete::generate::GenerationRequest::default();
    let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
    let _ = runtime.block_on(generator.generate(&request));
}

fn scores(bytes: &[u8]) {
    let mut config = RerankerConfig::default();
    config.address = answering(bytes);
    "m".clone_into(&mut config.model);
    if let Ok(reranker) = RemoteReranker::new(&config, Duration::from_secs(1), &allowed()) {
        let _ = reranker.rerank("Who rings the bell?", &[]);
    }
}

fn allowed() -> PrivacyConfig {
    PrivacyConfig::allowing([SERVICE.to_string()])
}

/// Has the service return these bytes as the body of every response, and returns its address.
fn answering(bytes: &[u8]) -> String {
    *BODY.lock().expect("a body") = bytes.to_vec();
    format!("http://{}/v1", *SERVICE)
}

static BODY: Mutex<Vec<u8>> = Mutex::new(Vec::new());

/// A service that answers everything in the same way.
static SERVICE: LazyLock<SocketAddr> = LazyLock::new(|| {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { continue };
            let _ = stream.read(&mut [0; 65_536]);
            let body = BODY.lock().expect("a body").clone();
            let kind = if body.starts_with(b"data:") { "text/event-stream" } else { "application/json" };
            let head = format!(
                "HTTP/1.1 200 OK\r\ncontent-type: {kind}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
                body.len()
            );
            let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(&body));
        }
    });
    address
});
