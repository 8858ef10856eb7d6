//! Several corpora and plans under one name: a [`Router`] chooses for each question where to search, and says why.
//!
//! Rules come first: words, the fields of a filter, the language, whether it is a question. If none holds, a generator chooses among the descriptions, or
//! the description that is most like the question decides. If what was chosen finds nothing, the fall-back is searched.

mod configured;
mod reason;

use std::sync::OnceLock;

use logothete_core::keyword::Query;
use logothete_core::prompt::{route_prompt, routes_named};
use logothete_core::rerank::normalised;
use logothete_core::search::{Passage, Plan};
use logothete_core::vector::Role;
use logothete_core::{Error, ErrorKind, Result};
use serde::Serialize;

use crate::answer::{Model, Reply};
use crate::config::GeneratorRole;
use crate::corpus::Corpus;
use crate::opened::Opened;
use crate::search::{SearchRequest, SearchResult};
use crate::spending::Spending;
use crate::threads::{Driver, StopToken};
use crate::trace::Recorder;

pub use logothete_core::search::Rule;
pub use reason::Reason;

/// A corpus, how it is searched, and what is asked of it.
#[derive(Clone, Debug)]
pub struct Route {
    name: String,
    corpus: Corpus,
    plan: Option<Plan>,
    rules: Vec<Rule>,
    description: String,
}

impl Route {
    /// Creates a route to a corpus, with the plan of its configuration.
    pub fn new(name: impl Into<String>, corpus: &Corpus) -> Self {
        let (name, corpus) = (name.into(), corpus.clone());
        Self { name, corpus, plan: None, rules: Vec::new(), description: String::new() }
    }

    /// Searches by another plan.
    #[must_use]
    pub fn plan(mut self, plan: Plan) -> Self {
        self.plan = Some(plan);
        self
    }

    /// Adds a rule. The route is taken if one of its rules holds.
    #[must_use]
    pub fn when(mut self, rule: Rule) -> Self {
        self.rules.push(rule);
        self
    }

    /// Says in a sentence what is found there. A question that no rule sends anywhere goes to the description that is most like it.
    #[must_use]
    pub fn described(mut self, description: impl Into<String>) -> Self {
        self.description = description.into();
        self
    }

    fn request(&self, request: &SearchRequest) -> SearchRequest {
        match &self.plan {
            Some(plan) => request.clone().plan(plan.clone()),
            None => request.clone(),
        }
    }
}

/// Chooses among routes.
#[derive(Debug)]
pub struct Router {
    routes: Vec<Route>,
    fallback: Option<String>,
    max_routes: usize,
    min_similarity: f32,
    by_generator: bool,
    /// The vectors of the descriptions, of length 1; made when they are first needed.
    descriptions: OnceLock<Vec<Vec<f32>>>,
}

/// A route that was chosen, and why.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Choice {
    /// The name of the route.
    pub route: String,
    /// Why it was chosen.
    pub reason: Reason,
}

/// A passage, and the route that found it.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct RoutedPassage {
    /// The name of the route.
    pub route: String,
    /// The passage, with its rank among those of all routes.
    #[serde(flatten)]
    pub passage: Passage,
}

/// What a search found, and where.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct RoutedSearch {
    /// The routes that were searched, in their order; none if nothing fitted.
    pub choices: Vec<Choice>,
    /// The passages of all of them, by their scores.
    pub passages: Vec<RoutedPassage>,
    /// The result of each route.
    pub searches: Vec<SearchResult>,
}

/// An answer, and where it comes from.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct RoutedReply {
    /// The routes that were asked, in their order. The answer is that of the last one.
    pub choices: Vec<Choice>,
    /// The answer; `None` if no route fitted.
    pub reply: Option<Reply>,
}

impl Default for Router {
    fn default() -> Self {
        let (routes, descriptions) = (Vec::new(), OnceLock::new());
        Self { routes, fallback: None, max_routes: 1, min_similarity: 0.2, by_generator: false, descriptions }
    }
}

impl Router {
    /// Creates a router without routes.
    pub fn new() -> Self {
        Self::default()
    }

    /// Adds a route. Among several whose rules hold, the first ones are taken.
    #[must_use]
    pub fn route(mut self, route: Route) -> Self {
        self.routes.push(route);
        self.descriptions = OnceLock::new();
        self
    }

    /// Names the route that is taken if no other fits, or those that do find nothing.
    #[must_use]
    pub fn fallback(mut self, name: impl Into<String>) -> Self {
        self.fallback = Some(name.into());
        self
    }

    /// Takes up to so many routes for a question; 1 by default.
    #[must_use]
    pub fn max_routes(mut self, max: usize) -> Self {
        self.max_routes = max.max(1);
        self
    }

