//! The examples, run as a reader would.

use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Command, Stdio};

use serde_json::json;

use crate::client::Running;

/// Where cargo puts the examples of the package whose tests these are.
fn example(name: &str) -> PathBuf {
    let tests = std::env::current_exe().expect("this program");
    let target = tests.parent().and_then(|folder| folder.parent()).expect("the target folder");
    target.join("examples").join(name)
}

#[test]
fn a_server_of_ones_own_lets_in_whom_it_knows() {
    let mut server = Command::new(example("in_my_server")).arg("0").stdout(Stdio::piped()).spawn().expect("it starts");
    let mut first = String::new();
    BufReader::new(server.stdout.take().expect("its output")).read_line(&mut first).expect("a line");
    let address = first.trim().trim_start_matches("The page is at http://").trim_end_matches('/').to_owned();
    let service = Running::at(address.parse().expect("an address"));
    let body = json!({ "question": "How often is the great bell rung in fog?" }).to_string();
    let ask = |headers: &[(&str, &str)]| {
        let headers = [&[("Content-Type", "application/json")], headers].concat();
        service.send("POST", "/v1/ask", &headers, body.as_bytes())
    };
    assert_eq!(ask(&[]).status, 401);
    let reply = ask(&[("Authorization", "Basic Y2xlcms6dGlkZQ==")]);
    assert!(
        reply.json()["answer"].as_str().is_some_and(|answer| answer.contains("twenty seconds")),
        "{}",
        reply.text()
    );
    assert_eq!(service.get("/tides").text(), "High water at 10:31, 7.3 metres");
    server.kill().expect("it ends");
    server.wait().expect("it has ended");
}

#[test]
fn a_stream_is_shown_as_it_comes() {
    let service = Running::start(|_| {});
    let arguments = [service.address.to_string(), "How often is the great bell rung in fog?".to_owned()];
    let output = Command::new(example("ask_stream")).args(arguments).output().expect("it runs");
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{said}");
    assert!(said.contains("  … search is done\n") && said.contains("[1] bells.md: “The great bell"), "{said}");
}
