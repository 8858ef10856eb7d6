//! What tells whether evidence answers a question.

use serde::{Deserialize, Serialize};

use super::candidate::{Candidate, share};
use crate::query::Question;
use crate::search::Passage;

/// The names of the facts, in their order.
pub const FACT_NAMES: [&str; 21] = [
    "passage",
    "gap",
    "meaning",
    "coverage",
    "sentence_coverage",
    "asked",
    "best_nearby",
    "missing",
    "names_missing",
    "rarest_missing",
    "expected",
    "terms",
    "agreement",
    "meaning_mean",
    "meaning_third",
    "keyword",
    "keyword_of_terms",
    "three_best",
    "by_meaning",
    "by_words",
    "corpus",
];

/// What is known of the evidence for a question. Shares are from 0 to 1.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Facts {
    /// The logarithm of the odds of the best passage, by its reranker.
    pub passage: f32,
    /// By how much its score is above that of the next section, as a share of it.
    pub gap: f32,
    /// The highest cosine of the question and a passage.
    pub meaning: f32,
    /// The share of the question that the chosen sentence covers, its headings and neighbours included.
    pub coverage: f32,
    /// The share that its own words cover.
    pub sentence_coverage: f32,
    /// The share of what is asked of the subject that it covers.
    pub asked: f32,
    /// The highest share of the question that a passage has.
    pub best_nearby: f32,
    /// The share of the question that its passage lacks.
    pub missing: f32,
    /// The share of names and figures that its passage lacks.
    pub names_missing: f32,
    /// Whether its passage lacks the rarest word of the question.
    pub rarest_missing: f32,
    /// Whether it has the kind of thing that is asked for.
    pub expected: f32,
    /// The number of significant words of the question, as a logarithm.
    pub terms: f32,
    /// How many of the five best passages are of the section of the best.
    pub agreement: f32,
    /// The mean cosine of the question and the passages.
    pub meaning_mean: f32,
    /// The third highest cosine.
    pub meaning_third: f32,
    /// The highest score of a passage by BM25.
    pub keyword: f32,
    /// The same, divided by what the words of the question weigh.
    pub keyword_of_terms: f32,
    /// The mean score of the three best passages.
    pub three_best: f32,
    /// One divided by the rank of the first passage by its vector; 0 if the vectors did not find it.
    pub by_meaning: f32,
    /// The same by its words.
    pub by_words: f32,
    /// The number of chunks of the corpus, as a logarithm: in a small one, what answers is less like a question.
    pub corpus: f32,
}

impl Facts {
    /// Measures what was chosen for a question, from a corpus of some chunks.
    pub fn measure(
        question: &Question,
        passages: &[Passage],
        all: &[Candidate],
        chosen: &Candidate,
        chunks: u64,
    ) -> Self {
        let total = question.total_weight().max(1e-6);
        let odds = |score: f32| {
            let score = score.clamp(0.001, 0.999);
            (score / (1.0 - score)).ln()
        };
        let best = &passages[chosen.passage];
        let same_section = |passage: &Passage| {
            passage.location.document == best.location.document && passage.location.section == best.location.section
        };
        let other = passages.iter().filter(|passage| !same_section(passage)).map(|passage| passage.score);
        let other = other.fold(0.0_f32, f32::max);
        let own: f32 = question
            .terms
            .iter()
            .zip(&chosen.levels)
            .filter(|(_, level)| **level >= 1.0)
            .map(|(term, _)| term.weight)
            .sum();
        let of = |is_counted: &dyn Fn(&crate::query::Term, f32) -> bool| {
            let counted = question.terms.iter().zip(&chosen.levels).filter(|(term, level)| is_counted(term, **level));
            // The sum of nothing is a negative zero.
            counted.map(|(term, _)| term.weight).sum::<f32>() + 0.0
        };
        let subject = of(&|term, _| term.subject);
        let rest = of(&|term, _| !term.subject);
        let asked: f32 = question
            .terms
            .iter()
            .zip(&chosen.levels)
            .filter(|(term, _)| !term.subject)
            .map(|(term, level)| term.weight * level)
            .sum();
        let rarest = question.terms.iter().zip(&chosen.levels).max_by(|a, b| a.0.weight.total_cmp(&b.0.weight));
        // A passage has a word if any of its sentences or its headings does.
        let has = |candidate: &Candidate| {
            let known = question.terms.iter().zip(&candidate.levels).filter(|(_, level)| **level > 0.0);
            known.map(|(term, _)| term.weight).sum::<f32>() / total
        };
        let leg = |passage: &Passage, name: &str| passage.legs.get(name).copied();
        let mut cosines: Vec<f32> =
            passages.iter().filter_map(|passage| leg(passage, "vector")).map(|leg| leg.score).collect();
        cosines.sort_by(|a, b| b.total_cmp(a));
        let keyword =
            passages.iter().filter_map(|passage| leg(passage, "keyword")).map(|leg| leg.score).fold(0.0, f32::max);
        let three: Vec<f32> = passages.iter().take(3).map(|passage| passage.score).collect();
        let inverse_rank =
            |name: &str| passages.first().and_then(|first| leg(first, name)).map_or(0.0, |leg| 1.0 / leg.rank as f32);
        let near = passages.iter().take(5).filter(|passage| same_section(passage)).count();
        Self {
            passage: odds(best.score),
            gap: if best.score > 0.0 { (best.score - other) / best.score } else { 0.0 },
            meaning: cosines.first().copied().unwrap_or_default(),
            coverage: share(question, &chosen.levels),
            sentence_coverage: own / total,
            asked: if rest > 0.0 { asked / rest } else { 1.0 },
            best_nearby: all.iter().map(has).fold(0.0, f32::max),
            missing: of(&|_, level| level == 0.0) / total,
            names_missing: if subject > 0.0 { of(&|term, level| term.subject && level == 0.0) / subject } else { 0.0 },
            rarest_missing: f32::from(u8::from(rarest.is_some_and(|(_, level)| *level == 0.0))),
            expected: chosen.expected(&question.expects),
            terms: (1.0 + question.terms.len() as f32).ln(),
            agreement: near as f32 / 5.0,
            meaning_mean: cosines.iter().sum::<f32>() / cosines.len().max(1) as f32,
            meaning_third: cosines.get(2).or(cosines.last()).copied().unwrap_or_default(),
            keyword,
            keyword_of_terms: keyword / total,
            three_best: three.iter().sum::<f32>() / three.len().max(1) as f32,
            by_meaning: inverse_rank("vector"),
            by_words: inverse_rank("keyword"),
            corpus: (1.0 + chunks as f32).ln(),
        }
    }

    /// Returns the facts in the order of their names.
    pub fn values(&self) -> [f32; FACT_NAMES.len()] {
        [
            self.passage,
            self.gap,
            self.meaning,
            self.coverage,
            self.sentence_coverage,
            self.asked,
            self.best_nearby,
            self.missing,
            self.names_missing,
            self.rarest_missing,
            self.expected,
            self.terms,
            self.agreement,
            self.meaning_mean,
            self.meaning_third,
            self.keyword,
            self.keyword_of_terms,
            self.three_best,
            self.by_meaning,
            self.by_words,
            self.corpus,
        ]
    }
}
