//! Listing files and folders.

use std::fs;
use std::os::unix::fs::symlink;

use logothete::{ErrorKind, list};
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
    let listing = list(root).expect("a listing");
    let paths: Vec<&str> = listing.items.iter().map(|item| item.path.as_str()).collect();
    assert_eq!(paths, ["a/z.md", "b.txt", "ü/é.txt"]);
    assert!(listing.whole && listing.failed.is_empty());
}

#[test]
fn a_loop_of_links_ends_and_is_not_a_whole_listing() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    fs::write(folder.path().join("a.txt"), "x").expect("a file");
    symlink(folder.path(), folder.path().join("again")).expect("a link");
    let listing = list(folder.path()).expect("a listing");
    assert_eq!(listing.items.len(), 1);
    assert!(!listing.whole && listing.failed.len() == 1);
    assert!(listing.failed[0].1.contains("is a link back to"), "{:?}", listing.failed);
}

#[test]
fn a_file_is_its_own_listing() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    fs::write(folder.path().join("a.txt"), "x").expect("a file");
    let listing = list(&folder.path().join("a.txt")).expect("a listing");
    assert_eq!((listing.items.len(), listing.items[0].path.as_str(), listing.whole), (1, "a.txt", false));
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
    let error = list(&folder.path().join(wanted)).expect_err("it is missing");
    assert_eq!(error.kind(), ErrorKind::NotFound);
    match expected {
        Some(name) => assert!(error.to_string().contains(&format!("/{name}?")), "{error}"),
        None => assert!(!error.to_string().contains("did you mean"), "{error}"),
    }
}
