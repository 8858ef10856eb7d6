//! Corpora of other pipelines beside one, and settings that are tuned.

use std::fs;
use std::path::Path;
use std::sync::{Arc, Mutex};

use logothete::corpus::TuneRequest;
use logothete::eval::{SetQuestion, Tried, read_questions};
use logothete::{BuildReport, BuildRequest, Corpus, ErrorKind, Hashing, MemorySource, Pipeline};

/// A pipeline without a network, which cuts chunks of up to some words.
fn cutting(words: usize) -> Pipeline {
    Pipeline::default()
        .with_encoder(Hashing::new(96).expect("settings"))
        .configured(|config| config.chunk.limit = Some(words))
}

/// A corpus of twenty notices of two paragraphs each.
async fn notices(folder: &Path) -> Corpus {
    fs::create_dir(folder.join("notices")).expect("a folder");
    for number in 1..=20 {
        let light = format!("The lamp of buoy {number} is lit at dusk and put out when the morning gun is fired.");
        let bell = format!("The bell of buoy {number} rings in fog, and the watch writes down when it was heard.");
        let text = format!("# Buoy {number}\n\n{light}\n\n{bell}\n");
        fs::write(folder.join(format!("notices/{number:02}.md")), text).expect("a file");
    }
    let corpus = cutting(60).open(folder.join("c")).await.expect("a corpus");
    corpus.build(folder.join("notices")).await.expect("a build");
    corpus
}

fn questions() -> Vec<SetQuestion> {
    let line = |number: usize| {
        format!(
            "{{\"id\": \"{number}\", \"question\": \"When is the lamp of buoy {number} lit?\", \"relevant\": [{{\"document\": \"{number:02}.md\"}}]}}\n"
        )
    };
    read_questions(&(1..=20).map(line).collect::<String>()).expect("questions")
}

#[tokio::test]
async fn a_variant_takes_from_the_cache_what_it_has() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = notices(folder.path()).await;
    let (variant, built) = corpus.variant(&cutting(25), BuildRequest::default()).await.expect("a variant");
    assert_eq!((built.added, variant.info().await.expect("facts").documents.len()), (20, 20));
    assert!(built.chunks > 20 && built.encoded > 0, "{built:?}");
    assert_eq!(corpus.info().await.expect("facts").chunks, 20);
    // Another way to cut that makes the same texts encodes none of them again.
    let (_, built) = corpus.variant(&cutting(24), BuildRequest::default()).await.expect("a variant");
    assert_eq!((built.encoded, built.added), (0, 20), "{built:?}");
    let (again, built) = corpus.variant(&cutting(25), BuildRequest::default()).await.expect("a variant");
    assert_eq!((built.unchanged, built.encoded, again.folder()), (20, 0, variant.folder()));
    // What a build does not depend on needs no other corpus.
    let searching = cutting(60).configured(|config| config.search.passages = 3);
    let (same, built) = corpus.variant(&searching, BuildRequest::default()).await.expect("a variant");
    assert_eq!((same.folder(), built), (corpus.folder(), BuildReport::default()));
    corpus.compact().await.expect("compact");
    assert!(!folder.path().join("c/variants").exists());
}

#[tokio::test]
async fn a_corpus_in_memory_has_no_variants() {
    let corpus = cutting(60).in_memory().await.expect("a corpus");
    corpus.build(MemorySource::new("m").with("a.md", "A bell.")).await.expect("a build");
    let error = corpus.variant(&cutting(25), BuildRequest::default()).await.expect_err("no folder");
    assert_eq!(error.kind(), ErrorKind::InvalidRequest);
}

#[tokio::test]
async fn tuning_that_is_stopped_keeps_the_best_so_far() {
    let folder = tempfile::tempdir().expect("a folder");
    let corpus = notices(folder.path()).await;
    let tried =
        |key: &str, values: [&str; 2]| Tried { key: key.to_owned(), values: values.map(str::to_owned).to_vec() };
    let settings = vec![tried("search.vector", ["0", "2"]), tried("chunk.limit", ["25", "30"])];
    let told: Arc<Mutex<Vec<String>>> = Arc::default();
    let request = TuneRequest::new(settings).measure("mrr");
    let stop = request.stop_token();
    let request = request.on_choice({
        let told = told.clone();
        move |number, name, mean| {
            assert!((0.0..=1.0).contains(&mean));
            told.lock().expect("the list").push(name.to_owned());
            if number == 4 {
                stop.stop();
            }
        }
    });
    let tuning = corpus.tune(&questions(), &request).await.expect("a choice");
    assert!(tuning.stopped && tuning.tuned.choices == 4, "{tuning:?}");
    let told = told.lock().expect("the list").clone();
    assert_eq!(told[..3], ["", "search.vector=0", "search.vector=2"]);
    assert!(told[3].ends_with("chunk.limit=25"), "{told:?}");
    assert_eq!((tuning.tuned.questions, tuning.tuned.documents, tuning.tuned.folds), (20, 20, 5));
    assert!(tuning.tuned.after + 1e-9 >= tuning.tuned.before);
}
