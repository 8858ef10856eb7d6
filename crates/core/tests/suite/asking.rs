//! What questions of several languages ask for, and whether a text has it.

use logothete_core::quantity::{Dimension, Notation, Unit, numbers, parse_number};
use logothete_core::query::{Expectation, Question, question_terms};
use proptest::prelude::*;
use rstest::rstest;

fn expects(question: &str) -> Expectation {
    Question::new(question, |_| 1.0).expects
}

#[rstest]
#[case("How deep is the channel?", Expectation::Quantity(Some(Dimension::Length)))]
#[case("How fast may a vessel go?", Expectation::Quantity(Some(Dimension::Speed)))]
#[case("How heavy is the anchor?", Expectation::Quantity(Some(Dimension::Mass)))]
#[case("How many cranes are there?", Expectation::Quantity(None))]
#[case("What is the length of the quay?", Expectation::Quantity(None))]
#[case("How long does the survey take?", Expectation::Time)]
#[case("At what time does the gate open?", Expectation::Time)]
#[case("Whose is the boat?", Expectation::Person)]
#[case("Where do pilots board?", Expectation::Place)]
#[case("Must a warship take a pilot?", Expectation::YesOrNo)]
#[case("What does lay-by mean?", Expectation::Definition)]
#[case("Why is the mole shut?", Expectation::Reason)]
#[case("How do I order a tug?", Expectation::Steps)]
#[case("What has to be done before bunkering?", Expectation::Steps)]
#[case("Which quays have water?", Expectation::List)]
#[case("How do the two tugs differ?", Expectation::Comparison)]
#[case("The lamp on the mole", Expectation::Anything)]
#[case("", Expectation::Anything)]
fn kinds_in_english(#[case] question: &str, #[case] expected: Expectation) {
    assert_eq!(expects(question), expected, "{question}");
}

#[rstest]
#[case("Wie viele Kräne gibt es am Kai?", Expectation::Quantity(None))]
#[case("Warum ist die Mole gesperrt?", Expectation::Reason)]
#[case("Darf ich im Hafen baden?", Expectation::YesOrNo)]
#[case("Wo gehen die Lotsen an Bord?", Expectation::Place)]
#[case("Was kostet ein Schlepper?", Expectation::Quantity(None))]
#[case("Combien de grues y a-t-il ?", Expectation::Quantity(None))]
#[case("Comment commander un remorqueur ?", Expectation::Steps)]
#[case("Peut-on nager dans le port ?", Expectation::YesOrNo)]
#[case("¿Cuándo abre la esclusa?", Expectation::Time)]
#[case("¿Quién guarda el faro?", Expectation::Person)]
#[case("Quanti rimorchiatori ci sono?", Expectation::Quantity(None))]
#[case("Dove salgono a bordo i piloti?", Expectation::Place)]
#[case("Hoeveel kranen zijn er?", Expectation::Quantity(None))]
#[case("Waarom is de pier gesloten?", Expectation::Reason)]
#[case("Quantos guindastes há?", Expectation::Quantity(None))]
#[case("Onde embarcam os pilotos?", Expectation::Place)]
fn kinds_in_other_languages(#[case] question: &str, #[case] expected: Expectation) {
    assert_eq!(expects(question), expected, "{question}");
}

#[rstest]
#[case("How deep is the channel?", "It is 6.2 metres deep.", Some(1.0))]
#[case("How deep is the channel?", "It takes 40 tonnes.", Some(0.5))]
#[case("How deep is the channel?", "It lies at Berth 7, surveyed in 2023.", Some(0.0))]
#[case("How deep is the channel?", "It is marked by buoys.", Some(0.0))]
#[case("How many cranes are there?", "Two cranes stand there.", Some(1.0))]
#[case("When is it open?", "It is open from sunrise to sunset.", Some(1.0))]
#[case("When is it open?", "It is green.", Some(0.0))]
#[case("Who keeps it?", "The lamp is kept by Orla Penhallick.", Some(1.0))]
#[case("Who keeps it?", "The lamp is old.", Some(0.0))]
#[case("Where is it?", "It hangs behind the shed.", Some(1.0))]
#[case("May I bathe?", "Nobody shall bathe here.", Some(1.0))]
#[case("Which quays have water?", "All of them.", None)]
fn a_text_has_what_is_asked_for(#[case] question: &str, #[case] text: &str, #[case] met: Option<f32>) {
    assert_eq!(expects(question).met_by(text), met, "{question} {text}");
}

