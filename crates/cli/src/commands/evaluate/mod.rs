//! `logothete evaluate`

mod draft;
mod judge;
mod rankings;
mod sets;
mod show;
mod variants;

pub use sets::Set;

use std::path::{Path, PathBuf};

use logothete::eval::{Comparison, Run, compare};
use logothete::{Config, Corpus, Error, ErrorKind, Result};
use logothete_report::{Evaluation, evaluation_page};
use serde_json::json;

use self::sets::{Floors, text_of};
use super::{configuration, corpus};
use crate::args::{CorpusArguments, EvaluateArguments};
use crate::view::{Style, comparison, measures, questions, runs};
use crate::{DONE, FAILED, Output};

pub async fn run(at: &CorpusArguments, arguments: &EvaluateArguments) -> Result<Output> {
    let floors = arguments.floor.as_deref().map(Floors::read).transpose()?;
    if !arguments.run.is_empty() {
        return Measured::finish(&rankings::run(arguments)?, arguments, floors.as_ref());
    }
    let (config, folder) = configuration(at)?;
    if let Some(count) = arguments.draft {
        return draft::run(&corpus(at, &config, &folder, true).await?, count, arguments).await;
    }
    if arguments.queries {
        return judge::run(&corpus(at, &config, &folder, true).await?, &arguments.sets).await;
    }
    if let [file] = &arguments.sets[..]
        && let Some(pairs) = sets::pairs(file)?
    {
        return super::check::measured(&config, &pairs);
    }
    let read = |set: &PathBuf| Set::read(set, arguments.split.as_deref());
    let sets: Vec<Set> = arguments.sets.iter().map(read).collect::<Result<_>>()?;
    let variants = variants::configurations(&config, &arguments.against, &arguments.vary)?;
    let corpus = corpus(at, &config, &folder, true).await?;
    if let Some(id) = &arguments.show {
        return show::run(&corpus, &sets, id, Style::of_stdout()).await;
    }
    let measured = measured(&corpus, &sets, variants).await?;
    if let Some(folder) = &arguments.trec {
        for (set, one) in sets.iter().zip(&measured) {
            rankings::write(folder, set, one)?;
        }
    }
    Measured::finish(&measured, arguments, floors.as_ref())
}

/// What was measured on one set: the pipeline as it is configured, and others beside it.
struct Measured {
    first: Run,
    others: Vec<Run>,
    comparisons: Vec<Comparison>,
    /// What is wrong with the documents that the set names.
    problems: Vec<String>,
}

/// Measures the corpus, and what the other configurations make of it, on each set.
async fn measured(corpus: &Corpus, sets: &[Set], variants: Vec<(String, Config)>) -> Result<Vec<Measured>> {
    let others = variants::open_all(corpus, variants).await?;
    let mut all = Vec::new();
    for set in sets {
        let first = corpus.evaluate(&set.name, set.questions.clone()).await?;
        let mut runs = Vec::new();
        for (name, corpus) in &others {
            runs.push(corpus.evaluate(name, set.questions.clone()).await?);
        }
        let problems = first.mismatches.iter().map(|mismatch| set.said(mismatch)).collect();
        all.push(Measured { comparisons: compare(&first, &runs), first, others: runs, problems });
    }
    Ok(all)
}

impl Measured {
    /// Writes the report and the pictures, checks the floors, and returns the tables.
    fn finish(all: &[Self], arguments: &EvaluateArguments, floors: Option<&Floors>) -> Result<Output> {
        let style = Style::of_stdout();
        let mut text: String = all.iter().map(|measured| measured.text(all.len() == 1, style)).collect();
        if all.len() > 1 && all.iter().all(|measured| measured.others.is_empty()) {
            text.push_str(&runs("Set", &all.iter().map(|measured| &measured.first).collect::<Vec<_>>(), style));
        }
        let mut written = Vec::new();
        if let Some(file) = &arguments.report {
            let page = evaluation_page(&all.iter().map(Self::evaluation).collect::<Vec<_>>());
            write(file, page.as_bytes())?;
            written.push(file.display().to_string());
        }
        if let Some(folder) = &arguments.plots {
            for measured in all {
                written.extend(measured.draw(folder)?);
            }
        }
        for file in &written {
            text.push_str(&format!("\n{} is written.", style.place(file)));
        }
        if !written.is_empty() {
            text.push('\n');
        }
        let mut code = DONE;
        let runs: Vec<&Run> = all.iter().flat_map(|one| std::iter::once(&one.first).chain(&one.others)).collect();
        let comparisons: Vec<&Comparison> = all.iter().flat_map(|one| &one.comparisons).collect();
        let mut json = json!({ "runs": runs, "comparisons": comparisons });
        if let Some(floors) = floors {
            let failures: Vec<String> = runs.iter().flat_map(|run| floors.below(run)).collect();
            text.push('\n');
            for failure in &failures {
                text.push_str(&format!("{}\n", style.warning(failure)));
                code = FAILED;
            }
            if failures.is_empty() {
                text.push_str("No measure is below its floor.\n");
            }
            json["below_floor"] = json!(failures);
        }
        Ok(Output { text, json, code })
    }

    fn text(&self, is_only: bool, style: Style) -> String {
        let mut text = measures(&self.first, &self.problems, style);
        if self.others.is_empty() {
            return if is_only { text + &questions(&self.first, style) } else { text };
        }
        let baseline = self.baseline();
        text.push_str(&runs("Pipeline", &std::iter::once(&baseline).chain(&self.others).collect::<Vec<_>>(), style));
        for one in &self.comparisons {
            let one = Comparison { baseline: baseline.name.clone(), ..one.clone() };
            text.push_str(&format!("\n{}", comparison(&one, self.others.len() > 1, style)));
        }
        text
    }

    /// Returns the first run under the name that it has beside others.
    fn baseline(&self) -> Run {
        Run { name: "as configured".to_owned(), ..self.first.clone() }
    }

    fn evaluation(&self) -> Evaluation<'_> {
        Evaluation { first: &self.first, others: &self.others, comparisons: &self.comparisons }
    }

    /// Draws the pictures of a set into a folder. Returns their names.
    fn draw(&self, folder: &Path) -> Result<Vec<String>> {
        let mut written = Vec::new();
        for plot in self.evaluation().plots() {
            for (end, bytes) in [("svg", plot.svg()?.into_bytes()), ("png", plot.png()?)] {
                let file = folder.join(format!("{}-{}.{end}", file_name(&self.first.name), plot.name));
                write(&file, &bytes)?;
                written.push(file.display().to_string());
            }
        }
        Ok(written)
    }
}

/// Returns a name for a file, made of a name that people read.
fn file_name(name: &str) -> String {
    let kept = |c: char| if c.is_alphanumeric() || ".=_@".contains(c) { c } else { '-' };
    let name: String = name.replace(", split ", "-").chars().map(kept).collect();
    name.trim_matches(['-', '.']).to_owned()
}

/// Writes a file, and the folder that it is in.
fn write(file: &Path, bytes: &[u8]) -> Result<()> {
    let folder = file.parent().map_or(Ok(()), std::fs::create_dir_all);
    folder.and_then(|()| std::fs::write(file, bytes)).map_err(|error| {
        Error::new(ErrorKind::System, format!("this file could not be written: {error}"))
            .at(file.display())
            .because(error)
    })
}
