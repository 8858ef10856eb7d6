//! A page split into words, rules and figures, for the later steps.

use logothete_core::document::{Area, PageArea};

use super::drawn::Rule;
use super::lines::Line;
use super::tables::PageTable;

/// An object of a page, beside the lines of its running text.
#[derive(Debug)]
pub(super) enum Object {
    Table(PageTable),
    Figure(PageFigure),
    /// A box of text beside the running text.
    Aside(Vec<Line>),
}

/// A figure on a page.
#[derive(Debug)]
pub(super) struct PageFigure {
    pub area: Area,
    /// The text inside it.
    pub text: String,
}

/// The parts of a page.
#[derive(Debug)]
pub(super) struct PageLines {
    pub number: u32,
    pub width: f32,
    pub height: f32,
    /// How far the page was turned to be read, in degrees.
    pub turned: i16,
    /// The running text in reading order. A line with an object is at the object's place.
    pub lines: Vec<Line>,
    pub objects: Vec<Object>,
    /// Lines in other directions, each with its angle in degrees.
    pub aslant: Vec<(i16, Line)>,
    pub furniture: Vec<Line>,
    pub rules: Vec<Rule>,
}

impl PageLines {
    /// Returns the lines of running text.
    pub(super) fn text_lines(&self) -> impl Iterator<Item = &Line> {
        self.lines.iter().filter(|line| line.object.is_none())
    }

    /// Returns the place of an area of these lines on the page as it is shown.
    pub(super) fn shown(&self, area: Area, degrees: i16) -> PageArea {
        let mut area = area;
        for degrees in [degrees, self.turned].into_iter().filter(|&degrees| degrees != 0) {
            area = super::drawn::turn(area, f64::from(degrees), self.width, self.height);
        }
        PageArea { page: self.number, area }
    }
}
