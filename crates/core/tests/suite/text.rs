//! Properties of words and sentences, in any script.

use logothete_core::query::question_parts;
use logothete_core::text::{count_words, fold, list_marker, sentences, stem, words};
use logothete_core::verify::{Verdict, check};
use proptest::prelude::*;
use rstest::rstest;

#[rstest]
#[case("The vessel's moorings", &["the", "vessel", "moor"])]
#[case("8.4 m at B-17, §12(3)", &["8.4", "m", "at", "b", "17", "12", "3"])]
#[case("CAFÉ ﬁne", &["café", "fine"])]
#[case("don’t", &["don't"])]
#[case("…", &[])]
fn terms(#[case] text: &str, #[case] expected: &[&str]) {
    let found: Vec<String> = words(text).map(|word| word.term).collect();
    assert_eq!(found, expected);
}

proptest! {
    #[test]
    fn words_lie_where_they_say_and_are_counted_alike(text in "(\\PC|[a-z .,'-]){0,200}") {
        let all: Vec<_> = words(&text).collect();
        prop_assert_eq!(all.len(), count_words(&text));
        for word in &all {
            prop_assert_eq!(&text[word.span.range()], word.text);
            prop_assert!(!word.term.is_empty());
        }
        prop_assert!(all.windows(2).all(|pair| pair[0].span.end <= pair[1].span.start));
    }

    #[test]
    fn folding_twice_is_folding_once_more_at_most(word in "\\w{1,12}") {
        // A possessive is cut off once; what is left has none, unless it was written twice.
        let once = fold(&word);
        prop_assert_eq!(fold(&once), once.clone());
        prop_assert_eq!(stem(&once), stem(&once), "a stem that is remembered is the stem that was made");
    }

    #[test]
    fn sentences_leave_nothing_out(text in "([A-Z]?[a-z]{1,7}|[0-9]{1,2}|[.!?] |, |\n|No\\. |e\\.g\\. |。|\\(2\\) ){0,60}") {
        let mut end = 0;
        for span in sentences(&text) {
            prop_assert!(text[end..span.start].trim().is_empty(), "{:?} is in no sentence", &text[end..span.start]);
            prop_assert_eq!(text[span.range()].trim(), &text[span.range()]);
            prop_assert!(!span.is_empty());
            end = span.end;
        }
        prop_assert!(text[end..].trim().is_empty());
    }

    #[test]
    fn a_text_bears_out_each_of_its_own_sentences(sentence in "[A-Z][a-z]{2,8}( [a-z]{2,8}| [0-9]{1,3}){2,9}") {
        let evidence = format!("Before it stands this. {sentence}. And behind it that.");
        prop_assert_eq!(check(&sentence, &evidence).verdict, Verdict::Supported);
        let support = check(&sentence, "Quite another matter altogether");
        prop_assert!((0.0..=1.0).contains(&support.share));
    }

    #[test]
    fn the_parts_of_a_question_are_pieces_of_it(question in "(what|when|how|ships|berth|and|, |\\?|it|long|of|is| ){0,20}") {
        let parts = question_parts(&question);
        prop_assert!(!parts.is_empty());
        for part in parts {
            prop_assert!(question.contains(part.said));
        }
    }

    #[test]
    fn a_marker_begins_its_line(line in "\\PC{0,20}") {
        if let Some(marker) = list_marker(&line) {
            prop_assert!(line.trim_start().starts_with(marker) && !marker.is_empty());
        }
    }
}
