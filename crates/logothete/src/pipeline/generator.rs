//! From the settings of `[generator]` to generators, one for each role.

use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock};

use logothete_core::Result;
use logothete_core::prompt::{Hidden, Mask, Prompt};
#[cfg(not(feature = "http"))]
use logothete_core::{Error, ErrorKind};

use crate::config::{Config, GeneratorConfig, GeneratorKind, GeneratorRole, PrivacyConfig};
use crate::generate::{CommandGenerator, Generator};

/// A generator with its settings: prices, limits, retries.
#[derive(Clone)]
pub(crate) struct Equipped {
    pub generator: Arc<dyn Generator>,
    pub config: GeneratorConfig,
    /// What is replaced before it is sent.
    pub mask: Option<Mask>,
}

impl Equipped {
    /// Returns a prompt exactly as it is sent.
    pub(crate) fn as_sent(&self, prompt: Prompt) -> Prompt {
        match &self.mask {
            Some(mask) => mask.hide_prompt(&prompt, &mut Hidden::default()),
            None => prompt,
        }
    }
}

/// The generators of a pipeline: the user's own, and those of the configuration, which are made when they are first needed.
#[derive(Clone, Default)]
pub(super) struct Generators {
    own: BTreeMap<GeneratorRole, Arc<dyn Generator>>,
    made: Arc<[OnceLock<Arc<dyn Generator>>; GeneratorRole::ALL.len()]>,
}

impl Generators {
    /// Sets the user's own generator for a role.
    pub(super) fn set(&mut self, role: GeneratorRole, generator: Arc<dyn Generator>) {
        self.own.insert(role, generator);
    }

    /// Lets the generators of the configuration be made again, because it has changed.
    pub(super) fn renew(&mut self) {
        self.made = Arc::default();
    }

    /// Returns the generator for a role; `None` if no model is configured.
    ///
    /// # Errors
    /// If the settings are invalid, or its host is not allowed.
    pub(super) fn get(&self, role: GeneratorRole, config: &Config) -> Result<Option<Equipped>> {
        let settings = config.generator.for_role(role)?;
        let mask = config.privacy.masking()?;
        if let Some(generator) = self.own.get(&role) {
            return Ok(Some(Equipped { generator: generator.clone(), config: settings, mask }));
        }
        let cell = &self.made[role as usize];
        let generator = match cell.get() {
            Some(generator) => generator.clone(),
            None => match make(&settings, &config.privacy)? {
                Some(generator) => cell.get_or_init(|| generator).clone(),
                None => return Ok(None),
            },
        };
        Ok(Some(Equipped { generator, config: settings, mask }))
    }

    /// Returns the names of the user's own generators.
    pub(super) fn names(&self) -> Vec<String> {
        self.own.values().map(Generator::name).collect()
    }
}

fn make(settings: &GeneratorConfig, privacy: &PrivacyConfig) -> Result<Option<Arc<dyn Generator>>> {
    match settings.kind {
        GeneratorKind::Extractive => Ok(None),
        GeneratorKind::Command => Ok(Some(Arc::new(CommandGenerator::new(settings)?))),
        GeneratorKind::Remote => remote(settings, privacy).map(Some),
    }
}

#[cfg(feature = "http")]
fn remote(settings: &GeneratorConfig, privacy: &PrivacyConfig) -> Result<Arc<dyn Generator>> {
    Ok(Arc::new(crate::remote::RemoteGenerator::new(settings, privacy)?))
}

#[cfg(not(feature = "http"))]
fn remote(settings: &GeneratorConfig, _: &PrivacyConfig) -> Result<Arc<dyn Generator>> {
    let message = format!("{} cannot be reached: this program was built without the feature http", settings.address);
    Err(Error::new(ErrorKind::Unsupported, message).at("[generator] kind"))
}
