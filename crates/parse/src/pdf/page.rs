//! Draws the pages of a document, and turns those whose text runs up or down.

use hayro_font::kurbo::{Affine, Point, Rect};
use hayro_syntax::page::Page;
use logothete_core::Result;
use logothete_core::document::Budget;

use super::canvas::Canvas;
use super::content::Shared;
use super::drawn::{Drawn, Layer};
use super::tags::{PageTags, Role};

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
