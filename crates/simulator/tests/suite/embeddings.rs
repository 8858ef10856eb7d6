//! The remote encoder beside a service that goes wrong in every way that services do.

use std::time::{Duration, Instant};

use logothete::config::{EncoderConfig, EncoderKind, PrivacyConfig};
use logothete::vector::{Encoder, Role};
use logothete::{Config, ErrorKind, Hashing, Pipeline, RemoteEncoder};
use logothete_simulator::{EmbeddingFault, EmbeddingService};
use rstest::rstest;

const TEXTS: [&str; 5] = ["The lock is shut.", "", "A pilot boards.", "Dues are owed.", "The bell rings in fog."];

fn config(service: &EmbeddingService) -> EncoderConfig {
    let mut config = EncoderConfig::default();
    config.kind = EncoderKind::Remote;
    config.address = service.address();
    "quay-small".clone_into(&mut config.model);
    (config.max_batch_texts, config.seconds, config.max_retries) = (2, 2, 2);
    config
}

fn encoder(service: &EmbeddingService, config: &EncoderConfig) -> logothete::Result<RemoteEncoder> {
    RemoteEncoder::connect(config, PrivacyConfig::allowing([service.host()]))
}

fn service() -> EmbeddingService {
    EmbeddingService::start(32).expect("a service")
}

/// What the service gives for the texts when nothing goes wrong.
fn right() -> Vec<Vec<f32>> {
    let texts = TEXTS.map(|text| if text.is_empty() { " " } else { text });
    let vectors = Hashing::new(32).expect("settings").encode(&texts, Role::Passage).expect("vectors");
    vectors.iter().map(<[f32]>::to_vec).collect()
}

/// The first request is for the probe. These faults are got over.
#[rstest]
#[case::nothing(vec![])]
#[case::busy(vec![(2, EmbeddingFault::Busy(0.2))])]
#[case::failing(vec![(2, EmbeddingFault::Failing), (3, EmbeddingFault::Failing)])]
#[case::broken_off(vec![(3, EmbeddingFault::BrokenOff)])]
#[case::stall(vec![(2, EmbeddingFault::Stall(Duration::from_secs(4)))])]
#[case::wrong_order(vec![(2, EmbeddingFault::WrongOrder), (3, EmbeddingFault::WrongOrder)])]
fn what_can_be_got_over(#[case] faults: Vec<(usize, EmbeddingFault)>) {
    let service = faults.into_iter().fold(service(), |service, (at, fault)| service.failing_at(at, fault));
    let encoder = encoder(&service, &config(&service)).expect("an encoder");
    let vectors = encoder.encode(&TEXTS, Role::Passage).expect("vectors");
    assert_eq!(vectors.iter().map(<[f32]>::to_vec).collect::<Vec<_>>(), right());
}

/// These are errors that say what is wrong.
#[rstest]
#[case::short_list(EmbeddingFault::ShortList, ErrorKind::Unreadable, "gave 1 vectors for 2 texts")]
#[case::same_index(EmbeddingFault::SameIndex, ErrorKind::Unreadable, "two vectors for one text")]
#[case::wrong_dimension(EmbeddingFault::WrongDimension, ErrorKind::Unreadable, "a vector of 33 numbers and not 32")]
#[case::not_a_number(EmbeddingFault::NotANumber, ErrorKind::Unreadable, "not of finite numbers")]
#[case::not_json(EmbeddingFault::NotJson, ErrorKind::Unreadable, "not JSON")]
#[case::bad_key(EmbeddingFault::BadKey, ErrorKind::Refused, "name its variable in key_env")]
fn what_cannot(#[case] fault: EmbeddingFault, #[case] kind: ErrorKind, #[case] said: &str) {
    let service = service().failing_at(2, fault);
    let mut config = config(&service);
    config.max_concurrent = 1;
    let encoder = encoder(&service, &config).expect("an encoder");
    let error = encoder.encode(&TEXTS, Role::Passage).expect_err("a fault");
    assert_eq!(error.kind(), kind);
    assert!(error.to_string().contains(said), "{error}");
    assert_eq!(service.asked().len(), 2, "nothing is asked again, and nothing after it");
}

#[test]
fn a_service_that_stays_busy_is_given_up() {
    let service = (1..=9).fold(service(), |service, at| service.failing_at(at, EmbeddingFault::Busy(0.0)));
    let error = encoder(&service, &config(&service)).map(|_| ()).expect_err("it is busy");
    assert_eq!((error.kind(), service.asked().len()), (ErrorKind::Unavailable, 3));
    assert!(error.is_retryable() && error.to_string().contains("429"), "{error}");
}

