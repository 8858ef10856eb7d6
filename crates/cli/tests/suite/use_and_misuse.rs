//! Using the command, well and badly: exit codes, messages, settings, Ctrl-C.

use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::common::{built, command, demo, folder, run};
use logothete_simulator::{EmbeddingFault, EmbeddingService};
use rstest::rstest;
use serde_json::Value;

#[rstest]
#[case(&[], 2, "Usage: logothete")]
#[case(&["fly"], 2, "unrecognized subcommand")]
#[case(&["build"], 2, "say what to build from")]
#[case(&["ask", "Where?"], 1, "there is no corpus here; make one with: logothete build PATH")]
#[case(&["evaluate", "none.jsonl"], 1, "none.jsonl: the question set could not be read")]
#[case(&["--config", "none.toml", "show"], 1, "none.toml: this file could not be read")]
#[case(&["chunk", "DEMO/watch-log.txt", "--limit", "40", "--overlap", "20"], 2, "set the overlap to 19 or less")]
#[case(&["chunk", "DEMO/watch-log.txt", "--strategy", "magic"], 2, "there is no strategy \"magic\"; there are structure, sentences")]
#[case(&["chunk", "DEMO/watch-log.txt", "--unit", "furlongs"], 2, "there are words, characters, tokens")]
#[case(&["chunk", "DEMO/watch-log.txt", "--strategy", "marked"], 2, "set marker, such as")]
#[case(&["chunk", "DEMO/watch-log.txt", "--compare", "structure"], 2, "is one setting; write two")]
#[case(&["chunk", "DEMO/watch-log.txt", "--compare", "structure:many,window"], 2, "\"many\" is no number for the limit")]
#[case(&["chunk", "DEMO/watch-log.txt", "--strategy", "rows", "--rows", "0"], 2, "set 1 or more")]
fn wrong_use_says_what_to_do(#[case] arguments: &[&str], #[case] code: i32, #[case] message: &str) {
    let ran = run(folder().path(), arguments);
    assert_eq!(ran.code, code, "{}", ran.err);
    assert!(ran.err.contains(message), "{}", ran.err);
    assert!(ran.out.is_empty());
}

#[test]
fn an_error_is_json_when_json_is_asked_for() {
    let ran = run(folder().path(), &["show", "--json"]);
    let json: Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert_eq!((ran.code, &json["version"]), (1, &Value::from(1)));
    assert!(json["error"]["message"].as_str().is_some_and(|message| message.contains("no corpus here")));
}

#[rstest]
#[case("parse")]
#[case("chunk")]
#[case("build")]
fn a_mistyped_folder_suggests_the_nearest_name(#[case] verb: &str) {
    let folder = folder();
    fs::create_dir(folder.path().join("documents")).expect("a folder");
    let ran = run(folder.path(), &[verb, "documnets/deep"]);
    assert_eq!(ran.code, 1);
    assert!(ran.out.contains("did you mean documents?"), "{}", ran.out);
    assert!(!folder.path().join("logothete.corpus").exists(), "no corpus is made of nothing");
}

#[test]
fn bad_files_are_named_and_the_rest_goes_in() {
    let folder = folder();
    let docs = folder.path().join("docs");
    fs::create_dir(&docs).expect("a folder");
    let write = |name: &str, bytes: &[u8]| fs::write(docs.join(name), bytes).expect("a file");
    let pdf = fs::read(demo("documents/byelaws.pdf")).expect("the demo");
    write("good.md", b"# Tide\n\nThe tide turns at noon.");
    write("zero.pdf", b"");
    write("half.pdf", &pdf[..pdf.len() / 2]);
    write("binary.bin", &[0, 1, 2, 3, 0, 255]);
    write("text.pdf", b"Just words about sand.");
    write("latin.txt", b"D\xe9part \xe0 midi, caf\xe9 ferm\xe9.");
    let ran = run(folder.path(), &["build", "docs", "--json"]);
    let json: Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert_eq!((ran.code, ran.err.as_str()), (4, ""), "some could not be read");
    let failed: Vec<&str> =
        json["failed"].as_array().expect("a list").iter().filter_map(|f| f["document"].as_str()).collect();
    for name in ["binary.bin", "zero.pdf"] {
        assert!(failed.contains(&name), "{name} is not among {failed:?}");
    }
    // Half a PDF may still have whole pages: then it is read, else it is named.
    let half = failed.contains(&"half.pdf");
    assert_eq!(json["added"], if half { 3 } else { 4 }, "{json}");
    let ran = run(folder.path(), &["build", "docs"]);
    assert!(ran.out.contains("zero.pdf\n    the file is empty (0 bytes)"), "{}", ran.out);
}

