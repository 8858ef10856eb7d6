//! The graphics state, as far as a reader needs it (ISO 32000-2, 8.4 and 9.3).

use hayro_font::UNITS_PER_EM;
use hayro_font::kurbo::{Affine, Point, Rect, Vec2};

use super::fonts::ActiveFont;
use super::paint::Fill;

/// More states than this are not saved.
const MAX_SAVED: usize = 4_096;

/// The graphics state.
#[derive(Clone, Copy, Debug)]
pub(super) struct GraphicsState {
    /// Takes the coordinates of the content to those of the canvas.
    pub transform: Affine,
    pub fill: Fill,
    /// The bounds of what is not clipped, in the coordinates of the canvas.
    pub clip: Rect,
    pub text: TextState,
}

impl GraphicsState {
    /// Creates the state at the beginning of a page.
    pub(super) fn new(transform: Affine, clip: Rect) -> Self {
        Self { transform, fill: Fill::default(), clip, text: TextState::default() }
    }
}

/// The states that `q` has saved.
#[derive(Debug, Default)]
pub(super) struct SavedStates {
    states: Vec<GraphicsState>,
    /// States that were not saved since there were too many.
    dropped: usize,
}

impl SavedStates {
    pub(super) fn len(&self) -> usize {
        self.states.len() + self.dropped
    }

    pub(super) fn push(&mut self, state: GraphicsState) {
        if self.states.len() < MAX_SAVED {
            self.states.push(state);
        } else {
            self.dropped += 1;
        }
    }

    pub(super) fn pop(&mut self) -> Option<GraphicsState> {
        if self.dropped > 0 {
            self.dropped -= 1;
            return None;
        }
        self.states.pop()
    }
}

/// The parameters of the place and size of text. Lengths are units of text space.
#[derive(Clone, Copy, Debug)]
pub(super) struct TextState {
    pub font: Option<ActiveFont>,
    pub size: f32,
    pub char_spacing: f32,
    pub word_spacing: f32,
    /// How wide glyphs are, in percent.
    pub scaling: f32,
    pub leading: f32,
    pub rise: f32,
    /// The place of the next glyph.
    matrix: Affine,
    /// The start of the line.
    line: Affine,
}

impl Default for TextState {
    fn default() -> Self {
        Self {
            font: None,
            size: 1.0,
            char_spacing: 0.0,
            word_spacing: 0.0,
            scaling: 100.0,
            leading: 0.0,
            rise: 0.0,
            matrix: Affine::IDENTITY,
            line: Affine::IDENTITY,
        }
    }
}

impl TextState {
    /// Begins a line at a place.
    pub(super) fn begin(&mut self, matrix: Affine) {
        (self.matrix, self.line) = (matrix, matrix);
    }

    /// Begins a line beside the start of the present one.
    pub(super) fn next_line(&mut self, x: f64, y: f64) {
        self.begin(self.line * Affine::translate((x, y)));
    }

    /// Begins the line below the present one.
    pub(super) fn next_leading(&mut self) {
        self.next_line(0.0, -f64::from(self.leading));
    }

    /// Returns the place of the next glyph in the coordinates of the content.
    pub(super) fn origin(&self) -> Point {
        self.matrix * Point::new(0.0, self.rise.into())
    }

    /// Returns a thousandth of the em along the line and up from it, on the canvas.
    pub(super) fn unit(&self, transform: Affine) -> (Vec2, Vec2) {
        let [a, b, c, d, ..] = (transform * self.matrix).as_coeffs();
        let up = f64::from(self.size) / f64::from(UNITS_PER_EM);
        let across = up * f64::from(self.scaling / 100.0);
        (Vec2::new(a, b) * across, Vec2::new(c, d) * up)
    }

    /// Moves on by the advance of a glyph, in thousandths of the em.
    pub(super) fn advance(&mut self, advance: Vec2, is_space: bool, is_horizontal: bool) {
        let word_spacing = if is_space { self.word_spacing } else { 0.0 };
        let by = |advance: f64| advance as f32 / UNITS_PER_EM * self.size + self.char_spacing + word_spacing;
        match is_horizontal {
            true => self.go(f64::from(by(advance.x) * (self.scaling / 100.0)), 0.0),
            false => self.go(0.0, f64::from(by(advance.y))),
        }
    }

    /// Moves back by an adjustment, in thousandths of the em.
    pub(super) fn adjust(&mut self, adjustment: f32, is_horizontal: bool) {
        let by = -adjustment / UNITS_PER_EM * self.size;
        match is_horizontal {
            true => self.go(f64::from(by * (self.scaling / 100.0)), 0.0),
            false => self.go(0.0, f64::from(by)),
        }
    }

    fn go(&mut self, x: f64, y: f64) {
        let [a, b, c, d, e, f] = self.matrix.as_coeffs();
        self.matrix = Affine::new([a, b, c, d, a * x + c * y + e, b * x + d * y + f]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn saved_states_are_bounded_and_balanced() {
        let mut saved = SavedStates::default();
        let state = GraphicsState::new(Affine::IDENTITY, Rect::ZERO);
        (0..2 * MAX_SAVED).for_each(|_| saved.push(state));
        assert_eq!((saved.len(), saved.states.len()), (2 * MAX_SAVED, MAX_SAVED));
        assert_eq!((0..2 * MAX_SAVED).filter(|_| saved.pop().is_some()).count(), MAX_SAVED);
        assert!(saved.pop().is_none() && saved.len() == 0);
    }

    #[test]
    fn text_moves_by_advances_spacing_and_adjustments() {
        let mut text = TextState { size: 10.0, char_spacing: 1.0, word_spacing: 2.0, ..TextState::default() };
        text.begin(Affine::translate((100.0, 50.0)));
        text.advance(Vec2::new(500.0, 0.0), false, true);
        assert_eq!(text.origin(), Point::new(106.0, 50.0));
        text.advance(Vec2::new(250.0, 0.0), true, true);
        assert_eq!(text.origin(), Point::new(111.5, 50.0));
        text.adjust(-1000.0, true);
        assert_eq!(text.origin(), Point::new(121.5, 50.0));
        text.scaling = 50.0;
        text.adjust(1000.0, true);
        assert_eq!(text.origin(), Point::new(116.5, 50.0));
        text.leading = 12.0;
        text.next_leading();
        assert_eq!(text.origin(), Point::new(100.0, 38.0));
        text.adjust(200.0, false);
        assert_eq!(text.origin(), Point::new(100.0, 36.0));
    }
}
