//! What a document has that can be quoted, each once, and how alike two of its sentences are.

use std::collections::HashMap;

use crate::document::BlockKind;
use crate::search::Passage;
use crate::text::{count_words, fold, is_stopword, list_marker, stem, words};

/// Of so many sentences at most the likeness is compared. Beyond, they are taken evenly from the whole document.
const MAX_COMPARED: usize = 1_200;

/// A sentence, a list item or a row of a table.
#[derive(Clone, Debug)]
pub(super) struct Candidate {
    /// The passage, and the sentence in it.
    pub passage: usize,
    pub sentence: usize,
    pub kind: BlockKind,
    /// The text as it can be read alone, on one line, without the number of a list item.
    pub text: String,
    pub words: usize,
    /// The number of its section, counted from the first one.
    pub section: usize,
    /// Whether it is the first of the running text of its section.
    pub is_first: bool,
    /// How much it stands for the whole, up to 1; 0 if that was not compared.
    pub centrality: f32,
}

/// What a document has that can be quoted.
#[derive(Clone, Debug)]
pub struct Candidates<'a> {
    pub(super) passages: &'a [Passage],
    pub(super) all: Vec<Candidate>,
    /// Those of running text that are compared, by their places in `all`.
    pub(super) compared: Vec<usize>,
    /// The vector of each that is compared; empty if there are none.
    vectors: Vec<Vec<f32>>,
    /// The weighted words of each that is compared, used if there are no vectors.
    terms: Vec<HashMap<String, f32>>,
}

impl<'a> Candidates<'a> {
    /// Lists what the passages of a document have, in its order. `passages` are all of them, in order; what two of them share counts once.
    pub fn of(passages: &'a [Passage]) -> Self {
        let mut all: Vec<Candidate> = Vec::new();
        let (mut end, mut document) = (0, "");
        let mut sections: Vec<Vec<String>> = Vec::new();
        let mut begun = Vec::new();
        for (number, passage) in passages.iter().enumerate() {
            if passage.location.document != document {
                (end, document) = (0, &passage.location.document);
            }
            // A heading inside a passage begins a section of its own.
            let mut section = passage.location.section.clone();
            for (place, sentence) in passage.sentences.iter().enumerate() {
                let written = passage.slice(sentence.span);
                if sentence.kind == BlockKind::Heading && !written.trim().is_empty() {
                    section = vec![written.to_owned()];
                }
                if sentence.span.start < end || !is_quotable(sentence.kind) {
                    continue;
                }
                end = sentence.span.end;
                let text = sentence.row.clone().unwrap_or_else(|| plain(written));
                let at = match sections.iter().rposition(|known| *known == section) {
                    Some(at) => at,
                    None => {
                        sections.push(section.clone());
                        sections.len() - 1
                    }
                };
                let candidate = Candidate {
                    passage: number,
                    sentence: place,
                    kind: sentence.kind,
                    words: count_words(&text),
                    text,
                    section: at,
                    is_first: sentence.kind == BlockKind::Paragraph && !begun.contains(&at),
                    centrality: 0.0,
                };
                if candidate.is_first {
                    begun.push(at);
                }
                all.push(candidate);
            }
        }
        let running: Vec<usize> = (0..all.len()).filter(|at| is_running(&all[*at])).collect();
        let step = running.len().div_ceil(MAX_COMPARED).max(1);
        let compared = running.into_iter().step_by(step).collect();
        Self { passages, all, compared, vectors: Vec::new(), terms: Vec::new() }
    }

    /// Returns the texts whose vectors [`compare`](Self::compare) takes, in order.
    pub fn texts(&self) -> Vec<&str> {
        self.compared.iter().map(|at| self.all[*at].text.as_str()).collect()
    }

    /// Finds how much each sentence stands for the whole. `vectors` are those of [`texts`](Self::texts), of length 1; without any, the words that
    /// sentences share count. Costs the square of the number of sentences, of which at most 1,200 are compared.
    pub fn compare(&mut self, vectors: Vec<Vec<f32>>) {
        self.vectors = if vectors.len() == self.compared.len() { vectors } else { Vec::new() };
        if self.vectors.is_empty() {
            self.terms = weighted_terms(&self.texts());
        }
        let ranks = super::central::centrality(self.compared.len(), |a, b| self.alike(a, b));
        for (at, rank) in self.compared.iter().zip(ranks) {
            self.all[*at].centrality = rank;
        }
    }

    /// Returns how alike two of those that are compared are, from 0 to 1.
    pub(super) fn alike(&self, a: usize, b: usize) -> f32 {
        if !self.vectors.is_empty() {
            let product: f32 = self.vectors[a].iter().zip(&self.vectors[b]).map(|(x, y)| x * y).sum();
            return product.max(0.0);
        }
        let (few, many) = if self.terms[a].len() < self.terms[b].len() { (a, b) } else { (b, a) };
        let shared = self.terms[few].iter().filter_map(|(term, weight)| Some(weight * self.terms[many].get(term)?));
        shared.sum::<f32>().min(1.0)
    }
}

fn is_quotable(kind: BlockKind) -> bool {
    !matches!(kind, BlockKind::Heading | BlockKind::Furniture | BlockKind::Contents | BlockKind::Code)
}

/// Returns `true` for a sentence that may stand in a summary: running text that says something whole.
fn is_running(candidate: &Candidate) -> bool {
    let is_text = matches!(candidate.kind, BlockKind::Paragraph | BlockKind::ListItem | BlockKind::Quotation);
    let ends =
        candidate.text.ends_with(['.', '!', ';', ':', '”', '"', ')', '。']) || candidate.kind == BlockKind::ListItem;
    is_text && candidate.words >= 5 && candidate.words <= 80 && ends && !candidate.text.ends_with(':')
}

/// Returns a text on one line, without the number of a list item.
fn plain(text: &str) -> String {
    let text = text.trim();
    let text = &text[list_marker(text).map_or(0, str::len)..];
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Returns for each text its terms, weighted by how rare they are among the texts, in a vector of length 1.
pub(super) fn weighted_terms(texts: &[&str]) -> Vec<HashMap<String, f32>> {
    let terms = |text: &&str| -> HashMap<String, f32> {
        let mut counts = HashMap::new();
        for word in words(text).map(|word| fold(word.text)).filter(|word| !is_stopword(word)) {
            *counts.entry(stem(&word)).or_insert(0.0) += 1.0;
        }
        counts
    };
    let mut all: Vec<HashMap<String, f32>> = texts.iter().map(terms).collect();
    let mut having: HashMap<String, usize> = HashMap::new();
    all.iter().flat_map(HashMap::keys).for_each(|term| *having.entry(term.clone()).or_default() += 1);
    for counts in &mut all {
        for (term, weight) in counts.iter_mut() {
            *weight *= (1.0 + texts.len() as f32 / having[term] as f32).ln();
        }
        let length = counts.values().map(|weight| weight * weight).sum::<f32>().sqrt().max(f32::MIN_POSITIVE);
        counts.values_mut().for_each(|weight| *weight /= length);
    }
    all
}
