//! Content streams: runs the operators of a page, its forms and its annotations, and hands what is visible to the canvas.
//!
//! Only what a reader needs is followed (ISO 32000-2, 8 and 9): places, text, paths, the bounds of pictures, marked content and
//! optional content. Colours matter as far as white differs from others. Pictures, shadings, functions and colour profiles are
//! never decoded.

mod fonts;
mod paint;
mod state;
mod visibility;

use fonts::Fonts;
pub(super) use visibility::HiddenGroups;

use std::collections::HashMap;

use hayro_font::kurbo::{Affine, BezPath, Point, Rect, Shape};
use hayro_syntax::content::TypedIter;
use hayro_syntax::content::ops::TypedInstruction;
use hayro_syntax::object::{Array, Dict, Name, Number, Object, Rect as PdfRect, Stream, dict_or_stream};
use hayro_syntax::page::{Page, Resources};
use logothete_core::Result;
use logothete_core::document::Budget;

use super::canvas::Canvas;
use super::stems::GlyphStyle;
use super::tags::{PageTags, Role};
use paint::Space;
use state::{ActiveFont, GraphicsState, SavedStates};
use visibility::{Group, Visibility};

/// Forms within forms are followed to this depth.
const MAX_DEPTH: u32 = 50;
/// More forms than this on a page are not followed.
const MAX_FORMS: u32 = 20_000;
/// The budget is looked at after so many operators.
const OPERATORS_PER_CHECK: u32 = 4_096;
/// A filled path that is narrower than this, in points, is drawn as a line.
const MIN_FILL: f32 = 1.0 / 4_096.0;
/// Flags of annotations that are not shown on a page.
const HIDDEN: u32 = 1 << 1;
const NO_VIEW: u32 = 1 << 5;

/// What is shared by the pages of a document.
pub(super) struct Shared<'a> {
    fonts: Fonts<'a>,
    hidden: HiddenGroups,
}

impl<'a> Shared<'a> {
    /// For a document with the given hidden groups.
    pub(super) fn new(hidden: HiddenGroups) -> Self {
        Self { fonts: Fonts::default(), hidden }
    }

    /// Runs the content of a page and its annotations. `transform` takes the page's coordinates to those of the canvas.
    ///
    /// # Errors
    /// If the budget is spent.
    pub(super) fn run(
        &mut self,
        page: &Page<'a>,
        transform: Affine,
        tags: Option<&PageTags>,
        budget: &Budget,
        canvas: &mut Canvas,
    ) -> Result<()> {
        let state = GraphicsState::new(transform, canvas.area);
        let mut interpreter = Interpreter {
            fonts: &mut self.fonts,
            canvas,
            tags,
            budget,
            visibility: Visibility::new(&self.hidden),
            state,
            saved: SavedStates::default(),
            named: HashMap::new(),
            path: BezPath::new(),
            last: Point::ORIGIN,
            start: Point::ORIGIN,
            clips: false,
            depth: 0,
            forms: 0,
            operators: 0,
        };
        interpreter.stream(page.typed_operations(), page.resources())?;
        for annotation in page.raw().get::<Array<'a>>("Annots").iter().flat_map(Array::iter::<Dict<'a>>) {
            interpreter.annotation(&annotation, page.resources())?;
        }
        Ok(())
    }
}

/// Runs the operators of one page.
struct Interpreter<'a, 'c> {
    fonts: &'c mut Fonts<'a>,
    canvas: &'c mut Canvas,
    tags: Option<&'c PageTags>,
    budget: &'c Budget,
    visibility: Visibility<'c>,
    state: GraphicsState,
    saved: SavedStates,
    /// The fonts that the open stream has used, by their names among its resources.
    named: HashMap<Vec<u8>, Option<ActiveFont>>,
    /// The path under construction, in the coordinates of the content.
    path: BezPath,
    /// The current point, and the point where the subpath began.
    last: Point,
    start: Point,
    /// Whether the path clips what comes after it.
    clips: bool,
    /// How many forms are open.
    depth: u32,
    /// How many forms have been followed.
    forms: u32,
    operators: u32,
}

fn number(number: Number) -> f64 {
    number.as_f64()
}

fn point(x: Number, y: Number) -> Point {
    Point::new(number(x), number(y))
}

