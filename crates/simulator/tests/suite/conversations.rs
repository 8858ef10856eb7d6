//! Conversations: follow-ups, sources, summaries, names, several at a time, and what is forgotten.

use logothete::answer::Status;
use logothete::config::GeneratorRole;
use logothete::prompt::Author;
use logothete::{Corpus, MemorySource, Pipeline};
use logothete_simulator::{Fault, ScriptedGenerator};
use tempfile::TempDir;

const FEES: &str = "# Fees\n\nA small mooring costs 9 crowns a night. A large mooring costs 14 crowns a night.\n\n\
    ## Pilots\n\nA pilot costs 240 crowns by day. By night a pilot costs 330 crowns.";

async fn corpus(pipeline: Pipeline, folder: &TempDir) -> Corpus {
    let corpus = pipeline.open(folder.path().join("c.corpus")).await.expect("a corpus");
    let bridge = "# Bridge\n\nThe swing bridge opens on the hour. It stays shut at 08:00.";
    corpus.build(MemorySource::new("papers").with("fees.md", FEES).with("bridge.md", bridge)).await.expect("a build");
    corpus
}

fn folder() -> TempDir {
    tempfile::tempdir().expect("a folder")
}

#[tokio::test]
async fn without_a_model_a_follow_up_is_completed_by_rule_and_kept() {
    let folder = folder();
    let corpus = corpus(Pipeline::default(), &folder).await;
    let talk = corpus.conversation("fees").expect("a name");
    assert!(corpus.conversations().await.expect("a list").is_empty(), "it is kept from its first turn on");
    talk.ask("What does a small mooring cost a night?").await.expect("a turn");
    let turn = talk.ask("And a large mooring?").await.expect("a turn");
    assert_eq!(turn.question, "And a large mooring?");
    assert_eq!(turn.reply.answer.question, "What does a large mooring cost a night?");
    assert!(turn.reply.answer.answer.contains("14 crowns"), "{}", turn.reply.answer.answer);
    // The sources of the answer before, without a search.
    let turn = talk.ask("Where does that come from?").await.expect("a turn");
    assert_eq!(turn.reply.answer.sources[0].location.document, "fees.md");
    assert!(turn.reply.answer.answer.contains("comes from"));
    drop((talk, corpus));
    let corpus = Pipeline::default().open(folder.path().join("c.corpus")).await.expect("a corpus");
    let list = corpus.conversations().await.expect("a list");
    assert_eq!((list.len(), list[0].turns, list[0].name.as_str()), (1, 3, "fees"));
    let turns = corpus.conversation("fees").expect("a name").turns().await.expect("turns");
    assert_eq!(turns[1].reply.answer.question, "What does a large mooring cost a night?");
}

#[tokio::test]
async fn a_model_gets_the_turns_before_and_condenses_with_a_prompt_of_its_own() {
    let folder = folder();
    let model = ScriptedGenerator::answers();
    let corpus = corpus(Pipeline::default().with_generator(model.clone()), &folder).await;
    let talk = corpus.conversation("fees").expect("a name");
    talk.ask("What does a pilot cost by day?").await.expect("a turn");
    assert_eq!(model.asked().len(), 1, "the first question stands alone");
    let turn = talk.ask("And by night?").await.expect("a turn");
    assert!(turn.reply.answer.answer.contains("330 crowns"), "{:?}", turn.reply.answer);
    let asked = model.asked();
    assert_eq!(asked.len(), 3);
    assert!(
        asked[1].messages[1].content.contains("[conversation ")
            && asked[1].messages[1].content.contains("And by night?")
    );
    let authors: Vec<Author> = asked[2].messages.iter().map(|message| message.author).collect();
    assert_eq!(authors, [Author::System, Author::User, Author::Assistant, Author::User]);
    assert!(!asked[2].messages[2].content.contains('['), "markers of earlier answers mean nothing now");
}

#[tokio::test]
async fn a_model_that_cannot_condense_leaves_it_to_the_rule() {
    let folder = folder();
    let failing = ScriptedGenerator::answers().failing_at(1, Fault::Refused);
    let pipeline = Pipeline::default().with_generator_for(GeneratorRole::Condense, failing);
    let corpus = corpus(pipeline, &folder).await;
    let talk = corpus.conversation("fees").expect("a name");
    talk.ask("What does a small mooring cost a night?").await.expect("a turn");
    let turn = talk.ask("And a large mooring?").await.expect("a turn");
    assert_eq!(turn.reply.answer.question, "What does a large mooring cost a night?");
}

