//! A router that a configuration describes.

use logothete_core::{Error, ErrorKind, Result};

use super::{Route, Router};
use crate::config::Config;
use crate::pipeline::Pipeline;

impl Router {
    /// Opens the corpora of `[routing]`, and returns a router to them.
    ///
    /// # Errors
    /// If there are no routes, a setting is invalid, or a corpus is not there or cannot be opened.
    pub async fn from_config(config: &Config) -> Result<Self> {
        config.validate()?;
        let routing = &config.routing;
        if routing.routes.is_empty() {
            let message = "there are no routes; describe one in [routing.routes.NAME]";
            return Err(Error::new(ErrorKind::Configuration, message).at("[routing]"));
        }
        let pipeline = Pipeline::from_config(config)?;
        let mut router = Self::new()
            .max_routes(routing.max_routes)
            .min_similarity(routing.min_similarity)
            .choosing_by_generator(routing.by_generator);
        if !routing.fallback.is_empty() {
            router = router.fallback(&routing.fallback);
        }
        for (name, settings) in &routing.routes {
            if !settings.corpus.is_dir() {
                let message =
                    format!("the route “{name}” leads to a corpus that is not there; build it, or correct its folder");
                return Err(Error::new(ErrorKind::NotFound, message).at(settings.corpus.display()));
            }
            let search = settings.search(&config.search)?;
            let plan = search.plan();
            let pipeline = pipeline.clone().configured(|config| config.search = search);
            let mut route = Route::new(name, &pipeline.open(&settings.corpus).await?).plan(plan);
            route = route.described(&settings.description);
            for rule in settings.rules() {
                route = route.when(rule);
            }
            router = router.route(route);
        }
        Ok(router)
    }
}
