//! Choosing settings by their results on questions, and telling whether the choice is better on other questions.
//!
//! Settings are tried one after another, each with the best values of the others so far, twice around. The choice is made once on all
//! questions, and once for each fold on the questions outside it; the questions of the fold then show what it is worth (cross-validation, Stone,
//! 1974). Questions about the same document are in the same fold, so that no document is chosen on and measured on.

use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Serialize};

use super::questions::SetQuestion;
use super::run::Run;
use super::statistics::{Interval, bootstrap, mean, randomisation_test};
use crate::random::Random;

/// How often each setting is tried again with the best values of the others.
const ROUNDS: usize = 2;
/// The number of folds, if there are as many documents.
const MAX_FOLDS: usize = 5;
/// The highest probability of a difference by chance that counts as real.
pub const MAX_CHANCE: f64 = 0.05;
/// The smallest gain that is worth telling.
const SMALLEST_GAIN: f64 = 0.02;
/// Measures of which less is better.
const LESS_IS_BETTER: [&str; 6] = ["wrongly_refused", "closest", "brier", "repeats", "tokens", "money"];
const SEED: u64 = 2026;

/// A setting, and the values that are tried.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tried {
    /// The table and the key, such as `search.keyword`.
    pub key: String,
    /// The values, as they are written in a configuration.
    pub values: Vec<String>,
}

/// A choice of a value for each setting, by number; `None` means as it is configured.
pub type Choice = Vec<Option<usize>>;

/// Says which choices have to be measured, and draws the conclusion.
///
/// Ask for the [`next`](Self::next) choice, [`add`](Self::add) its run, and so on until there is none; then [`finish`](Self::finish). It may be
/// finished earlier, with the best so far.
#[derive(Clone, Debug)]
pub struct Tuner {
    settings: Vec<Tried>,
    measure: String,
    /// The fold of each question.
    folds: HashMap<String, usize>,
    documents: usize,
    /// The value of each question under each choice that was measured.
    measured: HashMap<Choice, BTreeMap<String, f64>>,
}

/// What was chosen, and what it is worth.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Tuned {
    /// The measure that was raised, or lowered if less of it is better.
    pub measure: String,
    /// The best value of each setting; `None` if none is better than the configured one.
    pub best: Vec<(String, Option<String>)>,
    /// The number of choices that were measured.
    pub choices: usize,
    /// The number of questions that have the measure.
    pub questions: usize,
    /// The number of documents that they are about.
    pub documents: usize,
    /// The number of folds; 0 if all questions are about one document, and nothing can be told.
    pub folds: usize,
    /// The mean with the configured settings.
    pub before: f64,
    /// The mean with the best settings, on the questions that chose them, which makes it too high.
    pub after: f64,
    /// How much better the choice is on questions that it was not made on.
    pub gain: f64,
    /// The interval of this gain.
    pub interval: Option<Interval>,
    /// The probability of such a gain by chance.
    pub probability: f64,
    /// Whether the gain is above 0 and hardly by chance.
    pub is_real: bool,
    /// How many questions would be enough to tell a gain like this one, or one of 0.02 if there is none; `None` if these are enough.
    pub enough: Option<usize>,
}

impl Tuner {
    /// Creates a tuner for some questions.
    pub fn new(settings: Vec<Tried>, measure: impl Into<String>, questions: &[SetQuestion]) -> Self {
        // A question without a place is a document of its own.
        let about = |question: &SetQuestion| match question.relevant.first() {
            Some(place) => place.document.clone(),
            None => format!("\0{}", question.id),
        };
        let mut documents: BTreeMap<String, Vec<&str>> = BTreeMap::new();
        for question in questions {
            documents.entry(about(question)).or_default().push(&question.id);
        }
        let named = documents.keys().filter(|name| !name.starts_with('\0')).count();
        let mut groups: Vec<Vec<&str>> = documents.into_values().collect();
        let mut random = Random::new(SEED);
        for at in (1..groups.len()).rev() {
            groups.swap(at, random.below(at + 1));
        }
        // The largest groups are dealt first, each to the smallest fold.
        groups.sort_by_key(|group| std::cmp::Reverse(group.len()));
        let mut sizes = vec![0; MAX_FOLDS.min(groups.len())];
        let mut folds = HashMap::new();
        for group in groups {
            let fold = (0..sizes.len()).min_by_key(|fold| sizes[*fold]).unwrap_or_default();
            sizes[fold] += group.len();
            folds.extend(group.into_iter().map(|id| (id.to_owned(), fold)));
        }
        Self { settings, measure: measure.into(), folds, documents: named, measured: HashMap::new() }
    }

