//! What is drawn on a page: glyphs, rules, shapes and pictures, in page coordinates with the origin at the top left.

use hayro_interpret::font::GlyphRun;
use hayro_interpret::hayro_cmap::BfString;
use hayro_interpret::hayro_syntax::object::Dict;
use hayro_interpret::hayro_syntax::page::Page;
use hayro_interpret::kurbo::{Affine, BezPath, PathEl, Point, Rect, Shape};
use hayro_interpret::{
    BlendMode, ClipPath, Context, Device, DrawMode, DrawProps, Image, ImageDrawProps, InterpreterCache,
    InterpreterSettings, Paint, SoftMask, interpret_page,
};
use logothete_core::document::Area;

use super::glyphs::{GlyphCache, GlyphFacts};
use super::stems::GlyphStyle;
use super::tags::{PageTags, Role};

/// A rule is at most this thick, in points.
const RULE_THICKNESS: f64 = 2.5;
/// A rule is at least this long, in points.
const RULE_LENGTH: f64 = 6.0;
/// More shapes than this on a page are not looked at one by one.
const MAX_SHAPES: usize = 20_000;
/// More glyphs than this on a page are not read.
const MAX_GLYPHS: usize = 1_000_000;

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

fn area_of(rect: Rect) -> Area {
    Area { left: rect.x0 as f32, top: rect.y0 as f32, right: rect.x1 as f32, bottom: rect.y1 as f32 }
}

/// Draws a page and collects what was drawn. A page on which most of the text runs up or down is turned.
pub(super) fn draw<'a>(
    page: &Page<'a>,
    cache: &InterpreterCache<'a>,
    glyphs: &mut GlyphCache,
    tags: Option<&PageTags>,
) -> Drawn {
    let level = draw_turned(page, cache, glyphs, tags, 0);
    let amount = |layer: &Layer| layer.glyphs.len();
    let most = level.layers.iter().max_by_key(|layer| amount(layer)).map_or(0, |layer| layer.degrees);
    let upright = level.layers.iter().find(|layer| layer.degrees == 0).map_or(0, amount);
    let other = level.layers.iter().find(|layer| layer.degrees == most).map_or(0, amount);
    if matches!(most, 90 | -90 | 180) && other > 2 * upright {
        return draw_turned(page, cache, glyphs, tags, most);
    }
    level
}

fn draw_turned<'a>(
    page: &Page<'a>,
    cache: &InterpreterCache<'a>,
    glyphs: &mut GlyphCache,
    tags: Option<&PageTags>,
    turned: i16,
) -> Drawn {
    let (width, height) = page.render_dimensions();
    let centre = Point::new(f64::from(width) / 2.0, f64::from(height) / 2.0);
    let turning = Affine::rotate_about(-f64::from(turned).to_radians(), centre);
    let transform = turning * Affine::new(page.initial_transform(true).as_coeffs());
    let area = turning.transform_rect_bbox(Rect::new(0.0, 0.0, f64::from(width), f64::from(height)));
    let mut context = Context::new(transform, area, cache, page.xref(), InterpreterSettings::default());
    let layers = vec![Layer::default()];
    let drawn = Drawn { width, height, turned, layers, ..Drawn::default() };
    let canvas = Canvas { drawn, area, centre, role: Role::None };
    let mut collector = Collector { canvas, glyphs, tags, marks: Vec::new() };
    interpret_page(page, &mut context, &mut collector);
    collector.canvas.drawn
}

/// What has been drawn so far.
struct Canvas {
    drawn: Drawn,
    area: Rect,
    centre: Point,
    /// The role of the marked content that is open.
    role: Role,
}

/// Receives what a page draws.
struct Collector<'c> {
    canvas: Canvas,
    glyphs: &'c mut GlyphCache,
    tags: Option<&'c PageTags>,
    /// The roles of the marked content around the open one.
    marks: Vec<Role>,
}

impl Canvas {
    fn glyph(&mut self, facts: &GlyphFacts, transform: Affine, look: GlyphStyle) {
        let origin = transform * Point::ORIGIN;
        let tip = transform * Point::new(f64::from(facts.width), 0.0);
        let size = (transform * Point::new(0.0, 1000.0) - origin).hypot();
        let placed = origin.is_finite() && tip.is_finite() && size.is_finite() && size > 0.5;
        if !placed || !self.area.inflate(2.0, 2.0).contains(origin) {
            return;
        }
        let upright = (tip.y - origin.y).abs() <= (tip.x - origin.x).abs() * 0.2 && tip.x >= origin.x;
        let (layer, origin, tip) = if upright {
            (0, origin, tip)
        } else {
            let direction = transform * Point::new(1000.0, 0.0) - (transform * Point::ORIGIN);
            let degrees = direction.y.atan2(direction.x).to_degrees().round() as i16;
            let degrees = if degrees == -180 { 180 } else { degrees };
            let turning = Affine::rotate_about(-f64::from(degrees).to_radians(), self.centre);
            (self.layer(degrees), turning * origin, turning * tip)
        };
        let layer = &mut self.drawn.layers[layer];
        if layer.glyphs.len() >= MAX_GLYPHS {
            return;
        }
        let start = layer.text.len() as u32;
        match &facts.text {
            Some(BfString::Char(c)) => push_plain(*c, &mut layer.text),
            Some(BfString::String(text)) => text.chars().for_each(|c| push_plain(c, &mut layer.text)),
            None => {}
        }
        let end = layer.text.len() as u32;
        if start == end {
            return;
        }
        layer.glyphs.push(PlacedGlyph {
            start,
            end,
            left: origin.x as f32,
            right: tip.x as f32,
            baseline: origin.y as f32,
            size: size as f32,
            look,
            role: self.role,
        });
    }

