//! HTML pages and tables in text.

use logothete_core::document::{BlockKind, Document, Row, Value};
use logothete_parse::parse;
use proptest::prelude::*;
use rstest::rstest;

fn kinds(document: &Document) -> Vec<(BlockKind, &str)> {
    document.blocks.iter().map(|block| (block.kind, document.block_text(block))).collect()
}

fn html(body: &str) -> Document {
    parse("page.html", format!("<!doctype html><html lang=en><body>{body}</body></html>").as_bytes()).expect("a page")
}

/// The rows of the first table that can be read alone.
fn rows_alone(document: &Document) -> Vec<String> {
    let table = document.blocks.iter().find_map(|block| block.table.as_ref()).expect("a table");
    (0..table.rows.len()).filter_map(|row| table.row_alone(&document.text, row)).collect()
}

#[test]
fn the_content_is_found_among_what_surrounds_it() {
    let page = r#"<html lang="en-GB"><head><title> Pilotage &amp; tugs </title><meta name=author content="Harbour office">
        <style>p {color: red}</style><script>var tide = 1 < 2;</script></head>
        <body><header><a href=/>Home</a> <nav>Menu</nav></header>
        <main><h1>Pilotage</h1><p>A pilot is <b>com</b>pulsory&nbsp;here.<br>Order one early.</p>
        <ul><li>By radio<li>By <a href="tel:1">telephone</a></ul>
        <blockquote><p>Wait for the tide.</p></blockquote><pre>
VHF 9
  VHF 14
</pre><aside>Advertisement</aside><form>Search <input></form></main>
        <footer>All rights reserved</footer></body></html>"#;
    let document = parse("p.html", page.as_bytes()).expect("a page");
    assert_eq!(document.title.as_deref(), Some("Pilotage & tugs"));
    assert_eq!(document.metadata["language"], Value::Text("en-GB".into()));
    assert_eq!(document.metadata["author"], Value::Text("Harbour office".into()));
    assert_eq!(
        kinds(&document),
        [
            (BlockKind::Heading, "Pilotage"),
            (BlockKind::Paragraph, "A pilot is compulsory here. Order one early."),
            (BlockKind::ListItem, "By radio"),
            (BlockKind::ListItem, "By telephone"),
            (BlockKind::Quotation, "Wait for the tide."),
            (BlockKind::Code, "VHF 9\n  VHF 14"),
        ]
    );
}

#[test]
fn a_page_without_a_marked_content_is_its_body_less_the_surroundings() {
    let document = html(
        "<nav>Menu</nav><div>One.<div>Two.</div>Three.</div><div role=contentinfo>Imprint</div><p hidden>Secret</p>",
    );
    assert_eq!(document.text, "One.\n\nTwo.\n\nThree.");
    let document = html("<article><h2>A</h2><p>First.</p></article><article><h2>B</h2><p>Second.</p></article>");
    assert!(document.text.contains("First.") && document.text.contains("Second."), "several articles are one list");
}

#[test]
fn signs_of_permalinks_are_no_part_of_headings() {
    let document = html(
        "<h1>Tides<a class=headerlink href='#tides' title='Permalink'>¶</a></h1><p>High <a href='#note'>water</a>.</p>
         <h2><a href='#low'>#</a> Low water</h2><p>Berth <a href='#x'>7</a>.</p><h3>Berth #7 <a href='#b'>🔗</a></h3><p>Deep.</p>",
    );
    let headings: Vec<&str> =
        document.blocks.iter().filter(|block| block.level > 0).map(|block| document.block_text(block)).collect();
    assert_eq!(headings, ["Tides", "Low water", "Berth #7"]);
    assert!(document.text.contains("High water.") && document.text.contains("Berth 7."), "{}", document.text);
}

#[test]
fn tables_keep_their_cells_and_names_of_columns() {
    let document = html(
        "<table><caption>Berths</caption><thead><tr><th>Berth<th>Quay<th>Length</tr></thead>
         <tr><td>Berth 1<td rowspan=2>Fish Quay<td>55<tr><td>Berth 2<td>48<tr><td colspan=2>Spare<td>9</table>",
    );
    assert_eq!(document.block_text(&document.blocks[0]), "Berths");
    assert_eq!(
        rows_alone(&document),
        ["Berth 1 · Quay: Fish Quay · Length: 55", "Berth 2 · Quay: Fish Quay · Length: 48", "Spare · Length: 9"]
    );
    let layout = html("<table><tr><td><p>Left words.</p><td><table><tr><td>a<td>b<tr><td>c<td>d</table></table>");
    assert_eq!(layout.blocks[0].kind, BlockKind::Paragraph);
    assert_eq!(layout.blocks[1].kind, BlockKind::Table);
}

