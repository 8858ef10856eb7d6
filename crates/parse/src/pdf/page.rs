//! What is drawn on a page: glyphs, rules and pictures, in page coordinates with the origin at the top left.

use hayro_interpret::font::{Glyph, GlyphRun};
use hayro_interpret::hayro_cmap::BfString;
use hayro_interpret::hayro_syntax::page::Page;
use hayro_interpret::kurbo::{Affine, BezPath, PathEl, Point, Rect, Shape};
use hayro_interpret::{
    BlendMode, ClipPath, Context, Device, DrawMode, DrawProps, Image, ImageDrawProps, InterpreterCache,
    InterpreterSettings, SoftMask, interpret_page,
};

/// A rule is at most this thick, in points.
const RULE_THICKNESS: f64 = 2.5;
/// A rule is at least this long, in points.
const RULE_LENGTH: f64 = 6.0;

/// One glyph as it lies on the page. Lengths are points.
#[derive(Clone, Copy, Debug)]
pub(super) struct PlacedGlyph {
    /// Where its characters are in the page's text.
    pub start: u32,
    pub end: u32,
    /// Where it begins and ends along the line, and the height of the baseline from the top of the page.
    pub left: f32,
    pub right: f32,
    pub baseline: f32,
    /// The size of its font.
    pub size: f32,
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

/// All that was drawn on a page.
#[derive(Debug, Default)]
pub(super) struct Drawn {
    pub height: f32,
    pub text: String,
    pub glyphs: Vec<PlacedGlyph>,
    pub rules: Vec<Rule>,
}

impl Drawn {
    /// Whether no letter or figure stands on the page.
    pub(super) fn is_blank_of_text(&self) -> bool {
        !self.text.contains(char::is_alphanumeric)
    }
}

/// Draws a page and collects what was drawn.
pub(super) fn draw<'a>(page: &Page<'a>, cache: &InterpreterCache<'a>) -> Drawn {
    let (width, height) = page.render_dimensions();
    let transform = Affine::new(page.initial_transform(true).as_coeffs());
    let area = Rect::new(0.0, 0.0, f64::from(width), f64::from(height));
    let mut context = Context::new(transform, area, cache, page.xref(), InterpreterSettings::default());
    let mut collector = Collector { drawn: Drawn { height, ..Drawn::default() }, area };
    interpret_page(page, &mut context, &mut collector);
    collector.drawn
}

struct Collector {
    drawn: Drawn,
    area: Rect,
}

impl Collector {
    fn glyph(&mut self, glyph: &Glyph<'_>, transform: Affine) {
        let start = self.drawn.text.len() as u32;
        match glyph.as_unicode() {
            Some(BfString::Char(c)) => push_plain(c, &mut self.drawn.text),
            Some(BfString::String(text)) => text.chars().for_each(|c| push_plain(c, &mut self.drawn.text)),
            None => {}
        }
        let end = self.drawn.text.len() as u32;
        let advance = match glyph {
            Glyph::Outline(glyph) => glyph.advance_width(),
            Glyph::Type3(glyph) => glyph.advance_width(),
        };
        let origin = transform * Point::ORIGIN;
        let tip = transform * Point::new(f64::from(advance.unwrap_or(500.0)), 0.0);
        let up = transform * Point::new(0.0, 1000.0) - origin;
        let size = up.hypot();
        // Upright text only; text that is turned does not belong to the lines of the page.
        let upright = (tip.y - origin.y).abs() <= (tip.x - origin.x).abs() * 0.2 && tip.x >= origin.x;
        let placed = origin.is_finite() && tip.is_finite() && size.is_finite() && size > 0.5;
        if start == end || !upright || !placed || !self.area.inflate(2.0, 2.0).contains(origin) {
            self.drawn.text.truncate(start as usize);
            return;
        }
        self.drawn.glyphs.push(PlacedGlyph {
            start,
            end,
            left: origin.x as f32,
            right: tip.x as f32,
            baseline: origin.y as f32,
            size: size as f32,
        });
    }

    fn rule(&mut self, bounds: Rect) {
        let (width, height) = (bounds.width(), bounds.height());
        let rule = if height <= RULE_THICKNESS && width >= RULE_LENGTH {
            Rule { level: true, at: bounds.center().y as f32, from: bounds.x0 as f32, to: bounds.x1 as f32 }
        } else if width <= RULE_THICKNESS && height >= RULE_LENGTH {
            Rule { level: false, at: bounds.center().x as f32, from: bounds.y0 as f32, to: bounds.y1 as f32 }
        } else {
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
        for element in path.elements() {
            match *element {
                PathEl::MoveTo(point) => {
                    start = transform * point;
                    last = start;
                }
                PathEl::LineTo(point) => {
                    let next = transform * point;
                    self.rule(Rect::from_points(last, next));
                    last = next;
                }
                PathEl::ClosePath => {
                    self.rule(Rect::from_points(last, start));
                    last = start;
                }
                PathEl::QuadTo(_, point) | PathEl::CurveTo(_, _, point) => last = transform * point,
            }
        }
    }
}

impl<'a> Device<'a> for Collector {
    fn draw_path(&mut self, path: &BezPath, props: DrawProps<'a>, mode: &DrawMode) {
        match mode {
            DrawMode::Fill(_) => self.rule((props.transform * path.clone()).bounding_box()),
            DrawMode::Stroke(_) | DrawMode::FillAndStroke(..) => self.stroked(path, props.transform),
            DrawMode::Invisible => {}
        }
    }

    fn draw_glyph_run(&mut self, run: &GlyphRun<'_, 'a>, props: DrawProps<'a>, _mode: &DrawMode) {
        for glyph in run.glyphs() {
            self.glyph(glyph, props.transform * glyph.transform());
        }
    }

    fn push_clip_path(&mut self, _: &ClipPath) {}
    fn push_clip_rect(&mut self, _: &Rect) {}
    fn push_transparency_group(&mut self, _: f32, _: Option<SoftMask<'a>>, _: BlendMode) {}
    fn draw_image(&mut self, _: Image<'a, '_>, _: ImageDrawProps<'a>) {}
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