#[rstest]
#[case("empty folder", &[])]
#[case("nothing readable", &["zero.txt"])]
fn nothing_readable_is_a_failure(#[case] _name: &str, #[case] files: &[&str]) {
    let folder = folder();
    fs::create_dir(folder.path().join("docs")).expect("a folder");
    files.iter().for_each(|name| fs::write(folder.path().join("docs").join(name), "").expect("a file"));
    let ran = run(folder.path(), &["build", "docs"]);
    assert_eq!(ran.code, 1);
    assert!(ran.out.contains("Could not be read"), "{}", ran.out);
}

#[test]
fn the_configuration_is_found_upwards_and_its_mistakes_are_located() {
    let folder = folder();
    let inner = folder.path().join("a/b");
    fs::create_dir_all(&inner).expect("a folder");
    fs::create_dir(folder.path().join("docs")).expect("a folder");
    fs::write(folder.path().join("docs/one.txt"), "A cormorant dries its wings.").expect("a file");
    let file = folder.path().join("logothete.toml");
    fs::write(&file, "[sources]\npaths = [\"docs\"]\n[search]\npassages = 1\n").expect("a file");
    assert_eq!(run(&inner, &["build"]).code, 0);
    assert!(folder.path().join("logothete.corpus/corpus.db").is_file(), "the corpus lies beside its configuration");
    let ran = run(&inner, &["search", "cormorant", "--json"]);
    let json: Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert_eq!(json["passages"].as_array().map(Vec::len), Some(1));
    fs::write(&file, "[chunk]\noverlp = 3\n").expect("a file");
    let ran = run(&inner, &["show"]);
    assert_eq!(ran.code, 2);
    assert!(
        ran.err.contains("logothete.toml: unknown key `overlp` in [chunk]; did you mean `overlap`?"),
        "{}",
        ran.err
    );
}

