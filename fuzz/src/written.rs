//! What users write: filters, queries, questions, sets of questions, configurations and templates.

use std::collections::BTreeSet;

use logothete_core::eval::{read_qrels, read_queries, read_questions, read_run, write_questions};
use logothete_core::keyword::Query;
use logothete_core::prompt::{AnswerSettings, Templates, answer_prompt};
use logothete_core::quantity::{Notation, numbers};
use logothete_core::query::{Question, abbreviated, question_parts, question_terms, synonyms};
use logothete_core::search::Filter;
use logothete_core::text::{dates, sentences, tokens};

use crate::{Target, text};

pub const TARGETS: &[(&str, Target)] = &[
    ("filter", filter),
    ("query", query),
    ("question", question),
    ("question_set", question_set),
    ("configuration", configuration),
    ("template", template),
];

/// A filter that was read is written so that it is read as the same one.
fn filter(bytes: &[u8]) {
    if let Ok(filter) = Filter::parse(&text(bytes)) {
        let written = filter.to_string();
        let again = Filter::parse(&written).unwrap_or_else(|error| panic!("{written:?}: {error}"));
        assert_eq!(again.to_string(), written);
    }
}

fn query(bytes: &[u8]) {
    let query = Query::parse(&text(bytes));
    let _ = (query.text(), query.has_words(), query.is_strict());
}

fn question(bytes: &[u8]) {
    let text = text(bytes);
    let _ = (Question::new(&text, |_| 1.0), question_terms(&text), abbreviated(&text), dates(&text));
    for part in question_parts(&text) {
        assert!(text.contains(part.said) && part.question.len() <= 2 * text.len() + 8, "{part:?}");
    }
    for span in sentences(&text) {
        assert!(text.get(span.range()).is_some(), "{span:?}");
    }
    tokens(&text, |token| assert!(text.contains(token.text)));
    let _ = numbers(&text, Notation::default());
    let _ = synonyms(&text, &[vec!["lock".to_owned(), "gate".to_owned()]]);
}

/// A set that was read is written so that it is read as the same one.
fn question_set(bytes: &[u8]) {
    let text = text(bytes);
    let _ = (read_queries(&text), read_qrels(&text), read_run(&text));
    if let Ok(set) = read_questions(&text) {
        let written = write_questions(&set);
        assert_eq!(read_questions(&written).expect("what was written"), set);
        let ids: BTreeSet<&str> = set.iter().map(|question| question.id.as_str()).collect();
        assert_eq!(ids.len(), set.len(), "ids are unique");
    }
}

fn configuration(bytes: &[u8]) {
    let text = text(bytes);
    let config = logothete::Config::parse(&text);
    if let (Ok(config), Some((key, value))) = (config, text.lines().find_map(|line| line.split_once('='))) {
        let _ = config.with_setting(key.trim(), value.trim());
        let _ = config.setting(key.trim());
    }
}

fn template(bytes: &[u8]) {
    let mut templates = Templates::default();
    if templates.replace("answer_question", text(bytes)).is_ok() {
        let count = |text: &str| text.len() as u64;
        let _ = answer_prompt("Who rings the bell?", &[], &[], &templates, &AnswerSettings::default(), &count);
    }
}
