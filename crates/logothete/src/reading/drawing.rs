//! Pictures of pages and parts of them.

use logothete_core::document::{Area, Document, Picture};
use logothete_core::{Error, ErrorKind, Result};
use logothete_parse::{area_picture, marked_page, outlined_page, png};
use serde::{Deserialize, Serialize};

use super::too_slow;
use crate::config::Config;
use crate::threads::within;

/// What is drawn of a PDF file.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Drawing {
    /// A page, its blocks outlined by kind and numbered in reading order.
    Outlined {
        /// The number of the page, from 1.
        page: u32,
        /// The document as it was read.
        document: Box<Document>,
    },
    /// A page as it is printed, with the lines of a citation marked.
    Marked {
        /// The number of the page, from 1.
        page: u32,
        /// The parts that are marked, in points.
        areas: Vec<Area>,
    },
    /// A part of a page.
    Area {
        /// The number of the page, from 1.
        page: u32,
        /// The part, in points.
        area: Area,
    },
}

/// A picture.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Drawn {
    /// The file, as PNG.
    pub png: Vec<u8>,
    /// The width in pixels.
    pub width: u32,
    /// The height in pixels.
    pub height: u32,
}

/// Draws in this process, within the time that reading a file may take.
pub(crate) fn draw_here(config: &Config, bytes: Vec<u8>, drawing: Drawing, scale: f32) -> Result<Drawn> {
    let password = config.parse.password()?;
    let draw = move || {
        let password = password.as_deref();
        let picture: Picture = match &drawing {
            Drawing::Outlined { page, document } => outlined_page(&bytes, password, document, *page, scale)?,
            Drawing::Marked { page, areas } => marked_page(&bytes, password, *page, areas, scale)?,
            Drawing::Area { page, area } => area_picture(&bytes, password, *page, *area, scale)?,
        };
        Ok(Drawn { png: png(&picture)?, width: picture.width, height: picture.height })
    };
    let limit = config.limits.max_read_time();
    within(limit, || (), draw).unwrap_or_else(|| {
        let error = too_slow(limit);
        Err(Error::new(ErrorKind::Limit, error.message().replace("reading", "drawing")))
    })
}
