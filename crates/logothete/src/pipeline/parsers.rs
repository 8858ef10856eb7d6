//! From the settings of `[parse]` to parsers.

use std::sync::Arc;

use logothete_core::chunk::LinePattern;
use logothete_core::document::{Budget, PageRecogniser};
use logothete_core::{Error, ErrorKind, Result};
use logothete_parse::{JsonFields, ParseSettings};

use super::secret::secret;
use super::tesseract::{self, Tesseract};
use crate::config::{Config, Ocr, ParseConfig, Strategy};

/// Returns the parsers' settings. The chunker decides about boundary lines.
pub(crate) fn settings(config: &Config) -> Result<ParseSettings> {
    // A page that takes half of the time of its file is given up, so that the others are read.
    let max_time = config.limits.max_read_time() / 2;
    let (config, chunk) = (&config.parse, &config.chunk);
    let pointer = |text: &str, key: &str| match text {
        "" => Ok(None),
        text if text.starts_with('/') => Ok(Some(text.to_owned())),
        _ => Err(Error::new(ErrorKind::Configuration, "a JSON pointer begins with /, as in \"/body/text\"")
            .at(format!("[parse] {key}"))),
    };
    let metadata = config.json_metadata.iter().map(|(name, at)| (name.clone(), at.clone())).collect::<Vec<_>>();
    let json = JsonFields {
        text: pointer(&config.json_text, "json_text")?,
        title: pointer(&config.json_title, "json_title")?,
        metadata: (!metadata.is_empty()).then_some(metadata),
    };
    let can_draw = cfg!(feature = "picture");
    let recogniser = (config.ocr == Ocr::Auto && can_draw).then(|| Tesseract::find(&config.ocr_languages)).flatten();
    let advice = match config.ocr {
        // The setting changes nothing in such a program.
        _ if !can_draw => tesseract::ADVICE_WITHOUT_PICTURES,
        Ocr::Off => tesseract::ADVICE_OFF,
        Ocr::Auto => tesseract::ADVICE,
    };
    Ok(ParseSettings {
        json,
        comments: config.comments,
        recogniser: recogniser.map(|found| Arc::new(found.max_time(max_time)) as Arc<dyn PageRecogniser>),
        picture_advice: Some(advice),
        password: config.password()?,
        boundary: match chunk.strategy {
            Strategy::Marked => LinePattern::new(&chunk.marker).ok(),
            _ => None,
        },
    })
}

impl ParseConfig {
    /// Returns the password of protected files, from the environment or a file `.env`; `None` if no variable is named.
    ///
    /// # Errors
    /// If neither has the variable.
    pub fn password(&self) -> Result<Option<String>> {
        if self.password_env.is_empty() {
            return Ok(None);
        }
        secret(&self.password_env).map(|secret| Some(secret.value)).map_err(|error| error.at("[parse] password_env"))
    }
}

/// Returns the budget of a file.
pub(crate) fn budget(config: &Config) -> Budget {
    let mut budget = Budget::default();
    budget.pages = config.parse.pages;
    budget.max_pages = config.limits.pages;
    budget.max_unpacked = config.limits.max_unpacked_bytes();
    budget.max_text = config.limits.max_text_bytes();
    (budget.max_blocks, budget.max_cells) = (config.limits.blocks, config.limits.cells);
    budget.max_places = config.limits.places;
    budget
}