#[test]
fn a_new_configuration_is_the_default_one_and_is_built_from() {
    let folder = folder();
    fs::create_dir(folder.path().join("docs \"one\"")).expect("a folder");
    fs::write(folder.path().join("docs \"one\"/one.txt"), "A cormorant dries its wings.").expect("a file");
    let ran = run(folder.path(), &["new", "docs \"one\""]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    assert!(ran.out.contains("logothete.toml") && ran.out.contains("logothete build"), "{}", ran.out);
    let ran = run(folder.path(), &["build", "--json"]);
    let json: Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert_eq!(json["added"], 1, "{} {json}", ran.err);
    // A second one leaves the first alone.
    let before = fs::read(folder.path().join("logothete.toml")).expect("the file");
    let ran = run(folder.path(), &["new"]);
    assert!(ran.code == 1 && ran.err.contains("exists already") && ran.err.contains("--config FILE"), "{}", ran.err);
    assert_eq!(fs::read(folder.path().join("logothete.toml")).expect("the file"), before);
    let ran = run(folder.path(), &["new", "--config", "other.toml", "--json"]);
    let json: Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert_eq!(json["configuration"], "other.toml");
    let written = fs::read_to_string(folder.path().join("other.toml")).expect("the file");
    assert_eq!(logothete::Config::parse(&written).expect("settings"), logothete::Config::default());
}

/// What is written as a comment, `# key = value`, is a setting too.
#[test]
fn every_setting_of_the_starter_can_be_set() {
    let all: Vec<String> = logothete::Config::STARTER
        .lines()
        .map(|line| {
            line.strip_prefix("# ").filter(|rest| rest.split(' ').nth(1) == Some("=")).unwrap_or(line).to_owned()
        })
        .collect();
    let uncommented = all.join("\n");
    assert_ne!(uncommented, logothete::Config::STARTER.trim_end());
    logothete::Config::parse(&uncommented).expect("known keys with values of their types");
}

#[test]
fn show_leads_from_the_corpus_to_a_document_to_a_chunk() {
    let folder = built();
    let json = |arguments: &[&str]| -> Value {
        let ran = run(folder.path(), &[&["show", "--json"], arguments].concat());
        assert_eq!((ran.code, ran.err.as_str()), (0, ""));
        serde_json::from_str(&ran.out).expect("one JSON document")
    };
    let all = json(&[]);
    let field = |name: &str, kind: &str| {
        let fields = all["fields"].as_array().expect("fields").iter();
        fields.filter(|field| field["name"] == name && field["type"] == kind).count()
    };
    assert_eq!((field("date", "date"), field("file_size", "number"), field("title", "text")), (1, 1, 1));
    assert_eq!((all["distance"].as_str(), all["dead_rows"].as_u64()), (Some("cosine"), Some(0)));
    let documents = all["documents"].as_array().expect("documents");
    let mut chunks = 0;
    for document in documents {
        let name = document["document"].as_str().expect("a name");
        let detail = json(&["--document", name]);
        let listed = detail["chunk_list"].as_array().expect("chunks");
        assert_eq!(Some(listed.len() as u64), document["chunks"].as_u64(), "{name}");
        chunks += listed.len();
        // A scan that nothing could read has none.
        let Some(id) = listed.first().and_then(|chunk| chunk["chunk"].as_str()) else { continue };
        let chunk = json(&["--chunk", &id[..12]]);
        assert_eq!(
            (&chunk["chunk"], &chunk["document"], &chunk["span"]),
            (&listed[0]["chunk"], &document["document"], &listed[0]["span"])
        );
        assert_eq!(
            (chunk["vector"]["dimensions"].as_u64(), chunk["vector"]["first"].as_array().map(Vec::len)),
            (Some(384), Some(8))
        );
        assert_eq!(chunk["metadata"], detail["metadata"]);
        let shown = run(folder.path(), &["show", "--chunk", id]);
        let line = chunk["text"].as_str().and_then(|text| text.lines().next()).expect("a line");
        let first: String = line.chars().take(30).collect();
        assert!(shown.out.contains(first.trim()) && shown.out.contains(name), "{}", shown.out);
    }
    assert_eq!(Some(chunks as u64), all["chunks"].as_u64());
    for (arguments, message) in [
        (["--document", "byelaw.pdf"], "did you mean byelaws.pdf?"),
        (["--chunk", "xyz"], "no chunk with this id"),
        (["--chunk", ""], "is empty"),
    ] {
        let ran = run(folder.path(), &[&["show"], &arguments[..]].concat());
        assert!(ran.code == 1 && ran.err.contains(message), "{}", ran.err);
    }
}

#[test]
fn a_reader_that_goes_away_is_no_failure() {
    let folder = built();
    let mut child =
        command(folder.path(), &["show"]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("it runs");
    drop(child.stdout.take());
    let output = child.wait_with_output().expect("it ends");
    assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
}

#[cfg(unix)]
#[test]
fn ctrl_c_keeps_what_was_read_and_the_next_build_goes_on() {
    const FILES: usize = 700;
    let folder = folder();
    let docs = folder.path().join("docs");
    fs::create_dir(&docs).expect("a folder");
    for number in 0..FILES {
        let text: String =
            (0..120).map(|line| format!("Crate {number} line {line} holds cork and rope.\n\n")).collect();
        fs::write(docs.join(format!("{number}.txt")), text).expect("a file");
    }
    // What is to be seen here takes time with any encoder; this one takes little.
    fs::write(folder.path().join("logothete.toml"), "[encoder]\nkind = \"hashing\"\n").expect("a file");
    let child =
        command(folder.path(), &["build", "docs", "--json"]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn();
    let child = child.expect("it runs");
    // The lock's file is there once the build has begun.
    let since = Instant::now();
    while !folder.path().join("logothete.corpus/writer.lock").exists() && since.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(Duration::from_millis(2));
    }
    std::thread::sleep(Duration::from_millis(800));
    let killed =
        std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().expect("kill runs");
    assert!(killed.success());
    let output = child.wait_with_output().expect("it ends");
    let report: Value = serde_json::from_slice(&output.stdout).expect("a report, for all that");
    assert_eq!((output.status.code(), &report["stopped"]), (Some(130), &Value::Bool(true)));
    let kept = report["added"].as_u64().expect("a number");
    assert!(kept > 0 && kept < FILES as u64, "{kept} files were read");
    assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));

    let ran = run(folder.path(), &["build", "docs", "--json"]);
    let rest: Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert_eq!((rest["unchanged"].as_u64(), rest["added"].as_u64()), (Some(kept), Some(FILES as u64 - kept)));
    assert_eq!(run(folder.path(), &["show", "--verify"]).code, 0);
}

