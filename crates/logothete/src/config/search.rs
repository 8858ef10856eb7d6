//! `[search]`: how passages are found.

use logothete_core::search::{DiversityPlan, Filter, LegPlan, Plan, RerankPlan};
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

use super::written;

/// What a model that writes answers makes of a question before the search.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Transform {
    /// Nothing.
    #[default]
    None,
    /// The question in the words of the documents.
    Rewrite,
    /// The questions that must be answered first.
    Split,
    /// A passage as it might answer the question.
    Hypothetical,
}

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
    /// The number of candidates of each leg.
    pub depth: usize,
    /// How the best candidates are put in a new order.
    pub rerank: RerankPlan,
    /// How alike the passages may be.
    pub diversity: DiversityPlan,
    /// What is searched for besides a question that a model answers.
    pub transform: Transform,
    /// The filter of every search, written as on the command line; `None`, written `""`, searches all.
    #[serde(with = "written")]
    pub filter: Option<Filter>,
}

impl Default for SearchConfig {
    fn default() -> Self {
        let plan = Plan::default();
        let weight = |name: &str| plan.legs.iter().find(|leg| leg.leg == name).map_or(0.0, |leg| leg.weight);
        Self {
            passages: plan.passages,
            keyword: weight("keyword"),
            vector: weight("vector"),
            depth: Plan::DEFAULT_DEPTH,
            rerank: plan.rerank,
            diversity: plan.diversity,
            transform: Transform::default(),
            filter: None,
        }
    }
}

impl SearchConfig {
    /// Returns the plan of a search that overrides nothing.
    pub fn plan(&self) -> Plan {
        let mut plan = Plan::default();
        plan.passages = self.passages;
        plan.rerank = self.rerank.clone();
        plan.diversity = self.diversity.clone();
        plan.legs = [("keyword", self.keyword), ("vector", self.vector)]
            .map(|(name, weight)| {
                let mut leg = LegPlan::new(name, weight);
                leg.depth = self.depth;
                leg
            })
            .to_vec();
        plan
    }

    pub(super) fn validate(&self) -> Result<()> {
        let invalid = |key: &str, message: &str| Err(Error::new(ErrorKind::Configuration, message).at(key));
        let weights = [self.keyword, self.vector];
        if weights.iter().any(|weight| !weight.is_finite() || *weight < 0.0) || weights.iter().sum::<f32>() <= 0.0 {
            return invalid("[search]", "the weights of the legs must be 0 or more, and one of them above 0");
        }
        if self.passages == 0 {
            return invalid("[search] passages", "0 passages answer nothing; set 1 or more");
        }
        if self.depth == 0 {
            return invalid("[search] depth", "a leg without candidates finds nothing; set 1 or more");
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
