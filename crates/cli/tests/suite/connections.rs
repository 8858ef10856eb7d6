//! Nothing is sent anywhere unless the configuration names a host and allows it: shown for every verb, with a library between the
//! program and the system that writes down each attempt.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use crate::common::{command, demo, folder, run};
use logothete_simulator::ModelService;

const QUESTION: &str = "When is the regatta?";

/// Makes the library in a folder; `None` if there is no C compiler for it.
fn recorder(folder: &Path) -> Option<PathBuf> {
    let source = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/suite/connections.c");
    let library = folder.join("connections.so");
    let made = cfg!(target_os = "linux")
        && Command::new("cc")
            .args(["-shared", "-fPIC", "-O1", "-o"])
            .args([&library, &source])
            .arg("-ldl")
            .status()
            .is_ok_and(|status| status.success());
    if !made {
        assert!(std::env::var_os("NEEDS_FAULTS").is_none(), "there is no C compiler for Linux here");
        eprintln!("skipped: there is no C compiler for Linux here, to make the recorder of connections with");
    }
    made.then_some(library)
}

/// Runs a verb, and returns the attempts to reach a host.
fn attempts(folder: &Path, library: &Path, arguments: &[&str], input: &str) -> Vec<String> {
    let file = folder.join("attempts.txt");
    let _ = fs::remove_file(&file);
    let documents = demo("documents").display().to_string();
    let arguments: Vec<String> = arguments.iter().map(|argument| argument.replace("DEMO", &documents)).collect();
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let mut child = command(folder, &arguments)
        .env("LD_PRELOAD", library)
        .env("RECORD_CONNECTIONS", &file)
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("it starts");
    // A verb that reads nothing may have ended.
    let _ = child.stdin.take().expect("a pipe").write_all(input.as_bytes());
    child.wait().expect("it ends");
    let all = fs::read_to_string(file).unwrap_or_default();
    all.lines().map(str::to_owned).collect()
}

const VERBS: [(&[&str], &str); 22] = [
    (&["demo"], ""),
    (&["new", "--config", "other.toml", "docs"], ""),
    (&["new", "--templates"], ""),
    (&["parse", "DEMO/pilotage-handbook.html"], ""),
    (&["chunk", "DEMO/notices"], ""),
    (&["build", "DEMO/notices", "DEMO/pilotage-handbook.html", "DEMO/byelaws.pdf"], ""),
    (&["build", "DEMO/notices", "--estimate"], ""),
    (&["show", "--verify"], ""),
    (&["show", "--document", "byelaws.pdf"], ""),
    (&["show", "--export", "export.jsonl"], ""),
    (&["search", "fog horn"], ""),
    (&["ask", QUESTION], ""),
    (&["ask", "--trace", QUESTION], ""),
    (&["ask", "--show-prompt", QUESTION], ""),
    (&["chat", "talk"], "When is the regatta?\nWhere can small craft watch it from?\n:prompt And then?\n:list\n"),
    (&["chat", "--list"], ""),
    (&["chat", "talk", "--export", "talk.md"], ""),
    (&["evaluate", "DEMO/../questions-dev.jsonl"], ""),
    (&["build", "--compact"], ""),
    (&["build", "--reencode"], ""),
    (&["build", "--forget", "byelaws.pdf"], ""),
    (&["build", "--import", "export.jsonl", "--corpus", "other.corpus"], ""),
];

#[test]
fn no_verb_reaches_for_a_host_by_default() {
    let folder = folder();
    let Some(library) = recorder(folder.path()) else { return };
    for (verb, input) in VERBS {
        assert_eq!(attempts(folder.path(), &library, verb, input), Vec::<String>::new(), "{verb:?}");
    }
}

#[test]
fn with_local_only_a_model_on_this_machine_is_reached_and_nothing_else() {
    let folder = folder();
    let Some(library) = recorder(folder.path()) else { return };
    let service = ModelService::start().expect("a service");
    let settings = |address: &str, more: &str| {
        let text = format!(
            "[sources]\naddresses = [\"http://elsewhere.test/a.html\"]\n[privacy]\n{more}\n\
             [generator]\nkind = \"remote\"\naddress = \"{address}\"\nmodel = \"stand-in\"\nmax_retries = 0\n"
        );
        fs::write(folder.path().join("logothete.toml"), text).expect("a file");
    };
    settings(&service.address(), "local_only = true\nallow = [\"elsewhere.test\"]");
    // The recorder sees what is reached: otherwise the tests would prove nothing.
    for (verb, input) in VERBS {
        let seen = attempts(folder.path(), &library, verb, input);
        assert!(seen.iter().all(|line| line.ends_with(" 127.0.0.1")), "{verb:?}: {seen:?}");
        // The answer of the second `ask` is in the cache.
        let asks = ["chat", "evaluate"].contains(&verb[0]) && !verb.iter().any(|word| word.starts_with("--"));
        assert_eq!(!seen.is_empty(), asks || verb == ["ask", QUESTION], "{verb:?}: {seen:?}");
    }
    // A host that is not allowed is not even looked up.
    run(folder.path(), &["build", "DEMO/notices"]);
    for more in ["local_only = true\nallow = [\"elsewhere.test\"]", "allow = [\"other.test\"]"] {
        settings("http://elsewhere.test/chat", more);
        for verb in [&["ask", QUESTION][..], &["chat", "talk"], &["build"]] {
            assert_eq!(attempts(folder.path(), &library, verb, QUESTION), Vec::<String>::new(), "{verb:?}");
        }
    }
}
