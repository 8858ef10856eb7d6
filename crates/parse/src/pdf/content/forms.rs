//! Forms, pictures and the appearances of annotations.

use hayro_font::kurbo::{Affine, Rect};
use hayro_syntax::content::TypedIter;
use hayro_syntax::object::{Dict, Name, Object, Rect as PdfRect, Stream};
use hayro_syntax::page::Resources;
use logothete_core::Result;

use super::Interpreter;
use super::visibility::Group;

/// Forms within forms are followed to this depth.
const MAX_DEPTH: usize = 50;
/// More forms than this on a page are not followed.
const MAX_FORMS: u32 = 20_000;
/// Flags of annotations that are not shown on a page.
const HIDDEN: u32 = 1 << 1;
const NO_VIEW: u32 = 1 << 5;

impl<'a> Interpreter<'a, '_> {
    /// Runs a form, or takes note of a picture.
    pub(super) fn x_object(&mut self, stream: &Stream<'a>, resources: &Resources<'a>) -> Result<()> {
        match stream.dict().get::<Name<'_>>("Subtype").as_deref() {
            Some(b"Image") => self.picture(stream.dict()),
            Some(b"Form") => self.form(stream, resources)?,
            _ => {}
        }
        Ok(())
    }

    /// Takes note of where a picture is. A picture fills the unit square of its coordinates.
    pub(super) fn picture(&mut self, dict: &Dict<'_>) {
        let side = |short: &str, long: &str| dict.get::<u32>(short).or_else(|| dict.get::<u32>(long)).unwrap_or(0);
        let is_empty = side("W", "Width") == 0 || side("H", "Height") == 0;
        let group = Group::of(dict);
        if !is_empty && self.visibility.shows(group.as_ref()) {
            self.canvas.picture(self.state.transform.transform_rect_bbox(Rect::new(0.0, 0.0, 1.0, 1.0)));
        }
    }

    /// Runs the content of a form.
    fn form(&mut self, stream: &Stream<'a>, resources: &Resources<'a>) -> Result<()> {
        let (dict, id) = (stream.dict(), stream.obj_id());
        // No form may draw itself, not even through others.
        let is_followed = self.open.len() < MAX_DEPTH && self.forms < MAX_FORMS && !self.open.contains(&id);
        if !is_followed || !self.visibility.shows(Group::of(dict).as_ref()) {
            return Ok(());
        }
        self.budget.check()?;
        let (Some(bounds), Ok(content)) = (dict.get::<[f32; 4]>("BBox"), stream.decoded_data()) else { return Ok(()) };
        self.open.push(id);
        self.forms += 1;
        self.path.truncate(0);
        let before = self.state;
        self.state.transform *= matrix(dict);
        let [left, bottom, right, top] = bounds.map(f64::from);
        let bounds = self.state.transform.transform_rect_bbox(Rect::new(left, bottom, right, top));
        self.state.clip = self.state.clip.intersect(bounds);
        if dict.contains_key("Group") {
            // The group is blended as a whole, so its content starts opaque.
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
        self.open.pop();
        outcome
    }

    /// Runs the appearance of an annotation, fitted into its rectangle (ISO 32000-2, 12.5.5).
    pub(super) fn annotation(&mut self, annotation: &Dict<'a>, resources: &Resources<'a>) -> Result<()> {
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
}

/// Returns the matrix of a form; the identity if it has none.
fn matrix(form: &Dict<'_>) -> Affine {
    form.get::<[f64; 6]>("Matrix").map_or(Affine::IDENTITY, Affine::new)
}

/// Returns the form that shows an annotation in its present state.
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
