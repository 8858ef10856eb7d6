//! Processes that are killed, power that fails, disks that are full: the corpus opens, verifies, and comes to what it would
//! have come to undisturbed; and nobody who reads it notices.
#![cfg(unix)]

mod faults;

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use faults::replay;
use faults::{
    FILES, Held, LOOK, READ, REENCODE, Random, TOLD, WORK, corpus_in, faulty, held, pipeline, pipeline_of, process,
    recorder, undisturbed, undisturbed_with, work, write_documents,
};
use logothete::{Corpus, ErrorKind, StopToken};

/// Not a test of its own: what the other processes run.
#[tokio::test]
async fn child() {
    if let Ok(work_in) = std::env::var(WORK) {
        let (folder, round) = work_in.split_once('#').expect("a folder and a round");
        let (folder, round) = (Path::new(folder), round.parse().expect("a number"));
        let told = std::env::var_os("FAULTS_LOG").map(|_| corpus_in(folder).join(TOLD));
        let mut told = told.map(|file| fs::OpenOptions::new().create(true).append(true).open(file).expect("a file"));
        let outcome = work(folder, round, |step| {
            if let Some(told) = &mut told {
                told.write_all(step.as_bytes()).expect("told");
            }
        });
        if let Err(error) = outcome.await {
            eprintln!("{error}");
            std::process::exit(7);
        }
    }
    if let Ok(reencode) = std::env::var(REENCODE) {
        let (folder, dimensions) = reencode.split_once('#').expect("a folder and a number");
        let pipeline = pipeline_of(dimensions.parse().expect("a number"));
        pipeline.reencode(corpus_in(Path::new(folder)), &StopToken::default()).await.expect("it is encoded anew");
    }
    if let Ok(folder) = std::env::var(LOOK) {
        let corpus = pipeline().open(corpus_in(Path::new(&folder))).await.expect("the corpus opens");
        whole(&corpus).await;
        assert_eq!(corpus.remove("000.md").await.expect_err("nothing can be written").kind(), ErrorKind::System);
    }
    if let Ok(folder) = std::env::var(READ) {
        read(Path::new(&folder)).await;
    }
}

/// Reads for as long as it lives, and checks that every commit is whole.
async fn read(folder: &Path) {
    let corpus = pipeline().open(corpus_in(folder)).await.expect("a reader opens the corpus");
    let mut looks = fs::OpenOptions::new().create(true).append(true).open(folder.join("looks")).expect("a file");
    loop {
        whole(&corpus).await;
        looks.write_all(b".").expect("a look is noted");
    }
}

/// No document is half there, and every passage can be read.
async fn whole(corpus: &Corpus) {
    let info = corpus.info().await.expect("a reader sees what the corpus holds");
    let documents: Vec<_> = info.documents.iter().filter(|document| document.document.ends_with(".md")).collect();
    assert!(documents.iter().all(|document| document.chunks == 2), "a document is half there");
    assert_eq!(info.chunks, info.documents.iter().map(|document| document.chunks).sum::<u64>());
    assert!(info.rows - info.dead_rows <= info.chunks, "no row is without its chunk");
    let found = corpus.search("crate holds cork on the quay").await.expect("a reader searches");
    assert!(found.passages.iter().all(|passage| !passage.text.is_empty()));
}

