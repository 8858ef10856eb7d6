//! Finding settings that are better on questions.

use std::fmt;
use std::sync::Arc;

use logothete_core::eval::{Run, SetQuestion, Tried, Tuned, Tuner};
use logothete_core::{Error, ErrorKind, Result};

use super::Corpus;
use crate::config::Config;
use crate::evaluation;
use crate::ingest::BuildRequest;
use crate::pipeline::Pipeline;
use crate::threads::StopToken;

/// What is told of each choice that was measured: how many there are so far, the values that differ from the configured ones, and the
/// mean of the measure.
type OnChoice = Arc<dyn Fn(usize, &str, f64) + Send + Sync>;

/// What is tuned, and how.
#[derive(Clone)]
pub struct TuneRequest {
    settings: Vec<Tried>,
    measure: String,
    on_choice: Option<OnChoice>,
    stop: StopToken,
}

impl fmt::Debug for TuneRequest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("TuneRequest")
            .field("settings", &self.settings)
            .field("measure", &self.measure)
            .finish_non_exhaustive()
    }
}

impl Default for TuneRequest {
    /// The weight of the keyword leg, the depth of both, and the probability below which an answer is not sure, by the share of questions
    /// that go right.
    fn default() -> Self {
        let tried = |key: &str, values: &[&str]| Tried {
            key: key.to_owned(),
            values: values.iter().map(|value| (*value).to_owned()).collect(),
        };
        let settings = vec![
            tried("search.keyword", &["0.2", "0.35", "0.5", "0.75", "1.0"]),
            tried("search.depth", &["50", "100", "200"]),
            tried("search.rerank.kind", &["none", "learned"]),
            tried("search.diversity.repeat", &["0.25", "0.5", "1.0"]),
            tried("answer.min_confidence", &["0.3", "0.4", "0.5", "0.6", "0.7"]),
        ];
        Self::new(settings)
    }
}

impl TuneRequest {
    /// Tries some values of some settings, by the share of questions that go right.
    pub fn new(settings: Vec<Tried>) -> Self {
        Self { settings, measure: "right".to_owned(), on_choice: None, stop: StopToken::default() }
    }

    /// Tunes for another measure, such as `ndcg@10`.
    #[must_use]
    pub fn measure(mut self, name: impl Into<String>) -> Self {
        self.measure = name.into();
        self
    }

    /// Calls back after each choice that was measured, with their number, the values that differ, and the mean of the measure.
    #[must_use]
    pub fn on_choice(mut self, callback: impl Fn(usize, &str, f64) + Send + Sync + 'static) -> Self {
        self.on_choice = Some(Arc::new(callback));
        self
    }

    /// Returns a token that ends the search for settings, with the best so far.
    pub fn stop_token(&self) -> StopToken {
        self.stop.clone()
    }

    /// Returns the settings that are tried.
    pub fn settings(&self) -> &[Tried] {
        &self.settings
    }
}

/// Settings that were tuned.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Tuning {
    /// What was chosen, and what it is worth.
    pub tuned: Tuned,
    /// The choices in the order in which they were measured, by the values that differ, with the means of the measure.
    pub tried: Vec<(String, f64)>,
    /// The results with the configured settings.
    pub before: Run,
    /// The results with the best settings, on the questions that chose them.
    pub after: Run,
    /// Whether it was stopped, and other settings may be better still.
    pub stopped: bool,
}

impl Corpus {
    /// Searches the values of some settings for those with the best mean of a measure, and tells by cross-validation over documents
    /// whether they are better on other questions: see [`Tuner`]. Settings that change what is built are built as
    /// [variants](Self::variant).
    ///
    /// Costs an evaluation for each choice that is tried: about twice the number of values.
    ///
    /// # Errors
    /// If there is no question, a setting is unknown or a value invalid, no question has the measure, or an evaluation fails.
    pub async fn tune(&self, questions: &[SetQuestion], request: &TuneRequest) -> Result<Tuning> {
        evaluation::check(questions)?;
        let config = self.pipeline().config();
        let mut settings = request.settings.clone();
        for Tried { key, values } in &mut settings {
            // A value that is configured anyway is measured once.
            let mut others = Vec::new();
            for value in values.drain(..) {
                if config.with_setting(key, &value)? != *config {
                    others.push(value);
                }
            }
            *values = others;
        }
        let mut tuner = Tuner::new(settings, &request.measure, questions);
        let mut runs: Vec<(String, Run)> = Vec::new();
        let (mut tried, mut stopped) = (Vec::new(), false);
        while let Some(choice) = tuner.next() {
            stopped = request.stop.is_stopped() && !runs.is_empty();
            if stopped {
                break;
            }
            let name = name(tuner.values(&choice));
            let run = self.with_settings(tuner.values(&choice)).await?.evaluate(&name, questions.to_vec()).await?;
            let Some(mean) = run.metrics.get(&request.measure) else {
                let message = format!("no question has the measure {}", request.measure);
                return Err(Error::new(ErrorKind::InvalidRequest, message));
            };
            if let Some(callback) = &request.on_choice {
                callback(tuner.choices() + 1, &name, *mean);
            }
            tried.push((name.clone(), *mean));
            tuner.add(choice, &run);
            runs.push((name, run));
        }
        let nothing = || Error::new(ErrorKind::Cancelled, "nothing was measured yet");
        let tuned = tuner.finish().ok_or_else(nothing)?;
        let best = name(tuned.best.iter().filter_map(|(key, value)| Some((key.as_str(), value.as_deref()?))));
        let of = |wanted: &str| runs.iter().find(|(name, _)| name == wanted).map(|(_, run)| run.clone());
        let before = of("").ok_or_else(nothing)?;
        let after = of(&best).unwrap_or_else(|| before.clone());
        Ok(Tuning { tuned, tried, before, after, stopped })
    }

    /// Returns the corpus with other values of some settings.
    async fn with_settings(&self, values: impl Iterator<Item = (&str, &str)>) -> Result<Self> {
        let (mut config, mut is_read_otherwise): (Config, bool) = (self.pipeline().config().clone(), false);
        for (key, value) in values {
            config = config.with_setting(key, value)?;
            is_read_otherwise |= ["parse.", "encoder."].iter().any(|table| key.starts_with(table));
        }
        // The user's own parsers, encoder and generators stay, unless the settings ask for other ones.
        let pipeline = match is_read_otherwise {
            true => Pipeline::from_config(&config)?,
            false => self.pipeline().clone().configured(|own| *own = config),
        };
        let sources = pipeline.config().sources.clone();
        let mut request = BuildRequest::default().patterns(sources.include, sources.exclude);
        for (name, value) in sources.metadata {
            request = request.metadata(name, value);
        }
        Ok(self.variant(&pipeline, request).await?.0)
    }
}

/// Returns the values of a choice on one line.
fn name<'a>(values: impl Iterator<Item = (&'a str, &'a str)>) -> String {
    values.map(|(key, value)| format!("{key}={value}")).collect::<Vec<_>>().join(" ")
}
