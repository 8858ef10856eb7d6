//! Fits how evidence is chosen, and how sure it makes, to the dev halves of question sets.
//!
//! `evidence FOLDER OUT [CORPUS [TABLE]]`: FOLDER has the sets of `bench/sets/make.py`, with the corpus of each built beside its questions, in the
//! folder `corpus` or CORPUS. Several names are separated by commas: of corpora after the first, questions count whose documents they have, and those
//! of another subject. If a set has `drafts.jsonl`, as `logothete evaluate drafts.jsonl --draft 400` writes it, its figures and definitions teach which
//! sentence of a passage answers, which headings cannot. The model is written to OUT, which is `crates/core/src/evidence/learned.json`; the same sets give the same bytes.
//! What each question's evidence is measured as is written to TABLE as lines of JSON. Then each set is answered by a model that was fitted to the
//! others, and its measures are printed.

use std::collections::{HashMap, HashSet};
use std::io::Write;
use std::path::Path;

use logothete::search::SearchRequest;
use logothete::trace::TraceDetails;
use logothete::{Config, Corpus, Pipeline};
use logothete_bench::evidence::{Fitting, Measured, Report};
use logothete_bench::sets::sets;
use logothete_core::evidence::candidates;
use logothete_core::query::Question;
use logothete_core::search::Passage;
use rayon::prelude::*;
use serde_json::Value;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let (folder, out, rest) = match &arguments[..] {
        [folder, out, rest @ ..] if rest.len() < 3 => (folder, out, rest),
        _ => {
            eprintln!(
                "give the folder of the sets, the file to write, and perhaps the name of the corpora and a file for a table"
            );
            return;
        }
    };
    let corpus = rest.first().map_or("corpus", String::as_str);
    let pipeline = Pipeline::from_config(&Config::default()).expect("a pipeline");
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    let mut all = Vec::new();
    for set in sets(Path::new(folder)) {
        for (at, corpus) in corpus.split(',').enumerate() {
            all.extend(runtime.block_on(measured(&set, corpus, at == 0, &pipeline)));
        }
    }
    let fitting = Fitting::default();
    let model = fitting.fit(&all.iter().collect::<Vec<_>>());
    std::fs::write(out, serde_json::to_string_pretty(&model).expect("JSON") + "\n").expect("a file to write to");
    if let Some(table) = rest.get(1) {
        let mut file = std::io::BufWriter::new(std::fs::File::create(table).expect("a file to write to"));
        for one in &all {
            writeln!(file, "{}", one.as_json(&model)).expect("a file to write to");
        }
    }

    println!("{} questions; each set by a model of the others:", all.len());
    let mut names: Vec<&str> = all.iter().map(|one| one.set.as_str()).collect();
    names.dedup();
    let by_others = |name: &&str| {
        let (own, others): (Vec<&Measured>, Vec<&Measured>) = all.iter().partition(|one| one.set == *name);
        Report::of(&own, &fitting.fit(&others))
    };
    let reports: Vec<Report> = names.par_iter().map(by_others).collect();
    let mut sum = Report::default();
    for (name, report) in names.iter().zip(reports) {
        println!("{name:>12}: {report}");
        sum.add(report);
    }
    println!("{:>12}: {sum}", "all");
    println!("{:>12}: {}", "by its own", Report::of(&all.iter().collect::<Vec<_>>(), &model));
}

