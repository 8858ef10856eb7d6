//! Files that are made to end or to fill the program that reads them, among good ones.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use logothete::Pipeline;
use rstest::rstest;

use crate::common::{command, folder, run};

fn data() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data")
}

fn demo() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents")
}

/// Puts hostile files beside a good one.
fn among(names: &[&str]) -> tempfile::TempDir {
    let folder = folder();
    fs::create_dir(folder.path().join("docs")).expect("a folder");
    for name in names {
        fs::copy(data().join(name), folder.path().join("docs").join(name)).expect("a file");
    }
    fs::write(folder.path().join("docs/good.md"), "# Fog\n\nThe bell is rung every 20 seconds.\n").expect("a file");
    fs::write(folder.path().join("logothete.toml"), "[limits]\nmemory_megabytes = 400\n").expect("a file");
    folder
}

#[test]
fn hostile_files_cost_themselves_and_nothing_else() {
    let names = ["bomb.pdf", "boxes.docx", "format.xlsx", "notes.docx"];
    let folder = among(&names);
    let ran = run(folder.path(), &["build", "docs", "--json"]);
    assert_eq!(ran.code, 4, "{}{}", ran.out, ran.err);
    let report: serde_json::Value = serde_json::from_str(&ran.out).expect("one JSON document");
    let failed = report["failed"].as_array().expect("failures");
    let named: Vec<&str> = failed.iter().filter_map(|one| one["document"].as_str()).collect();
    // Boxes in boxes, a note that is referred to 3,000 times, and a cell of 70,000 digits are read once, and are no harm.
    assert_eq!((report["added"].as_u64(), named), (Some(4), vec!["bomb.pdf"]), "{report:#}");
    for one in failed {
        let reason = one["reason"].as_str().unwrap_or_default();
        assert!(reason.contains("it unpacks to more than 250 MB"), "{one}");
    }
    let asked = run(folder.path(), &["ask", "How often is the bell rung?"]);
    assert!(asked.out.contains("every 20 seconds"), "{}{}", asked.out, asked.err);
}

/// Builds the corpus in a folder from the documents there, and returns how many are new, and why others could not be read.
fn build_in(folder: &Path, pipeline: &Pipeline) -> (usize, Vec<String>) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let corpus = pipeline.open(folder.join("corpus")).await.expect("a corpus");
        let report = corpus.build(folder.join("docs").as_path()).await.expect("a build");
        (report.added, report.failed.into_iter().map(|failure| failure.reason).collect())
    })
}

#[test]
fn a_file_that_could_not_be_read_is_read_again_when_it_or_the_limits_change() {
    let folder = folder();
    let docs = folder.path().join("docs");
    fs::create_dir(&docs).expect("a folder");
    let write = |text: &str, age: u64| {
        fs::write(docs.join("a.md"), text).expect("a file");
        let file = fs::File::options().write(true).open(docs.join("a.md")).expect("a file");
        file.set_modified(SystemTime::now() - Duration::from_secs(age)).expect("a time");
    };
    let build = |pipeline: Pipeline| build_in(folder.path(), &pipeline);
    let deadly = || Pipeline::default().with_reader("/bin/sh", ["-c", "exit 3"]);
    write("# Fog\n\nThe bell is rung.\n", 60);
    let (added, failed) = build(deadly());
    assert!(added == 0 && failed[0].contains("ended the process"), "{failed:?}");
    // This reader could read it, but it is not asked.
    assert_eq!(build(Pipeline::default()), (0, failed));
    let other = Pipeline::default().configured(|config| config.limits.seconds = 9);
    assert_eq!(build(other), (1, Vec::new()), "other limits");
    write("# Fog\n\nThe horn is sounded.\n", 50);
    assert_eq!(build(deadly()).1.len(), 1);
    write("# Fog\n\nThe horn is sounded twice.\n", 40);
    assert!(build(Pipeline::default()).1.is_empty(), "the file has changed");
}

#[test]
fn a_file_of_too_many_tokens_is_not_read_again() {
    let folder = folder();
    let docs = folder.path().join("docs");
    fs::create_dir(&docs).expect("a folder");
    let text: String = (0..30).map(|at| format!("# Part {at}\n\nWord{at} is said once in part {at}.\n\n")).collect();
    fs::write(docs.join("a.md"), text).expect("a file");
    let file = fs::File::options().write(true).open(docs.join("a.md")).expect("a file");
    file.set_modified(SystemTime::now() - Duration::from_secs(60)).expect("a time");
    let build = |most: u64, pipeline: Pipeline| {
        let pipeline = pipeline.with_encoder(logothete::Hashing::default());
        build_in(folder.path(), &pipeline.configured(|config| config.limits.file_tokens = most))
    };
    let deadly = || Pipeline::default().with_reader("/bin/sh", ["-c", "exit 3"]);
    let (added, failed) = build(100, Pipeline::default());
    assert!(added == 0 && failed[0].contains("100 are allowed; raise file_tokens"), "{failed:?}");
    // The reader is not asked.
    assert_eq!(build(100, deadly()), (0, failed));
    assert!(build(99, deadly()).1[0].contains("ended the process"), "other limits");
    assert_eq!(build(100_000, Pipeline::default()), (1, Vec::new()));
}

