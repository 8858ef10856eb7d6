//! Fits the reranker that comes with the library to the dev halves of question sets.
//!
//! `reranker FOLDER OUT [CORPUS [CONFIGURATION]]`: FOLDER has the sets of `bench/sets/make.py`, with the corpus of each built beside its
//! questions, in the folder `corpus` or CORPUS. It is opened with the settings of the file CONFIGURATION, if there is one. The model is written
//! to OUT, which is `crates/core/src/rerank/learned.json`. The same sets give the same bytes. Then each set is ranked by a model that was
//! fitted to the others, and its measures are printed.

use std::collections::{HashMap, HashSet};
use std::path::Path;

use logothete::search::{Fused, Plan, SearchRequest, Standpoint, adjust};
use logothete::trace::TraceDetails;
use logothete::{Config, Corpus, Pipeline};
use logothete_bench::sets::sets;
use logothete_core::rerank::{FeatureRow, Linear, RankedList};
use serde_json::Value;

/// A question, and what was found for it before it was reranked.
struct Found {
    set: String,
    candidates: Vec<FeatureRow>,
    /// The number of the document of each candidate, in the order in which they were found, and whether it is a right one.
    documents: Vec<(u32, bool)>,
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let (folder, out, rest) = match &arguments[..] {
        [folder, out, rest @ ..] if rest.len() < 3 => (folder, out, rest),
        _ => {
            eprintln!(
                "give the folder of the sets, the file to write, and perhaps the name of the corpora and a configuration"
            );
            return;
        }
    };
    let corpus = rest.first().map_or("corpus", String::as_str);
    let config = rest.get(1).map(|file| Config::read(Path::new(file)).expect("a configuration")).unwrap_or_default();
    let pipeline = Pipeline::from_config(&config).expect("a pipeline");
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    let mut found = Vec::new();
    for set in sets(Path::new(folder)) {
        found.extend(runtime.block_on(candidates(&set, corpus, &pipeline)));
    }
    let model = Linear::fit(&found.iter().map(Found::list).collect::<Vec<_>>());
    std::fs::write(out, serde_json::to_string_pretty(&model).expect("JSON") + "\n").expect("a file to write to");
    println!(
        "{} questions. Before; by a model of the other sets; by the model of all, which has seen them:",
        found.len()
    );
    let mut names: Vec<&str> = found.iter().map(|found| found.set.as_str()).collect();
    names.dedup();
    let mut all = [Ranks::default(), Ranks::default(), Ranks::default()];
    for name in names {
        let (own, others): (Vec<&Found>, Vec<&Found>) = found.iter().partition(|found| found.set == name);
        let other = Linear::fit(&others.iter().map(|found| found.list()).collect::<Vec<_>>());
        let before =
            own.iter().map(|found| found.documents.iter().position(|(_, right)| *right).map(|at| at + 1)).collect();
        let by = |model: &Linear| own.iter().map(|found| found.rank_by(model)).collect();
        let ranks = [Ranks(before), Ranks(by(&other)), Ranks(by(&model))];
        println!("{name:>12}: {}; {}; {}", ranks[0], ranks[1], ranks[2]);
        all.iter_mut().zip(ranks).for_each(|(all, ranks)| all.0.extend(ranks.0));
    }
    println!("{:>12}: {}; {}; {}", "all", all[0], all[1], all[2]);
}

/// The rank of the first right passage of each question, if any is.
#[derive(Default)]
struct Ranks(Vec<Option<usize>>);

impl std::fmt::Display for Ranks {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let mean = |gain: &dyn Fn(usize) -> f64| {
            self.0.iter().flatten().map(|rank| gain(*rank)).sum::<f64>() / self.0.len().max(1) as f64
        };
        let hit = mean(&|rank| f64::from(u8::from(rank <= 3)));
        let gain = mean(&|rank| if rank <= 10 { 1.0 / (rank as f64 + 1.0).log2() } else { 0.0 });
        write!(f, "hit@3 {hit:.3}, nDCG@10 {gain:.3}")
    }
}

impl Found {
    /// Returns the first candidate of each document, to fit a model to. What comes after it counts as right or wrong as it does.
    fn list(&self) -> RankedList {
        let mut seen = HashSet::new();
        let first = self.candidates.iter().zip(&self.documents).filter(|(_, (document, _))| seen.insert(*document));
        let (candidates, right) = first.map(|(row, (_, right))| (*row, *right)).unzip();
        RankedList { candidates, right }
    }

    /// Returns the rank of the first right candidate in the order that a search gives them. Each document of the sets is a section.
    fn rank_by(&self, model: &Linear) -> Option<usize> {
        let score = |row| model.probability(row);
        let items =
            self.candidates.iter().enumerate().map(|(key, row)| Fused { key, score: score(row), legs: Vec::new() });
        let mut items: Vec<Fused<usize>> = items.collect();
        items.sort_by(|a, b| b.score.total_cmp(&a.score));
        let standpoint = |key: usize| Some(Standpoint { section: self.documents[key].0, ..Standpoint::default() });
        let mut adjustments = Plan::default().adjustments();
        // Here the whole document is the span of each of its chunks.
        adjustments.diversity.max_overlap = 1.0;
        let order = adjust(&adjustments, items, standpoint, |_, _| 0.0).order;
        order.iter().position(|item| self.documents[item.key].1).map(|at| at + 1)
    }
}

/// Searches for the dev questions of a set.
async fn candidates(set: &Path, corpus: &str, pipeline: &Pipeline) -> Vec<Found> {
    let corpus = pipeline.open(set.join(corpus)).await.expect("a corpus beside the questions");
    let text = std::fs::read_to_string(set.join("questions.jsonl")).expect("questions");
    let name = set.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut all = Vec::new();
    for line in text.lines() {
        let question: Value = serde_json::from_str(line).expect("a question in JSON");
        let right: Vec<&str> = question["relevant"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(|place| place["document"].as_str())
            .collect();
        if question["split"] == "dev" && !right.is_empty() {
            let found = search(&corpus, question["question"].as_str().unwrap_or_default()).await;
            let mut numbers: HashMap<String, u32> = HashMap::new();
            let mut number = |document: String| {
                let next = numbers.len() as u32;
                *numbers.entry(document).or_insert(next)
            };
            let is_right = |document: &str| right.contains(&document);
            let documents = found.iter().map(|(name, _)| (number(name.clone()), is_right(name))).collect();
            let candidates = found.into_iter().map(|(_, row)| row).collect();
            all.push(Found { set: name.clone(), candidates, documents });
        }
    }
    eprintln!("{name}: {} questions", all.len());
    all
}

/// Returns the document and the features of each candidate, by the fused rank.
async fn search(corpus: &Corpus, question: &str) -> Vec<(String, FeatureRow)> {
    let Ok(result) = corpus.search(SearchRequest::new(question).plain().explained()).await else { return Vec::new() };
    let found = result.trace.records.into_iter().find_map(|record| match record.details {
        TraceDetails::Rerank { candidates, .. } => Some(candidates),
        _ => None,
    });
    let mut candidates = found.unwrap_or_default();
    candidates.sort_by_key(|one| one.from);
    candidates.into_iter().filter_map(|one| Some((one.document, one.features.try_into().ok()?))).collect()
}
