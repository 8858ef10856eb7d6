//! The features of candidates: what is measured of each, alone and beside the others of its list.

use super::Facts;

/// The names of the facts that are also compared with those of the other candidates, then of those that say something alone.
pub(super) const NAMES: [&str; COMPARED + ALONE] = [
    "fused score",
    "words of the chunk",
    "meaning of the chunk",
    "words of the section",
    "meaning of the section",
    "nearest chunk of the section",
    "share of the words",
    "share of the words in the section",
    "distinct meaning of the chunk",
    "words at the beginning",
    "words side by side",
    "best words of the section",
    "meaning of the first chunk",
    "nearness to the start of the section",
    "place in the section, as a share",
    "length of the section",
    "length of the chunk",
    "share of the section in the list",
    "nearness to others",
    "share of short lines",
];
const COMPARED: usize = 13;
const ALONE: usize = 7;

/// The number of features: four of each compared fact, and the others.
pub const FEATURES: usize = 4 * COMPARED + ALONE;

/// The position of the fused score among the features.
pub(super) const FUSED: usize = 0;

/// The features of a candidate.
pub type FeatureRow = [f32; FEATURES];

/// What is made of a compared fact, in the order of the features.
const KINDS: [&str; 4] = ["", ", in deviations", ", by rank", ", in deviations, of a question"];

/// BM25 scores are squashed to S / (S + this).
const SQUASH: f32 = 8.0;
/// What the cosine of a chunk loses for being near to everything.
const HUB: f32 = 0.5;
/// Of a smaller share of short lines nothing follows: text has headings, labels and lists too.
const LISTED: f32 = 0.7;
/// The rank by which the share of a rank is halved.
const RANKS: f32 = 3.0;

/// Returns the number of the fact that a feature is made of.
pub(super) fn fact_of(feature: usize) -> usize {
    if feature < KINDS.len() * COMPARED { feature / KINDS.len() } else { feature - (KINDS.len() - 1) * COMPARED }
}

/// Returns the name of a feature.
pub(super) fn name_of(feature: usize) -> &'static str {
    static ALL: std::sync::LazyLock<Vec<String>> = std::sync::LazyLock::new(|| {
        let kind = |feature: usize| if feature < KINDS.len() * COMPARED { KINDS[feature % KINDS.len()] } else { "" };
        (0..FEATURES).map(|feature| format!("{}{}", NAMES[fact_of(feature)], kind(feature))).collect()
    });
    ALL.get(feature).map_or("", String::as_str)
}

impl Facts {
    fn compared(&self) -> [f32; COMPARED] {
        let squashed = |score: f32| score / (score + SQUASH);
        [
            self.fused,
            squashed(self.keyword.max(0.0)),
            self.vector,
            squashed(self.section_keyword.max(0.0)),
            self.section_vector,
            self.section_best,
            self.coverage,
            self.section_coverage,
            self.vector - HUB * self.density,
            self.standing.early,
            self.standing.adjacent,
            squashed(self.section_keyword_best.max(0.0)),
            self.section_first,
        ]
    }
}

/// Returns the features of each candidate of a list. `asks` says whether the words that were searched for are a question.
///
/// Of each compared fact there are: the fact; its distance from the mean of the list in standard deviations; 1 / (1 + rank / 3) of its
/// rank by that fact; and the second once more, if the words are a question, else 0. All features are finite.
///
/// Costs a sort of the list for each fact.
pub fn features(facts: &[Facts], asks: bool) -> Vec<FeatureRow> {
    let finite = |value: f32| if value.is_finite() { value } else { 0.0 };
    let compared: Vec<[f32; COMPARED]> = facts.iter().map(|facts| facts.compared().map(finite)).collect();
    let mut all = vec![[0.0; FEATURES]; facts.len()];
    for fact in 0..COMPARED {
        let column: Vec<f32> = compared.iter().map(|values| values[fact]).collect();
        let count = column.len().max(1) as f32;
        let mean = column.iter().sum::<f32>() / count;
        let deviation = (column.iter().map(|value| (value - mean) * (value - mean)).sum::<f32>() / count).sqrt();
        let mut order: Vec<usize> = (0..column.len()).collect();
        order.sort_by(|&a, &b| column[b].total_cmp(&column[a]));
        let mut by_rank = 1.0;
        for (rank, &at) in order.iter().enumerate() {
            // Equal values have the rank of the first.
            if rank > 0 && column[order[rank - 1]] > column[at] {
                by_rank = 1.0 / (1.0 + rank as f32 / RANKS);
            }
            let deviations = if deviation > 1e-6 { (column[at] - mean) / deviation } else { 0.0 };
            let asked = if asks { deviations } else { 0.0 };
            let first = KINDS.len() * fact;
            all[at][first..first + KINDS.len()].copy_from_slice(&[column[at], deviations, by_rank, asked]);
        }
    }
    let total: f32 = facts.iter().map(|candidate| finite(candidate.fused).max(0.0)).sum();
    for (row, candidate) in all.iter_mut().zip(facts) {
        let of_section = facts.iter().filter(|other| other.section == candidate.section);
        let of_section: f32 = of_section.map(|other| finite(other.fused).max(0.0)).sum();
        let chunks = candidate.section_chunks.max(1) as f32;
        row[KINDS.len() * COMPARED..].copy_from_slice(&[
            1.0 / (1.0 + candidate.place as f32),
            candidate.place as f32 / chunks,
            chunks.ln(),
            (1.0 + candidate.words as f32).ln(),
            if total > 0.0 { of_section / total } else { 0.0 },
            finite(candidate.density),
            ((finite(candidate.entries) - LISTED) / (1.0 - LISTED)).clamp(0.0, 1.0),
        ]);
    }
    all
}
