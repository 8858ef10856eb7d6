//! The objects drawn on a page: glyphs, rules, shapes and pictures, in page coordinates with the origin at the top left.

use hayro_font::kurbo::{Affine, Point, Rect};
use logothete_core::document::Area;

use super::stems::GlyphStyle;
use super::tags::Role;

/// A glyph in its layer. Lengths are points.
#[derive(Clone, Copy, Debug)]
pub(super) struct PlacedGlyph {
    /// The range of its characters in the layer's text.
    pub start: u32,
    pub end: u32,
    /// The start and the end along the line, and the distance of the baseline from the top of the page.
    pub left: f32,
    pub right: f32,
    pub baseline: f32,
    /// The size of its font.
    pub size: f32,
    pub style: GlyphStyle,
    pub role: Role,
}

/// A straight line, upright or level.
#[derive(Clone, Copy, Debug)]
pub(super) struct Rule {
    pub level: bool,
    /// Its position across its own direction.
    pub at: f32,
    /// The start and the end along its direction.
    pub from: f32,
    pub to: f32,
}

/// The text that runs in one direction, as if the page were turned so that it runs level.
#[derive(Debug, Default)]
pub(super) struct Layer {
    /// How far the text is turned clockwise, in degrees.
    pub degrees: i16,
    pub text: String,
    pub glyphs: Vec<PlacedGlyph>,
}

/// All that was drawn on a page.
#[derive(Debug, Default)]
pub(super) struct Drawn {
    pub width: f32,
    pub height: f32,
    /// How far the page was turned to be read, in degrees; everything here is in the turned coordinates.
    pub turned: i16,
    /// The level text first, then text in other directions.
    pub layers: Vec<Layer>,
    pub rules: Vec<Rule>,
    /// Other shapes: curves, and slanted lines.
    pub shapes: Vec<Area>,
    pub pictures: Vec<Area>,
    /// Filled rectangles that are not white.
    pub fills: Vec<Area>,
}

impl Drawn {
    /// Returns `true` if the page has no letter or figure.
    pub(super) fn is_blank_of_text(&self) -> bool {
        !self.layers.iter().any(|layer| layer.text.contains(char::is_alphanumeric))
    }

    /// Returns `true` if nothing at all was drawn.
    pub(super) fn is_blank(&self) -> bool {
        self.is_blank_of_text() && self.pictures.is_empty() && self.shapes.is_empty() && self.rules.is_empty()
    }
}

/// Turns an area of a turned layer back to the page.
pub(super) fn turn(area: Area, degrees: f64, width: f32, height: f32) -> Area {
    let around =
        Affine::rotate_about(degrees.to_radians(), Point::new(f64::from(width) / 2.0, f64::from(height) / 2.0));
    let rect = Rect::new(area.left.into(), area.top.into(), area.right.into(), area.bottom.into());
    area_of(around.transform_rect_bbox(rect))
}

/// Returns the area of a rectangle.
pub(super) fn area_of(rect: Rect) -> Area {
    Area { left: rect.x0 as f32, top: rect.y0 as f32, right: rect.x1 as f32, bottom: rect.y1 as f32 }
}
