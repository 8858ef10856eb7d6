//! How a model reads: passages together, apart, in order or by part; and whole documents, part by part.

use logothete::answer::Status;
use logothete::config::{DigestMethod, GeneratorKind};
use logothete::prompt::Reading;
use logothete::verify::Verdict;
use logothete::{Config, Corpus, MemorySource, Pipeline};
use logothete_simulator::{ModelFault, ModelService, WritingFault};
use rstest::rstest;

const BERTHS: &str = "# Berths\n\nThe greatest draught at Berth 7 is 7.9 metres.\n\n# Pilots\n\nA pilot is ordered three hours before arrival.\n\n\
    # Tugs\n\nA tug costs 265 crowns an hour.";

async fn corpus(service: &ModelService, change: impl FnOnce(&mut Config)) -> Corpus {
    let mut config = Config::default();
    config.privacy.allow = vec![service.host()];
    config.generator.kind = GeneratorKind::Remote;
    config.generator.address = service.address();
    "stand-in".clone_into(&mut config.generator.model);
    (config.generator.max_retries, config.chunk.limit) = (0, Some(24));
    change(&mut config);
    let corpus = Pipeline::from_config(&config).expect("settings").in_memory().await.expect("a corpus");
    corpus.build(MemorySource::new("papers").with("berths.md", BERTHS)).await.expect("a build");
    corpus
}

const QUESTION: &str = "What does a tug cost an hour, and when is a pilot ordered?";

#[rstest]
#[case::together(Reading::Together, 1)]
#[case::by_part(Reading::ByPart, 2)]
#[tokio::test]
async fn passages_are_read_as_the_settings_say(#[case] reading: Reading, #[case] requests: usize) {
    let service = ModelService::start().expect("a service");
    let answer =
        corpus(&service, |config| config.prompt.reading = reading).await.ask(QUESTION).await.expect("an answer");
    let answer = answer.answer;
    assert_eq!((answer.status, service.asked().len()), (Status::Answered, requests));
    assert!(answer.answer.contains("265 crowns") && answer.answer.contains("three hours"), "{}", answer.answer);
    assert!(answer.claims.iter().all(|claim| claim.verdict == Verdict::Supported), "{answer:?}");
    let parts: Vec<&str> = answer.parts.iter().map(|part| part.question.as_str()).collect();
    match reading {
        Reading::ByPart => {
            assert_eq!(parts, ["What does a tug cost an hour?", "When is a pilot ordered?"]);
            assert!(answer.parts[0].answer.contains("265") && !answer.parts[0].answer.contains("three hours"));
            let cites = |at: usize| answer.parts[at].citations.clone();
            assert!(cites(0) != cites(1) && !cites(0).is_empty(), "{:?}", answer.parts);
        }
        _ => assert!(parts.is_empty()),
    }
}

#[rstest]
#[case::apart(Reading::Apart)]
#[case::in_order(Reading::InOrder)]
#[tokio::test]
async fn each_passage_is_read_alone_under_its_own_marker(#[case] reading: Reading) {
    let service = ModelService::start().expect("a service");
    let corpus = corpus(&service, |config| config.prompt.reading = reading).await;
    let reply = corpus.ask(QUESTION).await.expect("an answer");
    let answer = reply.answer;
    let alone =
        service.asked().iter().filter(|asked| asked.prompt.text().matches("[end of passage").count() == 1).count();
    assert_eq!(alone, reply.passages.len(), "one prompt for each passage");
    for claim in &answer.claims {
        let cited = &reply.passages[claim.citations[0] - 1];
        assert!(cited.text.contains(claim.text.trim_end_matches('.')), "{claim:?} cites {}", cited.text);
    }
    assert!(answer.answer.contains("265 crowns") && answer.answer.contains("three hours"), "{}", answer.answer);
    // The same question costs nothing a second time.
    let before = service.asked().len();
    corpus.ask(QUESTION).await.expect("an answer");
    assert_eq!(service.asked().len(), before);
}

