//! Listing files and folders.

use std::fs;
use std::os::unix::fs::symlink;
use std::sync::Arc;

use logothete::source::{Content, Item, Items};
use logothete::{BoxFuture, Error, ErrorKind, FolderSource, Pipeline, Result, Source};
use rstest::rstest;

#[test]
fn a_folder_is_listed_in_order_without_what_is_hidden_or_a_corpus() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let root = folder.path();
    for name in
        ["b.txt", "a/z.md", "a/.hidden", ".git/config", "my.corpus/corpus.db", "my.corpus/segments/x", "ü/é.txt"]
    {
        let path = root.join(name);
        fs::create_dir_all(path.parent().expect("a parent")).expect("a folder");
        fs::write(path, "x").expect("a file");
    }
    fs::write(root.join(".gitignore"), "b.txt").expect("a file");
    let (items, failed) = listed(&FolderSource::new(root).expect("a source"));
    assert_eq!(paths(&items), ["a/z.md", "b.txt", "ü/é.txt"]);
    assert!(failed.is_empty());
}

fn listed(source: &FolderSource) -> (Vec<Item>, Vec<Error>) {
    let (good, bad): (Vec<_>, Vec<_>) = source.walk().partition(Result::is_ok);
    (good.into_iter().flatten().collect(), bad.into_iter().filter_map(Result::err).collect())
}

fn paths(items: &[Item]) -> Vec<&str> {
    items.iter().map(|item| item.path.as_str()).collect()
}

#[rstest]
#[case(&[], &[], &["a/log.txt", "a/map.pdf", "drafts/old.txt", "rules.pdf"], true)]
#[case(&["*.pdf"], &[], &["a/map.pdf", "rules.pdf"], false)]
#[case(&[], &["drafts/"], &["a/log.txt", "a/map.pdf", "rules.pdf"], false)]
#[case(&["*.txt"], &["**/old*"], &["a/log.txt"], false)]
#[case(&["/a/**"], &[], &["a/log.txt", "a/map.pdf"], false)]
fn patterns_choose_files(
    #[case] include: &[&str],
    #[case] exclude: &[&str],
    #[case] expected: &[&str],
    #[case] whole: bool,
) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    for name in ["a/log.txt", "a/map.pdf", "drafts/old.txt", "rules.pdf"] {
        let path = folder.path().join(name);
        fs::create_dir_all(path.parent().expect("a parent")).expect("a folder");
        fs::write(path, "x").expect("a file");
    }
    let owned = |patterns: &[&str]| patterns.iter().map(|pattern| (*pattern).to_owned()).collect::<Vec<_>>();
    let source = FolderSource::new(folder.path()).expect("a source");
    let source = source.filtered(&owned(include), &owned(exclude)).expect("patterns");
    assert_eq!(paths(&listed(&source).0), expected);
    assert_eq!(source.is_whole(), whole);
}

#[test]
fn a_pattern_that_makes_no_sense_is_named() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let source = FolderSource::new(folder.path()).expect("a source");
    let error = source.filtered(&["a[".to_owned()], &[]).expect_err("it is open");
    assert_eq!(error.kind(), ErrorKind::Configuration);
    assert!(error.message().contains("a["), "{error}");
}

#[test]
fn a_loop_of_links_ends_and_is_not_a_whole_listing() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    fs::write(folder.path().join("a.txt"), "x").expect("a file");
    symlink(folder.path(), folder.path().join("again")).expect("a link");
    let (items, failed) = listed(&FolderSource::new(folder.path()).expect("a source"));
    assert_eq!(items.len(), 1);
    assert_eq!(failed.len(), 1);
    assert!(
        failed[0].message().contains("this link leads back to") && failed[0].place() == Some("again"),
        "{failed:?}"
    );
}

#[test]
fn a_file_is_its_own_listing() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    fs::write(folder.path().join("a.txt"), "x").expect("a file");
    let source = FolderSource::new(folder.path().join("a.txt")).expect("a source");
    assert_eq!(paths(&listed(&source).0), ["a.txt"]);
    assert!(!source.is_whole());
}

#[rstest]
#[case("notces", Some("notices"))]
#[case("Notices/jan", Some("notices"))]
#[case("notices/febuary.md", Some("notices/february.md"))]
#[case("quite-another-name", None)]
fn a_missing_path_suggests_the_nearest_name(#[case] wanted: &str, #[case] expected: Option<&str>) {
    let folder = tempfile::tempdir().expect("a temporary folder");
    fs::create_dir(folder.path().join("notices")).expect("a folder");
    fs::write(folder.path().join("notices/february.md"), "x").expect("a file");
    let error = FolderSource::new(folder.path().join(wanted)).expect_err("it is missing");
    assert_eq!(error.kind(), ErrorKind::NotFound);
    match expected {
        Some(name) => assert!(error.to_string().contains(&format!("/{name}?")), "{error}"),
        None => assert!(!error.to_string().contains("did you mean"), "{error}"),
    }
}

/// A source that names its items by their paths alone.
struct Paths(Vec<&'static str>);

impl Source for Paths {
    fn location(&self) -> String {
        "paths".to_owned()
    }

    fn items(&self) -> BoxFuture<'_, Result<Items>> {
        let items: Vec<Result<Item>> =
            self.0.iter().map(|path| Ok(Item { path: (*path).to_owned(), ..Item::default() })).collect();
        Box::pin(async move { Ok(Box::new(items.into_iter()) as Items) })
    }

    fn read<'a>(&'a self, item: &'a Item, _: u64) -> BoxFuture<'a, Result<Content>> {
        let bytes = format!("# {}\n\nThe bell of {} is rung in fog.", item.path, item.path).into_bytes();
        Box::pin(async move { Ok(Content { bytes, media_type: None }) })
    }
}

#[tokio::test]
async fn items_without_a_place_are_told_apart_by_their_paths() {
    let corpus = Pipeline::default().in_memory().await.expect("a corpus");
    let report = corpus.build(Arc::new(Paths(vec!["a.md", "b.md", "c.md"]))).await.expect("a build");
    assert_eq!((report.added, report.failed.len()), (3, 0));
    let report = corpus.build(Arc::new(Paths(vec!["a.md", "c.md", "d.md"]))).await.expect("a build");
    assert_eq!((report.added, report.unchanged, report.removed), (1, 2, 1));
}