/// Searches for the dev questions of a set, and measures what is found.
async fn measured(set: &Path, corpus: &str, is_whole: bool, pipeline: &Pipeline) -> Vec<Measured> {
    let corpus = pipeline.open(set.join(corpus)).await.expect("a corpus beside the questions");
    let info = corpus.info().await.expect("facts");
    let chunks = info.chunks;
    let held = info.documents.into_iter().map(|document| document.document);
    let held: HashSet<String> = held.collect();
    let text = std::fs::read_to_string(set.join("questions.jsonl")).expect("questions");
    let drafts = if is_whole { drafts(set, &text) } else { Vec::new() };
    let name = set.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut all = Vec::new();
    let questions = text.lines().map(|line| serde_json::from_str::<Value>(line).expect("a question in JSON"));
    for value in questions.chain(drafts) {
        let asked = value["question"].as_str().unwrap_or_default();
        if value["split"] != "dev" {
            continue;
        }
        let right: Vec<String> = value["relevant"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(|place| place["document"].as_str().map(str::to_owned))
            .collect();
        let counts = right.iter().any(|document| held.contains(document)) || value["kind"] == "far";
        if !is_whole && !counts {
            continue;
        }
        let Some((question, passages)) = found(&corpus, asked).await else { continue };
        let candidates = candidates(&question, &passages);
        let kind = value["kind"].as_str().unwrap_or_default().to_owned();
        all.push(Measured {
            set: name.clone(),
            id: value["id"].as_str().unwrap_or_default().to_owned(),
            asked: asked.to_owned(),
            kind,
            right,
            sentence: value["source"].as_str().map(|text| text.split_whitespace().collect::<Vec<_>>().join(" ")),
            question,
            passages,
            chunks,
            candidates,
        });
    }
    eprintln!("{name}: {} questions", all.len());
    all
}

/// Returns the questions for a figure or a definition that were drafted from the documents of dev questions, with some of their words left out: people
/// do not ask in the words of the answer.
fn drafts(set: &Path, questions: &str) -> Vec<Value> {
    let read =
        |text: &str| text.lines().filter_map(|line| serde_json::from_str::<Value>(line).ok()).collect::<Vec<_>>();
    let document = |value: &Value| value["relevant"][0]["document"].as_str().map(str::to_owned);
    let dev: HashSet<String> =
        read(questions).iter().filter(|value| value["split"] == "dev").filter_map(document).collect();
    let Ok(text) = std::fs::read_to_string(set.join("drafts.jsonl")) else { return Vec::new() };
    let mut found = Vec::new();
    for mut value in read(&text) {
        let of_dev = document(&value).is_some_and(|name| dev.contains(&name));
        if !of_dev || !["figure", "definition"].iter().any(|kind| value["kind"] == *kind) {
            continue;
        }
        let asked = value["question"].as_str().unwrap_or_default();
        let kept = |(at, word): &(usize, &str)| {
            let lot = word.bytes().fold(*at as u32, |sum, byte| sum.wrapping_mul(31).wrapping_add(u32::from(byte)));
            *at < 2 || lot % 5 >= 2
        };
        let words: Vec<&str> = asked.split(' ').enumerate().filter(kept).map(|(_, word)| word).collect();
        value["question"] = Value::from(words.join(" "));
        value["split"] = Value::from("dev");
        found.push(value);
    }
    found
}

/// Returns a question with the weights that its words have in the corpus, and the passages for it.
async fn found(corpus: &Corpus, asked: &str) -> Option<(Question, Vec<Passage>)> {
    let reply = corpus.ask(SearchRequest::new(asked).traced()).await.ok()?;
    let mut weights: HashMap<String, f32> = HashMap::new();
    let mut parts = 0;
    for record in reply.trace.records {
        if let TraceDetails::Extract { terms, .. } = record.details {
            weights.extend(terms.into_iter().map(|term| (term.term, term.weight)));
            parts += 1;
        }
    }
    // A name weighs more than its rarity; the analysis multiplies it again.
    let plain = Question::new(asked, |_| 1.0);
    for term in &plain.terms {
        if let Some(weight) = weights.get_mut(&term.term) {
            *weight /= term.weight.max(1e-6);
        }
    }
    let question = Question::new(asked, |term| weights.get(term).copied().unwrap_or(1.0));
    let passages = corpus.search(SearchRequest::new(asked).plain()).await.ok()?.passages;
    (parts == 1 && !passages.is_empty()).then_some((question, passages))
}
