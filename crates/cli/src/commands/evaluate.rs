//! `logothete evaluate`

use std::path::Path;

use logothete::eval::{Comparison, QuestionScore, Run, SetQuestion, compare, read_questions, score_question};
use logothete::suggest::closest;
use logothete::{Config, Corpus, Error, ErrorKind, Pipeline, Reply, Result, SearchRequest};
use serde_json::json;

use super::{configuration, corpus, corpus_folder};
use crate::args::{CorpusArguments, EvaluateArguments};
use crate::view::{
    Style, answer, comparison, indented, measure_names, measures, outcome, questions, rank, runs, shortened, width,
};
use crate::{DONE, FAILED, Output};

pub async fn run(at: &CorpusArguments, arguments: &EvaluateArguments) -> Result<Output> {
    let style = Style::of_stdout();
    let sets: Vec<(String, Vec<SetQuestion>)> =
        arguments.sets.iter().map(|set| read(set, arguments.split.as_deref())).collect::<Result<_>>()?;
    let floors = arguments.floor.as_deref().map(read_floors).transpose()?;
    let (config, folder) = configuration(at)?;
    let variants = variants(&config, arguments)?;
    let corpus = corpus(at, &config, &folder, true).await?;
    if let Some(id) = &arguments.show {
        return show(&corpus, &sets, id, style).await;
    }

    let (mut all, mut compared, mut text) = (Vec::new(), Vec::new(), String::new());
    for (name, set) in &sets {
        let first = corpus.evaluate(name, set.clone()).await?;
        let mut others = Vec::new();
        for (name, config) in &variants {
            let path = corpus_folder(at, &folder, true)?;
            let corpus = Pipeline::from_config(config)?.open(path).await.map_err(|error| error.at(name.clone()))?;
            others.push(corpus.evaluate(name, set.clone()).await?);
        }
        text.push_str(&measures(&first, style));
        if variants.is_empty() && sets.len() == 1 {
            text.push_str(&questions(&first, style));
        }
        let comparisons = compare(&first, &others);
        text.push_str(&compared_text(&first, &others, &comparisons, style));
        compared.extend(comparisons);
        all.push(first);
        all.extend(others);
    }
    if sets.len() > 1 && variants.is_empty() {
        text.push_str(&runs("Set", &all.iter().collect::<Vec<_>>(), style));
    }
    let mut code = DONE;
    let mut failures = Vec::new();
    if let Some(floors) = &floors {
        failures = all.iter().flat_map(|run| below(run, floors)).collect();
        text.push('\n');
        for failure in &failures {
            text.push_str(&format!("{}\n", style.warning(failure)));
            code = FAILED;
        }
        if failures.is_empty() {
            text.push_str("No measure is below its floor.\n");
        }
    }
    let mut json = json!({ "runs": all, "comparisons": compared });
    if floors.is_some() {
        json["below_floor"] = json!(failures);
    }
    Ok(Output { text, json, code })
}

fn compared_text(first: &Run, others: &[Run], comparisons: &[Comparison], style: Style) -> String {
    if others.is_empty() {
        return String::new();
    }
    let baseline = Run { name: "as configured".to_owned(), ..first.clone() };
    let mut text = runs("Pipeline", &std::iter::once(&baseline).chain(others).collect::<Vec<_>>(), style);
    for one in comparisons {
        let one = Comparison { baseline: baseline.name.clone(), ..one.clone() };
        text.push_str(&format!("\n{}", comparison(&one, others.len() > 1, style)));
    }
    text
}

