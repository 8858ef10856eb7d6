//! Questions that the documents do not answer though they seem to: a thing with a number that no document has, or a column of one table asked
//! of the rows of another.

use std::collections::HashSet;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::LazyLock;

use regex::Regex;

use super::Candidate;
use crate::document::Table;
use crate::text::{fold, is_stopword, stem, words};

/// The highest number of columns and texts that are held.
const MAX_COLUMNS: usize = 2_000;
const MAX_TEXTS: usize = 200_000;

/// A name with a number, such as `Berth 7`.
static NUMBERED: LazyLock<Regex> = LazyLock::new(|| {
    // The expression is compiled in the tests.
    Regex::new(r"\b(?P<name>\p{Lu}\p{Ll}+) (?P<number>\d{1,4})\b").unwrap_or_else(|error| unreachable!("{error}"))
});

/// What the tables ask of their rows, and the words of each block, to tell that nothing says one of the other.
#[derive(Clone, Debug, Default)]
pub(super) struct Attributes {
    columns: Vec<String>,
    /// The hashed terms of each block.
    texts: Vec<HashSet<u64>>,
}

impl Attributes {
    pub(super) fn add_table(&mut self, text: &str, table: &Table) {
        let width = table.rows.first().map_or(0, |row| row.cells.len());
        for column in 1..width {
            let name = table.column_name(text, column);
            let name = name.split(['(', '[']).next().unwrap_or_default().trim().to_owned();
            let telling = name.chars().filter(|c| c.is_alphabetic()).count() >= 3 && name.len() <= 40;
            if telling && self.columns.len() < MAX_COLUMNS && !self.columns.contains(&name) {
                self.columns.push(name);
            }
        }
    }

    pub(super) fn add_text(&mut self, text: &str) {
        if self.texts.len() < MAX_TEXTS {
            self.texts.push(terms(text));
        }
    }

    /// Returns `true` if a text has all telling words of both.
    fn are_together(&self, first: &str, second: &str) -> bool {
        let wanted: HashSet<u64> = terms(first).union(&terms(second)).copied().collect();
        self.texts.iter().any(|text| wanted.is_subset(text))
    }
}

fn terms(text: &str) -> HashSet<u64> {
    let telling = words(text).map(|word| fold(word.text)).filter(|word| !is_stopword(word));
    telling
        .map(|word| {
            let mut hasher = DefaultHasher::new();
            stem(&word).hash(&mut hasher);
            hasher.finish()
        })
        .collect()
}

/// Returns up to `count` questions that nothing answers, made from drafts. `known` has all words of the documents.
pub(super) fn misses(
    drafts: &[(usize, Candidate)],
    known: &HashSet<String>,
    attributes: &Attributes,
    count: usize,
) -> Vec<String> {
    let asked: Vec<&str> = drafts.iter().map(|(_, draft)| draft.worded.question.as_str()).collect();
    let numbered = asked.iter().filter_map(|question| with_other_number(question, known));
    // The keys of tables, and a column of another table for each.
    let keys = drafts.iter().filter(|(_, draft)| draft.kind == "table").filter_map(|(_, draft)| {
        let key = draft.relevant.contains.as_deref()?;
        let question = draft.worded.question.as_str();
        let of = question.rfind(" of ")?;
        Some((key, &question[of + 4..question.len().checked_sub(1)?]))
    });
    let crossed = keys.enumerate().filter_map(|(at, (key, written))| {
        let columns = attributes.columns.iter().cycle().skip(at * 7 + 3).take(attributes.columns.len());
        let column = columns.into_iter().find(|column| !attributes.are_together(key, column))?;
        let verb = if column.ends_with('s') && !column.ends_with("ss") { "are" } else { "is" };
        Some(format!("What {verb} the {} of {written}?", column.to_lowercase()))
    });
    let (mut numbered, mut crossed) = (numbered.collect::<Vec<_>>(), crossed.collect::<Vec<_>>());
    let mut taken = HashSet::new();
    let mut chosen = Vec::new();
    while chosen.len() < count && !(numbered.is_empty() && crossed.is_empty()) {
        for list in [&mut crossed, &mut numbered] {
            if !list.is_empty() && chosen.len() < count {
                let question = list.remove(0);
                if !asked.contains(&question.as_str()) && taken.insert(question.clone()) {
                    chosen.push(question);
                }
            }
        }
    }
    chosen
}

/// Returns a question with another number in a name, one that no document has; `None` if it names nothing with a number.
fn with_other_number(question: &str, known: &HashSet<String>) -> Option<String> {
    let found = NUMBERED.captures(question)?.name("number")?;
    let number: u32 = found.as_str().parse().ok()?;
    let other = (number + 1..number + 500).find(|other| !known.contains(&other.to_string()))?;
    Some(format!("{}{other}{}", &question[..found.start()], &question[found.end()..]))
}