#[test]
fn it_waits_as_long_as_the_service_says() {
    let service = service().failing_at(2, EmbeddingFault::Busy(1.5));
    let encoder = encoder(&service, &config(&service)).expect("an encoder");
    let since = Instant::now();
    encoder.encode(&["The lock is shut."], Role::Query).expect("vectors");
    // The pause of its own would be half a second.
    assert!(since.elapsed() >= Duration::from_millis(1500));
}

#[rstest]
#[case::by_number(2, 100, vec![2, 2, 1])]
#[case::by_tokens(100, 7, vec![2, 1, 1, 1])]
#[case::a_text_alone(100, 1, vec![1, 1, 1, 1, 1])]
fn texts_go_in_batches(#[case] batch: usize, #[case] batch_tokens: usize, #[case] sizes: Vec<usize>) {
    let service = service();
    let mut config = config(&service);
    (config.max_batch_texts, config.max_batch_tokens, config.max_concurrent) = (batch, batch_tokens, 1);
    encoder(&service, &config).expect("an encoder").encode(&TEXTS, Role::Passage).expect("vectors");
    let asked: Vec<usize> = service.asked().iter().skip(1).map(|request| request.input.len()).collect();
    assert_eq!(asked, sizes);
}

#[test]
fn only_so_many_requests_are_under_way() {
    let service = EmbeddingService::start_slow(32, Duration::from_millis(60)).expect("a service");
    let mut config = config(&service);
    (config.max_batch_texts, config.max_concurrent) = (1, 3);
    let texts: Vec<String> = (0..12).map(|number| format!("Berth {number}")).collect();
    let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
    encoder(&service, &config).expect("an encoder").encode(&texts, Role::Passage).expect("vectors");
    assert_eq!(service.most_at_once(), 3);
}

#[test]
fn what_is_sent_is_what_was_configured() {
    let service = service();
    let text = format!(
        "[encoder]\nkind = \"remote\"\naddress = \"{}\"\nmodel = \"quay-small\"\nquery_prefix = \"query: \"\n\
         [encoder.headers]\nx-quay = \"7\"\n[encoder.parameters]\ndimensions = 32\n[privacy]\nallow = [\"{}\"]\n",
        service.address(),
        service.host()
    );
    let pipeline = Pipeline::from_config(&Config::parse(&text).expect("a configuration")).expect("a pipeline");
    assert!(service.asked().is_empty(), "making a pipeline sends nothing");
    let encoder = pipeline.encoder().expect("an encoder");
    encoder.encode(&["Where is the lock?"], Role::Query).expect("vectors");
    pipeline.clone().encoder().expect("the same encoder");
    assert_eq!(service.asked().len(), 2, "it is connected once");
    let asked = service.asked().pop().expect("a request");
    assert_eq!(asked.body["model"], "quay-small");
    assert_eq!(asked.body["dimensions"], 32);
    assert_eq!(asked.input, ["query: Where is the lock?"]);
    assert!(asked.headers.contains(&("x-quay".to_owned(), "7".to_owned())), "{:?}", asked.headers);
}

#[test]
fn nothing_is_sent_to_a_host_that_is_not_allowed() {
    let service = service();
    let error =
        RemoteEncoder::connect(&config(&service), PrivacyConfig::default()).map(|_| ()).expect_err("not allowed");
    assert_eq!((error.kind(), service.asked().len()), (ErrorKind::Refused, 0));
    assert!(error.to_string().contains("[privacy]"), "{error}");
}

#[test]
fn another_model_under_the_same_name_is_another_encoder() {
    let (one, other) = (service(), EmbeddingService::start(64).expect("a service"));
    let fingerprint =
        |service: &EmbeddingService| encoder(service, &config(service)).expect("an encoder").fingerprint();
    assert_eq!(fingerprint(&one), fingerprint(&one));
    assert_ne!(fingerprint(&one), fingerprint(&other));
}

#[test]
fn a_key_that_the_service_repeats_is_not_shown() {
    let service = service().failing_at(1, EmbeddingFault::BadKey);
    let mut config = config(&service);
    config.headers = [("x-key".to_owned(), "barnacle-7781".to_owned())].into();
    let error = encoder(&service, &config).map(|_| ()).expect_err("a bad key").to_string();
    assert!(error.contains("bad key") && !error.contains("barnacle"), "{error}");
}