/// Reads a set. Returns its name: that of the file if there are several, and the split.
fn read(set: &Path, split: Option<&str>) -> Result<(String, Vec<SetQuestion>)> {
    let text = std::fs::read_to_string(set).map_err(|error| {
        Error::new(ErrorKind::NotFound, format!("the question set could not be read: {error}"))
            .at(set.display())
            .because(error)
    })?;
    let mut questions = read_questions(&text).map_err(|error| {
        let place = error.place().map(|line| format!("{}, {line}", set.display()));
        let place = place.unwrap_or_else(|| set.display().to_string());
        Error::new(error.kind(), error.message().to_owned()).at(place)
    })?;
    if questions.is_empty() {
        return Err(Error::new(ErrorKind::Unreadable, "there is no question in this set").at(set.display()));
    }
    let name = set.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
    let Some(split) = split else { return Ok((name, questions)) };
    let known: Vec<String> = questions.iter().filter_map(|question| question.split.clone()).collect();
    questions.retain(|question| question.split.as_deref() == Some(split));
    if questions.is_empty() {
        let near = closest(split, known.into_iter()).map(|near| format!("; did you mean {near}?")).unwrap_or_default();
        let message = format!("no question has the split {split:?}{near}");
        return Err(Error::new(ErrorKind::Configuration, message).at(set.display()));
    }
    Ok((format!("{name}, split {split}"), questions))
}

/// Returns the configurations to compare with, by their names: those of files, and those with other values of some settings.
fn variants(config: &Config, arguments: &EvaluateArguments) -> Result<Vec<(String, Config)>> {
    let mut variants = Vec::new();
    for file in &arguments.against {
        variants.push((file.display().to_string(), Config::read(file)?));
    }
    let mut varied = vec![(String::new(), config.clone())];
    for written in &arguments.vary {
        let wrong = || {
            let message =
                format!("“{written}” names no values; write a setting and values such as search.keyword=0.3,0.7");
            Error::new(ErrorKind::InvalidRequest, message).at("--vary")
        };
        let (key, values) = written.split_once('=').ok_or_else(wrong)?;
        let mut next = Vec::new();
        for (name, config) in &varied {
            for value in values.split(',').map(str::trim) {
                let setting = config.with_setting(key.trim(), value).map_err(|error| error.at("--vary"))?;
                let name = [name.as_str(), &format!("{key}={value}")].join(" ");
                next.push((name.trim().to_owned(), setting));
            }
        }
        varied = next;
    }
    if !arguments.vary.is_empty() {
        variants.extend(varied);
    }
    for (name, variant) in &variants {
        if let Some(table) = config.builds_otherwise(variant) {
            let message = format!(
                "[{table}] differs, and a corpus has what it was built with; compare such settings with a corpus of each \
                 (--corpus)"
            );
            return Err(Error::new(ErrorKind::InvalidRequest, message).at(name));
        }
    }
    Ok(variants)
}

/// Prints one question whole.
async fn show(corpus: &Corpus, sets: &[(String, Vec<SetQuestion>)], id: &str, style: Style) -> Result<Output> {
    let mut all = sets.iter().flat_map(|(_, set)| set);
    let Some(question) = all.clone().find(|question| question.id == id) else {
        let near = closest(id, all.by_ref().map(|question| question.id.clone()));
        let near = near.map(|near| format!("; did you mean {near}?")).unwrap_or_default();
        let message = format!("no question of the set has the id {id:?}{near}");
        return Err(Error::new(ErrorKind::NotFound, message).at("--show"));
    };
    let request = SearchRequest::new(question.searched()).plain().traced();
    let found = corpus.search(request.clone()).await?;
    let reply = corpus.ask(request).await?;
    let score = score_question(question, &found.passages, &reply.answer, &reply.trace);

    let mut text = format!("{}\n", style.strong(&question.question));
    if score.question != question.question {
        text.push_str(&style.faint(&indented(&format!("searched: {}", score.question), 0)));
    }
    text.push_str(&format!("\n{}\n", style.faint("Wanted")));
    for place in &question.relevant {
        let parts = [
            Some(place.document.clone()),
            place.page.map(|page| format!("page {page}")),
            place.section.clone(),
            place.contains.as_ref().map(|words| format!("“{words}”")),
        ];
        text.push_str(&indented(&parts.into_iter().flatten().collect::<Vec<_>>().join(", "), 2));
    }
    if question.refuse {
        text.push_str("  a refusal\n");
    }
    if let Some(wanted) = &question.answer {
        text.push_str(&indented(&format!("an answer that says “{wanted}”"), 2));
    }
    text.push_str(&format!("\n{}\n", style.faint("Found")));
    for (at, passage) in found.passages.iter().enumerate() {
        let is_right = score.first_rank == Some(at + 1);
        let mark = if is_right { format!(" {}", style.strong("right")) } else { String::new() };
        text.push_str(&format!("{:>3}  {}{mark}\n", at + 1, style.place(&passage.location.to_string())));
        text.push_str(&indented(&shortened(passage.body(), width().saturating_sub(6)), 5));
    }
    text.push_str(&format!("\n{}\n{}", style.faint("Answer"), answer(&reply.answer, style)));
    text.push_str(&format!("\n{} {}\n", style.faint("Outcome"), why(question, &score, &reply)));
    let json = json!({ "question": question, "score": score, "passages": found.passages, "reply": reply });
    Ok(Output { text, json, code: DONE })
}

