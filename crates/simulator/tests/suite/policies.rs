//! What is done with claims of a model that their sources do not bear out, and when their verdicts are told.

use std::sync::{Arc, Mutex};

use logothete::answer::{AskEvent, Status, UnsupportedPolicy};
use logothete::config::GeneratorKind;
use logothete::verify::Verdict;
use logothete::{Config, Corpus, MemorySource, Pipeline};
use logothete_simulator::{ModelFault, ModelService, WritingFault};
use rstest::rstest;

const QUESTION: &str = "What is the greatest draught at Berth 7?";

async fn corpus(service: &ModelService, policy: UnsupportedPolicy) -> Corpus {
    let mut config = Config::default();
    config.privacy.allow = vec![service.host()];
    config.generator.kind = GeneratorKind::Remote;
    config.generator.address = service.address();
    "stand-in".clone_into(&mut config.generator.model);
    config.answer.unsupported = policy;
    let corpus = Pipeline::from_config(&config).expect("settings").in_memory().await.expect("a corpus");
    let text = "# Berths\n\nThe greatest draught at Berth 7 is 7.9 metres. Berth 7 may not be used at night.";
    corpus.build(MemorySource::new("papers").with("berths.md", text)).await.expect("a build");
    corpus
}

#[rstest]
#[case::flag(UnsupportedPolicy::Flag, Status::Answered, true)]
#[case::drop(UnsupportedPolicy::Drop, Status::Answered, false)]
#[case::refuse(UnsupportedPolicy::Refuse, Status::Refused, false)]
#[tokio::test]
async fn an_invented_sentence_is_treated_as_the_settings_say(
    #[case] policy: UnsupportedPolicy,
    #[case] status: Status,
    #[case] is_shown: bool,
) {
    let service = ModelService::start().expect("a service").failing_at(0, ModelFault::Writing(WritingFault::Invent));
    let answer = corpus(&service, policy).await.ask(QUESTION).await.expect("an answer").answer;
    assert_eq!((answer.status, answer.answer.contains("cheese")), (status, is_shown), "{answer:?}");
    match policy {
        UnsupportedPolicy::Flag => {
            let claim = answer.claims.iter().find(|claim| claim.text.contains("cheese")).expect("the claim");
            assert!(claim.is_unsupported() && claim.reason.is_some(), "{claim:?}");
        }
        UnsupportedPolicy::Drop => {
            assert!(answer.note.is_some_and(|note| note.contains("1 sentence")));
            let known = |marker: &usize| answer.sources.iter().any(|source| source.marker == *marker);
            assert!(answer.claims.iter().all(|claim| claim.citations.iter().all(known) && !claim.is_unsupported()));
        }
        _ => assert!(answer.sources.is_empty() && !answer.nearest.is_empty()),
    }
}

#[tokio::test]
async fn a_model_writes_once_more_what_was_wrong() {
    let service =
        ModelService::start().expect("a service").failing_at(1, ModelFault::Writing(WritingFault::ChangeNumber));
    let answer = corpus(&service, UnsupportedPolicy::Repair).await.ask(QUESTION).await.expect("an answer").answer;
    assert!(answer.answer.contains("7.9 metres"), "{answer:?}");
    assert!(answer.claims.iter().all(|claim| claim.verdict == Verdict::Supported), "{answer:?}");
    let asked = service.asked();
    assert_eq!(asked.len(), 2, "it is asked once more, and not again");
    let last = &asked[1].prompt.messages.last().expect("a message").content;
    assert!(last.contains("contradicted") && last.contains("7.9 metres"), "{last}");
    // If the second reply is no better, the first stays, with its verdicts.
    let service =
        ModelService::start().expect("a service").failing_at(0, ModelFault::Writing(WritingFault::ChangeNumber));
    let answer = corpus(&service, UnsupportedPolicy::Repair).await.ask(QUESTION).await.expect("an answer").answer;
    assert!(answer.claims.iter().any(|claim| claim.verdict == Verdict::Contradicted), "{answer:?}");
    assert_eq!(service.asked().len(), 2);
}

/// The text that was shown, and the claims that were told with their verdicts.
type Told = (String, Vec<(String, Verdict)>);

#[rstest]
#[case(UnsupportedPolicy::Flag)]
#[case(UnsupportedPolicy::Drop)]
#[tokio::test]
async fn verdicts_are_told_as_claims_end(#[case] policy: UnsupportedPolicy) {
    let service = ModelService::start().expect("a service").failing_at(0, ModelFault::Writing(WritingFault::Invent));
    let told: Arc<Mutex<Told>> = Arc::default();
    let events = told.clone();
    let tell = move |event: AskEvent<'_>| {
        let mut told = events.lock().expect("nobody panicked");
        match event {
            AskEvent::Text(text) => told.0.push_str(text),
            AskEvent::Claim(claim) => {
                // The text of a claim is shown before its verdict.
                assert!(told.0.contains(&claim.text), "{claim:?}");
                told.1.push((claim.text.clone(), claim.verdict));
            }
            _ => {}
        }
    };
    let reply = corpus(&service, policy).await.ask_streaming(QUESTION, tell).await.expect("an answer");
    let told = told.lock().expect("nobody panicked");
    match policy {
        UnsupportedPolicy::Flag => {
            let whole: Vec<(String, Verdict)> =
                reply.answer.claims.iter().map(|claim| (claim.text.clone(), claim.verdict)).collect();
            assert_eq!(told.1, whole);
        }
        // What may be left out is not shown before that is settled.
        _ => assert!(told.1.is_empty() && told.0 == reply.answer.answer && !told.0.contains("cheese"), "{told:?}"),
    }
}