    /// Returns the next choice that has to be measured; `None` if all that are needed were.
    pub fn next(&self) -> Option<Choice> {
        let configured = vec![None; self.settings.len()];
        if !self.measured.contains_key(&configured) {
            return Some(configured);
        }
        // The choice on all questions comes first, so that a search that is stopped has it.
        std::iter::once(None).chain((0..self.folds()).map(Some)).find_map(|without| self.walk(without).err())
    }

    /// Adds the results of a choice.
    pub fn add(&mut self, choice: Choice, run: &Run) {
        let sign = if LESS_IS_BETTER.contains(&self.measure.as_str()) { -1.0 } else { 1.0 };
        let value = |score: &super::QuestionScore| Some((score.id.clone(), sign * *score.metrics.get(&self.measure)?));
        self.measured.insert(choice, run.per_question.iter().filter_map(value).collect());
    }

    /// Returns the values of a choice, by setting.
    pub fn values<'a>(&'a self, choice: &'a Choice) -> impl Iterator<Item = (&'a str, &'a str)> {
        let settings = self.settings.iter().zip(choice);
        settings.filter_map(|(setting, value)| Some((setting.key.as_str(), setting.values.get((*value)?)?.as_str())))
    }

    /// Returns the number of choices that were measured.
    pub fn choices(&self) -> usize {
        self.measured.len()
    }

    fn folds(&self) -> usize {
        match self.folds.values().max() {
            Some(last) if *last > 0 => last + 1,
            _ => 0,
        }
    }

    /// Goes from setting to setting to the best values on the questions outside a fold.
    ///
    /// # Errors
    /// The choice that has to be measured first.
    fn walk(&self, without: Option<usize>) -> Result<(), Choice> {
        let mut best: Choice = vec![None; self.settings.len()];
        for _ in 0..ROUNDS {
            let before = best.clone();
            for (at, setting) in self.settings.iter().enumerate() {
                let (mut choice, mut most) = (best.clone(), self.mean_of(&best, without).ok_or_else(|| best.clone())?);
                for value in std::iter::once(None).chain((0..setting.values.len()).map(Some)) {
                    let mut other = best.clone();
                    other[at] = value;
                    let mean = self.mean_of(&other, without).ok_or_else(|| other.clone())?;
                    if mean > most + 1e-9 {
                        (choice, most) = (other, mean);
                    }
                }
                best = choice;
            }
            if best == before {
                break;
            }
        }
        Ok(())
    }

    /// Returns the best choice outside a fold among all that were measured.
    fn best(&self, without: Option<usize>) -> Choice {
        let configured = vec![None; self.settings.len()];
        let mean = |choice: &Choice| self.mean_of(choice, without).unwrap_or(f64::MIN);
        let mut choices: Vec<&Choice> = self.measured.keys().collect();
        // Among equals the configured one is kept, and the order is always the same.
        choices.sort();
        let best = choices.into_iter().fold((&configured, mean(&configured)), |best, choice| {
            let value = mean(choice);
            if value > best.1 + 1e-9 { (choice, value) } else { best }
        });
        best.0.clone()
    }

    /// Returns the mean of a choice outside a fold; `None` if it was not measured.
    fn mean_of(&self, choice: &Choice, without: Option<usize>) -> Option<f64> {
        let values = self.measured.get(choice)?;
        let outside = values.iter().filter(|(id, _)| without.is_none() || self.folds.get(*id).copied() != without);
        Some(mean(&outside.map(|(_, value)| *value).collect::<Vec<_>>()).unwrap_or_default())
    }

    /// Draws the conclusion from what was measured; `None` if nothing was.
    pub fn finish(&self) -> Option<Tuned> {
        let configured: Choice = vec![None; self.settings.len()];
        let baseline = self.measured.get(&configured)?;
        let best = self.best(None);
        let folds: Vec<Choice> = (0..self.folds()).map(|fold| self.best(Some(fold))).collect();
        let difference = |(id, before): (&String, &f64)| {
            let choice = folds.get(*self.folds.get(id)?)?;
            Some(self.measured.get(choice)?.get(id)? - before)
        };
        let differences: Vec<f64> = baseline.iter().filter_map(difference).collect();
        let gain = mean(&differences).unwrap_or_default();
        let probability = randomisation_test(&differences, SEED);
        let is_real = gain > 0.0 && probability < MAX_CHANCE;
        let sign = if LESS_IS_BETTER.contains(&self.measure.as_str()) { -1.0 } else { 1.0 };
        let names =
            self.settings.iter().zip(&best).map(|(setting, value)| {
                (setting.key.clone(), value.and_then(|value| setting.values.get(value)).cloned())
            });
        Some(Tuned {
            measure: self.measure.clone(),
            best: names.collect(),
            choices: self.measured.len(),
            questions: baseline.len(),
            documents: self.documents,
            folds: folds.len(),
            before: sign * self.mean_of(&configured, None)?,
            after: sign * self.mean_of(&best, None)?,
            gain,
            interval: bootstrap(&differences, SEED),
            probability,
            is_real,
            enough: match gain {
                _ if is_real => None,
                gain if gain > 0.0 => enough(&differences, gain),
                _ => self.enough_for_others(baseline),
            },
        })
    }
}