/// Says why an answer was right or wrong.
fn why(question: &SetQuestion, score: &QuestionScore, reply: &Reply) -> String {
    let found = match score.first_rank {
        Some(at) => format!("the first right passage is {}", rank(Some(at))),
        None => "no right passage was found".to_owned(),
    };
    let reason = match outcome(score) {
        "refused, right" => "the corpus has no answer, and none was given".to_owned(),
        "answered, wrong" => "the corpus has no answer, and one was given".to_owned(),
        "refused, wrong" => format!("{found}, and no answer was given"),
        "cited, not said" => {
            format!("{found} and was cited, but the answer does not say “{}”", question.answer.as_deref().unwrap_or(""))
        }
        "cited, not first" => format!("{found}; a right place is cited, but not first"),
        "cited, right" => format!("{found}, and the answer cites it"),
        _ => format!("{found}; none of the {} sources is in a right place", reply.answer.sources.len()),
    };
    format!("{}: {reason}", outcome(score))
}

/// Reads the floors: a TOML file with a number for each measure.
fn read_floors(file: &Path) -> Result<Vec<(String, f64)>> {
    let wrong = |message: String| Error::new(ErrorKind::Configuration, message).at(file.display());
    let text = std::fs::read_to_string(file)
        .map_err(|error| wrong(format!("the floors could not be read: {error}")).because(error))?;
    let table: toml::Table = text.parse().map_err(|error: toml::de::Error| {
        let line = error.span().map_or(1, |span| text[..span.start.min(text.len())].matches('\n').count() + 1);
        wrong(format!("line {line} is not valid TOML: {}; write floors such as \"hit@3\" = 0.8", error.message()))
    })?;
    let floor = |(name, value): (String, toml::Value)| {
        if !measure_names().any(|known| known == name) {
            let near = match closest(&name, measure_names().map(str::to_owned)) {
                Some(near) => format!("did you mean {near}?"),
                None => format!("the measures are {}", measure_names().collect::<Vec<_>>().join(", ")),
            };
            return Err(wrong(format!("unknown measure {name:?}; {near}")));
        }
        let value = value.as_float().or_else(|| value.as_integer().map(|value| value as f64));
        let value = value.filter(|value| value.is_finite());
        value.map(|value| (name.clone(), value)).ok_or_else(|| wrong(format!("the floor of {name} is no number")))
    };
    table.into_iter().map(floor).collect()
}

/// Returns what is below its floor, and measures of floors that a run does not have.
fn below(run: &Run, floors: &[(String, f64)]) -> Vec<String> {
    let failure = |(name, floor): &(String, f64)| match run.metrics.get(name) {
        Some(value) if value + 1e-9 >= *floor => None,
        Some(value) => Some(format!("{}: {name} is {value:.3}, below its floor of {floor}", run.name)),
        None => Some(format!("{}: {name} has a floor of {floor}, and no question measures it", run.name)),
    };
    floors.iter().filter_map(failure).collect()
}