#[test]
fn a_page_that_overflows_the_stack_is_not_drawn() {
    let folder = among(&["stack.pdf"]);
    let ran = run(folder.path(), &["parse", "docs/stack.pdf", "--picture", "1"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    assert!(ran.err.contains("stack.pdf: the file nests too deeply"), "{}", ran.err);
}

/// A scanned page, and a program in the place of the recogniser.
#[rstest]
#[case::is_missing(None, 0, "install the program tesseract")]
#[case::hangs(Some("exec sleep MANY"), 0, "could not be recognised: tesseract took more than 12 s")]
#[case::hangs_with_another(
    Some("sleep MANY & sleep MANY"),
    0,
    "could not be recognised: tesseract took more than 12 s"
)]
#[case::fails(Some("echo no such language >&2; exit 1"), 0, "tesseract failed: no such language")]
#[case::lies(
    Some(
        "cat /dev/zero | head -c 100000; printf '5\\t1\\t1\\t1\\t1\\t1\\tNaN\\t-1e38\\tx\\t1e38\\t-7\\tCrane\\n5\\tx\\n'"
    ),
    0,
    ""
)]
#[case::never_stops(Some("exec yes 5"), 0, "could not be recognised: tesseract")]
#[cfg(unix)]
fn a_recogniser_that_goes_wrong_costs_its_page(#[case] script: Option<&str>, #[case] code: i32, #[case] said: &str) {
    use std::os::unix::fs::PermissionsExt;
    let folder = folder();
    fs::create_dir(folder.path().join("docs")).expect("a folder");
    fs::create_dir(folder.path().join("programs")).expect("a folder");
    fs::copy(demo().join("scanned-letter.pdf"), folder.path().join("docs/scanned.pdf")).expect("a file");
    fs::write(folder.path().join("docs/good.md"), "# Fog\n\nThe bell is rung.\n").expect("a file");
    fs::write(folder.path().join("logothete.toml"), "[limits]\nseconds = 24\n").expect("a file");
    // Seconds that no other process sleeps.
    let many = (90_000 + std::process::id() as usize + said.len() + script.map_or(0, str::len)).to_string();
    if let Some(script) = script {
        let script = script.replace("MANY", &many);
        let program = folder.path().join("programs/tesseract");
        fs::write(&program, format!("#!/bin/sh\n{script}\n")).expect("a program");
        fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).expect("a program");
    }
    let path = format!("{}:/usr/bin:/bin", folder.path().join("programs").display());
    let path = if script.is_none() { folder.path().join("programs").display().to_string() } else { path };
    let output = command(folder.path(), &["build", "docs"]).env("PATH", path).output().expect("the command runs");
    let (out, err) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(out.contains(said) || err.contains(said), "{out}{err}");
    assert_eq!(output.status.code(), Some(code), "{out}{err}");
    let found = run(folder.path(), &["search", "bell in fog"]);
    assert!(found.out.contains("The bell is rung"), "{}", found.out);
    let left: Vec<_> = fs::read_dir("/proc")
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|process| fs::read_to_string(process.path().join("cmdline")).ok())
        .filter(|line| line.contains(&many))
        .collect();
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn a_reader_returns_what_this_process_would() {
    let apart = Pipeline::default().with_reader(env!("CARGO_BIN_EXE_logothete"), ["read-for-another"]);
    let here = Pipeline::default();
    for file in [
        "byelaws.pdf",
        "dues-2026.xlsx",
        "crane-records.docx",
        "pilotage-handbook.html",
        "berth-booking.eml",
        "berth-register.csv",
    ] {
        let bytes = fs::read(demo().join(file)).expect("a demo file");
        let (one, other) = (apart.parse(file, bytes.clone()), here.parse(file, bytes));
        let written = |document| serde_json::to_string(&document).expect("JSON");
        assert!(written(one.expect("a document")) == written(other.expect("a document")), "{file}");
    }
    let error = apart.parse("broken.pdf", b"%PDF-1.7 and no more".to_vec()).expect_err("no document");
    let own = here.parse("broken.pdf", b"%PDF-1.7 and no more".to_vec()).expect_err("no document");
    assert_eq!((error.kind(), error.to_string()), (own.kind(), own.to_string()));
}

