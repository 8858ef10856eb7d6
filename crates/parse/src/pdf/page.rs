//! What is drawn on a page: glyphs, rules, shapes and pictures, in page coordinates with the origin at the top left.

use hayro_font::kurbo::{Affine, Point, Rect};
use hayro_syntax::page::Page;
use logothete_core::Result;
use logothete_core::document::{Area, Budget};

use super::canvas::{Canvas, area_of};
use super::content::Shared;
use super::stems::GlyphStyle;
use super::tags::{PageTags, Role};

/// One glyph as it lies in its layer. Lengths are points.
#[derive(Clone, Copy, Debug)]
pub(super) struct PlacedGlyph {
    /// Where its characters are in the layer's text.
    pub start: u32,
    pub end: u32,
    /// Where it begins and ends along the line, and the height of the baseline from the top of the page.
    pub left: f32,
    pub right: f32,
    pub baseline: f32,
    /// The size of its font.
    pub size: f32,
    pub look: GlyphStyle,
    pub role: Role,
}

/// A straight line, upright or level.
#[derive(Clone, Copy, Debug)]
pub(super) struct Rule {
    pub level: bool,
    /// Its place across its own direction.
    pub at: f32,
    /// Where it begins and ends along its direction.
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
    /// What else was drawn: curves, and straight lines that lean.
    pub shapes: Vec<Area>,
    pub pictures: Vec<Area>,
    /// Filled rectangles that are not white.
    pub fills: Vec<Area>,
}

impl Drawn {
    /// Returns `true` if no letter or figure stands on the page.
    pub(super) fn is_blank_of_text(&self) -> bool {
        !self.layers.iter().any(|layer| layer.text.contains(char::is_alphanumeric))
    }

    /// Returns `true` if nothing at all was drawn.
    pub(super) fn is_blank(&self) -> bool {
        self.is_blank_of_text() && self.pictures.is_empty() && self.shapes.is_empty() && self.rules.is_empty()
    }
}

/// The level text of the turned layer of a page, back on the page.
pub(super) fn turn(area: Area, degrees: f64, width: f32, height: f32) -> Area {
    let around =
        Affine::rotate_about(degrees.to_radians(), Point::new(f64::from(width) / 2.0, f64::from(height) / 2.0));
    let rect = Rect::new(area.left.into(), area.top.into(), area.right.into(), area.bottom.into());
    area_of(around.transform_rect_bbox(rect))
}

/// Draws a page and collects what was drawn. A page on which most of the text runs up or down is turned.
///
/// # Errors
/// If the budget is spent.
pub(super) fn draw<'a>(
    page: &Page<'a>,
    shared: &mut Shared<'a>,
    tags: Option<&PageTags>,
    budget: &Budget,
) -> Result<Drawn> {
    let level = draw_turned(page, shared, tags, budget, 0)?;
    let amount = |layer: &Layer| layer.glyphs.len();
    let most = level.layers.iter().max_by_key(|layer| amount(layer)).map_or(0, |layer| layer.degrees);
    let upright = level.layers.iter().find(|layer| layer.degrees == 0).map_or(0, amount);
    let other = level.layers.iter().find(|layer| layer.degrees == most).map_or(0, amount);
    if matches!(most, 90 | -90 | 180) && other > 2 * upright {
        return draw_turned(page, shared, tags, budget, most);
    }
    Ok(level)
}

fn draw_turned<'a>(
    page: &Page<'a>,
    shared: &mut Shared<'a>,
    tags: Option<&PageTags>,
    budget: &Budget,
    turned: i16,
) -> Result<Drawn> {
    let (width, height) = page.render_dimensions();
    let centre = Point::new(f64::from(width) / 2.0, f64::from(height) / 2.0);
    let turning = Affine::rotate_about(-f64::from(turned).to_radians(), centre);
    let transform = turning * Affine::new(page.initial_transform(true).as_coeffs());
    let area = turning.transform_rect_bbox(Rect::new(0.0, 0.0, f64::from(width), f64::from(height)));
    let layers = vec![Layer::default()];
    let drawn = Drawn { width, height, turned, layers, ..Drawn::default() };
    let mut canvas = Canvas { drawn, area, centre, role: Role::None };
    shared.run(page, transform, tags, budget, &mut canvas)?;
    Ok(canvas.drawn)
}
