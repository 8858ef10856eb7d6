//! What is said twice, as the command shows it.

use std::fs;

use crate::common::{folder, run, settled};

const RULES: &str = "# Mooring rules\n\nMooring lines must be tended at every turn of the tide. A vessel may not leave her berth \
    while the storm signal is shown. Fenders are to be hung before a tug comes alongside.\n";

#[test]
fn one_passage_with_all_its_places() {
    let folder = folder();
    let docs = folder.path().join("docs");
    fs::create_dir(&docs).expect("a folder");
    fs::write(docs.join("handbook.md"), RULES).expect("a file");
    fs::write(docs.join("poster.md"), RULES.replace("Mooring lines", "MOORING LINES")).expect("a file");
    fs::write(docs.join("seals.md"), "# Seals\n\nSeals sleep on the pontoon.\n").expect("a file");
    let shown = |arguments: &[&str]| {
        let ran = run(folder.path(), arguments);
        assert_eq!((ran.code, ran.err.as_str()), (0, ""), "{}", ran.out);
        settled(&ran.out, folder.path())
    };
    let all = [
        shown(&["build", "docs"]),
        shown(&["show"]),
        shown(&["search", "fenders", "--count", "1"]),
        shown(&["ask", "When are fenders to be hung?"]),
        shown(&["ask", "When are fenders to be hung?", "--json"]),
    ];
    insta::assert_snapshot!("repeats", all.join("\n────\n"));
}