#[rstest]
#[case::dies("kill -11 $$", "the file ended the process that read it")]
#[case::is_killed("kill -9 $$", "the process that read the file was ended")]
#[case::leaves("exit 3", "the file ended the process that read it")]
#[case::hangs("sleep 600", "reading took more than 1 s")]
#[case::lies("printf '\\005'; head -c 7 /dev/zero; printf hello; sleep 9", "what a reader returned could not be read")]
#[case::boasts("printf '\\377\\377\\377\\377\\377\\377\\377\\377'; sleep 9", "MB of memory")]
#[cfg(unix)]
fn whatever_becomes_of_a_reader_is_the_error_of_one_file(#[case] script: &str, #[case] said: &str) {
    let pipeline =
        Pipeline::default().configured(|config| config.limits.seconds = 1).with_reader("/bin/sh", ["-c", script]);
    for _ in 0..2 {
        let error = pipeline.parse("a.md", b"# A\n".to_vec()).expect_err("no document").to_string();
        assert!(error.contains(said), "{error}");
    }
}

/// Builds a corpus of some files of the same window with readers of some script, and returns what failed and the text of each document.
#[cfg(unix)]
fn read_together(files: &[(&str, String)], script: &str) -> (Vec<String>, Vec<String>) {
    let reader = env!("CARGO_BIN_EXE_logothete");
    let script = script.replace("READER", &format!("{reader} read-for-another"));
    let pipeline = Pipeline::default()
        .with_encoder(logothete::Hashing::default())
        .configured(|config| config.limits.seconds = 2)
        .with_reader("/bin/sh", ["-c", &script]);
    let source = files
        .iter()
        .fold(logothete::MemorySource::new("small"), |source, (name, text)| source.with(*name, text.as_str()));
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let corpus = pipeline.in_memory().await.expect("a corpus");
        let report = corpus.build(source).await.expect("a build");
        let mut texts = Vec::new();
        for document in corpus.info().await.expect("facts").documents {
            let chunks = corpus.chunks(&document.document).await.expect("chunks");
            texts.push(format!("{} {}", document.document, chunks.iter().map(|chunk| chunk.text.len()).sum::<usize>()));
        }
        (report.failed.into_iter().map(|failure| format!("{} {}", failure.document, failure.reason)).collect(), texts)
    })
}

/// Readers that end after so many bytes of their first replies: before, within and after one of several small files.
#[rstest]
#[case::at_once(0)]
#[case::within_the_first(200)]
#[case::within_another(2_000)]
#[cfg(unix)]
fn what_a_reader_has_not_returned_is_read_by_another(#[case] bytes: usize) {
    let files: Vec<(&str, String)> = ["a.md", "b.md", "c.md", "d.md", "e.md", "f.md", "g.md"]
        .into_iter()
        .map(|name| (name, format!("# Fog {name}\n\nThe bell is rung.\n")))
        .collect();
    let folder = folder();
    let ended = folder.path().join("ended");
    let script =
        format!("if mkdir {} 2>/dev/null; then READER | head -c {bytes}; else exec READER; fi", ended.display());
    let (failed, texts) = read_together(&files, &script);
    assert!(ended.exists() && failed.is_empty(), "{failed:?}");
    assert_eq!(texts.len(), files.len());
    assert_eq!(texts, read_together(&files, "exec READER").1);
}

/// A file that ends each reader that it is given to, among others that are given to it at the same time.
#[test]
#[cfg(unix)]
fn a_deadly_file_among_small_ones_is_named_alone() {
    let mut files: Vec<(&str, String)> = ["a.md", "b.md", "c.md", "d.md"]
        .into_iter()
        .map(|name| (name, "# Fog\n\nThe bell is rung.\n".to_owned()))
        .collect();
    files[1].1 = "# Deadly\n".to_owned();
    // What the reader is given goes through a filter that ends when it sees the file.
    let script = "sed -u '/Deadly/Q' | READER";
    let (failed, texts) = read_together(&files, script);
    assert_eq!(texts.len(), 3, "{failed:?}");
    assert!(failed.len() == 1 && failed[0].starts_with("b.md "), "{failed:?}");
}

#[test]
#[cfg(unix)]
fn small_files_that_become_large_are_put_off_and_read() {
    let files: Vec<(&str, String)> =
        ["a.md", "b.md", "c.md", "d.md"].into_iter().map(|name| (name, "- a\n".repeat(1_900))).collect();
    let (failed, texts) = read_together(&files, "exec READER");
    assert!(failed.is_empty() && texts.len() == 4, "{failed:?}");
    assert!(texts.iter().all(|text| text[5..] == texts[0][5..]), "{texts:?}");
}

#[test]
fn a_reader_that_is_not_there_is_named() {
    let pipeline = Pipeline::default().with_reader("no-such-program", [""]);
    let error = pipeline.parse("a.md", b"# A\n".to_vec()).expect_err("no document").to_string();
    assert!(error.contains("the reader no-such-program could not be started"), "{error}");
}

