//! Fits the reranker that comes with the library to the dev halves of question sets.
//!
//! `reranker FOLDER OUT`: FOLDER has the sets of `bench/sets/make.py`, with the corpus of each built beside its questions. The model is written to
//! OUT, which is `crates/core/src/rerank/learned.json`. The same sets give the same bytes. Then each set is ranked by a model that was fitted
//! to the others, and its measures are printed.

use std::path::{Path, PathBuf};

use logothete::search::SearchRequest;
use logothete::trace::TraceDetails;
use logothete::{Corpus, Pipeline};
use logothete_core::rerank::{FEATURES, Linear, RankedList};
use serde_json::Value;

/// A question, and what was found for it before it was reranked.
struct Found {
    set: String,
    list: RankedList,
    documents: Vec<String>,
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [folder, out] = &arguments[..] else {
        eprintln!("give the folder of the sets, and the file to write");
        return;
    };
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    let mut found = Vec::new();
    for set in sets(Path::new(folder)) {
        found.extend(runtime.block_on(candidates(&set)));
    }
    let lists: Vec<RankedList> = found.iter().map(|found| found.list.clone()).collect();
    let model = Linear::fit(&lists);
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
        let other = Linear::fit(&others.iter().map(|found| found.list.clone()).collect::<Vec<_>>());
        let before = own.iter().map(|found| found.rank(&(0..found.documents.len()).collect::<Vec<_>>())).collect();
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
    fn rank_by(&self, model: &Linear) -> Option<usize> {
        let scores: Vec<f32> = self.list.candidates.iter().map(|row| model.probability(row)).collect();
        let mut order: Vec<usize> = (0..scores.len()).collect();
        order.sort_by(|&a, &b| scores[b].total_cmp(&scores[a]));
        self.rank(&order)
    }

    /// Returns the rank of the first right candidate in an order.
    fn rank(&self, order: &[usize]) -> Option<usize> {
        order.iter().position(|&at| self.list.right[at]).map(|at| at + 1)
    }
}

fn sets(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).expect("a folder of sets").flatten().map(|entry| entry.path());
    let mut sets: Vec<PathBuf> = entries.filter(|set| set.join("questions.jsonl").exists()).collect();
    sets.sort();
    sets
}

/// Searches for the dev questions of a set.
async fn candidates(set: &Path) -> Vec<Found> {
    let corpus = Pipeline::default().open(set.join("corpus")).await.expect("a corpus beside the questions");
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
            let (documents, candidates): (Vec<String>, Vec<_>) = found.into_iter().unzip();
            let right = documents.iter().map(|document| right.contains(&document.as_str())).collect();
            all.push(Found { set: name.clone(), list: RankedList { candidates, right }, documents });
        }
    }
    eprintln!("{name}: {} questions", all.len());
    all
}

/// Returns the document and the features of each candidate, by the fused rank. Of each document only the first stays, because a search
/// shows no more.
async fn search(corpus: &Corpus, question: &str) -> Vec<(String, [f32; FEATURES])> {
    let Ok(result) = corpus.search(SearchRequest::new(question).plain().explained()).await else { return Vec::new() };
    let found = result.trace.records.into_iter().find_map(|record| match record.details {
        TraceDetails::Rerank { candidates, .. } => Some(candidates),
        _ => None,
    });
    let mut candidates = found.unwrap_or_default();
    candidates.sort_by_key(|one| one.from);
    let mut seen: Vec<String> = Vec::new();
    candidates.retain(|one| {
        let new = !seen.contains(&one.document);
        seen.push(one.document.clone());
        new
    });
    candidates.into_iter().filter_map(|one| Some((one.document, one.features.try_into().ok()?))).collect()
}
