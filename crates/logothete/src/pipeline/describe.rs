//! A pipeline as a list of its stages, in words and drawn.

use std::fmt;

use logothete_core::chunk::Unit;
use logothete_core::{Fingerprint, Result};
use serde::Serialize;

use super::Pipeline;
use super::encoder::EncoderChoice;
use super::generator::Equipped;
use crate::config::{ChunkContext, ChunkUnit, Config, GeneratorRole, TreeKind};
use crate::search::{ExpansionKind, RerankKind, TransformKind};

/// The stages of a pipeline, in the order in which they work.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct PipelineDescription {
    /// The stages.
    pub stages: Vec<StageDescription>,
    /// A fingerprint that changes whenever one of a stage does.
    pub fingerprint: Fingerprint,
}

/// A stage of a pipeline.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct StageDescription {
    /// When it works.
    pub journey: Journey,
    /// What it does, such as `chunk` or `leg`.
    pub stage: String,
    /// Its name, such as `keyword`.
    pub name: String,
    /// How it works, in few words.
    pub says: String,
    /// The rule by which it works; `None` means always.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub when: Option<String>,
    /// What happens if it fails or finds nothing; `None` means that a call fails with it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub otherwise: Option<String>,
    /// Whether it is the user's own.
    pub own: bool,
    /// A fingerprint that changes whenever the stage may do something else.
    pub fingerprint: Fingerprint,
}

/// When a stage works.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Journey {
    /// When documents are read.
    Building,
    /// When a question is asked.
    Asking,
}

impl StageDescription {
    fn new(journey: Journey, stage: &str, name: impl Into<String>, says: impl Into<String>) -> Self {
        let (name, says) = (name.into(), says.into());
        let fingerprint = Fingerprint::of([stage, &name, &says]);
        let (when, otherwise) = (None, None);
        Self { journey, stage: stage.to_owned(), name, says, when, otherwise, own: false, fingerprint }
    }

    /// Sets the fingerprint of the stage itself.
    fn of(mut self, fingerprint: &Fingerprint) -> Self {
        self.fingerprint = Fingerprint::of([self.fingerprint.as_str(), fingerprint.as_str()]);
        self
    }

    /// Says something that changes nothing of what the stage does.
    fn saying(self, says: String) -> Self {
        Self { says, ..self }
    }

    /// Marks a stage of the user's own.
    fn own(mut self, fingerprint: &Fingerprint) -> Self {
        self.own = true;
        self.of(fingerprint)
    }

    fn or(mut self, otherwise: &str) -> Self {
        self.otherwise = Some(otherwise.to_owned());
        self
    }
}

impl Pipeline {
    /// Describes the pipeline: each stage with what it does, by which rule, and what happens if it fails. It prints as a list; see
    /// [`PipelineDescription::drawing`] for a drawing. Nothing is sent to anyone.
    ///
    /// # Errors
    /// If the settings of a generator are invalid.
    pub fn describe(&self) -> Result<PipelineDescription> {
        let mut stages = self.building()?;
        stages.extend(self.asking()?);
        let fingerprint = Fingerprint::of(stages.iter().map(|stage| stage.fingerprint.as_str()));
        Ok(PipelineDescription { stages, fingerprint })
    }

