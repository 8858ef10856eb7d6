//! Documents: listed, read, drawn, uploaded, removed; and further corpora.

use std::io::{Read, Write};
use std::net::Shutdown;
use std::time::Duration;

use logothete::config::Uploads;
use rstest::rstest;
use serde_json::{Value, json};

use crate::client::{Running, answered, demo, form};

fn names(list: &Value) -> Vec<&str> {
    list["documents"].as_array().into_iter().flatten().filter_map(|one| one["document"].as_str()).collect()
}

#[test]
fn what_was_uploaded_is_found_and_removed_again() {
    let mut service = Running::start(|_| {});
    let files: [(&str, &[u8]); 3] = [
        ("tides/spring.md", b"# Spring tides\n\nThe spring tide rises to 7.3 metres at the quay.\n"),
        ("Gezeiten.txt", "Der Pegel steht bei drei Metern.\n".as_bytes()),
        ("broken.pdf", b"%PDF-1.7 and nothing else"),
    ];
    let sent = service.upload("/v1/documents", &files);
    assert_eq!(sent.status, 202, "{}", sent.text());
    let sent = sent.json();
    let states: Vec<&str> =
        sent["files"].as_array().into_iter().flatten().filter_map(|one| one["state"].as_str()).collect();
    assert_eq!(states, ["new", "new", "new"]);
    let job = service.wait_for(&sent["job"]);
    assert_eq!((job["state"].as_str(), job["report"]["added"].as_u64()), (Some("done"), Some(2)), "{job:#}");
    let unread = &job["documents"][2];
    assert_eq!(
        (unread["document"].as_str(), unread["state"].as_str()),
        (Some("broken.pdf"), Some("unread")),
        "{job:#}"
    );
    assert!(unread["reason"].as_str().is_some_and(|reason| !reason.is_empty()));

    let found = service.post("/v1/search", &json!({ "query": "spring tide metres" })).json();
    assert_eq!(found["passages"][0]["document"], "tides/spring.md");
    let list = service.get("/v1/documents").json();
    assert_eq!(names(&list), ["Gezeiten.txt", "bells.md", "locks/hours.md", "tides/spring.md"]);
    let uploaded: Vec<bool> =
        list["documents"].as_array().into_iter().flatten().filter_map(|one| one["uploaded"].as_bool()).collect();
    assert_eq!(uploaded, [true, false, false, true]);

    // The same again is nothing new.
    let again = service.upload("/v1/documents", &files[..1]);
    assert_eq!((again.status, again.json()["files"][0]["state"].as_str()), (200, Some("same")));
    assert!(again.json().get("job").is_none());

    assert_eq!(service.delete("/v1/documents/tides%2Fspring.md").status, 204);
    assert_eq!(service.delete("/v1/documents/tides%2Fspring.md").status, 404);
    assert!(!names(&service.get("/v1/documents").json()).contains(&"tides/spring.md"));
    let changed = service.upload("/v1/documents", &[("Gezeiten.txt", b"The gauge stands at three metres.")]).json();
    assert_eq!(changed["files"][0]["state"], "changed");
    let job = service.wait_for(&changed["job"]);
    assert_eq!((job["report"]["changed"].as_u64(), job["report"]["removed"].as_u64()), (Some(1), Some(0)), "{job:#}");
    service.end();
}

/// The corpus has a document of that name from a folder already.
#[test]
fn an_upload_of_a_name_that_is_taken_is_a_document_of_its_own() {
    let service = Running::start(|_| {});
    let upload = |text: &str| {
        let sent = service.upload("/v1/documents", &[("bells.md", text.as_bytes())]).json();
        service.wait_for(&sent["job"])
    };
    upload("# Cow bells\n\nCow bells are rung on the meadow.");
    let list = service.get("/v1/documents").json();
    assert_eq!(names(&list), ["bells.md", "locks/hours.md", "uploads/bells.md"]);
    let uploaded: Vec<bool> =
        list["documents"].as_array().into_iter().flatten().filter_map(|one| one["uploaded"].as_bool()).collect();
    assert_eq!(uploaded, [false, false, true]);
    // What became of it is told under the name that it was sent with.
    let pdf = std::fs::read(demo().join("scanned-letter.pdf")).expect("the demo");
    let names_taken = [("locks/hours.md", pdf.as_slice())];
    let sent = service.upload("/v1/documents", &names_taken).json();
    let job = service.wait_for(&sent["job"]);
    assert_eq!(
        (job["documents"][0]["document"].as_str(), job["documents"][0]["state"].as_str()),
        (Some("locks/hours.md"), Some("read_in_part")),
        "{job:#}"
    );
    assert_eq!(service.delete("/v1/documents/uploads%2Flocks%2Fhours.md").status, 204);
    // Removing the one leaves the other, and it does not come back.
    assert_eq!(service.delete("/v1/documents/uploads%2Fbells.md").status, 204);
    let sent = service.upload("/v1/documents", &[("other.md", b"# Other\n\nAnother notice.")]).json();
    service.wait_for(&sent["job"]);
    assert_eq!(names(&service.get("/v1/documents").json()), ["bells.md", "locks/hours.md", "other.md"]);
    // And the other way round.
    upload("# Cow bells\n\nCow bells are rung on the meadow.");
    assert_eq!(service.delete("/v1/documents/bells.md").status, 204);
    let kept = service.folder.path().join("c/uploads/bells.md");
    assert!(kept.exists(), "the file belongs to another document");
}