#[rstest]
#[case("<p>One<p>Two</div></b><li>Three", "One\n\nTwo\n\nThree")]
#[case("<b><i>Crossed</b> over</i> &copy; &#8212; &unknown;", "Crossed over © — &unknown;")]
#[case("a<!-- comment -->b", "ab")]
fn broken_pages_are_read_as_browsers_read_them(#[case] body: &str, #[case] expected: &str) {
    assert_eq!(html(body).text, expected);
}

#[test]
fn a_page_nested_deep_keeps_its_words_and_one_without_end_is_refused() {
    let deep = |levels: usize| "<div>".repeat(levels) + "the last word";
    assert_eq!(html(&deep(1_000)).text, "the last word");
    for without_end in [deep(60_000), "<div></span></p>".repeat(60_000), "<b><i></b>".repeat(60_000)] {
        let error = parse("a.html", ("<html>".to_owned() + &without_end).as_bytes()).expect_err("too deep");
        assert!(error.to_string().contains("more than 2000 elements inside one another"), "{error}");
    }
    assert_eq!(html(&"<p>word<li>item".repeat(3_000)).blocks.len(), 6_000, "what needs no end is not nested");
    let spans =
        "<table><tr>".to_owned() + &"<td rowspan=99999999 colspan=99999999>x</td>".repeat(4) + "<tr><td>y<td>z</table>";
    assert!(html(&spans).text.len() < 100_000);
}

#[rstest]
#[case("page.txt", "<!DOCTYPE html><p>Words", "text/html")]
#[case("page.html", "Words without any mark", "text/html")]
#[case("note.md", "Words <b>and</b> marks", "text/markdown")]
#[case("a.csv", "a,b\n1,2", "text/csv")]
#[case("a.tsv", "a\tb\n1\t2", "text/tab-separated-values")]
fn content_first_and_the_name_second(#[case] name: &str, #[case] text: &str, #[case] expected: &str) {
    assert_eq!(parse(name, text.as_bytes()).expect("readable").media_type, expected);
}

#[test]
fn a_page_that_only_a_script_writes_says_so() {
    let error =
        parse("a.html", b"<html><body><div id=app></div><script>run()</script></body></html>").expect_err("no text");
    assert!(error.to_string().contains("save the page from a browser"), "{error}");
}

#[rstest]
#[case("Berth,Length\n\"Berth 1, inner\",55\nBerth 2,48\n", &["Berth 1, inner · Length: 55", "Berth 2 · Length: 48"])]
#[case("Berth;Length\r\nBerth 1;5,5\r\nBerth 2;4,8\r\n", &["Berth 1 · Length: 5,5", "Berth 2 · Length: 4,8"])]
#[case("Berth\tLength\nBerth 1\t55\n", &["Berth 1 · Length: 55"])]
#[case("Berth|Length\nBerth 1|55\n", &["Berth 1 · Length: 55"])]
#[case("1,2\n3,4\n", &["1 · 2", "3 · 4"])]
#[case("Name,Note\nAnn,\"two\nlines\"\n", &["Ann · Note: two lines"])]
fn dialects_and_headers_are_found(#[case] text: &str, #[case] expected: &[&str]) {
    assert_eq!(rows_alone(&parse("t.csv", text.as_bytes()).expect("rows")), expected);
}

#[test]
fn uneven_rows_are_kept_and_said() {
    let document = parse("t.csv", b"a,b,c\n1,2,3\n4\n5,6,7\n").expect("rows");
    assert_eq!(document.warnings, ["1 of 4 rows have fewer fields than the broadest, which has 3"]);
    assert!(parse("t.csv", b",,\n,,\n").is_err());
}

proptest! {
    #[test]
    fn any_markup_is_read_or_refused(markup in "(<(p|div|li|ul|table|tr|td|th|h2|pre|b|main|nav|br|/p|/div|/table|/main)( rowspan=3)?>|words |&amp;|<!--|-->|<|>){0,60}") {
        if let Ok(document) = parse("a.html", markup.as_bytes()) {
            prop_assert!(document.blocks.iter().all(|block| block.span.end <= document.text.len()));
        }
    }

    #[test]
    fn any_cells_come_back(delimiter in "[,;\t|]", rows in prop::collection::vec(prop::collection::vec("[a-z]{1,5}[0-9]?", 3), 2..12)) {
        let text: Vec<String> = rows.iter().map(|row| row.join(&delimiter)).collect();
        let document = parse("a.csv", text.join("\n").as_bytes()).expect("rows");
        let table = document.blocks[0].table.as_ref().expect("a table");
        let cells = |row: &Row| row.cells.iter().map(|cell| document.slice(*cell).to_owned()).collect::<Vec<_>>();
        prop_assert_eq!(table.rows.iter().map(cells).collect::<Vec<_>>(), rows);
    }
}
