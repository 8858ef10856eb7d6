//! Digests: what somebody wants to know of a whole document, field by field, each statement with its place.
//!
//! `candidates` lists what a document has that can be quoted, `central` chooses sentences that stand for the whole, `told` finds dates, amounts,
//! duties and parties, `kind` the kind of the document, and `extract` fills a field with these. `reply` reads what a model wrote, and `differ` says
//! where several documents differ.

mod candidates;
mod central;
mod differ;
mod extract;
mod kind;
mod reply;
mod told;
mod wish;

pub use candidates::Candidates;
pub(crate) use central::leans_back;
pub use differ::{DigestDifference, differences};
pub use extract::digest_of_sentences;
pub use reply::{ReplyFields, fields_of_reply};
pub use wish::DigestWish;

use serde::{Deserialize, Serialize};

use crate::answer::{Answer, CitedSource, Claim, Status};
use crate::usage::TokenUsage;

/// What a field of a digest tells of a document.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum FieldKind {
    /// The answer to its question.
    #[default]
    Answer,
    /// The kind of document, such as a letter.
    Kind,
    /// A summary in running text.
    Summary,
    /// The points that matter, one a line.
    Points,
    /// Dates, in their order, and what is said of them.
    Dates,
    /// People and bodies, and what is said of them.
    Parties,
    /// Quantities with units and sums of money, and what is said of them.
    Amounts,
    /// What somebody must, should or must not do.
    Duties,
}

impl FieldKind {
    /// Returns `true` if its statements are shown as a list, one a line.
    pub fn is_list(self) -> bool {
        !matches!(self, Self::Answer | Self::Kind | Self::Summary)
    }
}

/// A field of a digest, as the user defines it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct DigestField {
    /// Its name, which stands above what it tells.
    pub name: String,
    /// What it tells.
    #[serde(default)]
    pub kind: FieldKind,
    /// The question that it answers. A model gets it whatever the kind is.
    #[serde(default)]
    pub question: String,
    /// The highest number of words.
    #[serde(default = "usual_words")]
    pub max_words: usize,
}

fn usual_words() -> usize {
    80
}

impl DigestField {
    /// Creates a field.
    pub fn new(name: impl Into<String>, kind: FieldKind, question: impl Into<String>, max_words: usize) -> Self {
        Self { name: name.into(), kind, question: question.into(), max_words }
    }

    /// Returns the fields of a digest for which nothing is configured.
    pub fn defaults() -> Vec<Self> {
        vec![
            Self::new("kind", FieldKind::Kind, "What kind of document is this?", 20),
            Self::new("summary", FieldKind::Summary, "What does the document say as a whole?", 120),
            Self::new("key points", FieldKind::Points, "Which points matter most to a reader?", 150),
            Self::new("dates", FieldKind::Dates, "Which dates does it name, and what happens on them?", 120),
            Self::new("parties", FieldKind::Parties, "Which people and bodies does it name, and what do they do?", 100),
            Self::new("amounts", FieldKind::Amounts, "Which sums and quantities does it name, and of what?", 120),
            Self::new("duties", FieldKind::Duties, "Who must do or leave what?", 150),
        ]
    }
}

/// A statement of a digest.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct DigestStatement {
    /// What it is about, such as a date or a name; `None` if its text says it all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// The statement, with its verdict and the markers of its sources.
    #[serde(flatten)]
    pub claim: Claim,
}

impl DigestStatement {
    /// Returns the label, unless the statement begins with it.
    pub fn shown_label(&self) -> Option<&str> {
        self.label.as_deref().filter(|label| self.claim.text.is_empty() || !self.claim.text.starts_with(label))
    }

    /// Creates a statement.
    pub fn new(label: Option<String>, claim: Claim) -> Self {
        Self { label, claim }
    }
}

/// What a field tells of a document.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct FieldDigest {
    /// The name of the field.
    pub name: String,
    /// Its kind.
    pub kind: FieldKind,
    /// What was found; nothing if the document tells nothing of the kind.
    pub statements: Vec<DigestStatement>,
}

impl FieldDigest {
    /// Creates a field with its statements.
    pub fn new(name: impl Into<String>, kind: FieldKind, statements: Vec<DigestStatement>) -> Self {
        Self { name: name.into(), kind, statements }
    }
}