#[tokio::test]
async fn killed_builders_lose_nothing_and_no_reader_notices() {
    const ROUNDS: usize = 200;
    let place = tempfile::tempdir().expect("a temporary folder");
    let folder = place.path();
    write_documents(folder, 0);
    let since = Instant::now();
    work(folder, 0, |_| {}).await.expect("the first round is not disturbed");
    let long = since.elapsed();
    let mut reader = process(&[(READ, folder.display().to_string())]).spawn().expect("a reader");
    let (mut random, mut killed) = (Random(20_261), 0);
    for round in 1..=ROUNDS {
        write_documents(folder, round);
        let mut builder = process(&[(WORK, format!("{}#{round}", folder.display()))]).spawn().expect("a builder");
        // A process takes a while to begin; what counts is that the moments are spread over its work.
        std::thread::sleep(Duration::from_millis(5) + long.mul_f64(random.below(1_000) as f64 / 700.0));
        builder.kill().expect("it can be killed");
        killed += usize::from(!builder.wait().expect("it ends").success());

        let corpus = pipeline().open(corpus_in(folder)).await.expect("the corpus opens");
        corpus.verify().await.expect("its checksums agree");
        whole(&corpus).await;
        drop(corpus);
        if round % 5 == 0 {
            // Forgetting and compacting wait for nobody who reads; for a moment nobody does.
            reader.kill().expect("it can be killed");
            reader.wait().expect("it ends");
            work(folder, round, |_| {}).await.expect("the work goes on");
            let corpus = pipeline().open(corpus_in(folder)).await.expect("the corpus opens");
            assert_eq!(held(&corpus).await, undisturbed(folder, round).await, "round {round}");
            reader = process(&[(READ, folder.display().to_string())]).spawn().expect("a reader");
        }
        assert_eq!(
            reader.try_wait().expect("it can be asked"),
            None,
            "round {round}: a reader saw an error or half a build"
        );
    }
    assert!(killed > ROUNDS / 3, "only {killed} builders were killed in their work");
    reader.kill().expect("it can be killed");
    let looks = fs::metadata(folder.join("looks")).expect("a reader looked").len();
    assert!(looks > ROUNDS as u64, "readers looked {looks} times");
}

/// Whenever it is killed, the corpus is wholly that of the one encoder or wholly that of the other.
#[tokio::test]
async fn a_killed_reencoding_is_done_or_not() {
    const ROUNDS: usize = 60;
    const DIMENSIONS: [usize; 2] = [64, 50];
    let place = tempfile::tempdir().expect("a temporary folder");
    let folder = place.path();
    write_documents(folder, 0);
    work(folder, 0, |_| {}).await.expect("the first encoder's");
    let mut expected = Vec::new();
    for dimensions in DIMENSIONS {
        expected.push(undisturbed_with(&pipeline_of(dimensions), folder, 0).await);
    }
    let reencode = |which: usize| process(&[(REENCODE, format!("{}#{}", folder.display(), DIMENSIONS[which]))]);
    let mut long = Duration::ZERO;
    // The first time all is encoded; later the vectors are there.
    for which in [1, 0, 1] {
        let since = Instant::now();
        assert!(reencode(which).status().expect("it runs").success());
        long = since.elapsed();
    }
    let (mut random, mut stands, mut undone) = (Random(77), 1, 0);
    for round in 0..ROUNDS {
        let wanted = 1 - stands;
        let mut running = reencode(wanted).spawn().expect("a process");
        std::thread::sleep(long.mul_f64(random.below(1_000) as f64 / 700.0));
        running.kill().expect("it can be killed");
        running.wait().expect("it ends");
        let mut opened = Vec::new();
        for which in [0, 1] {
            match pipeline_of(DIMENSIONS[which]).open(corpus_in(folder)).await {
                Ok(corpus) => opened.push((which, corpus)),
                Err(error) => assert_eq!(error.kind(), ErrorKind::Mismatch, "round {round}: {error}"),
            }
        }
        let [(which, corpus)] = opened.as_slice() else { panic!("round {round}: {} encoders", opened.len()) };
        corpus.verify().await.expect("its checksums agree");
        assert!(held(corpus).await == expected[*which], "round {round}: what is found has changed");
        // The machine may be faster or slower than it was; the moments stay spread over the work.
        long = long.mul_f64(if *which == stands { 1.15 } else { 0.9 });
        undone += usize::from(*which == stands);
        stands = *which;
    }
    assert!(undone > ROUNDS / 20, "only {undone} of {ROUNDS} were killed before they were done");
    // The last process may have been killed between its commit and the removal of the old files. The next writer removes them.
    for which in [0, 1] {
        assert!(reencode(which).status().expect("it runs").success());
    }
    let corpus = pipeline_of(DIMENSIONS[1]).open(corpus_in(folder)).await.expect("the corpus opens");
    assert!(held(&corpus).await == expected[1]);
    let files = fs::read_dir(corpus_in(folder).join("segments")).expect("a folder").count();
    assert_eq!(files, 2 * corpus.info().await.expect("facts").segments.len(), "nothing is left over");
}

