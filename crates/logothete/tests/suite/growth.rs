//! Neither questions, nor what users write, nor cutting take time by the square of what they are given.

#[path = "../../../parse/tests/suite/growth/harness.rs"]
mod harness;

use harness::Work;
use logothete::chunk::{self, ByPage, Sentences, Structure, Window};
use logothete::document::{BlockKind, Document, DocumentBuilder};
use logothete::eval::{read_qrels, read_questions, read_run};
use logothete::prompt::PastTurn;
use logothete::quantity::{Notation, numbers};
use logothete::query::{Question, abbreviated, question_parts, question_terms, standing_alone, synonyms};
use logothete::search::{Filter, SearchRequest};
use logothete::text::{dates, sentences};
use logothete::verify::{Judge, cited_claims};
use logothete::{BuildRequest, Corpus, Hashing, MemorySource, Pipeline, keyword::Query};

#[rustfmt::skip]
const ALL: &[Work] = &[
    ("question", 800, |n| question(&words(n))),
    ("question of one word", 400, |n| question(&"a".repeat(n))),
    ("question of many questions", 60, |n| question(&"Who rings the bell, and when is the lock shut? ".repeat(n))),
    ("search", 100, |n| search(&words(n))),
    ("ask", 100, |n| ask(&format!("Who rings {}?", words(n)))),
    ("search of many words at once", 100, |n| search(&format!("+{}", words(n).replace(' ', " +")))),
    ("filter", 200, |n| drop(Filter::parse(&(0..n).map(|at| format!("number = {at}")).collect::<Vec<_>>().join(" or ")))),
    ("query", 400, |n| drop(Query::parse(&format!("\"{}\" -{}", words(n), words(n).replace(' ', " -"))))),
    ("set of questions", 100, |n| assert!(read_questions(&(0..n).map(|at| format!("{{\"id\": \"q{at}\", \"question\": \"Who?\", \"relevant\": [{{\"document\": \"a.md\"}}]}}\n")).collect::<String>()).is_ok())),
    ("judgements", 200, |n| assert!(read_qrels(&(0..n).map(|at| format!("q{} 0 d{at} 1\n", at / 9)).collect::<String>()).is_ok())),
    ("run", 200, |n| assert!(read_run(&(0..n).map(|at| format!("q{} Q0 d{at} {at} {at} x\n", at / 9)).collect::<String>()).is_ok())),
    ("sentences", 200, |n| drop(sentences(&"The bell is rung. ".repeat(n)))),
    ("sentences of marks", 2_000, |n| drop(sentences(&"(\"".repeat(n)))),
    ("dates", 200, |n| drop(dates(&"27 May 2025 and ".repeat(n)))),
    ("numbers", 200, |n| drop(numbers(&"7.6 m, 1,234 and ".repeat(n), Notation::default()))),
    ("claims", 100, |n| drop(cited_claims(&"The bell is rung [1]. ".repeat(n)))),
    ("claim", 160, |n| judged(&words(n), "The bell is rung at berth 7.")),
    ("claim of names", 1_600, |n| judged(&"Ebel met Orm and ".repeat(n), "Orm met Ebel at the lock.")),
    ("source of names", 400, |n| judged("Ebel met Orm at the lock.", &"Orm met Ebel and ".repeat(n))),
    ("source", 40, |n| judged("The bell is rung at berth 7.", &"The lock is shut at night. ".repeat(n))),
    ("paragraphs", 60, |n| cut(&document(n, "The bell is rung in fog.", 0))),
    ("headings", 60, |n| cut(&document(n, "The bell is rung in fog.", 1))),
    ("headings in headings", 60, |n| cut(&nested(n))),
    ("one long paragraph", 60, |n| cut(&document(1, &"The bell is rung in fog. ".repeat(n), 0))),
    ("one long word", 3_200, |n| cut(&document(1, &"bell".repeat(n), 0))),
    ("a long heading", 60, |n| cut(&long_heading(n))),
    ("table", 60, |n| cut(&table(n))),
    ("Markdown of a document", 100, |n| drop(document(n, "The bell | is rung.", 1).to_markdown())),
];

harness::assert_growth!(ALL);

/// Words that are not all the same.
fn words(count: usize) -> String {
    const SOME: [&str; 7] = ["berth", "and", "Bell", "7.6", "locks", "of", "Marrowby"];
    (0..count).map(|at| format!("{}{}", SOME[at % 7], at / 21)).collect::<Vec<_>>().join(" ")
}

fn question(text: &str) {
    let _ = (Question::new(text, |_| 1.0), question_terms(text), abbreviated(text));
    let _ = (question_parts(text).len(), synonyms(text, &[vec!["lock".to_owned(), "gate".to_owned()]]));
    let mut turn = PastTurn::default();
    text.clone_into(&mut turn.question);
    let _ = standing_alone(&format!("and {text}"), &[turn]);
}

fn search(query: &str) {
    with_corpus(async |corpus| drop(corpus.search(SearchRequest::new(query)).await.expect("a search")));
}

fn ask(question: &str) {
    with_corpus(async |corpus| drop(corpus.ask(SearchRequest::new(question)).await.expect("an answer")));
}

fn with_corpus(work: impl AsyncFnOnce(&Corpus)) {
    tokio::runtime::Builder::new_current_thread().build().expect("a runtime").block_on(async {
        let pipeline = Pipeline::default().with_encoder(Hashing::new(16).expect("settings"));
        let corpus = pipeline.in_memory().await.expect("a corpus");
        let source = MemorySource::new("notices").with("a.md", "# Bells\n\nThe bell of berth7 is rung in fog.");
        corpus.build(BuildRequest::default().source(source)).await.expect("a build");
        work(&corpus).await;
    });
}

fn judged(claim: &str, source: &str) {
    let hashing = Hashing::new(16).expect("settings");
    let spans = sentences(source);
    let all: Vec<&str> = spans.iter().map(|span| &source[span.range()]).collect();
    let _ = Judge::new(&hashing).hold_against(claim, &all).expect("a judgement");
}

fn cut(document: &Document) {
    let all: [&dyn chunk::Chunker; 4] =
        [&Structure::default(), &Window::default(), &Sentences::default(), &ByPage::default()];
    for chunker in all {
        let _ = chunk::chunks(document, "quay", chunker).expect("chunks");
    }
}

fn document(count: usize, text: &str, level: u8) -> Document {
    let mut builder = DocumentBuilder::new("a.txt", "text/plain");
    for number in 0..count {
        if level > 0 {
            builder.heading(level, &format!("Section {number}"));
        }
        builder.block(BlockKind::Paragraph, text);
    }
    builder.finish()
}

fn nested(count: usize) -> Document {
    let mut builder = DocumentBuilder::new("a.txt", "text/plain");
    for number in 0..count {
        builder.heading((number % 6 + 1) as u8, &format!("Section {number}"));
    }
    builder.block(BlockKind::Paragraph, "The bell is rung in fog.");
    builder.finish()
}

/// One heading over many paragraphs, both the longer the more there are.
fn long_heading(count: usize) -> Document {
    let mut builder = DocumentBuilder::new("a.txt", "text/plain");
    builder.heading(1, &"Bells ".repeat(count));
    (0..count).for_each(|_| builder.block(BlockKind::Paragraph, "The bell is rung in fog."));
    builder.finish()
}

fn table(count: usize) -> Document {
    let mut builder = DocumentBuilder::new("a.csv", "text/csv");
    let rows: Vec<Vec<String>> = (0..count).map(|row| vec![format!("berth {row}"), "8.4".to_owned()]).collect();
    builder.table(1, &rows);
    builder.finish()
}
