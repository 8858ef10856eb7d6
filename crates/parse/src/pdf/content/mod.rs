//! Content streams: runs the operators of a page, its forms and its annotations, and passes what is visible to the canvas.
//!
//! Only what a reader needs is followed (ISO 32000-2, 8 and 9): places, text, paths, the bounds of pictures, marked content and
//! optional content. Colours matter as far as white differs from others. Pictures, shadings, functions and colour profiles are
//! never decoded.

mod fonts;
mod forms;
mod paint;
mod paths;
mod state;
mod text;
mod visibility;

pub(super) use visibility::HiddenGroups;

use std::collections::HashMap;

use hayro_font::kurbo::{Affine, BezPath, Point};
use hayro_syntax::content::TypedIter;
use hayro_syntax::content::ops::TypedInstruction;
use hayro_syntax::object::{Array, Dict, Number, Object, ObjectIdentifier, dict_or_stream};
use hayro_syntax::page::{Page, Resources};
use logothete_core::Result;
use logothete_core::document::Budget;

use super::canvas::Canvas;
use super::tags::{PageTags, Role};
use fonts::{ActiveFont, Fonts};
use paint::Space;
use state::{GraphicsState, SavedStates};
use visibility::{Group, Visibility};

/// The number of operators between two checks of the budget.
const OPERATORS_PER_CHECK: u32 = 4_096;

/// The state that the pages of a document share.
pub(super) struct Shared<'a> {
    fonts: Fonts<'a>,
    hidden: HiddenGroups,
}

impl<'a> Shared<'a> {
    /// Starts without fonts. `hidden` names the layers that the document hides.
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
            open: Vec::new(),
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
    /// Whether the path clips later drawing.
    clips: bool,
    /// The forms that are open.
    open: Vec<ObjectIdentifier>,
    /// The number of forms that were followed.
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
            self.operators = self.operators.wrapping_add(1);
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
            Op::ColorSpaceNonStroke(name) => self.state.fill.set_space(Space::named(name.0, resources)),
            Op::NonStrokeColor(color) => self.state.fill.set_color(&color.0),
            Op::NonStrokeColorNamed(color) => match color.1 {
                Some(_) => self.state.fill.set_pattern(),
                None => self.state.fill.set_color(&color.0),
            },
            Op::NonStrokeColorDeviceGray(color) => self.state.fill.set(Space::Gray, &[color.0]),
            Op::NonStrokeColorDeviceRgb(color) => self.state.fill.set(Space::Rgb, &[color.0, color.1, color.2]),
            Op::NonStrokeColorCmyk(color) => self.state.fill.set(Space::Cmyk, &[color.0, color.1, color.2, color.3]),
            operator => {
                self.path(&operator);
                self.text(&operator, resources);
            }
        }
    }

    /// Sets the parameters of a graphics state that matter here: the font, and how opaque fills are.
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

    /// Begins marked content. Its role is that of its tag, or of the mark's number in the structure tree.
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
}
