//! `[search]`: how passages are found.

use std::collections::BTreeMap;

pub use logothete_core::search::TransformKind;
use logothete_core::search::{DiversityPlan, ExpansionPlan, Filter, FusionKind, LegPlan, Plan, RerankPlan, Rule};
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

use super::written;

/// `[search]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct SearchConfig {
    /// The number of passages that a search returns.
    pub passages: usize,
    /// The weight of the keyword leg in the fusion.
    pub keyword: f32,
    /// The weight of the vector leg in the fusion.
    pub vector: f32,
    /// The weights of further legs, by their names: `headings`, `neighbours`, and those of the pipeline's own. A leg that has no weight here does
    /// not run.
    pub legs: BTreeMap<String, f32>,
    /// The rules by which a leg runs, by its name: one of them must hold for the question. A leg without rules runs for all questions.
    pub when: BTreeMap<String, Vec<Rule>>,
    /// The number of candidates of each leg.
    pub depth: usize,
    /// How the rankings of the legs are joined into one.
    pub fusion: FusionKind,
    /// How the best candidates are put in a new order.
    pub rerank: RerankPlan,
    /// What the score of a list of contents is multiplied by, from 0 to 1; 1 changes nothing.
    pub contents: f32,
    /// How alike the passages may be.
    pub diversity: DiversityPlan,
    /// How much of the document around a passage is returned with it.
    pub expand: ExpansionPlan,
    /// Groups of words that may stand for one another, such as `["quay", "wharf"]`.
    pub synonyms: Vec<Vec<String>>,
    /// Whether abbreviations are searched for as the documents define them, and terms by their abbreviations.
    pub abbreviations: bool,
    /// What is made of a question, and searched for besides it.
    pub transform: TransformKind,
    /// The filter of every search, written as on the command line; `None`, written `""`, searches all.
    #[serde(with = "written")]
    pub filter: Option<Filter>,
    /// The field of a document's metadata that lists the groups that may see it, with commas between them; empty lets everybody see all.
    pub allow: String,
}

impl Default for SearchConfig {
    fn default() -> Self {
        let plan = Plan::default();
        let weight = |name: &str| plan.legs.iter().find(|leg| leg.leg == name).map_or(0.0, |leg| leg.weight);
        Self {
            passages: plan.passages,
            keyword: weight("keyword"),
            vector: weight("vector"),
            legs: BTreeMap::new(),
            when: BTreeMap::new(),
            depth: Plan::DEFAULT_DEPTH,
            fusion: plan.fusion,
            rerank: plan.rerank,
            contents: plan.contents,
            diversity: plan.diversity,
            expand: plan.expand,
            synonyms: Vec::new(),
            abbreviations: false,
            transform: TransformKind::default(),
            filter: None,
            allow: String::new(),
        }
    }
}

impl SearchConfig {
    /// Returns the plan of a search that overrides nothing.
    pub fn plan(&self) -> Plan {
        let mut plan = Plan::default();
        plan.passages = self.passages;
        plan.transform = self.transform;
        plan.fusion = self.fusion;
        plan.expand = self.expand.clone();
        plan.rerank = self.rerank.clone();
        plan.contents = self.contents;
        plan.diversity = self.diversity.clone();
        let further = self.legs.iter().map(|(name, weight)| (name.as_str(), *weight));
        let legs = [("keyword", self.keyword), ("vector", self.vector)].into_iter().chain(further);
        let planned = |(name, weight)| {
            let mut leg = LegPlan::new(name, weight);
            leg.depth = self.depth;
            leg.when = self.when.get(name).cloned().unwrap_or_default();
            leg
        };
        plan.legs = legs.map(planned).collect();
        plan
    }

    pub(super) fn validate(&self) -> Result<()> {
        let invalid = |key: &str, message: &str| Err(Error::new(ErrorKind::Configuration, message).at(key));
        let weights = || [self.keyword, self.vector].into_iter().chain(self.legs.values().copied());
        if weights().any(|weight| !weight.is_finite() || weight < 0.0) || weights().all(|weight| weight <= 0.0) {
            return invalid("[search]", "the weights of the legs must be 0 or more, and one of them above 0");
        }
        let has_weight = |name: &String| ["keyword", "vector"].contains(&name.as_str()) || self.legs.contains_key(name);
        if let Some(name) = self.when.keys().find(|name| !has_weight(name)) {
            let message = format!("the leg “{name}” has rules and no weight; give it one in legs");
            return invalid("[search] when", &message);
        }
        if self.passages == 0 {
            return invalid("[search] passages", "0 passages answer nothing; set 1 or more");
        }
        if self.depth == 0 {
            return invalid("[search] depth", "a leg without candidates finds nothing; set 1 or more");
        }
        if !(0.0..=1.0).contains(&self.contents) {
            return invalid("[search] contents", "this factor must be from 0 to 1; 1 changes nothing");
        }
        if !(0.0..=1.0).contains(&self.diversity.repeat) {
            return invalid("[search] diversity.repeat", "this factor must be from 0 to 1; 1 changes nothing");
        }
        if !(0.0..=1.0).contains(&self.diversity.novelty) {
            return invalid("[search] diversity.novelty", "this share must be from 0 to 1; 0 changes nothing");
        }
        if !(0.0..=1.0).contains(&self.diversity.max_overlap) {
            return invalid("[search] diversity.max_overlap", "this share must be from 0 to 1; 1 leaves out nothing");
        }
        if self.expand.max_words == 0 {
            return invalid("[search] expand.max_words", "no passage has 0 words; set kind to none to expand nothing");
        }
        if !self.rerank.seconds.is_finite() || self.rerank.seconds <= 0.0 {
            return invalid("[search] rerank.seconds", "no reranker is done in this time; set more than 0");
        }
        if self.rerank.depth == 0 {
            return invalid(
                "[search] rerank.depth",
                "0 candidates have no order; set kind to none to leave out the reranker",
            );
        }
        Ok(())
    }
}
