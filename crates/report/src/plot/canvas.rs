//! What all pictures share: size, colours, font, titles, legends and marks.

use std::ops::Range;
use std::sync::Once;

use logothete::eval::Run;
use plotters::chart::{ChartContext, MeshStyle};
use plotters::coord::Shift;
use plotters::coord::cartesian::Cartesian2d;
use plotters::coord::ranged1d::Ranged;
use plotters::coord::types::RangedCoordf64;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use plotters::style::{FontStyle, register_font};

/// The result of drawing.
pub type Drawn<B, T = ()> = Result<T, DrawingAreaErrorKind<<B as DrawingBackend>::ErrorType>>;

/// Width and height in pixels.
pub const SIZE: (u32, u32) = (600, 420);
pub const GROUND: RGBColor = RGBColor(0xFF, 0xFD, 0xF8);
pub const INK: RGBColor = RGBColor(0x22, 0x30, 0x3A);
pub const LINE: RGBColor = RGBColor(0xD9, 0xD4, 0xC8);
/// The colours of Okabe and Ito (2008) that are dark enough for a light ground, and light enough for a dark one.
pub const COLOURS: [RGBColor; 7] = [
    RGBColor(0x00, 0x72, 0xB2),
    RGBColor(0xD5, 0x5E, 0x00),
    RGBColor(0x00, 0x9E, 0x73),
    RGBColor(0xCC, 0x79, 0xA7),
    RGBColor(0xE6, 0x9F, 0x00),
    RGBColor(0x56, 0xB4, 0xE9),
    RGBColor(0x80, 0x80, 0x80),
];
/// The height of a line of the legend.
const LEGEND_LINE: i32 = 22;
/// The longest name in a legend, in characters.
const MAX_NAME: usize = 54;
const FONT: &str = "sans-serif";
const TEXT: i32 = 18;

/// Registers the font that sizes text, and draws it in PNG.
pub fn use_font() {
    static REGISTERED: Once = Once::new();
    // The font is part of a package and known to be sound; text would be left out without it.
    REGISTERED.call_once(|| {
        let _ = register_font(FONT, FontStyle::Normal, epaint_default_fonts::UBUNTU_LIGHT);
    });
}

/// Returns a style for text of the usual size.
pub fn text_style(colour: &RGBColor, horizontal: HPos, vertical: VPos) -> TextStyle<'static> {
    (FONT, TEXT).into_font().color(colour).pos(Pos::new(horizontal, vertical))
}

/// A chart with numbers on both axes.
pub type Chart<'a, B> = ChartContext<'a, B, Cartesian2d<RangedCoordf64, RangedCoordf64>>;

/// The space below the axes, for their numbers and names.
const BELOW: u32 = 56;

/// Lays out a chart below the legend, which ends at `top`. `left` is the space for what stands beside it.
pub fn chart<'a, B: DrawingBackend>(
    area: &'a DrawingArea<B, Shift>,
    top: u32,
    left: u32,
    x: Range<f64>,
    y: Range<f64>,
) -> Drawn<B, Chart<'a, B>> {
    ChartBuilder::on(area)
        .margin_top(top)
        .margin_left(16)
        .margin_right(30)
        .x_label_area_size(BELOW)
        .y_label_area_size(left)
        .build_cartesian_2d(x, y)
}

/// Gives axes the lines and the text of all pictures.
pub fn styled<'m, 'a, 'b, X: Ranged, Y: Ranged, B: DrawingBackend>(
    mesh: &'m mut MeshStyle<'a, 'b, X, Y, B>,
) -> &'m mut MeshStyle<'a, 'b, X, Y, B> {
    mesh.axis_style(LINE)
        .bold_line_style(LINE)
        .light_line_style(TRANSPARENT)
        .x_label_style(text_style(&INK, HPos::Center, VPos::Top))
        .y_label_style(text_style(&INK, HPos::Right, VPos::Center))
        // The chart places the names of the axes itself.
        .axis_desc_style((FONT, TEXT).into_font().color(&INK))
}

/// A value, and the ends of the line that is drawn through it.
#[derive(Clone, Copy)]
pub struct Span {
    pub value: f64,
    pub from: f64,
    pub to: f64,
}