#[test]
fn an_estimate_counts_what_would_be_written_and_makes_nothing() {
    let folder = folder();
    let settings = "[chunk]\ncontext = \"generated\"\n[generator]\nprice_sent = 2.0\nprice_received = 8.0\n";
    fs::write(folder.path().join("logothete.toml"), settings).expect("a file");
    let ran = run(folder.path(), &["build", "DEMO/notices", "--estimate", "--json"]);
    let json: Value = serde_json::from_str(&ran.out).expect("one JSON document");
    let number = |name: &str| json[name].as_f64().expect("a number");
    assert_eq!((ran.code, number("contexts")), (0, number("chunks")));
    let (sent, received) = (json["tokens"]["in"].as_f64(), json["tokens"]["out"].as_f64());
    assert!(number("encoded_tokens") > 0.0 && number("seconds") > 0.0 && number("tokens_per_second") > 0.0);
    let cost = (sent.expect("sent") * 2.0 + received.expect("received") * 8.0) / 1e6;
    assert!(cost > 0.0 && (number("cost") - cost).abs() < 1e-12);
    assert!(!folder.path().join("logothete.corpus").exists(), "no corpus is made for an estimate");
    let ran = run(folder.path(), &["build", "DEMO/notices", "--estimate"]);
    assert!(ran.out.contains("Received") && ran.out.contains("at the prices of the configuration"), "{}", ran.out);
    // Without a generator the build itself says what is missing.
    let ran = run(folder.path(), &["build", "DEMO/notices"]);
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("needs a model"), "{}", ran.err);
}

#[test]
fn a_build_stops_before_its_cap_and_says_how_to_go_on() {
    let folder = folder();
    fs::write(folder.path().join("logothete.toml"), "[limits]\ntokens = 400\n").expect("a file");
    let ran = run(folder.path(), &["build", "DEMO/notices"]);
    assert_eq!(ran.code, 1);
    assert!(ran.out.contains("Stopped at a limit") && ran.out.contains("build again to continue"), "{}", ran.out);
    let ran = run(folder.path(), &["build", "DEMO/notices", "--json"]);
    let json: Value = serde_json::from_str(&ran.out).expect("one JSON document");
    assert!(json["unchanged"].as_u64() > Some(0) && json["capped"].is_string(), "{json}");
    // Another encoder is named beside that of the corpus.
    fs::write(folder.path().join("logothete.toml"), "[encoder]\nkind = \"hashing\"\n").expect("a file");
    let ran = run(folder.path(), &["search", "lock"]);
    assert!(
        ran.code != 0 && ran.err.contains("embedded English encoder") && ran.err.contains("hashing"),
        "{}",
        ran.err
    );
}

