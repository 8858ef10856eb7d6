//! Answers by a model, prompts, templates and conversations, as a user sees them. The model is a stand-in on this machine.

use std::fs;
use std::io::Write;
use std::path::Path;
use std::process::Stdio;

use crate::common::{Ran, built, command, folder, run, settled};
use logothete_simulator::{ModelFault, ModelService};
use serde_json::Value;
use tempfile::TempDir;

const QUESTION: &str = "What draught may enter the North Channel at low water?";

/// A corpus of the demo's documents whose answers are written by a service.
fn with_model(service: &ModelService, more: &str) -> TempDir {
    let folder = built();
    let settings = format!(
        "[privacy]\nlocal_only = true\n\n[generator]\nkind = \"remote\"\naddress = \"{}\"\nmodel = \"stand-in\"\n{more}",
        service.address()
    );
    fs::write(folder.path().join("logothete.toml"), settings).expect("a file");
    folder
}

fn service() -> ModelService {
    ModelService::start().expect("a service")
}

/// Output in which the service has the same port each time.
fn steady(text: &str, service: &ModelService, folder: &Path) -> String {
    settled(&text.replace(&service.host(), "HOST"), folder)
}

/// Runs the command with lines on its standard input.
fn typed(folder: &Path, arguments: &[&str], lines: &str) -> Ran {
    let mut child = command(folder, arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("it starts");
    child.stdin.take().expect("a pipe").write_all(lines.as_bytes()).expect("it reads");
    let output = child.wait_with_output().expect("it ends");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("UTF-8");
    Ran { code: output.status.code().unwrap_or(-1), out: text(output.stdout), err: text(output.stderr) }
}

#[test]
fn a_model_answers_and_who_receives_what_is_said() {
    let service = service();
    let folder = with_model(&service, "");
    let ran = run(folder.path(), &["ask", QUESTION]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(ran.err, format!("sending: prompts with passages of documents to {}\n", service.host()));
    insta::assert_snapshot!("model_text", steady(&ran.out, &service, folder.path()));
    // The second time the reply is in the cache, and nothing is sent.
    let ran = run(folder.path(), &["ask", QUESTION, "--json"]);
    assert_eq!((ran.err.as_str(), service.asked().len()), ("", 1));
    let json: Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert!(json["generator"].is_string() && json["passages"].as_array().is_some_and(|all| all.len() == 10));
    let stages: Vec<&str> =
        json["trace"].as_array().expect("a list").iter().filter_map(|r| r["stage"].as_str()).collect();
    for stage in ["ask", "search", "keyword", "vector", "fusion", "prompt", "generate", "check"] {
        assert!(stages.contains(&stage), "{stage} in {stages:?}");
    }
    let ran = run(folder.path(), &["ask", "--trace", QUESTION]);
    for exact in ["You answer questions from passages", &format!("Question: {QUESTION}"), "cached: true", "reply"] {
        assert!(ran.out.contains(exact), "{exact} in {}", ran.out);
    }
}

#[test]
fn a_prompt_is_shown_and_not_sent() {
    let service = service();
    let folder = with_model(&service, "");
    let ran = run(folder.path(), &["ask", "--show-prompt", QUESTION]);
    assert_eq!((ran.code, ran.err.as_str(), service.asked().len()), (0, "", 0));
    insta::assert_snapshot!("show_prompt_text", steady(&ran.out, &service, folder.path()));
    let ran = run(folder.path(), &["ask", "--show-prompt", QUESTION, "--json"]);
    let json: Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert_eq!(json["host"].as_str(), Some(service.host().as_str()));
    run(folder.path(), &["ask", QUESTION]);
    let sent = &service.asked()[0].prompt.messages;
    assert_eq!(
        json["messages"][1]["content"].as_str(),
        Some(sent[1].content.as_str()),
        "what was shown is what is sent"
    );
    // Without a model, it is what one would get.
    let ran = run(built().path(), &["ask", "--show-prompt", QUESTION]);
    assert!(ran.code == 0 && ran.out.starts_with("No model is configured"), "{}", ran.out);
}

#[test]
fn a_model_that_fails_leaves_sentences_and_says_so() {
    let service = service().failing_at(0, ModelFault::Failing);
    let folder = with_model(&service, "max_retries = 0\n");
    let ran = run(folder.path(), &["ask", QUESTION]);
    assert_eq!(ran.code, 0);
    assert!(
        ran.out.contains("5.4 metres") && ran.out.contains("gave no answer") && ran.out.contains("500"),
        "{}",
        ran.out
    );
}

#[test]
fn prompts_are_written_out_changed_and_checked() {
    let folder = built();
    let ran = run(folder.path(), &["new", "--templates"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.contains("Wrote 30 prompts in prompts"), "{}", ran.out);
    let ran = run(folder.path(), &["new", "--templates"]);
    assert!(ran.code == 1 && ran.err.contains("exists already"), "{}", ran.err);
    fs::write(folder.path().join("logothete.toml"), "[prompt]\ntemplates = \"prompts\"\n").expect("a file");
    let template = folder.path().join("prompts/answer_instruction.txt");
    fs::write(&template, "Speak like a pilot.").expect("a file");
    let ran = run(folder.path(), &["ask", "--show-prompt", QUESTION]);
    assert!(ran.out.contains("Speak like a pilot.") && !ran.out.contains("You answer questions"), "{}", ran.out);
    fs::write(folder.path().join("prompts/answer_question.txt"), "{{ passages }}\n{{ qestion }}").expect("a file");
    let ran = run(folder.path(), &["ask", "--show-prompt", QUESTION]);
    assert_eq!(ran.code, 2);
    let said = "answer_question.txt, line 2: unknown variable `qestion`; did you mean `question`?";
    assert!(ran.err.contains(said), "{}", ran.err);
}

#[test]
fn a_conversation_goes_on_and_is_kept() {
    let folder = built();
    let lines = "What is the bollard pull of the tug Steadfast?\nAnd of the Little Auk?\nWhere does that come from?\n:sources\n";
    let ran = typed(folder.path(), &["chat", "tugs"], lines);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    insta::assert_snapshot!("chat_text", settled(&ran.out, folder.path()));
    let ran = run(folder.path(), &["chat", "--list"]);
    assert!(ran.out.contains("tugs") && ran.out.contains("bollard pull of the tug Steadfast"), "{}", ran.out);
    let json: Value = serde_json::from_str(&run(folder.path(), &["chat", "tugs", "--json"]).out).expect("JSON");
    assert_eq!(json["turns"][1]["said"], "And of the Little Auk?");
    assert_eq!(json["turns"][1]["question"], "What is the bollard pull of the tug Little Auk?");
    let lines = ":list\n:rename boats\n:export boats.md\n:export boats.json\n:filter document = watch-log.txt\n\
                 When was the harbour closed?\n:passages\n:trace\n:prompt\n:prompt And opened?\n:show\n:new\n:resume boats\n:help\n:quit\nnot asked\n";
    let ran = typed(folder.path(), &["chat", "tugs"], lines);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    for said in ["It is now called boats", "Wrote 3 turns to boats.md", "filter: document", "watch-log.txt", "fusion"] {
        assert!(ran.out.contains(said), "{said} in {}", ran.out);
    }
    assert!(!ran.out.contains("not asked"));
    let markdown = fs::read_to_string(folder.path().join("boats.md")).expect("a file");
    assert!(markdown.starts_with("# boats\n") && markdown.contains("18 tonnes"), "{markdown}");
    let json = fs::read_to_string(folder.path().join("boats.json")).expect("a file");
    assert_eq!(serde_json::from_str::<Value>(&json).expect("JSON")["turns"].as_array().map(Vec::len), Some(3));
    let ran = typed(folder.path(), &["chat", "boats"], ":fliter x\n");
    assert!(ran.code == 2 && ran.err.contains("did you mean :filter?"), "{}", ran.err);
    assert!(run(folder.path(), &["chat", "boats", "--rename", "ships"]).out.contains("ships"));
    assert!(run(folder.path(), &["chat", "ships", "--delete"]).out.contains("It is gone."));
    assert!(run(folder.path(), &["chat", "--list"]).out.contains("no conversation yet"));
}

#[test]
fn contexts_are_written_by_the_configured_model() {
    let service = service();
    let folder = folder();
    let settings = format!(
        "[chunk]\ncontext = \"generated\"\n[privacy]\nlocal_only = true\n[generator.roles.context]\nkind = \"remote\"\n\
         address = \"{}\"\nmodel = \"stand-in\"\nprice_sent = 1.0\n",
        service.address()
    );
    fs::write(folder.path().join("logothete.toml"), settings).expect("a file");
    let ran = run(folder.path(), &["build", "DEMO/notices", "--estimate"]);
    assert!(ran.code == 0 && service.asked().is_empty(), "{}", ran.err);
    let ran = run(folder.path(), &["build", "DEMO/notices"]);
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    let asked = service.asked().len();
    assert!(asked > 8 && ran.err.contains("sending: prompts"), "{asked} requests, {}", ran.err);
    // Answers need no model, and a second build asks for nothing.
    assert_eq!(run(folder.path(), &["ask", "When is the regatta?"]).code, 0);
    run(folder.path(), &["build", "DEMO/notices"]);
    assert_eq!(service.asked().len(), asked);
}

#[test]
fn a_key_is_in_no_file_and_no_output() {
    let key = "gull-0123456789-secret";
    let service = service().failing_at(2, ModelFault::BadKey);
    let folder = with_model(&service, "key_env = \"MARROWBY_KEY\"\nmax_retries = 0\n");
    fs::write(folder.path().join(".env"), format!("MARROWBY_KEY={key}\n")).expect("a file");
    let mut said = String::new();
    let verbs: [&[&str]; 7] = [
        &["ask", "--trace", QUESTION],
        &["ask", "--json", "When is the regatta?"],
        &["ask", "--trace", "Where may I swim?"],
        &["ask", "--show-prompt", "Where may I swim?"],
        &["show", "--json"],
        &["show", "--export", "export.jsonl"],
        &["chat", "--list"],
    ];
    for verb in verbs {
        let ran = run(folder.path(), verb);
        said.push_str(&ran.out);
        said.push_str(&ran.err);
    }
    said.push_str(&typed(folder.path(), &["chat", "swim"], "Where may I swim?\n:trace\n").out);
    assert!(said.contains("401") && said.contains("MARROWBY_KEY"), "the failure says where the key was read");
    assert!(!said.contains(key), "{said}");
    let headers = &service.asked()[0].headers;
    assert!(headers.iter().any(|(_, value)| value.contains(key)), "the service got it");
    let mut folders = vec![folder.path().to_path_buf()];
    let mut files = 0;
    while let Some(at) = folders.pop() {
        for entry in fs::read_dir(at).expect("a folder").flatten() {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
            } else if path.file_name().is_some_and(|name| name != ".env") {
                let bytes = fs::read(&path).expect("a file");
                assert!(!bytes.windows(key.len()).any(|window| window == key.as_bytes()), "{}", path.display());
                files += 1;
            }
        }
    }
    assert!(files > 5, "{files} files");
}

#[test]
fn a_page_to_study_is_written_once() {
    let folder = built();
    let ran = run(folder.path(), &["ask", QUESTION, "--trace-page", "page.html"]);
    assert!(ran.code == 0 && ran.out.contains("The page to study is page.html"), "{}{}", ran.out, ran.err);
    let page = fs::read_to_string(folder.path().join("page.html")).expect("a file");
    for part in ["Sources", "Timeline", "Passages"] {
        assert!(page.contains(&format!("<h2>{part}</h2>")), "{part}");
    }
    assert!(page.contains("class=\"cited\"") && page.contains("<mark>"));
    let ran = run(folder.path(), &["ask", QUESTION, "--trace-page", "page.html"]);
    assert!(ran.code == 1 && ran.err.contains("--force"), "{}", ran.err);
    assert_eq!(run(folder.path(), &["ask", QUESTION, "--trace-page", "page.html", "--force"]).code, 0);
}