    fn building(&self) -> Result<Vec<StageDescription>> {
        let config = &*self.config;
        let stage = |stage: &str, name: &str, says: String| StageDescription::new(Journey::Building, stage, name, says);
        let place = if self.readers.is_some() { "in processes of their own" } else { "in this process" };
        let mut stages = vec![
            // Where files are read changes nothing of what is read.
            stage("parse", "by format", String::new())
                .of(&self.parse_fingerprint())
                .saying(format!("{place}, within [limits]"))
                .or("if it fails, the file is named, and the others are read"),
        ];
        stages.push(match &self.chunker {
            Some(own) => stage("chunk", "own", "a chunker of your own".to_owned()).own(&own.fingerprint()),
            None => {
                let (strategy, unit) = (config.chunk.strategy, config.chunk.unit);
                let usual = match unit {
                    ChunkUnit::Words => Unit::Words.usual(),
                    ChunkUnit::Characters => Unit::Characters.usual(),
                    ChunkUnit::Tokens => Unit::USUAL_TOKENS,
                };
                let limit = match config.chunk.limit {
                    None if strategy.is_unlimited() => "as long as they are".to_owned(),
                    limit => format!("at most {} {}", limit.unwrap_or(usual), setting(config, "chunk.unit")),
                };
                stage("chunk", config.chunk.strategy.name(), limit).of(&table(config, "chunk"))
            }
        });
        if config.chunk.context == ChunkContext::Generated {
            let (model, fingerprint) = self.by_model(GeneratorRole::Context, "no model")?;
            stages.push(stage("context", &model, "writes what each chunk is about".to_owned()).of(&fingerprint));
        }
        stages.push(match &self.encoder {
            EncoderChoice::Ready(encoder) => {
                let name = encoder.name();
                let name = name.split(", ").next().unwrap_or_default();
                let reads = encoder.max_tokens().map(|max| format!(", of the first {max} tokens")).unwrap_or_default();
                let says = format!("{} dimensions{reads}", encoder.dimensions());
                stage("encode", name, says).of(&encoder.fingerprint())
            }
            #[cfg(not(feature = "embedded"))]
            EncoderChoice::Missing => stage("encode", "none", "this program has no encoder".to_owned()),
            EncoderChoice::Remote(_) => {
                stage("encode", &config.encoder.model, format!("a service at {}", config.encoder.address))
            }
        });
        let tokens = match config.index.tokens {
            0 => String::new(),
            bits => format!("; tokens in {bits} bits a number"),
        };
        let vectors =
            format!("vectors by {} ({}); words{tokens}", config.index.distance.name(), setting(config, "index.kind"));
        stages.push(stage("index", "segments", vectors).of(&table(config, "index")));
        match config.tree.kind {
            TreeKind::Off => {}
            kind => {
                let name = if kind == TreeKind::Generator { "by a model" } else { "by sentences" };
                let says = format!("summaries of up to {} parts, for questions about the whole", config.tree.max_parts);
                let told = stage("tree", name, says).of(&table(config, "tree"));
                stages.push(told.or("if it fails, the tree so far is kept, and questions are answered without it"));
            }
        }
        Ok(stages)
    }

    fn asking(&self) -> Result<Vec<StageDescription>> {
        let (config, search) = (&*self.config, &self.config.search);
        let plan = search.plan();
        let stage = |stage: &str, name: &str, says: String| StageDescription::new(Journey::Asking, stage, name, says);
        let mut stages = self.routes();
        if !search.allow.is_empty() {
            let says = format!("documents whose field “{}” lists a group of the asker, or everyone", search.allow);
            stages.push(stage("allow", &search.allow, says));
        }
        if let Some(filter) = &search.filter {
            stages.push(stage("filter", "always", filter.to_string()));
        }
        match (search.transform, &self.transform) {
            (TransformKind::None, _) => {}
            (TransformKind::Own, Some(own)) => {
                let says = "searched for beside the question".to_owned();
                let told = stage("transform", own.name(), says).own(&own.fingerprint());
                stages.push(told.or("if it fails, the question is searched as it is"));
            }
            (kind, _) => {
                let (by, fingerprint) = self.by_model(GeneratorRole::Rewrite, "by rule, where there is one")?;
                stages.push(
                    stage("transform", kind.name(), by)
                        .of(&fingerprint)
                        .or("if it fails, the question is searched as it is"),
                );
            }
        }
        for leg in &plan.legs {
            let own = self.legs.iter().find(|own| own.name() == leg.leg);
            let says = format!("weight {}, {} candidates", leg.weight, leg.depth);
            let mut told = stage("leg", &leg.leg, says);
            if let Some(own) = own {
                told = told.own(&own.fingerprint()).or("if it fails, the search goes on without it");
            }
            let rules: Vec<String> = leg.when.iter().map(ToString::to_string).collect();
            if !rules.is_empty() {
                let rules = rules.join(", or ");
                told.fingerprint = Fingerprint::of([told.fingerprint.as_str(), &rules]);
                told.when = Some(rules);
            }
            stages.push(told);
        }
        if config.tree.kind != TreeKind::Off && config.tree.weight > 0.0 {
            let says = format!("weight {}, chunks below the nearest summaries", config.tree.weight);
            let mut told = stage("leg", "tree", says).or("if there is no tree, the search goes on without it");
            told.when = Some("the question is about the whole".to_owned());
            stages.push(told);
        }
        let fused = match stages.iter().filter(|stage| stage.stage == "leg").count() {
            1 => "one ranking".to_owned(),
            count => format!("{count} rankings become one"),
        };
        stages.push(stage("fuse", &setting(config, "search.fusion"), fused));
        stages.extend(self.reranking(&plan)?);
        let chosen = format!(
            "{} passages; lists of contents count {}, further passages of a section {}",
            plan.passages, plan.contents, plan.diversity.repeat
        );
        stages.push(stage("choose", "best", chosen).of(&table(config, "search")));
        if plan.expand.kind != ExpansionKind::None {
            let says = format!("passages grow to at most {} words", plan.expand.max_words);
            stages.push(stage("expand", &setting(config, "search.expand.kind"), says));
        }
        stages.push(match self.model_of(GeneratorRole::Answer)? {
            None => {
                let says = format!("sentences of the documents; refuses below {}", config.answer.min_confidence);
                stage("answer", "extractive", says).of(&table(config, "answer"))
            }
            Some((model, fingerprint)) => {
                let says = "writes from the passages, with a marker for each source".to_owned();
                let templates = Fingerprint::of([format!("{:?}", self.templates)]);
                let written =
                    stage("answer", &model, says).of(&fingerprint).of(&table(config, "prompt")).of(&templates);
                written.or("if it fails, sentences of the documents answer")
            }
        });
        let policy = setting(config, "answer.unsupported");
        stages.push(stage(
            "check",
            "sources",
            format!("each claim against what it cites; what is not borne out: {policy}"),
        ));
        for own in &self.checks {
            let says = "objects to claims".to_owned();
            let told = stage("check", own.name(), says).own(&own.fingerprint());
            stages.push(told.or("if it fails, the claim is partly supported at best"));
        }
        Ok(stages)
    }

