//! The parts of an answer.

use std::fmt;

use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::document::{PageArea, Pages, Span, clock};
use crate::search::{OtherPlace, Passage};

/// Whether a question was answered.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Status {
    /// The corpus holds an answer.
    Answered,
    /// It does not, or not clearly enough.
    Refused,
}

/// How well a passage bears out the claim that cites it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// The passage says it.
    Supported,
    /// The passage says part of it.
    Partly,
    /// The passage does not say it.
    Unsupported,
}

/// A sentence of an answer with the sources it points at.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Claim {
    /// What is claimed.
    pub text: String,
    /// How the claim came out of the check.
    pub verdict: Verdict,
    /// How much of the claim its sources bear out, from 0 to 1.
    #[serde(serialize_with = "crate::search::rounded")]
    pub support: f32,
    /// The markers of its sources.
    pub citations: Vec<usize>,
}

/// A source that an answer points at.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SourceLine {
    /// The number that stands in the answer, counted from 1.
    pub marker: usize,
    /// The name of the document.
    pub document: String,
    /// Its title.
    pub title: Option<String>,
    /// Its date, as its metadata give it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub date: Option<String>,
    /// The pages of the quotation.
    pub pages: Option<Pages>,
    /// Where on its pages the quotation is; empty where nothing was drawn.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub areas: Vec<PageArea>,
    /// When it is said in a recording, in seconds from the beginning.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seconds: Option<f64>,
    /// The headings above it, outermost first.
    pub section: Vec<String>,
    /// Where the quotation is in the document's text.
    pub span: Span,
    /// The words of the document, exactly.
    pub quotation: String,
    /// Where the question's words stand in the quotation, in bytes of it.
    pub matches: Vec<Span>,
    /// Where else the same is said, whatever the case, the punctuation and the articles.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<AlsoThere>,
}

/// Another place where a quotation stands.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct AlsoThere {
    /// The name of the document.
    pub document: String,
    /// Its title.
    pub title: Option<String>,
    /// The pages.
    pub pages: Option<Pages>,
    /// The headings above it, outermost first.
    pub section: Vec<String>,
    /// Where it is in the document's text.
    pub span: Span,
    /// The words of that document, exactly.
    pub quotation: String,
}

impl AlsoThere {
    /// Document, page and section on one line.
    pub fn place(&self) -> String {
        place(&self.document, self.pages, None, &self.section)
    }
}

/// What a generator read and wrote, in its own tokens. Both are 0 when no model was asked.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tokens {
    /// Tokens sent.
    #[serde(rename = "in")]
    pub sent: u64,
    /// Tokens received.
    #[serde(rename = "out")]
    pub received: u64,
}

/// An answer, or a refusal.
///
/// It prints as a person would read it: the answer with its markers, then the sources.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Answer {
    /// The question as it was asked.
    pub question: String,
    /// Answered or refused.
    pub status: Status,
    /// the answer with its markers, a claim a line; for a refusal, why.
    pub answer: String,
    /// Its claims, in order.
    pub claims: Vec<Claim>,
    /// What they point at.
    pub sources: Vec<SourceLine>,
    /// For a refusal, the passages that came nearest.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub nearest: Vec<Passage>,
    /// What a model read and wrote for it.
    pub tokens: Tokens,
    /// What each stage did, in order.
    pub trace: Vec<Value>,
}

impl Answer {
    /// Whether it is a refusal.
    pub fn is_refusal(&self) -> bool {
        self.status == Status::Refused
    }
}

impl SourceLine {
    /// Document, page or time, and section on one line: `byelaws.pdf, page 2, Article 4. The North Channel`.
    pub fn place(&self) -> String {
        place(&self.document, self.pages, self.seconds, &self.section)
    }
}

impl OtherPlace {
    /// Document, page and section on one line.
    pub fn place(&self) -> String {
        place(&self.document, self.pages, None, &self.section)
    }
}

impl Passage {
    /// Document, page and section on one line.
    pub fn place(&self) -> String {
        place(&self.document, self.pages, None, &self.section)
    }
}

fn place(document: &str, pages: Option<Pages>, seconds: Option<f64>, section: &[String]) -> String {
    let mut place = document.to_owned();
    if let Some(pages) = pages {
        place.push_str(&format!(", {pages}"));
    }
    if let Some(seconds) = seconds {
        place.push_str(&format!(", at {}", clock(seconds)));
    }
    if let Some(heading) = section.last() {
        place.push_str(&format!(", {heading}"));
    }
    place
}

impl fmt::Display for Answer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.answer)?;
        for source in &self.sources {
            write!(f, "\n\n[{}] {}\n    “{}”", source.marker, source.place(), one_line(&source.quotation))?;
            for other in &source.also {
                write!(f, "\n    also in {}", other.place())?;
            }
        }
        for passage in &self.nearest {
            write!(f, "\n  - {}", passage.place())?;
        }
        Ok(())
    }
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
