//! `[routing]`: several corpora under one name, and which of them a question belongs to.

use std::collections::BTreeMap;
use std::path::PathBuf;

use logothete_core::search::Rule;
use logothete_core::text::Language;
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};

use super::{SearchConfig, keys};

/// `[routing]`
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
#[non_exhaustive]
pub struct RoutingConfig {
    /// The routes by their names. Among several whose rules hold, the first in alphabetical order are taken.
    pub routes: BTreeMap<String, RouteConfig>,
    /// The route that is taken if no other fits, or those that do find nothing; empty means none.
    pub fallback: String,
    /// The number of routes that a question may take.
    pub max_routes: usize,
    /// The lowest cosine at which a description decides.
    pub min_similarity: f32,
    /// Whether a generator chooses among the descriptions if no rule holds.
    pub by_generator: bool,
}

/// `[routing.routes.NAME]`
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
#[non_exhaustive]
pub struct RouteConfig {
    /// The folder of the corpus, relative to the configuration file.
    pub corpus: PathBuf,
    /// What is found there, in a sentence.
    pub description: String,
    /// Words, one of which a question has that belongs there.
    pub words: Vec<String>,
    /// Fields, one of which a filter names that belongs there.
    pub fields: Vec<String>,
    /// Languages of questions that belong there, by their codes.
    pub languages: Vec<String>,
    /// Whether questions belong there (`true`), or words to look up (`false`).
    pub question: Option<bool>,
    /// What is different in `[search]` there.
    pub search: toml::Table,
}

impl Default for RoutingConfig {
    fn default() -> Self {
        Self {
            routes: BTreeMap::new(),
            fallback: String::new(),
            max_routes: 1,
            min_similarity: 0.2,
            by_generator: false,
        }
    }
}

impl RouteConfig {
    /// Returns how this corpus is searched: the settings of `[search]`, with those of the route in their place.
    ///
    /// # Errors
    /// If a key is unknown, or a value invalid.
    pub fn search(&self, all: &SearchConfig) -> Result<SearchConfig> {
        let invalid = |message: &str| Error::new(ErrorKind::Configuration, message.to_owned());
        keys::check_table(&self.search, "search", keys::fields_of::<SearchConfig>())?;
        let mut merged = toml::Table::try_from(all).map_err(|error| invalid(&error.to_string()))?;
        for (key, value) in self.search.clone() {
            match (merged.get_mut(&key), value) {
                // Of a table such as `rerank`, what is not said stays.
                (Some(toml::Value::Table(before)), toml::Value::Table(own)) => before.extend(own),
                (_, value) => drop(merged.insert(key, value)),
            }
        }
        let merged: SearchConfig = merged.try_into().map_err(|error: toml::de::Error| invalid(error.message()))?;
        merged.validate()?;
        Ok(merged)
    }

    /// Returns the rules by which the route is taken. A language whose code is unknown is none.
    pub fn rules(&self) -> Vec<Rule> {
        let words = self.words.iter().cloned().map(Rule::Words);
        let fields = self.fields.iter().cloned().map(Rule::Field);
        let languages = self.languages().unwrap_or_default().into_iter().map(Rule::Language);
        words.chain(fields).chain(languages).chain(self.question.map(Rule::Question)).collect()
    }

    /// Returns the languages.
    ///
    /// # Errors
    /// If a code is unknown.
    pub(crate) fn languages(&self) -> Result<Vec<Language>> {
        let language = |code: &String| {
            Language::from_tag(code).ok_or_else(|| {
                let message = format!("“{code}” is not the code of a language that questions are recognised in");
                Error::new(ErrorKind::Configuration, message)
            })
        };
        self.languages.iter().map(language).collect()
    }
}

impl RoutingConfig {
    pub(super) fn validate(&self, search: &SearchConfig) -> Result<()> {
        let invalid = |place: String, message: &str| Err(Error::new(ErrorKind::Configuration, message).at(place));
        for (name, route) in &self.routes {
            let place = format!("[routing.routes.{name}]");
            if route.corpus.as_os_str().is_empty() {
                return invalid(format!("{place} corpus"), "set it to the folder of a corpus");
            }
            route.search(search).map(drop).map_err(|error| error.at(format!("{place} search")))?;
            route.languages().map(drop).map_err(|error| error.at(format!("{place} languages")))?;
        }
        if !self.fallback.is_empty() && !self.routes.contains_key(&self.fallback) {
            return invalid("[routing] fallback".to_owned(), "there is no route of this name; name one of routes");
        }
        if self.max_routes == 0 {
            return invalid("[routing] max_routes".to_owned(), "0 routes lead nowhere; set 1 or more");
        }
        Ok(())
    }
}