    /// Returns the routes of the configuration, which decide before a search.
    fn routes(&self) -> Vec<StageDescription> {
        let routing = &self.config.routing;
        let route = |(name, route): (&String, &crate::config::RouteConfig)| {
            let mut rules: Vec<String> = route.rules().iter().map(ToString::to_string).collect();
            if !route.description.is_empty() {
                let who = if routing.by_generator { "a model finds" } else { "it is" };
                rules.push(format!("{who} like “{}”", route.description));
            }
            let folder = route.corpus.file_name().unwrap_or(route.corpus.as_os_str()).display();
            let mut told = StageDescription::new(Journey::Asking, "route", name, format!("the corpus {folder}"));
            told.when = (!rules.is_empty()).then(|| rules.join(", or "));
            told.otherwise = (!routing.fallback.is_empty() && routing.fallback != *name)
                .then(|| format!("if it has no answer, the route {} is asked", routing.fallback));
            told
        };
        routing.routes.iter().map(route).collect()
    }

    fn reranking(&self, plan: &crate::search::Plan) -> Result<Option<StageDescription>> {
        if !plan.reranks() {
            return Ok(None);
        }
        let says = format!("the best {} in a new order", plan.rerank.depth);
        let late = format!("if it fails or takes more than {} s, the fused order stays", plan.rerank.seconds);
        let stage = |name: &str| StageDescription::new(Journey::Asking, "rerank", name, says.clone());
        Ok(Some(match (plan.rerank.kind, &self.rerankers.own) {
            (RerankKind::Own, Some(own)) => stage(own.name()).own(&own.fingerprint()).or(&late),
            (RerankKind::Generator, _) => {
                let (model, fingerprint) = self.by_model(GeneratorRole::Rerank, "no model")?;
                stage(&model).of(&fingerprint).or("if it fails, the fused order stays")
            }
            (RerankKind::Learned, _) => stage("learned"),
            _ => stage(&setting(&self.config, "search.rerank.kind")).or(&late),
        }))
    }

    /// Returns the name of the model for a role with the host that it is asked at, and a fingerprint of what decides its replies.
    fn model_of(&self, role: GeneratorRole) -> Result<Option<(String, Fingerprint)>> {
        Ok(self.generator(role)?.map(|Equipped { generator, config, .. }| {
            let name = match generator.host() {
                Some(host) => format!("{} at {host}", generator.name()),
                None => generator.name(),
            };
            let parameters = format!("{:?} {}", config.parameters(), config.context_tokens);
            (name, Fingerprint::of([generator.fingerprint().as_str(), &parameters]))
        }))
    }

