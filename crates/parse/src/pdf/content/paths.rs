//! Paths: built point by point, then filled, stroked or used to clip.

use hayro_font::kurbo::{Affine, BezPath, Point, Rect, Shape};
use hayro_syntax::content::ops::TypedInstruction;

use super::{Interpreter, number, point};

/// A filled path that is narrower than this, in points, is drawn as a line.
const MIN_FILL: f32 = 1.0 / 4_096.0;

impl Interpreter<'_, '_> {
    /// Runs an operator of paths, and ignores others.
    pub(super) fn path(&mut self, operator: &TypedInstruction<'_, '_>) {
        use TypedInstruction as Op;
        match operator {
            Op::MoveTo(to) => self.begin(point(to.0, to.1)),
            Op::LineTo(to) => self.line(point(to.0, to.1)),
            Op::CubicTo(to) => self.curve(point(to.0, to.1), point(to.2, to.3), point(to.4, to.5)),
            Op::CubicStartTo(to) => self.curve(self.last, point(to.0, to.1), point(to.2, to.3)),
            Op::CubicEndTo(to) => self.curve(point(to.0, to.1), point(to.2, to.3), point(to.2, to.3)),
            Op::ClosePath(_) => self.close(),
            Op::RectPath(rect) => self.rectangle(point(rect.0, rect.1), number(rect.2), number(rect.3)),
            Op::ClipNonZero(_) | Op::ClipEvenOdd(_) => self.clips = true,
            Op::StrokePath(_) => self.paint(false, true),
            Op::CloseAndStrokePath(_) => {
                self.close();
                self.paint(false, true);
            }
            Op::FillPathNonZero(_) | Op::FillPathNonZeroCompatibility(_) | Op::FillPathEvenOdd(_) => {
                self.paint(true, false);
            }
            Op::FillAndStrokeNonZero(_) | Op::FillAndStrokeEvenOdd(_) => self.paint(true, true),
            Op::CloseFillAndStrokeNonZero(_) | Op::CloseFillAndStrokeEvenOdd(_) => {
                self.close();
                self.paint(true, true);
            }
            Op::EndPath(_) => self.paint(false, false),
            _ => {}
        }
    }

    fn begin(&mut self, at: Point) {
        (self.last, self.start) = (at, at);
        self.path.move_to(at);
    }

    fn rectangle(&mut self, corner: Point, width: f64, height: f64) {
        let lines = Rect::new(corner.x, corner.y, corner.x + width, corner.y + height);
        self.path.extend(lines.path_elements(0.1));
        (self.last, self.start) = (corner, corner);
    }

    /// Returns `true` if the path has begun, as lines and curves need.
    fn has_begun(&self) -> bool {
        !self.path.elements().is_empty()
    }

    fn line(&mut self, to: Point) {
        if self.has_begun() {
            self.last = to;
            self.path.line_to(to);
        }
    }

    fn curve(&mut self, first: Point, second: Point, to: Point) {
        if self.has_begun() {
            self.last = to;
            self.path.curve_to(first, second, to);
        }
    }

    fn close(&mut self) {
        if self.has_begun() {
            self.path.close_path();
            self.last = self.start;
        }
    }

    /// Paints the path, clips with it if that was asked for, and ends it.
    fn paint(&mut self, fills: bool, strokes: bool) {
        if fills {
            self.fill();
        }
        if strokes {
            self.stroke();
        }
        if std::mem::take(&mut self.clips) && self.has_begun() {
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
        if !self.visibility.is_visible() || !self.has_begun() {
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

    /// Fills everything that is not clipped with a shading.
    pub(super) fn shading(&mut self) {
        if self.visibility.is_visible() && !self.state.clip.is_zero_area() {
            self.canvas.filled(&self.state.clip.to_path(0.1), Affine::IDENTITY, false);
        }
    }
}
