//! The prompt for a question that a passage answers, and the use of the reply.

use serde_json::json;

use super::templates::Templates;
use super::{Prompt, fenced};
use crate::error::Result;
use crate::text::count_words;

/// The fewest words of a question.
const MIN_WORDS: usize = 4;

/// A question that a model wrote for a passage.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WrittenQuestion {
    /// The question.
    pub question: String,
    /// The answer in the words of the passage.
    pub answer: String,
}

/// Returns a prompt that asks for a question that a passage answers, in other words than the passage has. `place` is the title of its document
/// and its headings. Read the reply with [`written_question`].
///
/// # Errors
/// If a template fails.
pub fn draft_prompt(place: &str, passage: &str, templates: &Templates) -> Result<Prompt> {
    let material = json!({ "place": fenced("title", place), "passage": fenced("source", passage) });
    Ok(Prompt::new(templates.render("draft_instruction", json!({}))?, templates.render("draft_passage", material)?))
}

/// Returns the question of a reply to [`draft_prompt`]; `None` if it has none, the question gives the answer away, or the passage does not
/// have the answer word for word.
pub fn written_question(reply: &str, passage: &str) -> Option<WrittenQuestion> {
    let after = |name: &str| {
        let line = reply
            .lines()
            .map(str::trim)
            .find(|line| line.get(..name.len()).is_some_and(|start| start.eq_ignore_ascii_case(name)))?;
        Some(line[name.len()..].trim().trim_matches(['"', '“', '”', '*']).trim())
    };
    let (question, answer) = (after("question:")?, after("answer:")?.trim_end_matches('.'));
    let plain = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase();
    let is_sound = question.ends_with('?')
        && count_words(question) >= MIN_WORDS
        && !answer.is_empty()
        && plain(passage).contains(&plain(answer))
        && !plain(question).contains(&plain(answer));
    is_sound.then(|| WrittenQuestion { question: question.to_owned(), answer: answer.to_owned() })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("Question: How much water is there at low tide?\nAnswer: 8.4 metres", Some("8.4 metres"))]
    #[case("Here it is.\n\nquestion: How much water is there?\nANSWER: \"8.4  metres.\"", Some("8.4  metres"))]
    #[case("Question: How much water is there?\nAnswer: 9 metres", None)]
    #[case("Question: Is the channel 8.4 metres deep?\nAnswer: 8.4 metres", None)]
    #[case("Question: Deep?\nAnswer: 8.4 metres", None)]
    #[case("Answer: 8.4 metres", None)]
    #[case("", None)]
    fn a_reply_is_used_if_the_passage_has_its_answer(#[case] reply: &str, #[case] answer: Option<&str>) {
        let written = written_question(reply, "The channel is dredged to 8.4 metres.");
        assert_eq!(written.map(|written| written.answer).as_deref(), answer);
    }
}