#[rstest]
#[case(Reading::Apart)]
#[case(Reading::InOrder)]
#[case(Reading::ByPart)]
#[tokio::test]
async fn a_model_that_fails_leaves_sentences_of_the_documents(#[case] reading: Reading) {
    let service = ModelService::start().expect("a service").failing_at(0, ModelFault::Failing);
    let corpus = corpus(&service, |config| config.prompt.reading = reading).await;
    let answer = corpus.ask(QUESTION).await.expect("an answer").answer;
    assert!(answer.note.as_ref().is_some_and(|note| note.contains("gave no answer")), "{answer:?}");
    assert_ne!(answer.status, Status::Refused);
}

/// A document that does not fit into a small context.
fn long_document() -> String {
    let section = |at: usize| {
        format!(
            "# Berth {at}\n\nThe greatest draught at Berth {at} is {at}.5 metres. Masters must tell the tower of berth {at} when they leave.\n\n"
        )
    };
    (1..=30).map(section).collect()
}

#[rstest]
#[case(DigestMethod::Combine)]
#[case(DigestMethod::Refine)]
#[tokio::test]
async fn a_long_document_is_read_within_the_context(#[case] method: DigestMethod) {
    let service = ModelService::start().expect("a service");
    let corpus = corpus(&service, |config| {
        (config.generator.context_tokens, config.generator.max_tokens) = (900, 200);
        let mut digest = config.digest("default").expect("the default digest");
        digest.method = method;
        digest.fields.retain(|field| field.name != "kind");
        config.digest.insert("default".to_owned(), digest);
    });
    let corpus = corpus.await;
    corpus.build(MemorySource::new("long").with("long.md", long_document())).await.expect("a build");
    let report = corpus.digest(["long.md"], "default").await.expect("a digest");
    let digest = &report.digests[0];
    assert_eq!(digest.generator.as_deref().map(|name| name.contains("stand-in")), Some(true), "{digest:?}");
    assert!(digest.tokens.sent > 1_000 && service.asked().len() > 3, "{} requests", service.asked().len());
    let sent = |asked: &logothete_simulator::ModelRequest| asked.prompt.text().split_whitespace().count() * 4 / 3;
    assert!(service.asked().iter().all(|asked| sent(asked) < 900), "a prompt is longer than the context");
    let supported = digest.statements().filter(|one| one.claim.verdict == Verdict::Supported).count();
    assert_eq!(supported, digest.statements().count(), "{digest:?}");
    assert!(digest.statements().all(|one| !one.claim.citations.is_empty()));
    let before = service.asked().len();
    corpus.digest(["long.md"], "default").await.expect("a digest");
    assert_eq!(service.asked().len(), before, "a second digest costs nothing");
}

#[rstest]
#[case::nothing(ModelFault::Writing(WritingFault::Empty), "wrote nothing for")]
#[case::failing(ModelFault::Failing, "gave no digest")]
#[tokio::test]
async fn what_a_model_leaves_out_is_taken_from_the_document(#[case] fault: ModelFault, #[case] note: &str) {
    let service = ModelService::start().expect("a service").failing_at(0, fault);
    let report = corpus(&service, |_| ()).await.digest(["berths.md"], "default").await.expect("a digest");
    let digest = &report.digests[0];
    assert!(digest.notes.iter().any(|own| own.contains(note)), "{:?}", digest.notes);
    assert!(digest.statements().any(|one| one.claim.text.contains("7.9 metres")), "{digest:?}");
}

#[tokio::test]
async fn several_documents_have_one_digest_over_all() {
    let service = ModelService::start().expect("a service");
    let corpus = corpus(&service, |_| ()).await;
    let other = "# Correction\n\nThe greatest draught at Berth 7 is 7.2 metres. The office is closed.";
    corpus.build(MemorySource::new("more").with("correction.md", other)).await.expect("a build");
    let report = corpus.digest(["berths.md", "correction.md"], "default").await.expect("digests");
    let together = report.together.as_ref().expect("one over all");
    let cited: Vec<&str> = together.sources.iter().map(|source| source.location.document.as_str()).collect();
    assert!(cited.contains(&"berths.md") && cited.contains(&"correction.md"), "{cited:?}");
    assert_eq!(report.differences.len(), 1, "{:?}", report.differences);
    assert!(report.differences[0].reason.contains("7.2"), "{:?}", report.differences);
    assert!(report.markdown().contains("# Differences"), "{report}");
}
