//! Fitting weights and probabilities, and the model of evidence that is made of them.

use logothete_core::ErrorKind;
use logothete_core::evidence::{EvidenceModel, FACT_NAMES, FEATURE_NAMES, FEATURES, Facts};
use logothete_core::learn::{
    Boosted, Descent, Growth, List, Logistic, boosted, calibrated, listwise, logistic, logistic_curve, rounded,
};
use proptest::prelude::*;
use rstest::rstest;

const DESCENT: Descent = Descent { ridge: 0.01, steps: 200, rate: 0.05 };

/// Numbers that look random and are the same each time.
fn numbers(count: usize, seed: u64) -> Vec<f32> {
    let mut state = seed;
    let next = |_| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 40) as f32 / (1 << 23) as f32 - 1.0
    };
    (0..count).map(next).collect()
}

#[test]
fn weights_put_the_right_one_first() {
    // The right one of each list has the highest second feature; the others say nothing.
    let lists: Vec<(Vec<[f32; 3]>, Vec<bool>)> = (0..60)
        .map(|seed| {
            let rows: Vec<[f32; 3]> = numbers(24, seed).chunks_exact(3).map(|row| [row[0], row[1], row[2]]).collect();
            let best = rows.iter().map(|row| row[1]).fold(f32::MIN, f32::max);
            let right = rows.iter().map(|row| row[1] >= best).collect();
            (rows, right)
        })
        .collect();
    let as_lists: Vec<List<'_>> = lists
        .iter()
        .map(|(rows, right)| List { rows: rows.iter().map(<[f32; 3]>::as_slice).collect(), right })
        .collect();
    let (weights, deviation) = listwise(&as_lists, 3, DESCENT);
    assert!(weights[1] > 5.0 * weights[0].abs().max(weights[2].abs()), "{weights:?}");
    assert_eq!(
        listwise(&as_lists, 3, DESCENT),
        (weights.clone(), deviation.clone()),
        "the same lists, the same weights"
    );
    let score = |row: &[f32; 3]| (0..3).map(|at| weights[at] / deviation[at] * f64::from(row[at])).sum::<f64>();
    let first_is_right = |(rows, right): &(Vec<[f32; 3]>, Vec<bool>)| {
        let best = (0..rows.len()).max_by(|a, b| score(&rows[*a]).total_cmp(&score(&rows[*b])));
        best.is_some_and(|best| right[best])
    };
    assert!(lists.iter().filter(|list| first_is_right(list)).count() >= 57);
}

#[test]
fn lists_that_teach_nothing_give_no_weights() {
    let rows = [[1.0_f32, 2.0], [3.0, 4.0]];
    let list = |right| List { rows: rows.iter().map(<[f32; 2]>::as_slice).collect(), right };
    let (weights, _) = listwise(&[list(&[true, true]), list(&[false, false])], 2, DESCENT);
    assert_eq!(weights, [0.0, 0.0]);
    assert_eq!(listwise(&[], 2, DESCENT).0, [0.0, 0.0]);
}

#[test]
fn probabilities_are_as_often_right_as_they_say() {
    let examples: Vec<(Vec<f32>, bool, f32)> = numbers(4_000, 5)
        .chunks_exact(2)
        .map(|pair| {
            let chance = logistic_curve(f64::from(3.0 * pair[0] - 0.5)) as f32;
            (vec![pair[0]], (pair[1] + 1.0) / 2.0 < chance, 1.0)
        })
        .collect();
    let model = logistic(&examples, 1e-4);
    assert!((model.weights[0] - 3.0).abs() < 0.4 && (model.shift + 0.5).abs() < 0.25, "{model:?}");
    for bin in 0..5 {
        let inside = |facts: &[f32]| ((model.probability(facts) * 5.0) as usize).min(4) == bin;
        let all: Vec<_> = examples.iter().filter(|(facts, _, _)| inside(facts)).collect();
        let right = all.iter().filter(|(_, holds, _)| *holds).count() as f32 / all.len() as f32;
        let said = all.iter().map(|(facts, _, _)| model.probability(facts)).sum::<f32>() / all.len() as f32;
        assert!((right - said).abs() < 0.08, "{right} of those that say {said}");
    }
}

#[test]
fn weights_of_examples_count() {
    let example = |holds, weight| (vec![1.0_f32], holds, weight);
    let rare: Vec<_> = (0..100).map(|at| example(at < 10, if at < 10 { 9.0 } else { 1.0 })).collect();
    assert!((logistic(&rare, 1e-3).probability(&[1.0]) - 0.5).abs() < 0.02);
}

#[rstest]
#[case(&[], 0.5)]
#[case(&[1.0, 2.0], 0.5)]
#[case(&[f32::NAN], f32::NAN)]
fn other_facts_than_weights_say_nothing(#[case] facts: &[f32], #[case] expected: f32) {
    let model = Logistic { weights: vec![2.0], shift: 0.0 };
    let found = model.probability(facts);
    assert!(found.to_bits() == expected.to_bits() || (found.is_nan() && expected.is_nan()), "{found}");
}

#[test]
fn the_learned_model_has_a_weight_for_each_feature_and_fact() {
    let model = EvidenceModel::learned();
    assert_eq!((model.features.len(), model.weights.len(), model.facts.len()), (FEATURES, FEATURES, FACT_NAMES.len()));
    assert!(model.features.iter().map(String::as_str).eq(FEATURE_NAMES));
    assert!(model.min_related > 0.0 && model.min_related < 1.0);
    let share = |name: &str| {
        let at = FEATURE_NAMES.iter().position(|known| *known == name).expect("a feature");
        model.weights[at]
    };
    assert!(share("covered") > 0.0 && share("question") < 0.0 && share("expected") > 0.0, "{model:?}");
    // It is read again as it was written.
    let json = serde_json::to_string(model).expect("JSON");
    assert_eq!(EvidenceModel::read(&json).expect("a model"), *model);
}