/// Draws a row for each name, with the mark and the line of each run in it.
pub fn rows<B: DrawingBackend>(
    area: &DrawingArea<B, Shift>,
    chart: &Chart<'_, B>,
    names: &[&str],
    runs: &[&Run],
    span: impl Fn(&Run, &str) -> Option<Span>,
) -> Drawn<B> {
    let (left, _) = chart.backend_coord(&(0.0, 0.0));
    for (row, name) in names.iter().enumerate() {
        let (_, middle) = chart.backend_coord(&(0.0, row as f64 + 0.5));
        write(area, name, (left - 10, middle), HPos::Right, VPos::Center)?;
        for (at, run) in runs.iter().enumerate() {
            let Some(Span { value, from, to }) = span(run, name) else { continue };
            let y = row as f64 + (at as f64 + 1.0) / (runs.len() as f64 + 1.0);
            let ends = [from, to].map(|end| chart.backend_coord(&(end, y)));
            area.draw(&PathElement::new(ends, COLOURS[at % COLOURS.len()].stroke_width(3)))?;
            mark(area, at, chart.backend_coord(&(value, y)))?;
        }
    }
    Ok(())
}

/// Writes text at a pixel.
pub fn write<B: DrawingBackend>(
    area: &DrawingArea<B, Shift>,
    text: &str,
    at: (i32, i32),
    horizontal: HPos,
    vertical: VPos,
) -> Drawn<B> {
    area.draw(&Text::new(text.to_owned(), at, text_style(&INK, horizontal, vertical)))
}

/// Writes the title of a picture.
pub fn title<B: DrawingBackend>(area: &DrawingArea<B, Shift>, text: &str) -> Drawn<B> {
    let style = (FONT, 22).into_font().color(&INK).pos(Pos::new(HPos::Left, VPos::Top));
    area.draw(&Text::new(text.to_owned(), (18, 14), style))
}

/// Draws a legend of names with their colours and marks under the title, on as many lines as they take. Returns where the chart may begin.
pub fn legend<B: DrawingBackend>(area: &DrawingArea<B, Shift>, names: &[String]) -> Drawn<B, u32> {
    let (mut x, mut y) = (24, 58);
    for (at, name) in names.iter().enumerate() {
        let (width, _) = area.estimate_text_size(name, &text_style(&INK, HPos::Left, VPos::Center))?;
        if x > 24 && x + 12 + width as i32 > SIZE.0 as i32 {
            (x, y) = (24, y + LEGEND_LINE);
        }
        mark(area, at, (x, y))?;
        write(area, name, (x + 12, y), HPos::Left, VPos::Center)?;
        x += width as i32 + 40;
    }
    Ok((y + 26) as u32)
}

/// Returns the names of runs for a legend, each short enough for a line.
pub fn names(runs: &[&Run]) -> Vec<String> {
    let name = |(at, run): (usize, &&Run)| {
        let name = if at == 0 && runs.len() > 1 { "as configured" } else { &run.name };
        match name.char_indices().nth(MAX_NAME) {
            Some((end, _)) => format!("{}…", &name[..end]),
            None => name.to_owned(),
        }
    };
    runs.iter().enumerate().map(name).collect()
}

/// Draws the mark of a pipeline at a pixel: its colour, and a shape of its own.
pub fn mark<B: DrawingBackend>(area: &DrawingArea<B, Shift>, number: usize, (x, y): (i32, i32)) -> Drawn<B> {
    let colour = COLOURS[number % COLOURS.len()];
    let full = colour.filled();
    match number % 4 {
        0 => area.draw(&Circle::new((x, y), 6, full)),
        1 => area.draw(&Polygon::new(vec![(x, y - 7), (x + 7, y + 5), (x - 7, y + 5)], full)),
        2 => area.draw(&Rectangle::new([(x - 5, y - 5), (x + 5, y + 5)], full)),
        _ => area.draw(&Polygon::new(vec![(x, y - 7), (x + 7, y), (x, y + 7), (x - 7, y)], full)),
    }
}