#[rstest]
#[case("Wie tief ist der Kanal?", &["tief", "kanal"])]
#[case("What is the depth of the channel?", &["depth", "channel"])]
#[case("the the", &["the"])]
fn terms_are_those_of_the_language(#[case] question: &str, #[case] expected: &[&str]) {
    assert_eq!(question_terms(question), expected);
}

#[test]
fn a_denial_is_something_new() {
    let question = Question::new("May a ladder with a repaired rope be used?", |_| 1.0);
    assert!(question.is_denied_by("A ladder with a repaired rope is not used."));
    assert!(!question.is_denied_by("A ladder with a repaired rope is used."));
    assert!(!Question::new("Must it not be used?", |_| 1.0).is_denied_by("It must not be used."));
}

#[rstest]
#[case("km", Some((Dimension::Length, 1000.0)))]
#[case("metres", Some((Dimension::Length, 1.0)))]
#[case("per cent", Some((Dimension::Share, 0.01)))]
#[case("cubic metres", Some((Dimension::Volume, 1.0)))]
#[case("Stunden", Some((Dimension::Duration, 3600.0)))]
#[case("tonnes", Some((Dimension::Mass, 1000.0)))]
#[case("€", Some((Dimension::Money("EUR".to_owned()), 1.0)))]
#[case("crowns", Some((Dimension::Money("crown".to_owned()), 1.0)))]
#[case("berths", None)]
#[case("", None)]
fn units_have_their_names(#[case] name: &str, #[case] expected: Option<(Dimension, f64)>) {
    assert_eq!(Unit::named(name).map(|unit| (unit.dimension, unit.factor)), expected);
}

#[rstest]
#[case("from 10-12 metres", &[10.0, 12.0])]
#[case("1,234 and 1.5", &[1234.0, 1.5])]
#[case("10:30, 3/4 and #7", &[])]
#[case("minus −4.5 degrees", &[-4.5])]
#[case("V12, x3 and 4", &[4.0])]
fn numbers_of_a_text(#[case] text: &str, #[case] expected: &[f64]) {
    let found: Vec<f64> = numbers(text, Notation::Point).into_iter().map(|number| number.value).collect();
    assert_eq!(found, expected);
}

proptest! {
    #[test]
    fn whatever_is_asked_has_a_kind_and_terms(question in "\\PC{0,60}", text in "\\PC{0,60}") {
        let analysed = Question::new(&question, |_| 1.0);
        prop_assert!(analysed.expects.met_by(&text).is_none_or(|met| (0.0..=1.0).contains(&met)));
        for span in analysed.matches(&text) {
            prop_assert!(text.get(span.range()).is_some());
        }
    }

    #[test]
    fn thousands_are_read_in_either_notation(value in 1_000_u32..999_999_999) {
        let digits = value.to_string();
        let grouped = |sign: char| {
            let mut written = String::new();
            for (at, digit) in digits.chars().enumerate() {
                if at > 0 && (digits.len() - at).is_multiple_of(3) {
                    written.push(sign);
                }
                written.push(digit);
            }
            written
        };
        prop_assert_eq!(parse_number(&grouped(','), Notation::Point), Some(f64::from(value)));
        prop_assert_eq!(parse_number(&grouped('.'), Notation::Comma), Some(f64::from(value)));
        prop_assert_eq!(parse_number(&grouped('\u{a0}'), Notation::Point), Some(f64::from(value)));
    }
}
