//! How long a build takes that has nothing to do, how long a large corpus takes to open, and what a build holds in memory.
//!
//! `corpus FILES CHUNKS KIND`: FILES small files are built, and built again; then a corpus of CHUNKS chunks of about a hundred
//! words is built with that kind of index, and opened and asked by new processes. The encoder is the hashing one: what is
//! measured is the corpus.

use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use logothete::chunk::{Limit, Structure};
use logothete::{BuildRequest, Config, Hashing, Pipeline};
use logothete_bench::median;
use logothete_bench::passages::{word, write_documents};

const REPEATS: usize = 5;

fn pipeline(kind: &str) -> Pipeline {
    let config: Config = Config::parse(&format!("[index]\nkind = \"{kind}\"\n")).expect("settings");
    let pipeline = Pipeline::from_config(&config).expect("a pipeline");
    pipeline
        .with_encoder(Hashing::new(384).expect("settings"))
        .with_chunker(Structure::new(Limit::words(150, 0).expect("settings")))
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
    match arguments.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
        ["again", folder, kind] => runtime.block_on(async {
            let corpus = pipeline(kind).open(Path::new(folder).join("c")).await.expect("a corpus");
            let report = corpus.build(Path::new(folder).join("docs")).await.expect("a build");
            assert_eq!((report.added, report.changed, report.failed.len()), (0, 0, 0), "there is nothing to do");
        }),
        ["search", folder, kind, query] => runtime.block_on(async {
            let corpus = pipeline(kind).open(folder).await.expect("a corpus");
            let found = corpus.search(*query).await.expect("a search");
            assert_eq!(found.passages.len(), 10);
            println!("{:.1} ms in the search itself", found.took_ms);
        }),
        [files, chunks, kind] => {
            let number = |text: &str| text.parse().expect("a number");
            unchanged(&runtime, number(files));
            large(&runtime, number(chunks), kind);
        }
        _ => eprintln!("give a number of files, a number of chunks, and a kind of index"),
    }
}

/// Runs this program again, and says how long it took.
fn timed(arguments: &[&str]) -> f64 {
    let since = Instant::now();
    let output = Command::new(std::env::current_exe().expect("a path")).args(arguments).output().expect("it runs");
    let took = since.elapsed().as_secs_f64();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    took
}

fn unchanged(runtime: &tokio::runtime::Runtime, files: usize) {
    let folder = tempfile::tempdir().expect("a folder");
    let docs = folder.path().join("docs");
    for number in 0..files {
        let within = docs.join(format!("{:02}", number / 100));
        std::fs::create_dir_all(&within).expect("a folder");
        let text = format!("# Note {number}\n\nCrate {number} holds cork, and lies on quay {}.\n", number % 17);
        std::fs::write(within.join(format!("{number}.md")), text).expect("a file");
    }
    // Younger files are looked at again: they may have changed within the resolution of the clock.
    std::thread::sleep(Duration::from_millis(2_100));
    runtime.block_on(async {
        let corpus = pipeline("auto").open(folder.path().join("c")).await.expect("a corpus");
        assert_eq!(corpus.build(&docs).await.expect("a build").added, files);
    });
    let path = folder.path().display().to_string();
    let times = (0..REPEATS).map(|_| timed(&["again", &path, "auto"])).collect();
    println!("a build of {files} unchanged files, in a new process: {:.3} s", median(times));
}

/// The most anonymous memory of this process while some work is done, in megabytes.
fn watched<T>(work: impl FnOnce() -> T) -> (T, u64) {
    let (most, done) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
    let watcher = std::thread::spawn({
        let (most, done) = (most.clone(), done.clone());
        move || {
            while !done.load(Ordering::Relaxed) {
                let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
                let line = status.lines().find_map(|line| line.strip_prefix("RssAnon:"));
                let kilobytes = line.and_then(|line| line.split_whitespace().next()?.parse().ok()).unwrap_or(0);
                most.fetch_max(kilobytes, Ordering::Relaxed);
                std::thread::sleep(Duration::from_millis(5));
            }
        }
    });
    let outcome = work();
    done.store(true, Ordering::Relaxed);
    watcher.join().expect("it ends");
    (outcome, most.load(Ordering::Relaxed) / 1000)
}

fn large(runtime: &tokio::runtime::Runtime, chunks: usize, kind: &str) {
    let folder = tempfile::tempdir().expect("a folder");
    let docs = folder.path().join("docs");
    write_documents(&docs, chunks);
    let since = Instant::now();
    let (held, memory) = watched(|| {
        runtime.block_on(async {
            let corpus = pipeline(kind).open(folder.path().join("c")).await.expect("a corpus");
            let report = corpus.build(BuildRequest::new([&docs])).await.expect("a build");
            assert!(report.failed.is_empty(), "{:?}", report.failed.first());
            corpus.info().await.expect("facts")
        })
    });
    let took = since.elapsed().as_secs_f64();
    println!(
        "{} chunks in {} segments ({kind}) built in {took:.0} s; at most {memory} MB of anonymous memory; {} MB catalogue, {} MB indexes",
        held.chunks,
        held.segments.len(),
        held.catalogue_bytes / 1_000_000,
        held.index_bytes / 1_000_000
    );
    let path = folder.path().join("c").display().to_string();
    let query = [word(40), word(3_000), word(700)].join(" ");
    timed(&["search", &path, kind, &query]);
    let times = (0..REPEATS).map(|_| timed(&["search", &path, kind, &query])).collect();
    println!("opened and searched by a new process, the page cache warm: {:.0} ms", median(times) * 1e3);
}