    /// Returns the same, or what is said where there is no model.
    fn by_model(&self, role: GeneratorRole, without: &str) -> Result<(String, Fingerprint)> {
        Ok(self.model_of(role)?.unwrap_or_else(|| (without.to_owned(), Fingerprint::of([without]))))
    }
}

/// Returns a setting as it is written.
fn setting(config: &Config, key: &str) -> String {
    config.setting(key).unwrap_or_default()
}

/// Returns a fingerprint of a table of the settings.
fn table(config: &Config, name: &str) -> Fingerprint {
    let whole = toml::Table::try_from(config).unwrap_or_default();
    Fingerprint::of([whole.get(name).map(ToString::to_string).unwrap_or_default()])
}

impl PipelineDescription {
    /// Returns a drawing of the pipeline in lines of text: documents go through the first row, and questions through the rows below.
    pub fn drawing(&self) -> String {
        let of = |journey| self.stages.iter().filter(move |stage| stage.journey == journey);
        let mut building = vec!["documents".to_owned()];
        building.extend(of(Journey::Building).map(|stage| stage.stage.clone()));
        let mut out = format!("{}\n\n", building.join(" ─► "));
        let legs: Vec<String> = of(Journey::Asking)
            .filter(|stage| stage.stage == "leg")
            .map(|leg| if leg.when.is_some() { format!("{} ?", leg.name) } else { leg.name.clone() })
            .collect();
        let (mut before, mut after) = (vec!["question".to_owned()], Vec::new());
        let mut is_after = false;
        for stage in of(Journey::Asking) {
            match stage.stage.as_str() {
                "leg" => is_after = true,
                // Checks stand beside one another, and so do routes.
                name if after.last().is_some_and(|last| last == name) => {}
                name if before.last().is_some_and(|last| last == name) => {}
                name if is_after => after.push(name.to_owned()),
                name => before.push(name.to_owned()),
            }
        }
        let (before, after) = (format!("{} ", before.join(" ─► ")), format!(" {}", after.join(" ─► ")));
        let width = legs.iter().map(|leg| leg.chars().count()).max().unwrap_or(0);
        let middle = legs.len().saturating_sub(1) / 2;
        let last = legs.len().saturating_sub(1);
        for (at, leg) in legs.iter().enumerate() {
            let (fork, join) = match at {
                _ if last == 0 => ("──►", "──►"),
                0 if middle == 0 => ("─┬►", "─┬►"),
                0 => (" ┌►", "─┐ "),
                _ if at == middle => ("─┼►", "─┼►"),
                _ if at == last => (" └►", "─┘ "),
                _ => (" ├►", "─┤ "),
            };
            let is_middle = at == middle;
            let lead = if is_middle { before.clone() } else { " ".repeat(before.chars().count()) };
            let tail = if is_middle { after.as_str() } else { "" };
            let rule = "─".repeat(width - leg.chars().count());
            out.push_str(format!("{lead}{fork} {leg} {rule}{join}{tail}").trim_end());
            out.push('\n');
        }
        if legs.iter().any(|leg| leg.ends_with(" ?")) {
            out.push_str("\n? runs for some questions only\n");
        }
        out
    }
}

/// Prints a list of the stages.
impl fmt::Display for PipelineDescription {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let width = |part: fn(&StageDescription) -> &str| {
            self.stages.iter().map(|stage| part(stage).chars().count()).max().unwrap_or(0)
        };
        let (stages, names) = (width(|stage| &stage.stage), width(|stage| &stage.name).min(36));
        let mut journey = None;
        for stage in &self.stages {
            if journey != Some(stage.journey) {
                journey = Some(stage.journey);
                f.write_str(match stage.journey {
                    Journey::Building => "Building\n",
                    Journey::Asking => "\nAsking\n",
                })?;
            }
            let own = if stage.own { " (your own)" } else { "" };
            writeln!(f, "  {:<stages$}  {:<names$}  {}{own}", stage.stage, stage.name, stage.says)?;
            let indent = stages + names + 6;
            if let Some(when) = &stage.when {
                writeln!(f, "{:indent$}when {when}", "")?;
            }
            if let Some(otherwise) = &stage.otherwise {
                writeln!(f, "{:indent$}{otherwise}", "")?;
            }
        }
        Ok(())
    }
}
