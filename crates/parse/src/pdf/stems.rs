//! How heavy and how slanted type is, measured from its shapes.
//!
//! Many files do not say whether a font is bold, or name it in ways of their own. So the upright stem of a letter is measured: it is
//! narrower than a tenth of the em in usual faces and wider in bold ones. The width is taken on a level line above the baseline. A
//! second line gives the slant.

use std::collections::HashMap;

use hayro_font::OutlineGlyph;
use hayro_font::kurbo::{BezPath, PathEl, Point, flatten};

/// Letters that begin with an upright stem. The stems of capitals are heavier.
const STEMMED: &str = "bhiklmnpru";
const STEMMED_CAPITALS: &str = "BDEFHIKLMNPRU";
/// A stem wider than this share of the em is bold.
const BOLD: f64 = 0.098;
const BOLD_CAPITAL: f64 = 0.114;
/// A stem that leans by more than this over its height is slanted.
const SLANTED: f64 = 0.1;

/// The weight of type, by its stems.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Weight {
    /// No letter has a stem.
    #[default]
    Unknown,
    Regular,
    Bold,
}

/// The style of type.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct GlyphStyle {
    pub weight: Weight,
    pub slanted: bool,
}

/// Styles that were measured, by glyph.
#[derive(Debug, Default)]
pub(super) struct GlyphStyles {
    known: HashMap<u128, GlyphStyle>,
}

impl GlyphStyles {
    /// Returns the style of a glyph; `None` if it has no stem to measure.
    pub(super) fn of(&mut self, glyph: &OutlineGlyph, character: char) -> Option<GlyphStyle> {
        let bold = match character {
            c if STEMMED.contains(c) => BOLD,
            c if STEMMED_CAPITALS.contains(c) => BOLD_CAPITAL,
            _ => return None,
        };
        Some(*self.known.entry(glyph.identifier().cache_key()).or_insert_with(|| measure(&glyph.outline(), bold)))
    }
}

fn measure(outline: &BezPath, bold: f64) -> GlyphStyle {
    let (Some(low), Some(high)) = (first_run(outline, 160.0), first_run(outline, 300.0)) else {
        return GlyphStyle::default();
    };
    let width = f64::min(low.1 - low.0, high.1 - high.0) / 1000.0;
    let lean = (high.0 - low.0) / 140.0;
    // Anything wider is a filled shape, not a stem.
    let weight = match width {
        width if !(0.015..0.4).contains(&width) => Weight::Unknown,
        width if width >= bold => Weight::Bold,
        _ => Weight::Regular,
    };
    GlyphStyle { weight, slanted: lean > SLANTED }
}

/// Returns where a level line first enters and leaves an outline.
fn first_run(outline: &BezPath, height: f64) -> Option<(f64, f64)> {
    let mut crossings: Vec<f64> = Vec::new();
    let (mut start, mut last) = (Point::ORIGIN, Point::ORIGIN);
    let mut edge = |from: Point, to: Point| {
        if (from.y <= height) != (to.y <= height) {
            crossings.push(from.x + (height - from.y) / (to.y - from.y) * (to.x - from.x));
        }
    };
    flatten(outline.elements().iter().copied(), 5.0, |element| match element {
        PathEl::MoveTo(point) => (start, last) = (point, point),
        PathEl::LineTo(point) => {
            edge(last, point);
            last = point;
        }
        PathEl::ClosePath => {
            edge(last, start);
            last = start;
        }
        PathEl::QuadTo(..) | PathEl::CurveTo(..) => {}
    });
    crossings.sort_by(f64::total_cmp);
    match crossings[..] {
        [enter, leave, ..] => Some((enter, leave)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use hayro_font::kurbo::{Affine, Rect, Shape};
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(80.0, 0.0, Weight::Regular, false)]
    #[case(150.0, 0.0, Weight::Bold, false)]
    #[case(80.0, 0.2, Weight::Regular, true)]
    #[case(600.0, 0.0, Weight::Unknown, false)]
    fn stems_tell_weight_and_slant(
        #[case] width: f64,
        #[case] lean: f64,
        #[case] weight: Weight,
        #[case] slanted: bool,
    ) {
        let stem =
            Affine::new([1.0, 0.0, lean, 1.0, 0.0, 0.0]) * Rect::new(50.0, 0.0, 50.0 + width, 700.0).to_path(0.1);
        assert_eq!(measure(&stem, BOLD), GlyphStyle { weight, slanted });
    }
}
