//! Two or more pipelines on the same questions.

use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Serialize};

use super::run::Run;
use super::score::QuestionScore;
use super::statistics::{Interval, bootstrap, holm, mean, randomisation_test};

const SEED: u64 = 2026;
/// The measures by which changed questions are ordered, the most telling first.
const TELLING: [&str; 5] = ["first_cited", "cited", "said", "refused", "mrr"];

/// A pipeline beside the one that it is compared with, on the questions that both answered.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Comparison {
    /// The name of the pipeline that is compared with.
    pub baseline: String,
    /// The name of the other pipeline.
    pub name: String,
    /// The number of questions of both.
    pub questions: usize,
    /// What differs, by measure.
    pub differences: BTreeMap<String, Difference>,
    /// The questions whose results differ, the most different first.
    pub changed: Vec<ChangedQuestion>,
}

/// The difference of a measure.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Difference {
    /// The mean of the baseline over the questions for which the measure is defined on both sides.
    pub baseline: f64,
    /// The mean of the other pipeline over the same questions.
    pub value: f64,
    /// The interval of the mean difference with a confidence of 95 %; `None` for fewer than two questions.
    pub interval: Option<Interval>,
    /// The probability of a difference as large by chance: see [`randomisation_test`].
    pub probability: f64,
    /// The same, corrected for the number of pipelines that are compared: see [`holm`].
    pub corrected: f64,
}

/// A question whose results differ.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ChangedQuestion {
    /// The question's id.
    pub id: String,
    /// The question.
    pub question: String,
    /// The rank of the first right passage before and after; `None` if it was not found.
    pub ranks: [Option<usize>; 2],
    /// The measures that differ, before and after.
    pub measures: BTreeMap<String, [f64; 2]>,
    /// The place of the first passage before and after; `None` if none was found.
    pub first_places: [Option<String>; 2],
}

/// Compares pipelines with a baseline, question by question.
///
/// Costs the rounds of the statistics for each measure and pipeline.
pub fn compare(baseline: &Run, others: &[Run]) -> Vec<Comparison> {
    let mut comparisons: Vec<Comparison> = others.iter().map(|other| one(baseline, other)).collect();
    let measures: Vec<String> = baseline.metrics.keys().cloned().collect();
    for measure in measures {
        let mut found: Vec<&mut Difference> =
            comparisons.iter_mut().filter_map(|comparison| comparison.differences.get_mut(&measure)).collect();
        let corrected = holm(&found.iter().map(|difference| difference.probability).collect::<Vec<_>>());
        found.iter_mut().zip(corrected).for_each(|(difference, corrected)| difference.corrected = corrected);
    }
    comparisons
}

fn one(baseline: &Run, other: &Run) -> Comparison {
    let after: HashMap<&str, &QuestionScore> =
        other.per_question.iter().map(|score| (score.id.as_str(), score)).collect();
    let pairs: Vec<(&QuestionScore, &QuestionScore)> =
        baseline.per_question.iter().filter_map(|score| Some((score, *after.get(score.id.as_str())?))).collect();
    let mut values: BTreeMap<&str, Vec<[f64; 2]>> = BTreeMap::new();
    for (before, after) in &pairs {
        for (name, value) in &before.metrics {
            if let Some(other) = after.metrics.get(name) {
                values.entry(name).or_default().push([*value, *other]);
            }
        }
    }
    let differences = values.into_iter().filter_map(|(name, pairs)| Some((name.to_owned(), difference(&pairs)?)));
    let mut changed: Vec<ChangedQuestion> = pairs.iter().filter_map(|(before, after)| change(before, after)).collect();
    changed.sort_by(|a, b| weight(b).total_cmp(&weight(a)));
    Comparison {
        baseline: baseline.name.clone(),
        name: other.name.clone(),
        questions: pairs.len(),
        differences: differences.collect(),
        changed,
    }
}

fn difference(pairs: &[[f64; 2]]) -> Option<Difference> {
    let side = |side: usize| pairs.iter().map(|pair| pair[side]).collect::<Vec<f64>>();
    let differences: Vec<f64> = pairs.iter().map(|[before, after]| after - before).collect();
    let probability = randomisation_test(&differences, SEED);
    let interval = bootstrap(&differences, SEED);
    Some(Difference {
        baseline: mean(&side(0))?,
        value: mean(&side(1))?,
        interval,
        probability,
        corrected: probability,
    })
}

/// Returns what differs; `None` if nothing but the cost does.
fn change(before: &QuestionScore, after: &QuestionScore) -> Option<ChangedQuestion> {
    let is_cost = |name: &str| ["tokens", "money"].contains(&name);
    let differing = before.metrics.iter().filter(|(name, _)| !is_cost(name)).filter_map(|(name, value)| {
        let other = after.metrics.get(name)?;
        ((value - other).abs() > 1e-9).then(|| (name.clone(), [*value, *other]))
    });
    let measures: BTreeMap<String, [f64; 2]> = differing.collect();
    if measures.is_empty() && before.refused == after.refused {
        return None;
    }
    let ranks = [before.first_rank, after.first_rank];
    let first_places = [before, after].map(|score| score.details.passages.first().map(|passage| passage.place.clone()));
    Some(ChangedQuestion { id: before.id.clone(), question: before.question.clone(), ranks, measures, first_places })
}

/// Returns how much of the telling measures differs, the first one counting most.
fn weight(changed: &ChangedQuestion) -> f64 {
    let part = |(at, name): (usize, &&str)| {
        changed.measures.get(*name).map_or(0.0, |[before, after]| (after - before).abs() / (at + 1) as f64)
    };
    TELLING.iter().enumerate().map(part).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn score(id: usize, mrr: f64) -> QuestionScore {
        let json = serde_json::json!({
            "id": format!("q{id}"), "question": "Where?", "refuse": false, "refused": false, "cited": true, "said": null,
            "first_rank": 1, "metrics": { "mrr": mrr, "tokens": mrr * 10.0 },
        });
        serde_json::from_value(json).expect("a score")
    }

    fn run(name: &str, values: &[f64]) -> Run {
        Run::new(name, values.iter().enumerate().map(|(id, value)| score(id, *value)).collect())
    }

    #[test]
    fn a_difference_has_an_interval_a_probability_and_its_questions() {
        let before = run("before", &[1.0, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5]);
        let after = run("after", &[1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 0.25]);
        let same = run("same", &[1.0, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5, 0.5]);
        let [first, second] = &compare(&before, &[after, same])[..] else { panic!("two comparisons") };
        let Difference { baseline, value, interval, probability, corrected } = first.differences["mrr"];
        assert!((baseline - 0.5625).abs() < 1e-12 && (value - 0.90625).abs() < 1e-12);
        let Interval { low, high } = interval.expect("an interval");
        assert!(low > 0.0 && low < 0.34 && high > 0.35, "{low} to {high}");
        // Among the 2^7 ways to swap sides, four give a sum that is at least as far from 0.
        assert!((probability - 4.0 / 128.0).abs() < 0.008, "{probability}");
        assert!((corrected - 2.0 * probability).abs() < 1e-12);
        assert_eq!((first.changed.len(), first.changed[0].id.as_str()), (7, "q1"));
        assert_eq!((second.changed.len(), second.differences["mrr"].probability), (0, 1.0));
    }

    #[test]
    fn only_questions_of_both_are_compared() {
        let (before, after) = (run("before", &[1.0, 0.5]), run("after", &[1.0]));
        assert_eq!(compare(&before, &[after])[0].questions, 1);
    }
}