#[rstest]
#[case::up("../corpus.db")]
#[case::root("/etc/cron.d/x")]
#[case::hidden(".gitignore")]
#[case::windows("..\\..\\x.md")]
fn a_name_that_leads_elsewhere_is_refused_and_the_others_are_taken(#[case] name: &str) {
    let service = Running::start(|_| {});
    let sent = service.upload("/v1/documents", &[(name, b"harmless"), ("good.md", b"# Good\n\nIt is good.")]).json();
    assert_eq!(sent["files"][0]["state"], "refused", "{sent:#}");
    assert_eq!(sent["files"][1]["state"], "new");
    assert_eq!(service.wait_for(&sent["job"])["report"]["added"], 1);
    assert!(!service.folder.path().join("etc").exists());
}

#[test]
fn files_that_are_too_large_or_too_many_are_refused() {
    let service = Running::start(|config| (config.upload_megabytes, config.documents) = (1, 2));
    let large = vec![b'a'; 1_000_001];
    let sent =
        service.upload("/v1/documents", &[("large.txt", &large), ("a.txt", b"a"), ("b.txt", b"b"), ("c.txt", b"c")]);
    let sent = sent.json();
    let states: Vec<&str> =
        sent["files"].as_array().into_iter().flatten().filter_map(|one| one["state"].as_str()).collect();
    assert_eq!(states, ["refused", "new", "new", "refused"], "{sent:#}");
    assert!(sent["files"][0]["reason"].as_str().is_some_and(|reason| reason.contains("upload_megabytes")));
    assert!(sent["files"][3]["reason"].as_str().is_some_and(|reason| reason.contains("documents in [serve]")));
}

/// What came whole is read, and what was cut off leaves nothing.
#[test]
fn an_upload_that_breaks_off_leaves_no_half_file() {
    let service = Running::start(|_| {});
    let whole = form(&[("whole.md", b"# Whole\n\nThis came whole."), ("half.md", &[b'h'; 5_000])]);
    let headers = [("Content-Type", "multipart/form-data; boundary=quay"), ("Content-Length", "9999999")];
    let first = whole.len() - 3_000;
    let mut stream = service.open("POST", "/v1/documents", &headers, &whole[..first]);
    let wait_for = |is_there: &dyn Fn() -> bool| {
        let came = (0..1_000).any(|_| {
            std::thread::sleep(Duration::from_millis(20));
            is_there()
        });
        assert!(came, "it takes too long");
    };
    wait_for(&|| service.folder.path().join("c/uploads/whole.md").exists());
    stream.write_all(&whole[first..whole.len() - 1_000]).expect("sent");
    stream.shutdown(Shutdown::Both).expect("gone");
    let job = || service.get("/v1/jobs").json()["jobs"].get(0).cloned();
    wait_for(&|| job().is_some());
    service.wait_for(&job().expect("a job"));
    let folder = service.folder.path().join("c/uploads");
    let left: Vec<String> = std::fs::read_dir(folder)
        .expect("a folder")
        .flatten()
        .map(|entry| entry.file_name().to_string_lossy().into_owned())
        .collect();
    assert_eq!(left, ["whole.md"]);
    assert!(names(&service.get("/v1/documents").json()).contains(&"whole.md"));
}

#[test]
fn an_upload_that_is_none_is_said_to_be_none() {
    let service = Running::start(|_| {});
    assert_eq!(service.post("/v1/documents", &json!({})).status, 400);
    assert_eq!(service.upload("/v1/documents", &[]).status, 400);
}

#[test]
fn a_service_that_only_reads_changes_nothing() {
    let service = Running::start(|config| config.uploads = Uploads::Off);
    assert_eq!(service.upload("/v1/documents", &[("a.md", b"a")]).status, 403);
    assert_eq!(service.delete("/v1/documents/bells.md").status, 403);
    assert_eq!(service.post("/v1/corpora", &json!({ "name": "attic" })).status, 403);
    assert_eq!(names(&service.get("/v1/documents").json()).len(), 2);
}

