//! Turns of a conversation, and how they are kept and written out.

use logothete_core::answer::{Answer, Status};
use logothete_core::document::Date;
use logothete_core::prompt::PastTurn;
use logothete_core::{Error, ErrorKind, Result};
use serde::Serialize;

use crate::answer::Reply;
use crate::storage::StoredTurn;
use crate::trace::Trace;

/// A question of a conversation and the reply to it.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Turn {
    /// The number, counted from 1.
    pub number: u64,
    /// When it was asked, such as `2026-03-31T12:00:00Z`.
    pub asked: String,
    /// The question as it was asked.
    #[serde(rename = "said")]
    pub question: String,
    /// The reply. The question in it stands alone and is what was searched for.
    #[serde(flatten)]
    pub reply: Reply,
}

/// A conversation of a list.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct ConversationInfo {
    /// The name.
    pub name: String,
    /// When the first question was asked, such as `2026-03-31T12:00:00Z`.
    pub begun: String,
    /// When the last question was asked.
    pub last: String,
    /// The number of turns.
    pub turns: u64,
    /// The first question.
    pub first_question: String,
}

/// Returns a moment as people and machines read it.
pub(super) fn moment(seconds: i64) -> String {
    let (year, month, day) = Date::civil(seconds.div_euclid(86_400));
    let rest = seconds.rem_euclid(86_400);
    format!("{year:04}-{month:02}-{day:02}T{:02}:{:02}:{:02}Z", rest / 3_600, rest / 60 % 60, rest % 60)
}

impl Turn {
    pub(super) fn read(stored: StoredTurn) -> Result<Self> {
        let answer: Answer = serde_json::from_str(&stored.answer).map_err(|error| {
            let message = format!("turn {} of the conversation cannot be read: {error}", stored.number);
            Error::new(ErrorKind::Corpus, message).because(error)
        })?;
        let reply = Reply::new(answer, Trace::default());
        Ok(Self { number: stored.number, asked: moment(stored.asked), question: stored.question, reply })
    }

    /// Returns the turn as later turns see it, without markers, which mean nothing there.
    pub(super) fn past(&self) -> PastTurn {
        let answer = &self.reply.answer;
        let said = match answer.claims.is_empty() {
            true => answer.answer.clone(),
            false => answer.claims.iter().map(|claim| claim.text.as_str()).collect::<Vec<_>>().join(" "),
        };
        PastTurn::new(&answer.question, said)
    }

    /// Returns the turn as Markdown: the question, the answer, and its sources as a list.
    pub fn to_markdown(&self) -> String {
        let answer = &self.reply.answer;
        let mut out = format!("## {}\n\n", one_line(&self.question));
        if one_line(&self.question) != one_line(&answer.question) {
            out.push_str(&format!("*Searched for: {}*\n\n", one_line(&answer.question)));
        }
        out.push_str(&format!("{}\n", answer.answer.trim()));
        for source in &answer.sources {
            out.push_str(&format!("\n- [{}] {}\n", source.marker, source.location));
            let more = source.more.iter().map(|other| &other.quotation);
            for quotation in std::iter::once(&source.quotation).chain(more) {
                out.push_str(&format!("  > {}\n", one_line(quotation)));
            }
        }
        if let Some(note) = &answer.note {
            out.push_str(&format!("\n*{}*\n", one_line(note)));
        }
        out
    }
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Returns the JSON of the answer that stands in the place of one that a forgotten document was part of.
pub(crate) fn forgotten_answer() -> String {
    let answer = Answer::new("", Status::Refused, "This answer was removed with a document that it was made from.");
    serde_json::to_string(&answer).unwrap_or_default()
}