    /// Sets the lowest cosine at which a description decides; 0.2 by default.
    #[must_use]
    pub fn min_similarity(mut self, cosine: f32) -> Self {
        self.min_similarity = cosine;
        self
    }

    /// Lets a generator choose among the descriptions if no rule holds: that of the first route's pipeline for the role
    /// [`Route`](crate::config::GeneratorRole::Route). If it fails or names none, the cosines of the descriptions decide.
    #[must_use]
    pub fn choosing_by_generator(mut self, chooses: bool) -> Self {
        self.by_generator = chooses;
        self
    }

    /// Returns a router whose routes see the documents that somebody in some groups may see, as [`Corpus::for_groups`] does.
    ///
    /// # Errors
    /// If `[search] allow` of a route names no field.
    pub fn for_groups<G: Into<String>>(mut self, groups: impl IntoIterator<Item = G>) -> Result<Self> {
        let groups: Vec<String> = groups.into_iter().map(Into::into).collect();
        for route in &mut self.routes {
            route.corpus = route.corpus.for_groups(groups.clone())?;
        }
        Ok(self)
    }

    /// Returns a router whose routes see all documents, as [`Corpus::for_owner`] does.
    #[must_use]
    pub fn for_owner(mut self) -> Self {
        self.routes.iter_mut().for_each(|route| route.corpus = route.corpus.for_owner());
        self
    }

    /// Returns the routes for a request, without searching.
    ///
    /// # Errors
    /// If there is no route of the fall-back's name, or an encoder fails.
    pub async fn choose(&self, request: impl Into<SearchRequest>) -> Result<Vec<Choice>> {
        let request = request.into();
        let choices = self.chosen(&request).await?;
        Ok(choices.into_iter().map(|(_, choice)| choice).collect())
    }

    async fn chosen(&self, request: &SearchRequest) -> Result<Vec<(&Route, Choice)>> {
        let text = Query::parse(&request.query).text();
        let filter = request.filter.as_ref();
        let choice = |route: &Route, reason| Choice { route: route.name.clone(), reason };
        let by_rule = self.routes.iter().filter_map(|route| {
            let reason = route.rules.iter().find_map(|rule| Reason::of(rule, &text, filter))?;
            Some((route, choice(route, reason)))
        });
        let mut chosen: Vec<(&Route, Choice)> = by_rule.take(self.max_routes).collect();
        if chosen.is_empty() && self.by_generator {
            let (name, routes) = self.named_by_generator(&text).await?;
            let reason = |route| (route, choice(route, Reason::Generator(name.clone())));
            chosen.extend(routes.into_iter().map(reason));
        }
        if chosen.is_empty() {
            let mut alike: Vec<(usize, f32)> = self.likeness(&text).await?;
            alike.retain(|(_, cosine)| *cosine >= self.min_similarity);
            alike.sort_by(|a, b| b.1.total_cmp(&a.1));
            let alike = alike.into_iter().take(self.max_routes);
            chosen.extend(
                alike.map(|(at, cosine)| (&self.routes[at], choice(&self.routes[at], Reason::Similarity(cosine)))),
            );
        }
        if chosen.is_empty() {
            chosen.extend(self.fallback_route()?.map(|route| (route, choice(route, Reason::Fallback))));
        }
        Ok(chosen)
    }

    fn fallback_route(&self) -> Result<Option<&Route>> {
        let Some(name) = &self.fallback else { return Ok(None) };
        let named = self.routes.iter().find(|route| route.name == *name);
        let missing = || Error::new(ErrorKind::InvalidRequest, format!("there is no route “{name}” to fall back on"));
        named.ok_or_else(missing).map(Some)
    }

