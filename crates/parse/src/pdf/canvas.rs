//! The canvas that a page draws on. Glyphs go to layers by their direction, and paths become rules, fills and shapes.

use hayro_font::kurbo::{Affine, BezPath, PathEl, Point, Rect, Shape, Vec2};

use super::drawn::{Drawn, Layer, PlacedGlyph, Rule, area_of};
use super::stems::GlyphStyle;
use super::tags::Role;

/// A rule is at most this thick, in points.
const RULE_THICKNESS: f64 = 2.5;
/// A rule is at least this long, in points.
const RULE_LENGTH: f64 = 6.0;
/// More shapes than this on a page are not looked at one by one.
const MAX_SHAPES: usize = 20_000;
/// More glyphs than this on a page are not read.
const MAX_GLYPHS: usize = 1_000_000;

/// The objects drawn so far.
#[derive(Debug)]
pub(super) struct Canvas {
    pub drawn: Drawn,
    /// The bounds of the page.
    pub area: Rect,
    pub centre: Point,
    /// The role of the marked content that is open.
    pub role: Role,
}

impl Canvas {
    /// Places a glyph with a text. `along` reaches to its end, and `up` is a thousandth of the em above its origin.
    pub(super) fn glyph(&mut self, text: &str, origin: Point, along: Vec2, up: Vec2, style: GlyphStyle) {
        let (tip, size) = (origin + along, 1000.0 * up.hypot());
        let is_placed = origin.is_finite() && tip.is_finite() && size.is_finite() && size > 0.5;
        if !is_placed || !self.area.inflate(2.0, 2.0).contains(origin) {
            return;
        }
        let is_upright = along.y.abs() <= along.x.abs() * 0.2 && along.x >= 0.0;
        let (layer, origin, tip) = if is_upright {
            (0, origin, tip)
        } else {
            let degrees = along.y.atan2(along.x).to_degrees().round() as i16;
            let degrees = if degrees == -180 { 180 } else { degrees };
            let turning = Affine::rotate_about(-f64::from(degrees).to_radians(), self.centre);
            (self.layer(degrees), turning * origin, turning * tip)
        };
        let layer = &mut self.drawn.layers[layer];
        if layer.glyphs.len() >= MAX_GLYPHS {
            return;
        }
        let start = layer.text.len() as u32;
        layer.text.push_str(text);
        layer.glyphs.push(PlacedGlyph {
            start,
            end: layer.text.len() as u32,
            left: origin.x as f32,
            right: tip.x as f32,
            baseline: origin.y as f32,
            size: size as f32,
            style,
            role: self.role,
        });
    }

    /// Returns the layer of a direction.
    fn layer(&mut self, degrees: i16) -> usize {
        let known = self.drawn.layers.iter().position(|layer| layer.degrees == degrees);
        known.unwrap_or_else(|| {
            self.drawn.layers.push(Layer { degrees, ..Layer::default() });
            self.drawn.layers.len() - 1
        })
    }

    /// A shape that is a rule if it is thin enough.
    fn shape(&mut self, bounds: Rect) {
        let (width, height) = (bounds.width(), bounds.height());
        let rule = if height <= RULE_THICKNESS && width >= RULE_LENGTH {
            Rule { level: true, at: bounds.center().y as f32, from: bounds.x0 as f32, to: bounds.x1 as f32 }
        } else if width <= RULE_THICKNESS && height >= RULE_LENGTH {
            Rule { level: false, at: bounds.center().x as f32, from: bounds.y0 as f32, to: bounds.y1 as f32 }
        } else {
            let inside = bounds.is_finite() && self.area.contains(bounds.center());
            if inside && self.drawn.shapes.len() < MAX_SHAPES {
                self.drawn.shapes.push(area_of(bounds));
            }
            return;
        };
        if rule.at.is_finite() && rule.from.is_finite() && rule.to.is_finite() {
            self.drawn.rules.push(rule);
        }
    }

    /// A stroked path: each of its straight pieces may be a rule.
    pub(super) fn stroked(&mut self, path: &BezPath, transform: Affine) {
        let mut start = Point::ORIGIN;
        let mut last = Point::ORIGIN;
        let mut curves = false;
        for element in path.elements() {
            match *element {
                PathEl::MoveTo(point) => {
                    start = transform * point;
                    last = start;
                }
                PathEl::LineTo(point) => {
                    let next = transform * point;
                    self.shape(Rect::from_points(last, next));
                    last = next;
                }
                PathEl::ClosePath => {
                    self.shape(Rect::from_points(last, start));
                    last = start;
                }
                PathEl::QuadTo(_, point) | PathEl::CurveTo(_, _, point) => {
                    curves = true;
                    last = transform * point;
                }
            }
        }
        if curves {
            self.shape((transform * path.clone()).bounding_box());
        }
    }

    /// Takes note of a filled path.
    pub(super) fn filled(&mut self, path: &BezPath, transform: Affine, is_white: bool) {
        let bounds = (transform * path.clone()).bounding_box();
        let thin = bounds.width() <= RULE_THICKNESS || bounds.height() <= RULE_THICKNESS;
        let straight =
            path.elements().iter().all(|element| !matches!(element, PathEl::QuadTo(..) | PathEl::CurveTo(..)));
        if thin || !straight || path.elements().len() > 6 {
            self.shape(bounds);
        } else if !is_white && bounds.is_finite() && self.drawn.fills.len() < MAX_SHAPES {
            self.drawn.fills.push(area_of(bounds));
        }
    }

    /// Takes note of where a picture is.
    pub(super) fn picture(&mut self, bounds: Rect) {
        let bounds = bounds.intersect(self.area);
        if bounds.is_finite() && self.drawn.pictures.len() < MAX_SHAPES {
            self.drawn.pictures.push(area_of(bounds));
        }
    }
}