#[test]
fn a_service_gets_the_key_that_is_named_and_nobody_else_sees_it() {
    const KEY: &str = "a-key-for-one-door";
    let folder = folder();
    let service = EmbeddingService::start(64).expect("a service").failing_at(1, EmbeddingFault::Busy(0.01));
    let configured = |allow: &str| {
        format!(
            "[encoder]\nkind = \"remote\"\naddress = \"{}\"\nmodel = \"quay\"\nkey_env = \"QUAY_KEY\"\n\
             [privacy]\nallow = [{allow}]\n",
            service.address()
        )
    };
    let file = folder.path().join("logothete.toml");
    fs::write(&file, configured("")).expect("a file");
    let ran = run(folder.path(), &["build", "DEMO/notices"]);
    assert!(ran.code != 0 && ran.err.contains("the variable QUAY_KEY is in neither"), "{}", ran.err);
    fs::write(folder.path().join(".env"), format!("QUAY_KEY={KEY}\n")).expect("a file");
    let ran = run(folder.path(), &["build", "DEMO/notices"]);
    assert!(ran.code != 0 && ran.err.contains("nothing was sent"), "{}", ran.err);
    assert_eq!(service.asked().len(), 0);

    fs::write(&file, configured(&format!("\"{}\"", service.host()))).expect("a file");
    let mut seen = String::new();
    for arguments in [&["build", "DEMO/notices"][..], &["search", "When is the lock shut?"], &["show"]] {
        let ran = run(folder.path(), arguments);
        assert_eq!(ran.code, 0, "{}", ran.err);
        seen += &(ran.out + &ran.err);
    }
    let asked = service.asked();
    let sent = ("authorization".to_owned(), format!("Bearer {KEY}"));
    assert!(asked.len() > 3 && asked.iter().all(|request| request.headers.contains(&sent)), "{asked:?}");
    // What the environment says goes before the file.
    let ran =
        command(folder.path(), &["search", "lock"]).env("QUAY_KEY", "another").output().expect("the command runs");
    assert!(ran.status.success());
    let last = service.asked().pop().expect("a request");
    assert!(last.headers.contains(&("authorization".to_owned(), "Bearer another".to_owned())));
    let kept = ["corpus.db", "cache.db"].map(|name| fs::read(folder.path().join("logothete.corpus").join(name)));
    let kept = kept.map(|bytes| String::from_utf8_lossy(&bytes.expect("a file")).into_owned());
    assert!(!seen.contains(KEY) && kept.iter().all(|kept| !kept.contains(KEY)), "the key was written down");
}

/// Documents of anybody: what stands in them and what they are called is shown, and does nothing.
#[test]
#[cfg(unix)]
fn nothing_in_a_document_is_obeyed_by_a_terminal() {
    let folder = folder();
    let docs = folder.path().join("docs");
    fs::create_dir(&docs).expect("a folder");
    let write = |name: &str, text: &str| fs::write(docs.join(name), text).expect("a file");
    write("fog\u{1b}[2Jhorn.txt", "The horn \u{1b}[31msounds\u{7} twice in fog\u{9b}2J.\n");
    write(
        "mail.eml",
        "Subject: =?utf-8?q?Fog=1B]0;gone=07?=\nFrom: tower@marrowby.example\n\nThe bell is rung in fog.\n",
    );
    write(
        "list.json",
        "[{\"title\": \"fog\\u001b[2J\", \"text\": \"The lamp\\u009b2J is lit in fog, and the tower tells the ferry of it.\"}]",
    );
    write("bad\u{1b}[2J.pdf", "%PDF-1.7 and no more");
    let obeyed = |c: char| c.is_control() && c != '\n' && c != '\t';
    for arguments in [
        vec!["parse", "docs"],
        vec!["parse", "docs", "--format", "text"],
        vec!["chunk", "docs"],
        vec!["build", "docs"],
        vec!["show"],
        vec!["show", "--document", "mail.eml"],
        vec!["search", "fog"],
        vec!["ask", "When is the bell rung?"],
        vec!["ask", "--trace", "How many horns are there?"],
        vec!["show", "--document", "fog\u{1b}[2Jhorn.text"],
    ] {
        for json in [false, true] {
            let arguments = [arguments.as_slice(), if json { &["--json"] } else { &[] }].concat();
            let ran = run(folder.path(), &arguments);
            assert!(ran.code <= 4, "{arguments:?}: {}", ran.err);
            for written in [&ran.out, &ran.err] {
                assert_eq!(written.find(obeyed), None, "{arguments:?}: {written:?}");
            }
            assert!(!ran.out.is_empty() || !ran.err.is_empty());
        }
    }
    // JSON says the very name, in signs that nothing obeys.
    write("lamp\u{9b}2J.txt", "The lamp is lit.\n");
    assert_eq!(run(folder.path(), &["build", "docs"]).code, 4);
    let json = run(folder.path(), &["show", "--json"]).out;
    assert!(json.contains("lamp\\u009b2J.txt") && !json.contains('\u{9b}'), "{json}");
    let json: Value = serde_json::from_str(&json).expect("JSON");
    let names = json["documents"].as_array().expect("documents").iter().map(|one| one["document"].as_str());
    assert!(names.flatten().any(|name| name == "lamp\u{9b}2J.txt"), "{json}");
    let shown = run(folder.path(), &["show"]).out;
    assert!(shown.contains("fog\u{fffd}[2Jhorn.txt") && shown.contains("Fog]0;gone"), "{shown}");
}
