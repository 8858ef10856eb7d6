//! Pages about answers: complete, in themselves, and harmless whatever the documents say.

mod evaluations;

use logothete::{MemorySource, Pipeline, Reply, SearchRequest};
use logothete_report::{SourcePage, trace_page};
use logothete_simulator::ScriptedGenerator;
use proptest::prelude::*;

const QUESTION: &str = "How deep is Berth 7, and when does the bridge open?";

async fn reply(text: &str, with_model: bool) -> Reply {
    let pipeline = match with_model {
        true => Pipeline::default().with_generator(ScriptedGenerator::answers()),
        false => Pipeline::default(),
    };
    let corpus = pipeline.in_memory().await.expect("a corpus");
    let bridge = "# Bridge\n\nThe bridge does open on the hour. Vehicles wait.";
    corpus.build(MemorySource::new("papers").with("berths.md", text).with("bridge.md", bridge)).await.expect("a build");
    corpus.ask(SearchRequest::new(QUESTION).traced()).await.expect("an answer")
}

/// Returns the names of the elements of a page.
fn elements(page: &str) -> Vec<String> {
    let names = page.split('<').skip(1).map(|rest| rest.split([' ', '>', '\n', '/']).find(|name| !name.is_empty()));
    let mut names: Vec<String> = names.flatten().map(str::to_owned).collect();
    names.sort();
    names.dedup();
    names
}

/// Returns the elements of a page that no page should have.
fn unknown(page: &str) -> Vec<String> {
    elements(page).into_iter().filter(|name| !KNOWN.contains(&name.as_str())).collect()
}

const KNOWN: [&str; 46] = [
    "!doctype",
    "a",
    "b",
    "blockquote",
    "body",
    "br",
    "circle",
    "details",
    "div",
    "em",
    "figcaption",
    "figure",
    "h1",
    "h2",
    "h3",
    "head",
    "header",
    "html",
    "i",
    "input",
    "label",
    "li",
    "line",
    "main",
    "mark",
    "meta",
    "ol",
    "p",
    "path",
    "polygon",
    "polyline",
    "pre",
    "rect",
    "section",
    "span",
    "strong",
    "style",
    "summary",
    "svg",
    "table",
    "td",
    "text",
    "th",
    "title",
    "tr",
    "ul",
];

#[tokio::test]
async fn a_page_has_everything_of_a_models_answer() {
    let reply = reply("# Berths\n\nBerth 7 is 7.9 metres deep. It is not used at night.", true).await;
    let page = trace_page(&reply, &reply.passages, &[]);
    for part in ["Claims", "Sources", "Timeline", "Passages", "Prompt as sent", "Reply as written"] {
        assert!(page.contains(&format!("<h2>{part}</h2>")), "{part}");
    }
    assert!(page.contains("id=\"source-1\"") && page.contains("href=\"#source-1\""));
    assert!(page.contains("You answer questions from passages") && page.contains("written by answers by script"));
    assert!(page.contains("<mark>Berth</mark>") && page.contains("prefers-color-scheme: dark"));
    assert!(!page.contains("http://") && !page.contains("https://"), "nothing is fetched");
}

#[tokio::test]
async fn a_page_of_an_extractive_answer_leaves_out_what_there_is_not() {
    let reply = reply("# Berths\n\nBerth 7 is 7.9 metres deep.", false).await;
    let page = trace_page(&reply, &[], &[]);
    assert!(page.contains("made of sentences of the documents") && page.contains("<h2>Sources</h2>"));
    assert!(!page.contains("<h2>Prompt as sent</h2>") && !page.contains("<h2>Passages</h2>"));
}

#[tokio::test]
async fn cited_lines_are_marked_on_the_page() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/documents/byelaws.pdf");
    let corpus = Pipeline::default().in_memory().await.expect("a corpus");
    corpus.build(path).await.expect("a build");
    let request = SearchRequest::new("What draught may enter the North Channel at low water?").traced();
    let reply = corpus.ask(request).await.expect("an answer");
    let source = &reply.answer.sources[0].location;
    let document = corpus.parsed(&source.document).await.expect("a document");
    let page = SourcePage::new(&document, source.areas[0].page).expect("a page with lines");
    assert!(SourcePage::new(&document, 999).is_none());
    let html = trace_page(&reply, &[], &[page]);
    assert_eq!(html.matches("<svg").count(), 1);
    assert!(
        html.contains("<rect class=\"cited\"") && html.contains("within ninety minutes of low water.</text>"),
        "the lines are text"
    );
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn no_document_becomes_markup(
        evil in "(<script>|</style>|\"><img src=x>|&#60;|<!--|\\]\\]>|'|[a-z ]{1,6}|\u{202e}|\\[1\\]){1,8}"
    ) {
        let text = format!("# Berths {evil}\n\nBerth 7 is 7.9 metres deep {evil}.");
        let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
        for with_model in [false, true] {
            let reply = runtime.block_on(reply(&text, with_model));
            let page = trace_page(&reply, &reply.passages, &[]);
            prop_assert!(unknown(&page).is_empty(), "{:?}", unknown(&page));
            let ends = page.matches("</style>").count();
            prop_assert_eq!(ends, 1);
            let reordered = page.contains('\u{202e}');
            prop_assert!(!reordered);
        }
    }
}