/// A field, and the sources that the markers of its statements mean.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct FilledField {
    /// The field.
    pub field: FieldDigest,
    /// Its sources.
    pub sources: Vec<CitedSource>,
}

impl FilledField {
    /// Creates a field with its sources.
    pub fn new(field: FieldDigest, sources: Vec<CitedSource>) -> Self {
        Self { field, sources }
    }
}

/// What a document says, field by field.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Digest {
    /// The name of the document; empty for a digest over several.
    pub document: String,
    /// Its title.
    pub title: Option<String>,
    /// The fields, in the order of their definition.
    pub fields: Vec<FieldDigest>,
    /// The sources of the statements, in the order of their markers, which count from 1.
    pub sources: Vec<CitedSource>,
    /// The tokens that a model read and wrote.
    pub tokens: TokenUsage,
    /// The model that wrote it; `None` if it is made of sentences of the document.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub generator: Option<String>,
    /// What the reader should know of how it came about.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

impl Digest {
    /// Creates an empty digest of a document.
    pub fn new(document: impl Into<String>, title: Option<String>) -> Self {
        Self {
            document: document.into(),
            title,
            fields: Vec::new(),
            sources: Vec::new(),
            tokens: TokenUsage::default(),
            generator: None,
            notes: Vec::new(),
        }
    }

    /// Adds a field. Sources that are there already are not added again; markers are changed to those of the digest.
    pub fn add(&mut self, filled: FilledField) {
        self.add_field(filled.field, &filled.sources);
    }

    fn add_field(&mut self, mut field: FieldDigest, sources: &[CitedSource]) {
        for statement in &mut field.statements {
            for marker in &mut statement.claim.citations {
                let Some(source) = sources.iter().find(|source| source.marker == *marker) else { continue };
                *marker = self.marker(source);
            }
            statement.claim.citations.sort_unstable();
            statement.claim.citations.dedup();
        }
        self.fields.push(field);
    }

    /// Returns the digest with the fields of another one in the place of those of the same names.
    #[must_use]
    pub fn with_fields_of(mut self, other: &Self) -> Self {
        let (fields, sources) = (std::mem::take(&mut self.fields), std::mem::take(&mut self.sources));
        for field in fields {
            match other.fields.iter().find(|own| own.name == field.name) {
                Some(own) => self.add_field(own.clone(), &other.sources),
                None => self.add_field(field, &sources),
            }
        }
        self
    }

    /// Returns the marker of a source in this digest, to which it is added if it is new.
    fn marker(&mut self, source: &CitedSource) -> usize {
        let is_here = |own: &&CitedSource| {
            own.location.document == source.location.document && own.location.span == source.location.span
        };
        if let Some(own) = self.sources.iter().find(is_here) {
            return own.marker;
        }
        let marker = self.sources.len() + 1;
        self.sources.push(CitedSource { marker, ..source.clone() });
        marker
    }

    /// Returns the digest as an answer to a question: the statements one after the other, those of lists one a line. Without statements it is a refusal.
    pub fn into_answer(self, question: impl Into<String>) -> Answer {
        let mut text = String::new();
        for field in &self.fields {
            for DigestStatement { claim, .. } in &field.statements {
                let gap = if text.is_empty() {
                    ""
                } else if field.kind.is_list() {
                    "\n"
                } else {
                    " "
                };
                let markers: String = claim.citations.iter().map(|marker| format!("[{marker}]")).collect();
                text.push_str(&format!("{gap}{} {markers}", claim.text));
            }
        }
        let status = if text.is_empty() { Status::Refused } else { Status::Answered };
        let mut answer = Answer::new(question, status, text);
        answer.claims = self.fields.into_iter().flat_map(|field| field.statements).map(|one| one.claim).collect();
        (answer.sources, answer.tokens, answer.generator) = (self.sources, self.tokens, self.generator);
        answer.note = self.notes.into_iter().next();
        answer
    }

    /// Returns all statements.
    pub fn statements(&self) -> impl Iterator<Item = &DigestStatement> {
        self.fields.iter().flat_map(|field| &field.statements)
    }
}