#[tokio::test]
async fn whatever_a_failing_power_leaves_is_a_corpus() {
    const MOMENTS: usize = 150;
    let place = tempfile::tempdir().expect("a temporary folder");
    let Some(library) = recorder(place.path()) else { return };
    let (folder, log) = (place.path().join("work"), place.path().join("log"));
    fs::create_dir_all(corpus_in(&folder)).expect("a folder");
    let mut expected = Vec::new();
    // What a second round changes is written over what the first has left.
    for round in [2, 3] {
        write_documents(&folder, round);
        let job = (WORK, format!("{}#{round}", folder.display()));
        let mut worker = faulty(&library, &folder, job, ("FAULTS_LOG", log.display().to_string()));
        assert!(worker.status().expect("it runs").success(), "the work is done");
        expected.push((round, undisturbed(&folder, round).await));
    }
    let changes = replay::read(&fs::read(&log).expect("a record"));
    let told = corpus_in(&folder).join(TOLD);
    let steps = changes.iter().filter(|change| change.told(&told).is_some()).count();
    assert!(changes.len() > 500 && steps >= 12, "{} changes and {steps} steps were recorded", changes.len());
    let mut random = Random(8);
    for moment in 0..MOMENTS {
        let end = random.below(changes.len() + 1);
        let after = tempfile::tempdir().expect("a temporary folder");
        fs::create_dir(corpus_in(after.path())).expect("a folder");
        replay::power_fails(&changes[..end], &corpus_in(&folder), &corpus_in(after.path()), &mut random);
        let what = format!("moment {moment}, after {end} of {} changes", changes.len());
        let corpus = pipeline().open(corpus_in(after.path())).await.unwrap_or_else(|error| panic!("{what}: {error}"));
        corpus.verify().await.unwrap_or_else(|error| panic!("{what}: {error}"));
        whole(&corpus).await;
        // What was said to be done is done.
        let done: Vec<&str> = changes[..end].iter().filter_map(|change| change.told(&told)).collect();
        let info = corpus.info().await.expect("facts");
        let there = |name: &str| info.documents.iter().any(|document| document.document == name);
        if done.contains(&"built") {
            assert!((0..FILES).all(|number| there(&format!("{number:03}.md"))), "{what}: documents are lost");
        }
        if done.last() == Some(&"put 1") {
            assert!(there("own/0") && there("own/1"), "{what}: chunks are lost");
        }
        if matches!(done.last(), Some(&"forgotten" | &"compacted")) {
            assert!(!there("gone"), "{what}: what was forgotten is back");
        }
        drop(corpus);
        // The work goes on to where it would have come.
        if moment % 3 == 0 {
            let (round, expected) = &expected[1];
            let corpus = pipeline().open(corpus_in(after.path())).await.expect("the corpus opens");
            corpus.build(folder.join("docs")).await.expect("a build");
            drop(corpus);
            let link = after.path().join("docs");
            std::os::unix::fs::symlink(folder.join("docs"), &link).expect("a link");
            work(after.path(), *round, |_| {}).await.unwrap_or_else(|error| panic!("{what}: {error}"));
            let corpus = pipeline().open(corpus_in(after.path())).await.expect("the corpus opens");
            assert_eq!(&held(&corpus).await, expected, "{what}");
        }
    }
}

/// A folder with a corpus after its first round, the library that disturbs the next, and what the corpus holds; nothing where that
/// library cannot be made.
async fn prepared() -> Option<(tempfile::TempDir, PathBuf, Held)> {
    let place = tempfile::tempdir().expect("a temporary folder");
    let library = recorder(place.path())?;
    write_documents(place.path(), 0);
    work(place.path(), 0, |_| {}).await.expect("the first round is not disturbed");
    let before = held(&pipeline().open(corpus_in(place.path())).await.expect("a corpus")).await;
    Some((place, library, before))
}

