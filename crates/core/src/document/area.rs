//! Rectangles on pages.

use serde::{Deserialize, Serialize};

use super::Span;

/// A rectangle on a page as it is shown, in points (1/72 inch) from its top left corner. Serialises as
/// `[left, top, right, bottom]`, to a tenth of a point.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(from = "[f64; 4]", into = "[f64; 4]")]
pub struct Area {
    /// The left edge.
    pub left: f32,
    /// The top edge.
    pub top: f32,
    /// The right edge.
    pub right: f32,
    /// The bottom edge.
    pub bottom: f32,
}

impl Area {
    /// Returns the smallest rectangle around both.
    #[must_use]
    pub fn around(self, other: Self) -> Self {
        Self {
            left: self.left.min(other.left),
            top: self.top.min(other.top),
            right: self.right.max(other.right),
            bottom: self.bottom.max(other.bottom),
        }
    }

    /// Returns the width.
    pub fn width(self) -> f32 {
        self.right - self.left
    }

    /// Returns the height.
    pub fn height(self) -> f32 {
        self.bottom - self.top
    }

    /// Returns `true` if the two have a point in common.
    pub fn meets(self, other: Self) -> bool {
        self.left <= other.right && other.left <= self.right && self.top <= other.bottom && other.top <= self.bottom
    }

    /// Returns `true` if a point lies inside.
    pub fn holds(self, x: f32, y: f32) -> bool {
        (self.left..=self.right).contains(&x) && (self.top..=self.bottom).contains(&y)
    }
}

impl From<[f64; 4]> for Area {
    fn from(sides: [f64; 4]) -> Self {
        let [left, top, right, bottom] = sides.map(|side| side as f32);
        Self { left, top, right, bottom }
    }
}

impl From<Area> for [f64; 4] {
    fn from(area: Area) -> Self {
        [area.left, area.top, area.right, area.bottom].map(|side| (f64::from(side) * 10.0).round() / 10.0)
    }
}

/// A rectangle on a page.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct PageArea {
    /// The page, counted from 1.
    pub page: u32,
    /// The rectangle.
    pub area: Area,
}

/// The place of a line of the text on its page.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct LineBox {
    /// The span of the line in the text.
    pub span: Span,
    /// The page, counted from 1.
    pub page: u32,
    /// The rectangle of the line.
    pub area: Area,
}

/// Joins consecutive lines into one rectangle each.
pub(super) fn join<'a>(lines: impl Iterator<Item = &'a LineBox>) -> Vec<PageArea> {
    let mut areas: Vec<PageArea> = Vec::new();
    for line in lines {
        match areas.last_mut() {
            // A line above the last one begins another column.
            Some(last) if last.page == line.page && line.area.bottom + line.area.height() >= last.area.bottom => {
                last.area = last.area.around(line.area);
            }
            _ => areas.push(PageArea { page: line.page, area: line.area }),
        }
    }
    areas
}