#[rstest]
#[case("{}", ErrorKind::Unreadable)]
#[case("not JSON", ErrorKind::Unreadable)]
#[case(
    r#"{"features":["x"],"weights":[1.0],"facts":[],"answers":{"weights":[],"shift":0.0},"related":{"weights":[],"shift":0.0},"min_related":0.5}"#,
    ErrorKind::Mismatch
)]
fn another_model_is_refused(#[case] json: &str, #[case] kind: ErrorKind) {
    assert_eq!(EvidenceModel::read(json).expect_err("no model").kind(), kind);
}

#[test]
fn more_of_the_question_makes_surer() {
    let model = EvidenceModel::learned();
    let facts = |meaning: f32, coverage: f32| Facts {
        meaning,
        meaning_mean: 0.6 * meaning,
        meaning_third: 0.8 * meaning,
        coverage,
        sentence_coverage: coverage,
        best_nearby: coverage,
        missing: 1.0 - coverage,
        passage: 4.0 * coverage - 2.0,
        ..Facts::default()
    };
    let (near, far) = (facts(0.7, 1.0), facts(0.2, 0.0));
    assert!(model.relatedness(&near) > 0.9 && model.relatedness(&far) < 0.1);
    assert!(model.confidence(&near) > model.confidence(&far));
}

proptest! {
    #[test]
    fn a_curve_is_between_0_and_1_and_rises(a in -50.0_f64..50.0, b in -50.0_f64..50.0) {
        let (low, high) = (logistic_curve(a.min(b)), logistic_curve(a.max(b)));
        prop_assert!((0.0..=1.0).contains(&low) && low <= high);
    }

    #[test]
    fn a_calibration_is_finite_whatever_the_pairs(
        pairs in prop::collection::vec((-5.0_f64..5.0, any::<bool>()), 0..40), value in -1e3_f64..1e3,
    ) {
        let (slope, shift) = calibrated(&pairs);
        prop_assert!(slope.is_finite() && shift.is_finite());
        prop_assert!((f64::from(rounded(value)) - value).abs() <= 1e-5 * value.abs().max(1.0));
    }
}

const GROWTH: Growth = Growth { trees: 60, max_depth: 2, rate: 0.2, min_weight: 5.0, ridge: 1.0 };

/// Examples that hold if exactly one of two facts is positive, and a third fact that says nothing.
fn either(count: usize, seed: u64) -> Vec<(Vec<f32>, bool, f32)> {
    let rows = numbers(count * 3, seed);
    rows.chunks_exact(3).map(|row| (row.to_vec(), (row[0] > 0.0) != (row[1] > 0.0), 1.0)).collect()
}

#[test]
fn trees_learn_what_no_sum_can_tell() {
    let (known, new) = (either(600, 1), either(400, 2));
    let trees = boosted(&known, GROWTH);
    let sums = logistic(&known, 0.01);
    let right = |tell: &dyn Fn(&[f32]) -> f32| new.iter().filter(|one| (tell(&one.0) > 0.5) == one.1).count();
    assert!(right(&|facts| trees.probability(facts)) >= 370);
    assert!(right(&|facts| sums.probability(facts)) <= 260);
    assert_eq!(trees, boosted(&known, GROWTH), "the same examples, the same trees");
    assert!(trees.facts() <= 3);
}

#[test]
fn an_example_that_counts_more_is_heard() {
    let mut examples: Vec<(Vec<f32>, bool, f32)> = (0..200).map(|at| (vec![0.0], at % 2 == 0, 1.0)).collect();
    let half = boosted(&examples, GROWTH).probability(&[0.0]);
    examples.iter_mut().filter(|one| one.1).for_each(|one| one.2 = 3.0);
    let more = boosted(&examples, GROWTH).probability(&[0.0]);
    assert!((half - 0.5).abs() < 0.02 && (more - 0.75).abs() < 0.02, "{half} {more}");
}

#[test]
fn trees_are_the_same_after_reading_them_back() {
    let trees = boosted(&either(300, 3), GROWTH);
    let json = serde_json::to_string(&trees).expect("JSON");
    let back: Boosted = serde_json::from_str(&json).expect("trees");
    assert_eq!(trees, back);
    assert!(
        serde_json::from_str::<Boosted>(r#"{"shift": 0.0, "trees": [[1, 0.5, 0.1]]}"#).is_err(),
        "a split has two sides"
    );
    let deep =
        format!(r#"{{"shift": 0.0, "trees": [{}0.0{}]}}"#, "[0, 0.5, 0.1, ".repeat(100_000), "]".repeat(100_000));
    assert!(serde_json::from_str::<Boosted>(&deep).is_err(), "too deep");
}

#[test]
fn no_examples_tell_nothing() {
    let trees = boosted(&[], GROWTH);
    assert_eq!((trees.probability(&[]), trees.facts()), (0.5, 0));
}

proptest! {
    #[test]
    fn trees_make_probabilities_of_anything(facts in prop::collection::vec(prop::num::f32::ANY, 0..5), seed in 0_u64..4) {
        let trees = boosted(&either(60, seed), Growth { trees: 5, ..GROWTH });
        let probability = trees.probability(&facts);
        prop_assert!((0.0..=1.0).contains(&probability));
    }
}
