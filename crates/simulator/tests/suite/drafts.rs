//! Questions that a model writes for passages of documents.

use logothete::eval::SetQuestion;
use logothete::{Corpus, MemorySource, Pipeline};
use logothete_simulator::ScriptedGenerator;

async fn corpus(generator: &ScriptedGenerator) -> Corpus {
    let corpus = Pipeline::default().with_generator(generator.clone()).in_memory().await.expect("a corpus");
    let berths =
        "# Berths\n\nThe greatest draught at Berth 7 is 7.9 metres.\n\nThe crane at Berth 7 lifts 25 tonnes at most.";
    let bridge = "# Bridge\n\nThe swing bridge was opened on 3 May 1998 by the harbour master.";
    corpus
        .build(MemorySource::new("papers").with("berths.md", berths).with("bridge.md", bridge))
        .await
        .expect("a build");
    corpus
}

fn kind(question: &SetQuestion) -> &str {
    question.other.get("kind").and_then(|kind| kind.as_str()).unwrap_or_default()
}

#[tokio::test]
async fn a_model_writes_better_ones_and_is_paid_once() {
    let generator = ScriptedGenerator::answers();
    let corpus = corpus(&generator).await;
    let drafts = corpus.draft(3, 1).await.expect("drafts");
    assert_eq!(drafts.len(), 4, "{drafts:?}");
    for question in drafts.iter().filter(|question| !question.refuse) {
        let source = question.other["source"].as_str().expect("a source");
        assert!(kind(question) == "written" && source.contains(question.answer.as_deref().expect("an answer")));
        assert!(question.is_draft() && question.relevant[0].contains.is_none());
    }
    let asked = generator.asked().len();
    assert_eq!((asked, kind(&drafts[3])), (3, "near miss"));
    assert!(generator.asked()[0].text().contains("[source "), "documents are fenced: {}", generator.asked()[0].text());
    assert_eq!(corpus.draft(3, 1).await.expect("drafts"), drafts);
    assert_eq!(generator.asked().len(), asked);
}

#[tokio::test]
async fn a_reply_that_the_passage_does_not_bear_out_is_not_used() {
    let generator =
        ScriptedGenerator::new("invents", |_| "Question: How deep is Berth 9?\nAnswer: 11 metres".to_owned());
    let drafts = corpus(&generator).await.draft(3, 0).await.expect("drafts");
    assert!(drafts.len() == 3 && drafts.iter().all(|question| kind(question) != "written"), "{drafts:?}");
}