#[test]
fn a_text_beyond_the_limit_is_not_cut() {
    let folder = folder();
    fs::write(folder.path().join("logothete.toml"), "[limits]\ntext_megabytes = 1\n").expect("a file");
    fs::write(folder.path().join("long.txt"), "The bell is rung.\n".repeat(80_000)).expect("a file");
    let ran = run(folder.path(), &["parse", "long.txt", "--json"]);
    assert!(
        ran.code == 1
            && ran.out.contains("it makes more than 1 MB of text (1.5 MB when it was stopped); raise text_megabytes"),
        "{}{}",
        ran.out,
        ran.err
    );
    fs::write(folder.path().join("logothete.toml"), "[parse]\nisolated = false\npages = \"2-3\"\n").expect("a file");
    let ran = run(folder.path(), &["parse", "long.txt"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
}

/// What the system says of the readers of this process.
#[cfg(target_os = "linux")]
fn readers() -> Vec<(String, String)> {
    let ours = format!("PPid:\t{}\n", std::process::id());
    let of = |folder: PathBuf| {
        let read = |name: &str| fs::read_to_string(folder.join(name)).ok();
        let is_reader = read("cmdline")?.contains("read-for-another");
        let status = read("status").filter(|status| is_reader && status.contains(&ours))?;
        Some((status, read("limits")?))
    };
    fs::read_dir("/proc").expect("the processes").flatten().filter_map(|entry| of(entry.path())).collect()
}

#[test]
#[cfg(target_os = "linux")]
fn a_reader_has_little() {
    let pipeline = Pipeline::default().with_reader(env!("CARGO_BIN_EXE_logothete"), ["read-for-another"]);
    pipeline.parse("a.md", b"# Fog\n".to_vec()).expect("a document");
    let limit = |limits: &str, name: &str| -> Vec<String> {
        let line = limits.lines().find(|line| line.starts_with(name)).unwrap_or_default();
        line[name.len()..].split_whitespace().take(2).map(str::to_owned).collect()
    };
    let confined = readers().into_iter().filter(|(_, limits)| {
        limit(limits, "Max data size") == ["500000000", "500000000"]
            && limit(limits, "Max file size") == ["0", "0"]
            && limit(limits, "Max open files") == ["64", "64"]
            && limit(limits, "Max cpu time")
                .first()
                .is_some_and(|time| time.parse::<u64>().is_ok_and(|time| time < 200))
    });
    assert!(confined.count() > 0, "{:?}", readers());
}

/// The system calls that a guard is set up with, by its name.
#[cfg(target_os = "linux")]
fn calls_of(guard: &str) -> Vec<i64> {
    match guard {
        "Landlock" => vec![libc::SYS_landlock_create_ruleset],
        "filters" => vec![libc::SYS_seccomp],
        _ => vec![libc::SYS_landlock_create_ruleset, libc::SYS_seccomp],
    }
}

/// Runs a build in a process for which the kernel does not know some calls any more.
#[test]
#[ignore = "is run by the next test"]
#[cfg(target_os = "linux")]
fn without_guards() {
    use seccompiler::{BpfProgram, SeccompAction, SeccompFilter, apply_filter};
    let Ok(guard) = std::env::var("WITHOUT") else { return };
    let folder = among(&[]);
    let calls = calls_of(&guard).into_iter().map(|call| (call, Vec::new())).collect();
    let unknown = SeccompAction::Errno(libc::ENOSYS.unsigned_abs());
    let processor = std::env::consts::ARCH.try_into().expect("a known processor");
    let filter = SeccompFilter::new(calls, SeccompAction::Allow, unknown, processor).expect("a filter");
    apply_filter(&BpfProgram::try_from(filter).expect("a program")).expect("a kernel that filters");
    let ran = run(folder.path(), &["build", "docs"]);
    println!("{}{}", ran.out, ran.err);
    assert_eq!(ran.code, 0);
}

#[rstest]
#[case::files("Landlock", "this system has no Landlock: a hostile file that takes over its reader could make and")]
#[case::network("filters", "this system has no filters of system calls: a hostile file")]
#[case::both("both", "this system has no Landlock and no filters of system calls")]
#[cfg(target_os = "linux")]
fn a_build_says_which_guards_the_system_lacks(#[case] without: &str, #[case] said: &str) {
    let inside = ["--exact", "isolated::without_guards", "--ignored", "--nocapture", "--test-threads=1"];
    let program = std::env::current_exe().expect("this program");
    let output = std::process::Command::new(program).args(inside).env("WITHOUT", without).output().expect("a run");
    let out = String::from_utf8_lossy(&output.stdout);
    let out = out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(output.status.success() && out.contains(said), "{out}{}", String::from_utf8_lossy(&output.stderr));
}
