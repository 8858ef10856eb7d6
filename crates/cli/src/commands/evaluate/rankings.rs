//! Judgements and rankings in the formats of TREC.

use std::collections::BTreeMap;
use std::path::Path;

use logothete::eval::{
    Judgement, RankedDocument, Run, compare, judged, read_qrels, read_run, score_ranking, write_qrels, write_run,
};
use logothete::{Error, ErrorKind, Result};

use super::sets::at_line;
use super::{Measured, Set, file_name, text_of, write as write_file};
use crate::args::EvaluateArguments;

/// Measures rankings that were read from files against judgements. The first one is the one that the others are compared with.
pub fn run(arguments: &EvaluateArguments) -> Result<Vec<Measured>> {
    let mut all = Vec::new();
    for set in &arguments.sets {
        let judgements = read_qrels(&text_of(set, "the judgements")?).map_err(|error| at_line(set, &error))?;
        if judgements.iter().all(|judgement| judgement.grade == 0) {
            return Err(Error::new(ErrorKind::Unreadable, "no document is judged relevant here").at(set.display()));
        }
        let mut runs = Vec::new();
        for file in &arguments.run {
            let ranked = read_run(&text_of(file, "the ranking")?).map_err(|error| at_line(file, &error))?;
            let scores = judged(&judgements, &ranked);
            let name = file.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
            runs.push(Run::new(name, scores.iter().map(|(id, ranking)| score_ranking(id, ranking)).collect()));
        }
        let first = runs.remove(0);
        all.push(Measured { comparisons: compare(&first, &runs), first, others: runs, problems: Vec::new() });
    }
    Ok(all)
}

/// Writes the judgements of a set, and the ranking of each pipeline, of documents.
pub fn write(folder: &Path, set: &Set, measured: &Measured) -> Result<()> {
    let mut grades: BTreeMap<(&str, &str), u32> = BTreeMap::new();
    for question in &set.questions {
        for place in &question.relevant {
            let grade = grades.entry((&question.id, &place.document)).or_default();
            *grade = place.grade.max(*grade);
        }
    }
    let judgement = |((question, document), grade): ((&str, &str), u32)| Judgement {
        question: question.to_owned(),
        document: document.to_owned(),
        grade,
    };
    let judgements: Vec<Judgement> = grades.into_iter().map(judgement).collect();
    let name = file_name(&set.name);
    write_file(&folder.join(format!("{name}.qrels")), write_qrels(&judgements).as_bytes())?;
    for run in std::iter::once(&measured.baseline()).chain(&measured.others) {
        let file = folder.join(format!("{name}.{}.run", file_name(&run.name)));
        write_file(&file, write_run(&ranked(run), &run.name).as_bytes())?;
    }
    Ok(())
}

/// Returns the documents that were found for each question, each by its best passage.
fn ranked(run: &Run) -> Vec<RankedDocument> {
    let mut ranked: Vec<RankedDocument> = Vec::new();
    for score in &run.per_question {
        let from = ranked.len();
        for passage in &score.details.passages {
            if ranked[from..].iter().all(|earlier| earlier.document != passage.document) {
                let (question, document) = (score.id.clone(), passage.document.clone());
                ranked.push(RankedDocument { question, document, score: f64::from(passage.score) });
            }
        }
    }
    ranked
}
