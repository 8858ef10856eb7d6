//! `serve`, `demo --serve` and `tools`, run as programs.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Stdio};

use rstest::rstest;
use serde_json::{Value, json};

use crate::common::{command, folder, run};

/// A program that serves. Dropping it ends it.
struct Serving {
    child: Child,
    address: String,
}

impl Serving {
    fn start(folder: &Path, arguments: &[&str]) -> Self {
        let mut child = command(folder, arguments).stdout(Stdio::piped()).spawn().expect("it starts");
        let mut lines = BufReader::new(child.stdout.take().expect("its output")).lines().map_while(Result::ok);
        let address = lines.find_map(|line| line.strip_prefix("The page is at http://").map(str::to_owned));
        let address = address.expect("an address").trim_end_matches('/').to_owned();
        // The rest is read, so that the program can go on writing.
        std::thread::spawn(move || lines.for_each(drop));
        Self { child, address }
    }

    fn send(&self, method: &str, path: &str, body: &str) -> String {
        let mut connection = TcpStream::connect(&self.address).expect("a connection");
        write!(
            connection,
            "{method} {path} HTTP/1.1\r\nHost: {}\r\nConnection: close\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
            self.address,
            body.len()
        )
        .expect("a request");
        let mut said = String::new();
        connection.read_to_string(&mut said).expect("a response");
        said
    }
}

impl Drop for Serving {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn built() -> tempfile::TempDir {
    let folder = folder();
    fs::create_dir(folder.path().join("docs")).expect("a folder");
    fs::write(folder.path().join("docs/bells.md"), "# Bells\n\nThe great bell is rung every 20 seconds in fog.\n")
        .expect("a file");
    let ran = run(folder.path(), &["build", "docs"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    folder
}

#[test]
#[cfg(unix)]
fn a_service_answers_and_ends_in_good_order_when_it_is_told_to() {
    let folder = built();
    let mut serving = Serving::start(folder.path(), &["serve", "--port", "0"]);
    assert!(serving.send("GET", "/", "").contains("<title>Logothete</title>"));
    let reply = serving.send("POST", "/v1/ask", "{\"question\": \"How often is the great bell rung in fog?\"}");
    assert!(reply.contains("every 20 seconds"), "{reply}");
    let process = serving.child.id().to_string();
    std::process::Command::new("kill").args(["-TERM", &process]).status().expect("a signal");
    assert_eq!(serving.child.wait().expect("its end").code(), Some(0));
    assert!(TcpStream::connect(&serving.address).is_err());
}

#[test]
fn the_demo_is_served_with_a_stand_in_for_a_model() {
    let folder = folder();
    let serving = Serving::start(folder.path(), &["demo", "--serve", "--port", "0"]);
    let reply =
        serving.send("POST", "/v1/ask", "{\"question\": \"What draught may enter the North Channel at low water?\"}");
    assert!(reply.contains("5.4 metres") && reply.contains("\"generator\":\"stand-in"), "{reply}");
    assert_eq!(fs::read_dir(folder.path()).expect("a folder").count(), 0, "it leaves nothing here");
}

#[rstest]
#[case::other_machines(
    "[serve]\naddress = \"0.0.0.0\"\n",
    1,
    "name a token with token_env in [serve], or insist with --open"
)]
#[case::no_token("[serve]\ntoken_env = \"HARBOUR_TOKEN\"\n", 2, "the variable HARBOUR_TOKEN is in neither")]
#[case::a_short_token("[serve]\ntoken_env = \"SHORT_TOKEN\"\n", 2, "could be guessed; choose 16 characters or more")]
#[case::no_address("[serve]\naddress = \"harbour\"\n", 2, "this is no address of a machine")]
#[case::nothing_at_once("[serve]\nat_once = 0\n", 2, "[serve] at_once: nothing could be served; set 1 or more")]
fn what_would_be_unsafe_or_cannot_be_is_refused(#[case] settings: &str, #[case] code: i32, #[case] said: &str) {
    let folder = built();
    fs::write(folder.path().join("logothete.toml"), settings).expect("a file");
    let output = command(folder.path(), &["serve", "--port", "0"]).env("SHORT_TOKEN", "fog").output().expect("it runs");
    let err = String::from_utf8_lossy(&output.stderr).replace('\n', " ");
    assert_eq!(output.status.code(), Some(code), "{err}");
    assert!(err.contains(said), "{err}");
    assert!(!err.contains("\"fog\""));
}

#[test]
fn a_port_that_is_taken_is_said_to_be() {
    let folder = built();
    let taken = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = taken.local_addr().expect("an address").port().to_string();
    let ran = run(folder.path(), &["serve", "--port", &port]);
    assert_eq!(ran.code, 1);
    assert!(ran.err.contains("something else listens there; choose another port with --port"), "{}", ran.err);
}

#[test]
fn tools_speak_the_protocol_on_standard_streams_and_end_with_the_input() {
    let folder = built();
    let mut child =
        command(folder.path(), &["tools"]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("it starts");
    let mut to = child.stdin.take().expect("its input");
    let mut from = BufReader::new(child.stdout.take().expect("its output")).lines();
    let mut send = |message: Value| writeln!(to, "{message}").expect("sent");
    send(json!({ "jsonrpc": "2.0", "id": 1, "method": "initialize", "params": {
        "protocolVersion": "2025-06-18", "capabilities": {}, "clientInfo": { "name": "test", "version": "1" } } }));
    let mut next = || -> Value { serde_json::from_str(&from.next().expect("a line").expect("text")).expect("JSON") };
    assert_eq!(next()["result"]["serverInfo"]["name"], "logothete");
    send(json!({ "jsonrpc": "2.0", "method": "notifications/initialized" }));
    let arguments = json!({ "question": "How often is the great bell rung in fog?" });
    send(
        json!({ "jsonrpc": "2.0", "id": 2, "method": "tools/call", "params": { "name": "ask", "arguments": arguments } }),
    );
    let reply = next();
    assert_eq!(reply["result"]["structuredContent"]["sources"][0]["document"], "bells.md", "{reply:#}");
    drop(to);
    assert_eq!(child.wait().expect("its end").code(), Some(0));
}