impl<'a> Interpreter<'a, '_> {
    /// Runs a content stream. The graphics state is the same after it as before.
    fn stream(&mut self, mut operators: TypedIter<'_>, resources: &Resources<'a>) -> Result<()> {
        let level = self.saved.len();
        self.saved.push(self.state);
        while let Some(operator) = operators.next() {
            self.operators += 1;
            if self.operators.is_multiple_of(OPERATORS_PER_CHECK) {
                self.budget.check()?;
            }
            match operator {
                TypedInstruction::RestoreState(_) if self.saved.len() <= level => {}
                TypedInstruction::XObject(name) => {
                    if let Some(stream) = resources.get_x_object(name.0) {
                        self.x_object(&stream, resources)?;
                    }
                }
                operator => self.operator(operator, resources),
            }
        }
        self.path.truncate(0);
        self.clips = false;
        while self.saved.len() > level {
            self.restore();
        }
        Ok(())
    }

    fn restore(&mut self) {
        if let Some(state) = self.saved.pop() {
            self.state = state;
        }
    }

    /// Runs an operator that opens no other stream.
    fn operator(&mut self, operator: TypedInstruction<'_, '_>, resources: &Resources<'a>) {
        use TypedInstruction as Op;
        match operator {
            Op::SaveState(_) => self.saved.push(self.state),
            Op::RestoreState(_) => self.restore(),
            Op::Transform(to) => {
                self.state.transform *= Affine::new([to.0, to.1, to.2, to.3, to.4, to.5].map(number));
            }
            Op::SetGraphicsState(name) => {
                if let Some(parameters) = resources.get_ext_g_state(name.0) {
                    self.parameters(&parameters);
                }
            }
            Op::BeginMarkedContent(mark) => self.begin_mark(mark.0, None, None),
            Op::BeginMarkedContentWithProperties(mark) => self.begin_mark_with(mark.0, mark.1, resources),
            Op::EndMarkedContent(_) => self.canvas.role = self.visibility.end().unwrap_or_default(),
            Op::InlineImage(image) => self.picture(image.0.dict()),
            Op::Shading(_) => self.shading(),
            Op::MoveTo(_)
            | Op::LineTo(_)
            | Op::CubicTo(_)
            | Op::CubicStartTo(_)
            | Op::CubicEndTo(_)
            | Op::ClosePath(_)
            | Op::RectPath(_) => self.build_path(operator),
            Op::StrokePath(_)
            | Op::CloseAndStrokePath(_)
            | Op::FillPathNonZero(_)
            | Op::FillPathNonZeroCompatibility(_)
            | Op::FillPathEvenOdd(_)
            | Op::FillAndStrokeNonZero(_)
            | Op::FillAndStrokeEvenOdd(_)
            | Op::CloseFillAndStrokeNonZero(_)
            | Op::CloseFillAndStrokeEvenOdd(_)
            | Op::EndPath(_)
            | Op::ClipNonZero(_)
            | Op::ClipEvenOdd(_) => self.use_path(&operator),
            Op::ColorSpaceNonStroke(name) => self.state.fill.set_space(Space::named(name.0, resources)),
            Op::NonStrokeColor(color) => self.state.fill.set_color(&color.0),
            Op::NonStrokeColorNamed(color) => match color.1 {
                Some(_) => self.state.fill.set_pattern(),
                None => self.state.fill.set_color(&color.0),
            },
            Op::NonStrokeColorDeviceGray(color) => self.state.fill.set(Space::Gray, &[color.0]),
            Op::NonStrokeColorDeviceRgb(color) => self.state.fill.set(Space::Rgb, &[color.0, color.1, color.2]),
            Op::NonStrokeColorCmyk(color) => self.state.fill.set(Space::Cmyk, &[color.0, color.1, color.2, color.3]),
            operator => self.text(operator, resources),
        }
    }

    /// The parameters of a graphics state that matter here: the font, and how opaque fills are.
    fn parameters(&mut self, parameters: &Dict<'a>) {
        if let Some(alpha) = parameters.get::<f32>("ca") {
            self.state.fill.alpha = alpha;
        }
        let font = parameters.get::<Array<'a>>("Font").and_then(|font| {
            let mut entries = font.iter::<Object<'a>>();
            Some((entries.next()?.into_dict()?, entries.next()?.into_number()?))
        });
        if let Some((dict, size)) = font {
            self.state.text.font = self.fonts.font(&dict);
            self.state.text.size = size.as_f32();
        }
    }

    // Marked content.

    fn begin_mark(&mut self, tag: &[u8], properties: Option<&Dict<'_>>, group: Option<&Group<'_>>) {
        let role = match (tag, self.tags) {
            (b"Artifact", _) => Role::Artifact,
            (_, Some(tags)) => {
                properties.and_then(|dict| dict.get::<i32>("MCID")).map_or(self.canvas.role, |mark| tags.role(mark))
            }
            _ => self.canvas.role,
        };
        self.visibility.begin(group, self.canvas.role);
        self.canvas.role = role;
    }

    /// Begins marked content whose properties are a dictionary, or the name of one among the resources.
    fn begin_mark_with(&mut self, tag: &[u8], properties: &Object<'_>, resources: &Resources<'a>) {
        if let Object::Name(name) = properties {
            let named: Option<Dict<'a>> = resources.properties.get(name);
            let reference = resources.properties.get_ref(name).map(Into::into);
            let group = reference.map(|reference| Group { reference: Some(reference), dict: named.clone() });
            return self.begin_mark(tag, named.as_ref(), group.as_ref());
        }
        let own = dict_or_stream(properties).map(|(dict, _)| dict.clone());
        self.begin_mark(tag, own.as_ref(), own.as_ref().and_then(Group::of).as_ref());
    }

    // Forms, pictures and annotations.

    fn x_object(&mut self, stream: &Stream<'a>, resources: &Resources<'a>) -> Result<()> {
        match stream.dict().get::<Name<'_>>("Subtype").as_deref() {
            Some(b"Image") => self.picture(stream.dict()),
            Some(b"Form") => self.form(stream, resources)?,
            _ => {}
        }
        Ok(())
    }

    /// Takes note of where a picture is. A picture fills the unit square of its coordinates.
    fn picture(&mut self, dict: &Dict<'_>) {
        let side = |short: &str, long: &str| dict.get::<u32>(short).or_else(|| dict.get::<u32>(long)).unwrap_or(0);
        let is_empty = side("W", "Width") == 0 || side("H", "Height") == 0;
        let group = Group::of(dict);
        if !is_empty && self.visibility.shows(group.as_ref()) {
            self.canvas.picture(self.state.transform.transform_rect_bbox(Rect::new(0.0, 0.0, 1.0, 1.0)));
        }
    }

    /// Runs the content of a form.
    fn form(&mut self, stream: &Stream<'a>, resources: &Resources<'a>) -> Result<()> {
        let dict = stream.dict();
        let (Some(bounds), Ok(content)) = (dict.get::<[f32; 4]>("BBox"), stream.decoded_data()) else { return Ok(()) };
        let group = Group::of(dict);
        if !self.visibility.shows(group.as_ref()) || self.depth >= MAX_DEPTH || self.forms >= MAX_FORMS {
            return Ok(());
        }
        self.budget.check()?;
        (self.depth, self.forms) = (self.depth + 1, self.forms + 1);
        self.path.truncate(0);
        let before = self.state;
        self.state.transform *= matrix(dict);
        let [left, bottom, right, top] = bounds.map(f64::from);
        let bounds = self.state.transform.transform_rect_bbox(Rect::new(left, bottom, right, top));
        self.state.clip = self.state.clip.intersect(bounds);
        if dict.contains_key("Group") {
            // The group is blended as a whole; what is in it begins opaque.
            self.state.fill.alpha = 1.0;
        }
        let own = dict.get::<Dict<'a>>("Resources").map(Resources::new);
        let (marks, named) = (self.visibility.len(), std::mem::take(&mut self.named));
        let outcome = self.stream(TypedIter::new(&content), own.as_ref().unwrap_or(resources));
        self.named = named;
        while self.visibility.len() > marks {
            self.canvas.role = self.visibility.end().unwrap_or_default();
        }
        self.state = before;
        self.depth -= 1;
        outcome
    }

    /// Runs the appearance of an annotation, fitted into its rectangle (ISO 32000-2, 12.5.5).
    fn annotation(&mut self, annotation: &Dict<'a>, resources: &Resources<'a>) -> Result<()> {
        let flags = annotation.get::<u32>("F").unwrap_or(0);
        let (Some(form), Some(place)) = (appearance(annotation), annotation.get::<PdfRect>("Rect")) else {
            return Ok(());
        };
        let Some(bounds) = form.dict().get::<[f32; 4]>("BBox").filter(|_| flags & (HIDDEN | NO_VIEW) == 0) else {
            return Ok(());
        };
        let [left, bottom, right, top] = bounds.map(f64::from);
        let bounds = matrix(form.dict()).transform_rect_bbox(Rect::new(left, bottom, right, top));
        let (width, height) = ((place.x1 - place.x0) / bounds.width(), (place.y1 - place.y0) / bounds.height());
        let (x, y) = (place.x0 - width * bounds.x0, place.y0 - height * bounds.y0);
        let before = self.state;
        self.state.transform *= Affine::new([width, 0.0, 0.0, height, x, y]);
        let outcome = self.form(&form, resources);
        self.state = before;
        outcome
    }

    /// A shading fills what is not clipped.
    fn shading(&mut self) {
        if self.visibility.is_visible() {
            self.canvas.filled(&self.state.clip.to_path(0.1), Affine::IDENTITY, false);
        }
    }

    // Paths.

    fn build_path(&mut self, operator: TypedInstruction<'_, '_>) {
        use TypedInstruction as Op;
        let is_open = !self.path.elements().is_empty();
        match operator {
            Op::MoveTo(to) => {
                (self.last, self.start) = (point(to.0, to.1), point(to.0, to.1));
                self.path.move_to(self.last);
            }
            Op::RectPath(rect) => {
                let corner = point(rect.0, rect.1);
                let opposite = Point::new(corner.x + number(rect.2), corner.y + number(rect.3));
                let lines = Rect::new(corner.x, corner.y, opposite.x, opposite.y);
                self.path.extend(lines.path_elements(0.1));
                (self.last, self.start) = (corner, corner);
            }
            // The other operators need a current point.
            _ if !is_open => {}
            Op::LineTo(to) => {
                self.last = point(to.0, to.1);
                self.path.line_to(self.last);
            }
            Op::CubicTo(to) => self.curve(point(to.0, to.1), point(to.2, to.3), point(to.4, to.5)),
            Op::CubicStartTo(to) => self.curve(self.last, point(to.0, to.1), point(to.2, to.3)),
            Op::CubicEndTo(to) => self.curve(point(to.0, to.1), point(to.2, to.3), point(to.2, to.3)),
            Op::ClosePath(_) => self.close_path(),
            _ => {}
        }
    }

    fn curve(&mut self, first: Point, second: Point, to: Point) {
        self.last = to;
        self.path.curve_to(first, second, to);
    }

    fn close_path(&mut self) {
        if !self.path.elements().is_empty() {
            self.path.close_path();
            self.last = self.start;
        }
    }

    fn use_path(&mut self, operator: &TypedInstruction<'_, '_>) {
        use TypedInstruction as Op;
        let closes = matches!(
            operator,
            Op::CloseAndStrokePath(_) | Op::CloseFillAndStrokeNonZero(_) | Op::CloseFillAndStrokeEvenOdd(_)
        );
        if closes {
            self.close_path();
        }
        match operator {
            Op::ClipNonZero(_) | Op::ClipEvenOdd(_) => {
                self.clips = true;
                return;
            }
            Op::StrokePath(_) | Op::CloseAndStrokePath(_) => self.stroke(),
            Op::FillPathNonZero(_) | Op::FillPathNonZeroCompatibility(_) | Op::FillPathEvenOdd(_) => self.fill(),
            Op::EndPath(_) => {}
            _ => {
                self.fill();
                self.stroke();
            }
        }
        if std::mem::take(&mut self.clips) && !self.path.elements().is_empty() {
            let bounds = (self.state.transform * self.path.clone()).bounding_box();
            self.state.clip = self.state.clip.intersect(bounds);
        }
        self.path.truncate(0);
    }

    fn stroke(&mut self) {
        if self.visibility.is_visible() {
            self.canvas.stroked(&self.path, self.state.transform);
        }
    }

    fn fill(&mut self) {
        if !self.visibility.is_visible() || self.path.elements().is_empty() {
            return;
        }
        let bounds = self.path.control_box();
        let [a, b, c, d, ..] = self.state.transform.as_coeffs();
        let is_thin = |length: f64, scale: f64| (length * scale) as f32 <= MIN_FILL;
        if is_thin(bounds.width(), a.hypot(b)) || is_thin(bounds.height(), c.hypot(d)) {
            let mut line = BezPath::new();
            line.move_to((bounds.x0, bounds.y0));
            line.line_to((bounds.x1, bounds.y1));
            self.canvas.stroked(&line, self.state.transform);
        } else {
            self.canvas.filled(&self.path, self.state.transform, self.state.fill.is_white());
        }
    }

    // Text.

    fn text(&mut self, operator: TypedInstruction<'_, '_>, resources: &Resources<'a>) {
        use TypedInstruction as Op;
        let text = &mut self.state.text;
        match operator {
            Op::BeginText(_) => text.begin(Affine::IDENTITY),
            Op::SetTextMatrix(to) => text.begin(Affine::new([to.0, to.1, to.2, to.3, to.4, to.5].map(number))),
            Op::CharacterSpacing(spacing) => text.char_spacing = spacing.0.as_f32(),
            Op::WordSpacing(spacing) => text.word_spacing = spacing.0.as_f32(),
            Op::HorizontalScaling(scaling) => text.scaling = scaling.0.as_f32(),
            Op::TextLeading(leading) => text.leading = leading.0.as_f32(),
            Op::TextRise(rise) => text.rise = rise.0.as_f32(),
            Op::TextFont(font) => {
                text.size = font.1.as_f32();
                self.state.text.font = self.named_font(font.0, resources);
            }
            Op::NextLine(by) => text.next_line(number(by.0), number(by.1)),
            Op::NextLineAndSetLeading(by) => {
                text.leading = -by.1.as_f32();
                text.next_line(number(by.0), number(by.1));
            }
            Op::NextLineUsingLeading(_) => text.next_leading(),
            Op::ShowText(shown) => self.show(shown.0.as_bytes()),
            Op::NextLineAndShowText(shown) => {
                text.next_leading();
                self.show(shown.0.as_bytes());
            }
            Op::ShowTextWithParameters(shown) => {
                (text.word_spacing, text.char_spacing) = (shown.0.as_f32(), shown.1.as_f32());
                text.next_leading();
                self.show(shown.2.as_bytes());
            }
            Op::ShowTexts(shown) => self.show_adjusted(shown.0),
            _ => {}
        }
    }

    /// The font of a name among the resources.
    fn named_font(&mut self, name: &[u8], resources: &Resources<'a>) -> Option<ActiveFont> {
        if let Some(known) = self.named.get(name) {
            return *known;
        }
        let font = match resources.fonts.get::<Dict<'a>>(name) {
            Some(dict) => self.fonts.font(&dict),
            None => self.fonts.fallback(),
        };
        self.named.insert(name.to_vec(), font);
        font
    }

    /// Shows a string.
    fn show(&mut self, text: &[u8]) {
        let Some(font) = self.font() else { return };
        let style = self.fonts.first_style(font, text);
        self.place(font, text, style.unwrap_or_default());
    }

    /// Shows strings with adjustments between them.
    fn show_adjusted(&mut self, parts: &Array<'_>) {
        let Some(font) = self.font() else { return };
        let mut strings = parts.iter::<Object<'_>>().filter_map(Object::into_string);
        let style = strings.find_map(|text| self.fonts.first_style(font, text.as_bytes())).unwrap_or_default();
        for part in parts.iter::<Object<'_>>() {
            match part {
                Object::Number(by) => self.state.text.adjust(by.as_f32(), self.fonts.is_horizontal(font)),
                Object::String(text) => self.place(font, text.as_bytes(), style),
                _ => {}
            }
        }
    }

    /// The font that is set. Text without one is shown in a usual font, as other readers do.
    fn font(&mut self) -> Option<ActiveFont> {
        if self.state.text.font.is_none() {
            self.state.text.font = self.fonts.fallback();
        }
        self.state.text.font
    }

    /// Places the glyphs of a string, and moves on behind them.
    fn place(&mut self, font: ActiveFont, bytes: &[u8], style: GlyphStyle) {
        // The codes of a font that could not be read mean nothing unless they are ASCII.
        let is_shown = self.visibility.is_visible() && (!font.is_fallback || bytes.is_ascii());
        let is_horizontal = self.fonts.is_horizontal(font);
        let text = &mut self.state.text;
        let (across, up) = text.unit(self.state.transform);
        let mut at = 0;
        while at < bytes.len() {
            let (code, length) = self.fonts.read_code(font, bytes, at);
            at += length.max(1);
            let glyph = self.fonts.glyph(font, code);
            if is_shown && !glyph.text.is_empty() {
                let origin =
                    self.state.transform * text.origin() + across * glyph.displacement.x + up * glyph.displacement.y;
                self.canvas.glyph(&glyph.text, origin, across * glyph.extent, up, style);
            }
            text.advance(glyph.advance, code == 32 && length == 1, is_horizontal);
        }
    }
}

/// The matrix of a form; the identity if it has none.
fn matrix(form: &Dict<'_>) -> Affine {
    form.get::<[f64; 6]>("Matrix").map_or(Affine::IDENTITY, Affine::new)
}

/// The form that shows an annotation in its present state.
fn appearance<'a>(annotation: &Dict<'a>) -> Option<Stream<'a>> {
    match annotation.get::<Dict<'a>>("AP")?.get::<Object<'a>>("N")? {
        Object::Stream(form) => Some(form),
        Object::Dict(states) => {
            let state = annotation.get::<Name<'a>>("AS").and_then(|state| states.get::<Stream<'a>>(state));
            state.or_else(|| states.get::<Stream<'a>>("Off"))
        }
        _ => None,
    }
}