#[test]
fn corpora_are_apart() {
    let service = Running::start(|_| {});
    assert_eq!(service.post("/v1/corpora", &json!({ "name": "attic" })).status, 201);
    assert_eq!(service.post("/v1/corpora", &json!({ "name": "attic" })).status, 409);
    assert_eq!(service.post("/v1/corpora", &json!({ "name": "../attic" })).status, 400);
    let list = service.get("/v1/corpora").json();
    assert_eq!(list, json!({ "corpora": [{ "name": "main" }, { "name": "attic" }] }));
    let sent =
        service.upload("/v1/documents?corpus=attic", &[("chest.md", b"# Chest\n\nThe chest holds old charts.")]).json();
    service.wait_for(&sent["job"]);
    assert_eq!(names(&service.get("/v1/documents?corpus=attic").json()), ["chest.md"]);
    assert_eq!(names(&service.get("/v1/documents").json()).len(), 2);
    let found = service.post("/v1/search", &json!({ "query": "charts", "corpus": "attic" })).json();
    assert_eq!(found["passages"][0]["document"], "chest.md");
    assert_eq!(service.delete("/v1/corpora/main").status, 409);
    assert_eq!(service.delete("/v1/corpora/attic").status, 204);
    assert_eq!(service.get("/v1/documents?corpus=attic").status, 404);
}

/// A byte now and then is not silence, and yet the upload must end.
#[test]
fn an_upload_that_drips_is_given_up() {
    let service = Running::start(|config| config.seconds = 1);
    let headers = [("Content-Type", "multipart/form-data; boundary=quay"), ("Content-Length", "5000")];
    let mut stream = service.open(
        "POST",
        "/v1/documents",
        &headers,
        b"--quay\r\nContent-Disposition: form-data; name=\"f\"; filename=\"a.md\"\r\n\r\n",
    );
    for _ in 0..15 {
        std::thread::sleep(Duration::from_millis(100));
        let _ = stream.write_all(b"x");
    }
    let mut all = Vec::new();
    stream.read_to_end(&mut all).expect("a response");
    let refused = answered(&all);
    assert_eq!(refused.status, 408, "{}", refused.text());
    assert!(refused.text().contains("took more than 1 s"), "{}", refused.text());
    assert_eq!(names(&service.get("/v1/documents").json()).len(), 2, "nothing of it is kept");
}

#[test]
fn a_document_is_read_and_its_page_is_drawn_with_the_lines_marked() {
    let service = Running::start(|_| {});
    let bytes = std::fs::read(demo().join("byelaws.pdf")).expect("the demo");
    let sent = service.upload("/v1/documents", &[("byelaws.pdf", &bytes)]).json();
    service.wait_for(&sent["job"]);
    let reply = service
        .post("/v1/ask", &json!({ "question": "Which vessel shall not enter the North Channel within ninety minutes of low water?" }))
        .json();
    let source = &reply["sources"][0];
    assert_eq!((source["document"].as_str(), source["pages"][0].as_u64()), (Some("byelaws.pdf"), Some(2)), "{reply:#}");
    let part = format!("start={}&end={}", source["span"][0], source["span"][1]);
    let page = |number: u32, part: &str| service.get(&format!("/v1/documents/byelaws.pdf/pages/{number}{part}"));
    let marking = format!("?{part}");
    if logothete::Pipeline::default().draws() {
        let printed = page(2, &marking);
        assert_eq!(printed.header("content-type"), Some("image/png"));
        assert!(printed.body != page(2, "").body, "the lines are marked");
        assert!(page(3, &marking).body == page(3, "").body, "nothing of it is on page 3");
    }
    // The file is no longer what was read.
    std::fs::write(service.folder.path().join("c/uploads/byelaws.pdf"), "another").expect("a file");
    let drawn = page(2, &marking);
    assert_eq!(drawn.header("content-type"), Some("image/svg+xml"));
    assert!(drawn.text().contains("<rect class=\"cited\"") && drawn.text().contains("North Channel"));
    assert!(!page(3, &marking).text().contains("<rect class=\"cited\""), "nothing of it is on page 3");
    assert_eq!(service.get("/v1/documents/byelaws.pdf/pages/99").status, 404);
    let text = service.get(&format!("/v1/documents/byelaws.pdf/text?{part}&around=40")).json();
    assert_eq!(text["text"], source["quotation"]);
    assert!(text["before"].as_str().is_some_and(|before| (1..=44).contains(&before.len())), "{text}");
    for wrong in ["start=5", "start=9&end=5", "start=0&end=99999999", "begin=1"] {
        assert_eq!(service.get(&format!("/v1/documents/byelaws.pdf/text?{wrong}")).status, 400, "{wrong}");
    }
    let detail = service.get("/v1/documents/byelaws.pdf").json();
    assert_eq!((detail["pages"].as_u64(), detail["title"].as_str()), (Some(11), Some("Harbour Byelaws 2024")));
    let near = service.get("/v1/documents/bylaws.pdf");
    assert!(near.status == 404 && near.json()["detail"].as_str().is_some_and(|detail| detail.contains("byelaws.pdf")));
    let questions = service.get("/v1/suggestions").json();
    assert!(questions["questions"].as_array().is_some_and(|all| !all.is_empty() && all.len() <= 4), "{questions}");
}
