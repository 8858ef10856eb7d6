//! Paths: built point by point, then filled, stroked or used to clip.

use hayro_font::kurbo::{Affine, BezPath, Point, Rect, Shape};
use hayro_syntax::content::ops::TypedInstruction;

use super::{Interpreter, number, point};

/// A filled path that is narrower than this, in points, is drawn as a line.
const MIN_FILL: f32 = 1.0 / 4_096.0;

impl Interpreter<'_, '_> {
    pub(super) fn build_path(&mut self, operator: TypedInstruction<'_, '_>) {
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

    pub(super) fn use_path(&mut self, operator: &TypedInstruction<'_, '_>) {
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

    /// A shading fills what is not clipped.
    pub(super) fn shading(&mut self) {
        if self.visibility.is_visible() {
            self.canvas.filled(&self.state.clip.to_path(0.1), Affine::IDENTITY, false);
        }
    }
}