#[tokio::test]
async fn older_turns_become_a_summary_within_its_budget() {
    let folder = folder();
    let model = ScriptedGenerator::answers();
    let pipeline = Pipeline::default()
        .with_generator(model.clone())
        .configured(|config| (config.prompt.history_turns, config.prompt.summary_words) = (1, 40));
    let corpus = corpus(pipeline, &folder).await;
    let talk = corpus.conversation("long").expect("a name");
    let questions = [
        "What does a small mooring cost a night?",
        "What does a large mooring cost a night?",
        "What does a pilot cost by day?",
        "What does a pilot cost by night?",
        "When does the swing bridge open?",
    ];
    for question in questions {
        talk.ask(question).await.expect("a turn");
    }
    let asked = model.asked();
    let last =
        asked.iter().rev().find(|prompt| prompt.messages[0].content.starts_with("You answer")).expect("a prompt");
    let summary = &last.messages[1].content;
    assert!(summary.contains("What was said before") && summary.contains("[summary "), "{summary}");
    assert!(logothete::text::count_words(summary) < 40 + 20, "{summary}");
    assert!(last.messages.len() <= 6, "{} messages", last.messages.len());
    assert_eq!(talk.turns().await.expect("turns").len(), 5, "all turns are kept");
}

#[tokio::test]
async fn two_talk_at_a_time_in_one_corpus_and_in_one_conversation() {
    let folder = folder();
    let one = corpus(Pipeline::default(), &folder).await;
    let other = Pipeline::default().open(folder.path().join("c.corpus")).await.expect("a corpus");
    let (a, b) = (one.conversation("shared").expect("a name"), other.conversation("shared").expect("a name"));
    let c = other.conversation("alone").expect("a name");
    let (x, y, z) = tokio::join!(
        a.ask("What does a small mooring cost a night?"),
        b.ask("When does the swing bridge open?"),
        c.ask("What does a pilot cost by day?")
    );
    let mut numbers = [x.expect("a turn").number, y.expect("a turn").number];
    numbers.sort_unstable();
    assert_eq!((numbers, z.expect("a turn").number), ([1, 2], 1));
    assert_eq!(a.turns().await.expect("turns").len(), 2);
}

#[tokio::test]
async fn names_change_and_conversations_go() {
    let folder = folder();
    let corpus = corpus(Pipeline::default(), &folder).await;
    assert!(corpus.conversation(" ").is_err());
    let mut talk = corpus.conversation("fees").expect("a name");
    assert!(talk.rename("other").await.is_err(), "it is not kept yet");
    talk.ask("What does a pilot cost by day?").await.expect("a turn");
    let second = corpus.conversation("taken").expect("a name");
    second.ask("When does the swing bridge open?").await.expect("a turn");
    assert!(talk.rename("taken").await.is_err());
    talk.rename("pilots").await.expect("a free name");
    let markdown = talk.to_markdown().await.expect("Markdown");
    assert!(
        markdown.starts_with("# pilots") && markdown.contains("- [1] fees.md") && markdown.contains("  > "),
        "{markdown}"
    );
    assert!(talk.delete().await.expect("it is there") && !talk.delete().await.expect("it is gone"));
    let names: Vec<String> = corpus.conversations().await.expect("a list").into_iter().map(|info| info.name).collect();
    assert_eq!(names, ["taken"]);
}

#[tokio::test]
async fn a_forgotten_document_leaves_the_conversations_too() {
    let folder = folder();
    let corpus = corpus(Pipeline::default(), &folder).await;
    let talk = corpus.conversation("fees").expect("a name");
    talk.ask("What does a pilot cost by day?").await.expect("a turn");
    talk.ask("When does the swing bridge open?").await.expect("a turn");
    corpus.forget("fees.md").await.expect("it is there");
    let turns = talk.turns().await.expect("turns");
    assert!(turns[0].reply.answer.answer.contains("removed with a document"));
    assert_eq!(turns[1].reply.answer.status, Status::Answered);
    drop((talk, corpus));
    for file in std::fs::read_dir(folder.path().join("c.corpus")).expect("a folder").flatten() {
        let bytes = std::fs::read(file.path()).unwrap_or_default();
        let holds = bytes.windows(10).any(|window| window == b"240 crowns");
        assert!(!holds, "{}", file.path().display());
    }
}