    /// The layer of a direction.
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
    fn stroked(&mut self, path: &BezPath, transform: Affine) {
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

    fn filled(&mut self, path: &BezPath, props: &DrawProps<'_>) {
        let bounds = (props.transform * path.clone()).bounding_box();
        let thin = bounds.width() <= RULE_THICKNESS || bounds.height() <= RULE_THICKNESS;
        let straight =
            path.elements().iter().all(|element| !matches!(element, PathEl::QuadTo(..) | PathEl::CurveTo(..)));
        if thin || !straight || path.elements().len() > 6 {
            self.shape(bounds);
        } else if !is_white(&props.paint) && self.drawn.fills.len() < MAX_SHAPES {
            self.drawn.fills.push(area_of(bounds));
        }
    }
}

fn is_white(paint: &Paint<'_>) -> bool {
    match paint {
        Paint::Color(color) => {
            let [red, green, blue, alpha] = color.to_rgba().to_rgba8();
            alpha < 8 || red.min(green).min(blue) > 250
        }
        Paint::Pattern(_) => false,
    }
}

impl<'a> Device<'a> for Collector<'_> {
    fn draw_path(&mut self, path: &BezPath, props: DrawProps<'a>, mode: &DrawMode) {
        match mode {
            DrawMode::Fill(_) => self.canvas.filled(path, &props),
            DrawMode::Stroke(_) | DrawMode::FillAndStroke(..) => self.canvas.stroked(path, props.transform),
            DrawMode::Invisible => {}
        }
    }

    fn draw_glyph_run(&mut self, run: &GlyphRun<'_, 'a>, props: DrawProps<'a>, _mode: &DrawMode) {
        let Self { canvas, glyphs, .. } = self;
        glyphs.each(run, |glyph, facts, style| canvas.glyph(facts, props.transform * glyph.transform(), style));
    }

    fn draw_image(&mut self, image: Image<'a, '_>, props: ImageDrawProps<'a>) {
        let size = Rect::new(0.0, 0.0, f64::from(image.width()), f64::from(image.height()));
        let bounds = props.transform.transform_rect_bbox(size).intersect(self.canvas.area);
        if bounds.is_finite() && self.canvas.drawn.pictures.len() < MAX_SHAPES {
            self.canvas.drawn.pictures.push(area_of(bounds));
        }
    }

    fn begin_marked_content(&mut self, tag: &[u8], properties: Option<&Dict<'_>>) {
        let role = match (tag, self.tags) {
            (b"Artifact", _) => Role::Artifact,
            (_, Some(tags)) => {
                properties.and_then(|dict| dict.get::<i32>("MCID")).map_or(self.canvas.role, |mark| tags.role(mark))
            }
            _ => self.canvas.role,
        };
        self.marks.push(self.canvas.role);
        self.canvas.role = role;
    }

    fn end_marked_content(&mut self) {
        self.canvas.role = self.marks.pop().unwrap_or_default();
    }

    fn push_clip_path(&mut self, _: &ClipPath) {}
    fn push_clip_rect(&mut self, _: &Rect) {}
    fn push_transparency_group(&mut self, _: f32, _: Option<SoftMask<'a>>, _: BlendMode) {}
    fn pop_clip(&mut self) {}
    fn pop_transparency_group(&mut self) {}
}

/// Writes a character; ligatures as their letters, soft hyphens as hyphens, controls not at all.
fn push_plain(c: char, to: &mut String) {
    match c {
        'ﬀ' => to.push_str("ff"),
        'ﬁ' => to.push_str("fi"),
        'ﬂ' => to.push_str("fl"),
        'ﬃ' => to.push_str("ffi"),
        'ﬄ' => to.push_str("ffl"),
        'ﬅ' | 'ﬆ' => to.push_str("st"),
        '\u{ad}' => to.push('-'),
        '\u{a0}' => to.push(' '),
        c if c.is_control() => {}
        c => to.push(c),
    }
}
