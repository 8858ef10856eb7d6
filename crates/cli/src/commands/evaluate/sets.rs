//! Reading question sets and floors.

use std::path::{Path, PathBuf};

use logothete::eval::{Mismatch, Run, SetQuestion, read_questions};
use logothete::suggest::closest;
use logothete::{ClaimPair, Error, ErrorKind, Result};

use crate::view::measure_names;

/// A question set as it was read.
pub struct Set {
    /// That of the file, and the split.
    pub name: String,
    pub path: PathBuf,
    pub questions: Vec<SetQuestion>,
    /// The id of each question of the file with its line.
    lines: Vec<(String, usize)>,
}

impl Set {
    /// Reads a set, and keeps the questions of a split.
    pub fn read(path: &Path, split: Option<&str>) -> Result<Self> {
        let text = text_of(path, "the question set")?;
        let mut questions = read_questions(&text).map_err(|error| at_line(path, &error))?;
        if questions.is_empty() {
            return Err(Error::new(ErrorKind::Unreadable, "there is no question in this set").at(path.display()));
        }
        let full = text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
        let lines = questions.iter().zip(full).map(|(question, (at, _))| (question.id.clone(), at + 1)).collect();
        let name = path.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
        let Some(split) = split else { return Ok(Self { name, path: path.to_path_buf(), questions, lines }) };
        let known: Vec<String> = questions.iter().filter_map(|question| question.split.clone()).collect();
        questions.retain(|question| question.split.as_deref() == Some(split));
        if questions.is_empty() {
            let near =
                closest(split, known.into_iter()).map(|near| format!("; did you mean {near}?")).unwrap_or_default();
            let message = format!("no question has the split {split:?}{near}");
            return Err(Error::new(ErrorKind::Configuration, message).at(path.display()));
        }
        Ok(Self { name: format!("{name}, split {split}"), path: path.to_path_buf(), questions, lines })
    }

    /// Says of a document that the corpus does not have as it was: where the set names it, and what is wrong.
    pub fn said(&self, mismatch: &Mismatch) -> String {
        let first = mismatch.questions.first();
        let line = self.lines.iter().find(|(id, _)| Some(id) == first).map_or(0, |(_, line)| *line);
        let more = match mismatch.questions.len() {
            0 | 1 => String::new(),
            count => format!(" and {} more", count - 1),
        };
        let problem = match (mismatch.changed, &mismatch.nearest) {
            (true, _) => "has changed since the question was made; read it again".to_owned(),
            (false, Some(near)) => format!("is not in the corpus; did you mean {near}?"),
            (false, None) => "is not in the corpus".to_owned(),
        };
        format!("{}, line {line}{more}: {} {problem}", self.path.display(), mismatch.document)
    }
}

pub fn text_of(path: &Path, what: &str) -> Result<String> {
    std::fs::read_to_string(path).map_err(|error| {
        Error::new(ErrorKind::NotFound, format!("{what} could not be read: {error}")).at(path.display()).because(error)
    })
}

/// Returns the pairs of a file whose lines are claims with their sources; `None` for a set of questions.
pub fn pairs(path: &Path) -> Result<Option<Vec<ClaimPair>>> {
    let Ok(text) = std::fs::read_to_string(path) else { return Ok(None) };
    let first = text.lines().find(|line| !line.trim().is_empty()).unwrap_or_default();
    let is_pair = serde_json::from_str::<serde_json::Value>(first).is_ok_and(|line| line.get("claim").is_some());
    is_pair.then(|| ClaimPair::read(&text).map_err(|error| error.at(path.display()))).transpose()
}

/// Returns an error about a line of a file with the file in its place.
pub fn at_line(path: &Path, error: &Error) -> Error {
    let place = error.place().map_or_else(|| path.display().to_string(), |line| format!("{}, {line}", path.display()));
    Error::new(error.kind(), error.message().to_owned()).at(place)
}

/// The lowest values that are allowed, by measure.
pub struct Floors(Vec<(String, f64)>);

impl Floors {
    /// Reads a TOML file with a number for each measure.
    pub fn read(file: &Path) -> Result<Self> {
        let wrong = |message: String| Error::new(ErrorKind::Configuration, message).at(file.display());
        let text = text_of(file, "the floors")?;
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
        Ok(Self(table.into_iter().map(floor).collect::<Result<_>>()?))
    }

    /// Returns what is below its floor, and measures of floors that a run does not have.
    pub fn below(&self, run: &Run) -> Vec<String> {
        let failure = |(name, floor): &(String, f64)| match run.metrics.get(name) {
            Some(value) if value + 1e-9 >= *floor => None,
            Some(value) => Some(format!("{}: {name} is {value:.3}, below its floor of {floor}", run.name)),
            None => Some(format!("{}: {name} has a floor of {floor}, and no question measures it", run.name)),
        };
        self.0.iter().filter_map(failure).collect()
    }
}