#[tokio::test]
async fn a_corpus_on_a_full_disk_can_be_read() {
    let Some((place, library, _)) = prepared().await else { return };
    let job = (LOOK, place.path().display().to_string());
    let output = faulty(&library, place.path(), job, ("FAULTS_FULL_AFTER", "0".to_owned())).output().expect("it runs");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stdout));
}

#[tokio::test]
async fn a_full_disk_loses_nothing_and_says_so() {
    let Some((place, library, before)) = prepared().await else { return };
    let folder = place.path();
    let (mut full, mut random) = (0, Random(3));
    for round in 1..=20 {
        write_documents(folder, round);
        let room = random.below(100) * random.below(8_000);
        let job = (WORK, format!("{}#{round}", folder.display()));
        let mut worker = faulty(&library, folder, job, ("FAULTS_FULL_AFTER", room.to_string()));
        let output = worker.stderr(std::process::Stdio::piped()).output().expect("it runs");
        if !output.status.success() {
            full += 1;
            let message = String::from_utf8_lossy(&output.stderr);
            assert!(message.contains("full") || message.contains("No space"), "round {round}: {message}");
        }
        let corpus = pipeline().open(corpus_in(folder)).await.expect("the corpus opens");
        corpus.verify().await.expect("its checksums agree");
        whole(&corpus).await;
    }
    assert!(full > 5, "the disk was full {full} times");
    work(folder, 20, |_| {}).await.expect("there is room again");
    let corpus = pipeline().open(corpus_in(folder)).await.expect("the corpus opens");
    let after = held(&corpus).await;
    assert_eq!(after, undisturbed(folder, 20).await);
    assert_ne!(after, before);
}

#[tokio::test]
async fn a_folder_that_cannot_be_written_is_read_and_a_build_says_so() {
    let Some((place, library, before)) = prepared().await else { return };
    let folder = place.path();
    write_documents(folder, 1);
    let read_only = |variable: &str, value: String| {
        let mut worker = faulty(&library, folder, (variable, value), ("FAULTS_READ_ONLY", "1".to_owned()));
        worker.stderr(std::process::Stdio::piped()).spawn().expect("it runs")
    };
    let output = read_only(WORK, format!("{}#1", folder.display())).wait_with_output().expect("it ends");
    let message = String::from_utf8_lossy(&output.stderr);
    assert!(!output.status.success() && message.contains("cannot be written"), "{message}");
    // A reader needs to write nothing.
    let mut reader = read_only(READ, folder.display().to_string());
    let since = Instant::now();
    let looked = || fs::metadata(folder.join("looks")).is_ok_and(|looks| looks.len() > 0);
    while !looked() && since.elapsed() < Duration::from_secs(60) {
        assert_eq!(reader.try_wait().expect("it can be asked"), None, "the reader saw an error");
        std::thread::sleep(Duration::from_millis(20));
    }
    reader.kill().expect("it can be killed");
    reader.wait().expect("it ends");
    assert!(looked(), "it read");
    assert_eq!(held(&pipeline().open(corpus_in(folder)).await.expect("a corpus")).await, before);
}

#[tokio::test]
async fn two_who_write_at_once_are_told_so() {
    let place = tempfile::tempdir().expect("a temporary folder");
    let folder = place.path();
    write_documents(folder, 0);
    work(folder, 0, |_| {}).await.expect("the first round is not disturbed");
    let held_lock = fs::File::open(corpus_in(folder).join("writer.lock")).expect("the lock's file");
    held_lock.try_lock().expect("nobody writes");
    let corpus = pipeline().open(corpus_in(folder)).await.expect("the corpus opens");
    let errors = [
        corpus.build(folder.join("docs")).await.err(),
        corpus.upsert([logothete::OwnChunk::new("a", "b")]).await.err(),
        corpus.forget("own/1").await.err(),
        corpus.remove("own/1").await.err(),
        corpus.compact().await.err(),
    ];
    assert!(
        errors.iter().all(|error| error.as_ref().is_some_and(|error| error.kind() == ErrorKind::Busy)),
        "{errors:?}"
    );
    drop(held_lock);
    corpus.compact().await.expect("nobody writes");
}