impl Tuner {
    /// Returns how many questions would be enough to tell a gain of 0.02, by the choice whose results differ most from the configured ones.
    fn enough_for_others(&self, baseline: &BTreeMap<String, f64>) -> Option<usize> {
        let differences = |values: &BTreeMap<String, f64>| -> Vec<f64> {
            baseline.iter().filter_map(|(id, before)| Some(values.get(id)? - before)).collect()
        };
        self.measured.values().filter_map(|values| enough(&differences(values), SMALLEST_GAIN)).max()
    }
}

/// Returns how many questions are enough to tell a gain in 8 cases of 10, if the differences vary like these, by the normal approximation:
/// ((1.96 + 0.84) · deviation / gain)²; `None` if nothing differs, or these are enough.
fn enough(differences: &[f64], gain: f64) -> Option<usize> {
    let mean = mean(differences)?;
    let squares: f64 = differences.iter().map(|difference| (difference - mean).powi(2)).sum();
    let deviation = (squares / (differences.len().checked_sub(1)?.max(1)) as f64).sqrt();
    let needed = (2.8 * deviation / gain).powi(2).ceil() as usize;
    (needed > differences.len()).then_some(needed)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn questions(count: usize) -> Vec<SetQuestion> {
        let question = |at: usize| {
            let json = serde_json::json!({
                "id": format!("q{at}"), "question": "Where?", "relevant": [{ "document": format!("{}.md", at / 2) }],
            });
            serde_json::from_value(json).expect("a question")
        };
        (0..count).map(question).collect()
    }

    /// Measures choices by a rule until none is left, or as many as are allowed.
    fn tuned(count: usize, max: usize, settings: Vec<Tried>, value: impl Fn(&[(&str, &str)], usize) -> f64) -> Tuned {
        let questions = questions(count);
        let mut tuner = Tuner::new(settings, "mrr", &questions);
        while let Some(choice) = tuner.next().filter(|_| tuner.choices() < max) {
            let set: Vec<(&str, &str)> = tuner.values(&choice).collect();
            let scores = (0..count).map(|at| {
                let json = serde_json::json!({
                    "id": format!("q{at}"), "question": "Where?", "refuse": false, "refused": false, "cited": true, "said": null,
                    "first_rank": 1, "metrics": { "mrr": value(&set, at) },
                });
                serde_json::from_value(json).expect("a score")
            });
            let run = Run::new("one", scores.collect());
            tuner.add(choice, &run);
        }
        tuner.finish().expect("a conclusion")
    }

    fn settings() -> Vec<Tried> {
        let tried =
            |key: &str, values: [&str; 3]| Tried { key: key.to_owned(), values: values.map(str::to_owned).to_vec() };
        vec![tried("a", ["1", "2", "3"]), tried("b", ["x", "y", "z"])]
    }

    #[test]
    fn a_real_gain_is_found_and_told_from_chance() {
        let value = |set: &[(&str, &str)], at: usize| {
            let better =
                f64::from(u8::from(set.contains(&("a", "2")))) + f64::from(u8::from(set.contains(&("b", "z"))));
            0.3 + 0.3 * better * f64::from(u8::from(!at.is_multiple_of(4)))
        };
        let tuned = tuned(40, 99, settings(), value);
        assert_eq!(tuned.best, [("a".to_owned(), Some("2".to_owned())), ("b".to_owned(), Some("z".to_owned()))]);
        assert!(tuned.is_real && (tuned.gain - 0.45).abs() < 1e-9 && tuned.enough.is_none(), "{tuned:?}");
        assert!((tuned.before - 0.3).abs() < 1e-9 && (tuned.after - 0.75).abs() < 1e-9);
        assert_eq!((tuned.questions, tuned.documents, tuned.folds), (40, 20, 5));
        // Each value of a setting is tried with the best of the others, not with all of them.
        assert!(tuned.choices <= 13, "{tuned:?}");
    }

    /// Values that say nothing of a question look better on those that chose them, and the folds show that they are not.
    #[test]
    fn a_choice_by_chance_is_no_gain() {
        let value = |set: &[(&str, &str)], at: usize| {
            let mut noise =
                Random::new(at as u64 * 31 + set.iter().map(|(_, value)| u64::from(value.as_bytes()[0])).sum::<u64>());
            noise.below(100) as f64 / 100.0
        };
        let tuned = tuned(30, 99, settings(), value);
        assert!(tuned.after > tuned.before && !tuned.is_real, "{tuned:?}");
        assert!(tuned.enough.is_some_and(|enough| enough > 30), "{tuned:?}");
    }

    #[test]
    fn ended_early_it_keeps_the_best_so_far() {
        let value = |set: &[(&str, &str)], _: usize| if set.contains(&("a", "1")) { 0.9 } else { 0.1 };
        let tuned = tuned(20, 2, settings(), value);
        assert_eq!((tuned.choices, tuned.best[0].1.as_deref()), (2, Some("1")));
        assert!(tuned.is_real, "{tuned:?}");
    }

    /// With a deviation of 0.5, a gain of 0.1 takes (2.8 · 5)² questions.
    #[rstest]
    #[case(&[0.5, -0.5, 0.5, -0.5, 0.5, -0.5, 0.5, -0.5, 0.5, -0.5], 0.1, Some(218))]
    #[case(&[0.25, 0.25, 0.25], 0.02, None)]
    #[case(&[], 0.02, None)]
    fn the_number_of_questions_that_are_enough(
        #[case] differences: &[f64],
        #[case] gain: f64,
        #[case] expected: Option<usize>,
    ) {
        assert_eq!(enough(differences, gain), expected);
    }

    #[test]
    fn a_choice_that_changes_nothing_says_what_would_show_a_small_gain() {
        let value = |set: &[(&str, &str)], at: usize| match set {
            [] => 0.5,
            _ if at.is_multiple_of(2) => 0.1,
            _ => 0.7,
        };
        let tuned = tuned(20, 99, settings(), value);
        assert_eq!((tuned.gain, tuned.is_real), (0.0, false));
        assert!(tuned.enough.is_some_and(|enough| (1_000..3_000).contains(&enough)), "{tuned:?}");
    }
}