    /// Returns the fall-back, unless it was chosen already.
    fn spare<'a>(&'a self, chosen: &[(&Route, Choice)]) -> Result<Option<(&'a Route, Choice)>> {
        let spare = self.fallback_route()?.filter(|route| chosen.iter().all(|(other, _)| other.name != route.name));
        Ok(spare.map(|route| (route, Choice { route: route.name.clone(), reason: Reason::Fallback })))
    }

    /// Returns the name of the generator, and the routes that it chooses for a question; none if it fails.
    async fn named_by_generator(&self, question: &str) -> Result<(String, Vec<&Route>)> {
        let described: Vec<&Route> = self.routes.iter().filter(|route| !route.description.is_empty()).collect();
        let Some(first) = described.first() else { return Ok((String::new(), Vec::new())) };
        let Some(equipped) = first.corpus.pipeline().generator(GeneratorRole::Route)? else {
            let message = "a generator is to choose the route, and [generator] names none; set by_generator to false";
            return Err(Error::new(ErrorKind::Configuration, message).at("[routing] by_generator"));
        };
        let places: Vec<(&str, &str)> =
            described.iter().map(|route| (route.name.as_str(), route.description.as_str())).collect();
        let prompt = route_prompt(question, &places, self.max_routes, first.corpus.pipeline().templates())?;
        let name = equipped.generator.name();
        let ask = move |opened: &Opened, driver: &Driver, stop: &StopToken| {
            let spending = Spending::for_question(&opened.config().limits);
            let model = Model { opened, driver, equipped: &equipped, spending: &spending, stop };
            // A generator that fails decides nothing.
            Ok(model.generate(prompt, &mut Recorder::new(false), &mut |_| ()).map_or(String::new(), |reply| reply.text))
        };
        let reply = first.corpus.drive(&StopToken::default(), ask).await?;
        let names: Vec<&str> = places.iter().map(|(name, _)| *name).collect();
        let named = routes_named(&reply, &names).into_iter().take(self.max_routes);
        Ok((name, named.map(|at| described[at]).collect()))
    }

    /// Returns the cosine of a text to each description, by the position of its route. The encoder is that of the first route.
    async fn likeness(&self, text: &str) -> Result<Vec<(usize, f32)>> {
        let described = || self.routes.iter().enumerate().filter(|(_, route)| !route.description.is_empty());
        let Some(first) = self.routes.first().filter(|_| described().next().is_some()) else { return Ok(Vec::new()) };
        let known = self.descriptions.get().is_some();
        let mut texts = vec![text.to_owned()];
        texts.extend(described().filter(|_| !known).map(|(_, route)| route.description.clone()));
        let encode = move |opened: &Opened, _: &Driver, _: &StopToken| {
            let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
            let vectors = opened.encoder.encode(&texts, Role::Query)?;
            Ok(vectors.iter().map(|vector| normalised(vector.to_vec())).collect::<Vec<_>>())
        };
        let mut vectors = first.corpus.drive(&StopToken::default(), encode).await?.into_iter();
        let asked = vectors.next().unwrap_or_default();
        let descriptions = self.descriptions.get_or_init(|| vectors.collect());
        let cosine = |other: &Vec<f32>| asked.iter().zip(other).map(|(a, b)| a * b).sum::<f32>();
        Ok(described().zip(descriptions).map(|((at, _), vector)| (at, cosine(vector))).collect())
    }

    /// Searches where the question belongs. If nothing is found there, the fall-back is searched.
    ///
    /// # Errors
    /// As [`choose`](Self::choose) and [`Corpus::search`].
    pub async fn search(&self, request: impl Into<SearchRequest>) -> Result<RoutedSearch> {
        let request = request.into();
        let mut chosen = self.chosen(&request).await?;
        let mut searches = Vec::new();
        for (route, _) in &chosen {
            searches.push(route.corpus.search(route.request(&request)).await?);
        }
        if searches.iter().all(|found: &SearchResult| found.passages.is_empty())
            && let Some(spare) = self.spare(&chosen)?
        {
            searches.push(spare.0.corpus.search(spare.0.request(&request)).await?);
            chosen.push(spare);
        }
        let of_route = |((route, _), found): (&(&Route, Choice), &SearchResult)| {
            let name = route.name.clone();
            let routed = move |passage: &Passage| RoutedPassage { route: name.clone(), passage: passage.clone() };
            found.passages.iter().map(routed).collect::<Vec<_>>()
        };
        let mut passages: Vec<RoutedPassage> = chosen.iter().zip(&searches).flat_map(of_route).collect();
        passages.sort_by(|a, b| b.passage.score.total_cmp(&a.passage.score));
        (1..).zip(&mut passages).for_each(|(rank, routed)| routed.passage.rank = rank);
        Ok(RoutedSearch { choices: chosen.into_iter().map(|(_, choice)| choice).collect(), passages, searches })
    }

    /// Asks where the question belongs. A route that refuses is followed by the next one that was chosen, then by the fall-back.
    ///
    /// # Errors
    /// As [`choose`](Self::choose) and [`Corpus::ask`].
    pub async fn ask(&self, request: impl Into<SearchRequest>) -> Result<RoutedReply> {
        let request = request.into();
        let mut left = self.chosen(&request).await?;
        left.extend(self.spare(&left)?);
        let (mut choices, mut reply) = (Vec::new(), None);
        for (route, choice) in left {
            let answered = route.corpus.ask(route.request(&request)).await?;
            let refused = answered.answer.is_refusal();
            choices.push(choice);
            reply = Some(answered);
            if !refused {
                break;
            }
        }
        Ok(RoutedReply { choices, reply })
    }
}
