//! Question sets: JSON Lines, one question a line.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::document::Location;
use crate::error::{Error, ErrorKind, Result};
use crate::prompt::PastTurn;
use crate::query::standing_alone;

/// A question with the requirements for a right answer.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SetQuestion {
    /// Its id, unique in the set.
    pub id: String,
    /// The question.
    pub question: String,
    /// The questions before it in its conversation, the first one first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub before: Vec<String>,
    /// The places of the answer. If there are several, each has a part of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub relevant: Vec<Relevant>,
    /// Text that a right answer contains.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<String>,
    /// Whether a refusal is the right answer.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub refuse: bool,
    /// `dev` for tuning, `test` for reports.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub split: Option<String>,
    /// The other fields of the line, such as the kind of question.
    #[serde(flatten)]
    pub other: Map<String, Value>,
}

/// A place of an answer. All its fields must match.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Relevant {
    /// The document's name.
    pub document: String,
    /// A heading in the section path.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub section: Option<String>,
    /// The page, counted from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub page: Option<u32>,
    /// Words in the text there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub contains: Option<String>,
    /// How relevant it is, from 1; a place with a higher grade should come first.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub grade: u32,
}

fn one() -> u32 {
    1
}

fn is_one(grade: &u32) -> bool {
    *grade == 1
}

impl SetQuestion {
    /// Returns the question as it is searched for: that of a conversation is made to stand alone by rule, turn by turn, without the
    /// answers in between.
    pub fn searched(&self) -> String {
        let alone =
            |turns: &[PastTurn], question: &str| standing_alone(question, turns).unwrap_or_else(|| question.to_owned());
        let mut turns: Vec<PastTurn> = Vec::new();
        for question in &self.before {
            turns.push(PastTurn::new(alone(&turns, question), ""));
        }
        alone(&turns, &self.question)
    }
}

impl Relevant {
    /// Returns `true` if a text at a location matches the place. White space, case and the shape of quotation marks are
    /// ignored.
    pub fn is_at(&self, location: &Location, text: &str) -> bool {
        let has_section = |wanted: &String| location.section.iter().any(|heading| plain(heading) == plain(wanted));
        self.document == location.document
            && self.section.as_ref().is_none_or(has_section)
            && self.page.is_none_or(|page| location.pages.is_some_and(|pages| pages.contains(page)))
            && self.contains.as_ref().is_none_or(|wanted| plain(text).contains(&plain(wanted)))
    }
}

/// Returns text in the form for comparison: lower case, single blanks, straight quotation marks.
pub(super) fn plain(text: &str) -> String {
    let straight = text.replace(['’', '‘'], "'").replace(['“', '”'], "\"").to_lowercase();
    straight.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Reads a question set. Empty lines are skipped.
///
/// # Errors
/// If a line is not a question, or has the id of an earlier one; the place is the line's number.
pub fn read_questions(jsonl: &str) -> Result<Vec<SetQuestion>> {
    let mut questions: Vec<SetQuestion> = Vec::new();
    // Some editors begin a file with a byte-order mark.
    for (index, line) in jsonl.trim_start_matches('\u{feff}').lines().enumerate() {
        if line.trim().is_empty() {
            continue;
        }
        let place = format!("line {}", index + 1);
        let wrong = |message: String| Error::new(ErrorKind::Unreadable, message).at(&place);
        let question: SetQuestion = serde_json::from_str(line).map_err(|error| {
            wrong(format!("this is not a question: {error}; a line needs at least {{\"id\": …, \"question\": …}}"))
        })?;
        if question.refuse != question.relevant.is_empty() {
            let message = if question.refuse {
                "a question to refuse has nothing relevant; remove one of the two"
            } else {
                "say where the answer is in \"relevant\", or set \"refuse\": true"
            };
            return Err(wrong(message.to_owned()));
        }
        if questions.iter().any(|earlier| earlier.id == question.id) {
            return Err(wrong(format!("the id {:?} was used before; give each question its own", question.id)));
        }
        questions.push(question);
    }
    Ok(questions)
}
