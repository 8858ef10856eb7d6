//! Question sets: JSON Lines, one question a line.

use std::collections::HashSet;
use std::fmt;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::document::Location;
use crate::error::{Error, ErrorKind, Result};
use crate::prompt::PastTurn;
use crate::query::standing_alone;
use crate::suggest::closest;

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

/// A place of an answer. All its fields must match that narrow it down.
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
    /// The hash of the document's content when the question was made, or the beginning of it. It does not have to match.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub content_hash: Option<String>,
}

fn one() -> u32 {
    1
}

fn is_one(grade: &u32) -> bool {
    *grade == 1
}

impl SetQuestion {
    /// Returns `true` if nobody has judged it yet, as its field `draft` says.
    pub fn is_draft(&self) -> bool {
        self.other.get("draft") == Some(&Value::Bool(true))
    }

    /// Returns `true` if it says what a right answer is.
    pub fn is_judged(&self) -> bool {
        self.refuse || !self.relevant.is_empty()
    }

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

impl fmt::Display for Relevant {
    /// Writes it on one line, such as `berths.md, Berth 7`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.document)?;
        if let Some(page) = self.page {
            write!(f, ", page {page}")?;
        }
        if let Some(section) = &self.section {
            write!(f, ", {section}")?;
        }
        match &self.contains {
            Some(words) => write!(f, ", “{words}”"),
            None => Ok(()),
        }
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
    read(jsonl, |line, place| {
        let question = question(line, place)?;
        if question.refuse != question.relevant.is_empty() {
            let message = if question.refuse {
                "a question to refuse has nothing relevant; remove one of the two"
            } else {
                "say where the answer is in \"relevant\", or set \"refuse\": true"
            };
            return Err(Error::new(ErrorKind::Unreadable, message).at(place));
        }
        Ok(question)
    })
}

/// Reads questions that may have no judgement yet: lines of a question set, or questions in plain text, one a line, whose ids are then `q1`,
/// `q2`, and so on. Empty lines are skipped.
///
/// # Errors
/// As [`read_questions`].
pub fn read_queries(text: &str) -> Result<Vec<SetQuestion>> {
    let mut count = 0;
    read(text, |line, place| {
        count += 1;
        if line.trim_start().starts_with('{') {
            return question(line, place);
        }
        let plain = serde_json::json!({ "id": format!("q{count}"), "question": line.trim() });
        question(&plain.to_string(), place)
    })
}

/// Returns a question set as text, a line each.
pub fn write_questions(questions: &[SetQuestion]) -> String {
    // A question holds text, numbers and lists alone, which JSON can always hold.
    questions.iter().filter_map(|question| serde_json::to_string(question).ok()).map(|line| line + "\n").collect()
}

fn question(line: &str, place: &str) -> Result<SetQuestion> {
    if let Ok(value) = serde_json::from_str::<Value>(line) {
        check_keys(&value).map_err(|message| Error::new(ErrorKind::Unreadable, message).at(place))?;
    }
    serde_json::from_str(line).map_err(|error| {
        let message = format!("this is not a question: {error}; a line needs at least {{\"id\": …, \"question\": …}}");
        Error::new(ErrorKind::Unreadable, message).at(place)
    })
}

/// Checks the keys of a question. A set may have more keys than are known, but one that is a letter away from a known one is mistyped.
fn check_keys(question: &Value) -> std::result::Result<(), String> {
    const QUESTION: [&str; 8] = ["id", "question", "before", "relevant", "answer", "refuse", "split", "kind"];
    const PLACE: [&str; 6] = ["document", "section", "page", "contains", "grade", "content_hash"];
    let keys =
        |value: &Value| value.as_object().map(|object| object.keys().cloned().collect::<Vec<_>>()).unwrap_or_default();
    for key in keys(question).iter().filter(|key| !QUESTION.contains(&key.as_str())) {
        if let Some(near) = QUESTION.iter().find(|known| strsim::damerau_levenshtein(key, known) == 1) {
            return Err(format!("unknown key `{key}`; did you mean `{near}`?"));
        }
    }
    let places = question.get("relevant").and_then(Value::as_array).into_iter().flatten();
    let mut unknown = places.flat_map(keys).filter(|key| !PLACE.contains(&key.as_str()));
    unknown.next().map_or(Ok(()), |key| {
        let hint = match closest(&key, PLACE.iter().map(|known| (*known).to_owned())) {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("a place has {}", PLACE.join(", ")),
        };
        Err(format!("unknown key `{key}` in \"relevant\"; {hint}"))
    })
}

/// Reads questions line by line, and checks that each has an id of its own.
fn read(text: &str, mut parse: impl FnMut(&str, &str) -> Result<SetQuestion>) -> Result<Vec<SetQuestion>> {
    let (mut questions, mut ids) = (Vec::new(), HashSet::new());
    // Some editors begin a file with a byte-order mark.
    for (index, line) in text.trim_start_matches('\u{feff}').lines().enumerate() {
        if line.trim().is_empty() {
            continue;
        }
        let place = format!("line {}", index + 1);
        let question = parse(line, &place)?;
        if !ids.insert(question.id.clone()) {
            let message = format!("the id {:?} was used before; give each question its own", question.id);
            return Err(Error::new(ErrorKind::Unreadable, message).at(place));
        }
        questions.push(question);
    }
    Ok(questions)
}
